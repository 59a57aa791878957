"""A compiled list as a tree, entry by entry, against the words of the files: both answers, the line
that each entry cites, answers of stateless points, packets whose ports cannot be read."""

from __future__ import annotations

import itertools
import random
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kernel_oracle import Question, ask
from oaktag.core.accesslist import AccessList, ListEntry
from oaktag.core.packets import PORTED, Packet, Region, span_of
from oaktag.operations.lists import list_of, list_text, refute
from oaktag.testing.slow import CUT_SHORT, Stack
from oaktag.testing.slow_reach import exchanged
from oaktag.testing.strategies import stacks
from one_gate import model_of, points
from sizes import scaled
from test_access_lists import _meant

GROUPS = ("untagged", "ada", "bo", "cy", "di")
GROUPS_OF: dict[str, Any] = {name: (310 + n, {}) for n, name in enumerate(GROUPS[1:])}


def within(region: Region, packet: Packet) -> bool:
    """Whether a region holds a packet; one whose ports cannot be read only if it names them all."""
    if packet.family not in region.families:
        return False
    if not any(low <= packet.protocol <= high for low, high in region.protocols):
        return False
    if packet[2:] == CUT_SHORT:
        every = ((0, span_of(packet.family, packet.protocol)),)
        return region.sources == every and region.destinations == every
    return all(
        any(low <= number <= high for low, high in ranges)
        for number, ranges in zip(packet[2:], (region.sources, region.destinations), strict=True)
    )


def matched(chain: tuple[ListEntry, ...], packet: Packet) -> ListEntry:
    """The first entry that matches."""
    for entry in chain:
        if entry.readable and packet[2:] == CUT_SHORT:
            continue
        if entry.region is None or within(entry.region, packet):
            return entry
    raise AssertionError("the last entry matches everything")


def sample(stack: Stack) -> list[Packet]:
    """A packet of every kind, and of each protocol with ports one that was cut short."""
    whole = [Packet(*p) for p in stack.packets()]
    icmp = {4: 1, 6: 58}
    return whole + [Packet(f, p, *CUT_SHORT) for f in (4, 6) for p in (*PORTED, icmp[f])]


def held_cells(list_: AccessList, tags: dict[str, int]) -> dict[tuple[str, str], str]:
    names = {tag: name for name, tag in tags.items()}
    return {
        (names[s], names[d]): chain for d, row in list_.blocks.items() for s, chain in row.items()
    }


@settings(max_examples=scaled(50))
@given(stack=stacks(), point=points, seed=st.integers(0, 1 << 16))
def test_every_entry_does_what_its_line_says(
    stack: Stack, point: dict[str, Any], seed: int, tmp_path: Path
) -> None:
    every_entry(stack, point, random.Random(seed), tmp_path, 6, 60)


#: What is allowed of a protocol as a whole, though what cannot be read is denied before: the layer in
#: front passes on all ports, each half by an entry of its own; alone, between others, both ways round.
CUT = (
    [["0-500/tcp"], ["501-65535/tcp"], ["proto/6"]],
    [["0-500/tcp", "53/udp"], ["501-65535/tcp"], ["proto/6", "proto/17"]],
    [["icmp4/0", "icmp4/3/4", "icmp6/1"], ["0-7/sctp"], ["8-65535/sctp"], ["any"]],
)
BEHIND = ([["proto/6"]], [["any"]], [["proto/6", "proto/47"], ["proto/17"], ["icmp"]])


SHAPES = list(itertools.product(range(3), range(3), (False, True), (True, False)))
POINT = {
    "mode": "enforce", "scope": "all", "outside": "allow", "inside": False, "from": "*",
    "toward": "*", "match": {"source": "address"}, "if_differ": "frame",
}  # fmt: skip


def shaped(cut: int, behind: int, turned: bool, stateful: bool) -> tuple[Stack, dict[str, Any]]:
    *halves, rest = CUT[cut]
    last, then = ("allow", "deny") if turned else ("deny", "allow")
    named: dict[str, Any] = {
        "front": {"entries": [*({"pass": h} for h in halves), {last: rest}], "otherwise": None},
        "behind": {"entries": [{then: words} for words in BEHIND[behind]], "otherwise": None},
    }
    row = {"source": "ada", "destination": "cy", "mode": "", "way": "both"}
    layers = [[{**row, "permission": name}] for name in named]
    stack = Stack(
        GROUPS_OF, {}, named, layers, "deny" if turned else "allow", None, "as-listed", {}
    )
    return stack, {**POINT, "stateful": stateful}


@pytest.mark.parametrize("shape", SHAPES)
def test_what_cannot_be_read_goes_by_entries_for_all_ports(
    shape: tuple[int, int, bool, bool], tmp_path: Path
) -> None:
    stack, point = shaped(*shape)
    every_entry(stack, point, random.Random(1), tmp_path, 25, 400)
    model, compiled = model_of(stack, point, tmp_path)
    assert refute(model, compiled, list_text(model, compiled)) is None


def test_the_kernel_takes_what_cannot_be_read_likewise(real_kernel: None, tmp_path: Path) -> None:
    asked: list[tuple[str, list[Question]]] = []
    meant: list[list[bool]] = []
    for number, shape in enumerate(SHAPES):
        stack, point = shaped(*shape)
        folder = tmp_path / str(number)
        folder.mkdir()
        questions = [
            Question(Packet(f, p, *CUT_SHORT), *(places if out else places[::-1]))
            for f, places in ((4, ("10.1.0.1", "10.2.0.1")), (6, ("2001:db8:1::1", "2001:db8:2::1")))
            for n, p in enumerate((*PORTED, {4: 1, 6: 58}[f]))
            for out in ((n + number) % 2 == 0,)
        ]  # fmt: skip
        asked.append((list_text(*model_of(stack, point, folder)), questions))
        meant.append([_meant(stack, point, q) for q in questions])
    answers = ask(asked)
    assert answers == meant
    assert {passes for said in meant for passes in said} == {True, False}


def every_entry(
    stack: Stack, point: dict[str, Any], rng: random.Random, folder: Path, most: int, many: int
) -> None:
    """Of some cells and packets, what the list does and which lines it cites."""
    model, compiled = model_of(stack, point, folder)
    list_ = list_of(model, compiled)
    tags = {"untagged": 0, **{name: tag for name, (tag, _) in stack.groups.items()}}
    cells = held_cells(list_, tags)
    scope = point["scope"] if isinstance(point["scope"], dict) else {}
    sources, destinations = (
        {m for word in scope.get(key, ["*"]) for m in stack.members(word)}
        for key in ("sources", "destinations")
    )
    if point["scope"] != "known":
        assert cells.keys() == set(itertools.product(sources, destinations))
    assert {s for s, _ in cells} == sources
    outside = point["outside"]
    observed = point["mode"] == "observe"
    assert list_.outside == ("allow" if observed else outside, outside)
    keys = {
        (line.location.file, line.location.line): key
        for line, key in zip(model.lines, model.keys, strict=True)
    }

    def key_of(place: tuple[int, int] | None) -> str:
        return "default" if place is None else keys[f"matrix/{place[0] + 1}0.csv", place[1]]

    packets = sample(stack)
    for source, destination in rng.sample(sorted(cells), min(len(cells), most)):
        name = cells[source, destination]
        chain = list_.chains[name]
        assert chain[-1].region is None and all(e.region is not None for e in chain[:-1])
        for packet in rng.sample(packets, min(len(packets), many)):
            entry = matched(chain, packet)
            said, cited = {}, {}
            for answer in ("action", "would"):
                decided, place, _ = stack.decide(source, destination, packet, answer)
                if not point["stateful"] and decided == "deny":
                    back, other, _ = stack.decide(destination, source, exchanged(packet), answer)
                    if back == "allow":
                        decided, place = back, other
                said[answer], cited[answer] = decided, key_of(place)
            expected = ("allow", said["action"]) if observed else (said["action"], said["would"])
            assert (entry.action, entry.would) == expected, (source, destination, packet, chain)
            assert cited["action"] in entry.keys, (packet, entry, cited)
            assert observed or cited["would"] in entry.keys, (packet, entry, cited)


@settings(max_examples=scaled(30))
@given(stack=stacks(), point=points)
def test_a_line_more_changes_no_other_chain(
    stack: Stack, point: dict[str, Any], tmp_path: Path
) -> None:
    """A line put first that speaks of one cell changes the chain of this cell alone, and the tables
    not at all; taken out again, the same bytes."""
    model, compiled = model_of(stack, point, tmp_path)
    before = list_of(model, compiled)
    first = Path(tmp_path, "matrix/10.csv")
    text = first.read_text()
    header, _, rest = text.partition("\n")
    permission = next(iter(stack.permissions))
    width = header.count(",") + 1
    row = [
        {"source": "ada", "destination": "cy", "permission": permission}.get(name, "")
        for name in header.split(",")
    ]
    assert len(row) == width
    first.write_text("\n".join([header, ",".join(row), rest]))
    again, point_again = _again(tmp_path)
    after = list_of(again, point_again)
    tags = {name: tag for name, (tag, _) in stack.groups.items()}
    for destination, chains in before.blocks.items():
        for source, name in chains.items():
            cell = source, destination
            mine = {(tags["ada"], tags["cy"])}
            if not point["stateful"]:
                mine.add((tags["cy"], tags["ada"]))
            if cell not in mine:
                assert after.blocks[destination][source] == name
    assert after.source_bindings == before.source_bindings
    first.write_text(text)
    assert list_of(*_again(tmp_path)) == before


def _again(folder: Path) -> Any:
    import oaktag

    model = oaktag.Workspace.load(folder).model
    return model, model.network.points["gate"]
