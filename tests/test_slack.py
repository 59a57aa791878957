"""What no expectation asks for: packet by packet, against a plain reading of the rules."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import jsonschema
from hypothesis import given, settings
from hypothesis import strategies as st

import oaktag as package
from conftest import Ran
from oaktag.core.expectations import Claim, Demand
from oaktag.core.packets import Packet
from oaktag.core.slack import slack
from oaktag.testing.slow import Stack
from oaktag.testing.strategies import stacks
from one_gate import model_of
from sizes import scaled

Run = Callable[..., Ran]
KINDS: tuple[Demand, ...] = ("none", "exactly", "at-least", "allowed", "denied")
SCHEMA = Path(package.__file__).parent / "schemas/expect-uncovered.json"


def test_each_packet_is_left_open_or_asked_about(tmp_path: Path) -> None:
    seen: set[tuple[bool, bool]] = set()

    @settings(max_examples=scaled(60), database=None, deadline=None)
    @given(stack=stacks(), data=st.data())
    def hold(stack: Stack, data: st.DataObject) -> None:
        model, _ = model_of(stack, {}, tmp_path)
        names = [g.id for g in model.groups.all]
        some = st.lists(st.sampled_from(range(len(names))), min_size=1, unique=True)
        packets = [Packet(*p) for p in stack.packets()]
        asked = []
        for _ in range(data.draw(st.integers(0, 4))):
            kind: Demand = data.draw(st.sampled_from(KINDS))
            mask = 0
            for packet in data.draw(st.lists(st.sampled_from(packets), min_size=1)):
                mask |= 1 << model.atoms.atom(packet)
            asked.append((Claim(kind, mask), data.draw(some), data.draw(some)))
        found = slack(model.matrix, asked)
        left = {
            (s, d): (row.mask, row.spoken)
            for row in found.rows
            for s in row.sources
            for d in row.destinations
        }
        assert sum(len(r.sources) * len(r.destinations) for r in found.rows) == len(left)
        assert found.loose == len(left) and found.cells == len(names) ** 2
        spoken = {(s, d) for _, ss, ds in asked for s in ss for d in ds}
        assert found.spoken == len(spoken)
        for s, source in enumerate(names):
            for d, destination in enumerate(names):
                mine = [c for c, ss, ds in asked if s in ss and d in ds]
                mask, told = left.get((s, d), (0, (s, d) in spoken))
                assert told == ((s, d) in spoken)
                for packet in packets:
                    bit = 1 << model.atoms.atom(packet)
                    covered = any(c.kind in ("none", "exactly") or c.mask & bit for c in mine)
                    allowed = stack.decide(source, destination, packet, "action")[0] == "allow"
                    assert bool(mask & bit) == (allowed and not covered), (
                        source,
                        destination,
                        packet,
                    )
                    seen.add((allowed, covered))

    hold()
    assert len(seen) == 4


def test_what_the_sample_leaves_open(shipped: Path, oaktag: Run) -> None:
    said = oaktag("-C", shipped, "expect", "--uncovered", "--json").json
    jsonschema.validate(said, json.loads(SCHEMA.read_text()))
    # To ask for just what is left open leaves nothing open.
    text = (shipped / "expectations.yaml").read_text()
    more = [
        f"- {{from: {s}, to: {d}, allowed: none}}\n"
        for row in said["uncovered"]
        for s in row["sources"]
        for d in row["destinations"]
    ]
    assert len(more) == said["loose"] > 100
    (shipped / "expectations.yaml").write_text(text + "".join(more))
    ran = oaktag("-C", shipped, "expect", "--uncovered")
    assert ran.status == 0 and "in 0 something is allowed" in ran.out
    assert oaktag("-C", shipped, "expect").status == 1
