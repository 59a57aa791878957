"""What somebody unknown obtains in a segment: the same as each packet's own way says."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest

import oaktag as package
from conftest import Ran
from oaktag.core.packets import Packet

Run = Callable[..., Ran]
SCHEMA = Path(package.__file__).parent / "schemas/describe-newcomer.json"
ASKED = {"https": Packet(4, 6, 50_000, 443), "8443/tcp": Packet(4, 6, 50_000, 8443),
         "ssh": Packet(4, 6, 50_000, 22), "9/udp": Packet(4, 17, 50_000, 9)}  # fmt: skip


@pytest.mark.parametrize("segment", ["central-public", "hall-data", "ashgrove-public"])
def test_what_a_newcomer_obtains_is_what_its_packets_meet(
    segment: str, shipped: Path, oaktag: Run
) -> None:
    said = oaktag("-C", shipped, "describe", "untagged", "--in", segment, "--json").json
    jsonschema.validate(said, json.loads(SCHEMA.read_text()))
    workspace = package.Workspace.load(shipped)
    model = workspace.model
    address = next(h["address"] for h in said["hosts"] if "." in h["address"])
    assert workspace.explain(address).endpoints == []
    passes = {row["group"]: row["passes"] for row in said["obtains"]}
    seen = set()
    for group in [g.id for g in model.groups.all]:
        index = model.groups.index[group]
        there = [h for h in model.hosts if h.group == index and h.family == 4]
        for service, packet in ASKED.items():
            to = {".".join(map(str, h.address.to_bytes(4, "big"))) for h in there} - {address}
            met = {workspace.trace(address, other, service).verdict for other in sorted(to)}
            through = any("it arrives" in told for told in met)
            held = _holds(passes.get(group, []), packet)
            assert held == through, (group, service, met, passes.get(group))
            seen.add(held)
    assert seen == {True, False}


def _holds(words: list[str], packet: Packet) -> bool:
    """Whether services hold a packet."""
    from oaktag.core.service_text import parse_asked

    return any(box.holds(packet) for word in words for box in parse_asked(word))


def test_a_segment_that_is_not_there_and_a_group_that_is_known(shipped: Path, oaktag: Run) -> None:
    ran = oaktag("-C", shipped, "describe", "untagged", "--in", "hall-dat")
    assert ran.status == 2 and "perhaps hall-data" in ran.err
    assert oaktag("-C", shipped, "describe", "patrons", "--in", "hall-data").status == 2
    # A segment whose own tag is a group's: a newcomer is taken for one of that group.
    text = (shipped / "network.yaml").read_text()
    put = text.replace("{segment: hall-data,", "{segment: hall-data, tag: kiosks,", 1)
    (shipped / "network.yaml").write_text(put)
    said = oaktag("-C", shipped, "describe", "untagged", "--in", "hall-data", "--json").json
    assert {h["group"] for h in said["hosts"]} == {"kiosks"}
    assert "loans-db" in {r["group"] for r in said["obtains"]}
