"""Lists changed while the kernel holds them: it holds then, to the byte, what it would hold if the new
one had been loaded alone, and cells that did not change go on counting."""

from __future__ import annotations

import json
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from oaktag.core.accesslist import AccessList
from oaktag.core.addresses import Range
from oaktag.dialects import nftables, nftables_dump, nftables_live
from oaktag.lab.namespaces import UNSHARE
from sizes import scaled
from test_lists_and_points import lists

TABLE = nftables.table_name("gate")
#: Run in a namespace of its own: gives texts to the packet filter, tells what it holds then.
SCRIPT = """
import json, subprocess, sys
told = []
for texts in json.load(sys.stdin):
    subprocess.run(["nft", "flush", "ruleset"], check=True)
    for text in texts:
        done = subprocess.run(["nft", "-f", "-"], input=text, capture_output=True, text=True)
        if done.returncode:
            sys.exit(done.stderr + text)
    told.append(subprocess.run(["nft", "-n", "-s", "list", "table", "inet", sys.argv[1]],
                               capture_output=True, text=True, check=True).stdout)
json.dump(told, sys.stdout)
"""


def _held(rounds: list[list[str]]) -> list[str]:
    done = subprocess.run(
        [*UNSHARE, sys.executable, "-c", SCRIPT, TABLE], input=json.dumps(rounds),
        capture_output=True, text=True, check=False, cwd=Path("/"),
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-3000:]
    said: list[str] = json.loads(done.stdout)
    return said


@st.composite
def pairs(draw: st.DrawFn) -> tuple[AccessList, AccessList]:
    """Two lists of one point; bindings are the same at both ends, as compiled lists have them."""
    found = []
    for _ in range(2):
        held = draw(lists())
        found.append(replace(held, point="gate", destination_bindings=held.source_bindings))
    return found[0], found[1]


def test_a_changed_list_is_the_new_one(real_kernel: None) -> None:
    made: list[tuple[AccessList, AccessList]] = []

    @settings(
        max_examples=scaled(25, 14), database=None, phases=[Phase.generate], deadline=None,
        suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    @given(pair=pairs())
    def make(pair: tuple[AccessList, AccessList]) -> None:
        made.append(pair)

    make()
    rounds: list[list[str]] = []
    for was, now in made:
        old, new = nftables.write(was), nftables.write(now)
        ranges = was.source_bindings, now.source_bindings
        few = nftables_live.refill(
            TABLE, *ranges, now.blocks, kept=was.restores, keeps=now.restores
        )
        many = nftables_live.rebind(
            TABLE, *ranges, was.blocks, now.blocks, kept=was.restores, keeps=now.restores
        )
        first = list(nftables_live.load(TABLE, old, ranges[0], was.blocks))
        rounds += [
            [*first, nftables_live.change(TABLE, old, new, rebound)] for rebound in (few, many)
        ]
    said = _held(rounds)
    for number, (_, now) in enumerate(made):
        text = nftables.write(now)
        for dump in said[2 * number : 2 * number + 2]:
            assert nftables_dump.as_written("gate", dump, text) == text
    assert len({nftables.write(now) for _, now in made}) > 10


def test_nothing_to_change_is_no_text() -> None:
    """A list that stays gets no order; one with other bindings only those."""
    text = "# x\ntable inet t {\n\tchain outside {\n\t\taccept\n\t}\n}\n"
    assert nftables_live.change("t", text, text, "") == ""
    assert nftables_live.rebind("t", [], [], {}, {}, kept=True, keeps=True) == ""


def test_many_tags_of_frames_are_changed_in_orders_of_a_few() -> None:
    """The kernel takes no transaction of any size: all that go, then all that come, each once."""
    was, now = ([Range(4, n << 8, n << 8, tag) for n in range(450)] for tag in (310, 320))
    texts = list(nftables_live.remark("t", was, now))
    orders = "".join(texts).splitlines()
    assert len(texts) == 5 and len(set(orders)) == len(orders) == 900
    assert [order.split()[0] for order in orders] == ["delete"] * 450 + ["add"] * 450
    assert len(list(nftables_live.remark("t", was[:400], now[:400]))) == 1
    assert list(nftables_live.remark("t", was, was)) == []
