"""What the network does otherwise than before: packets that leak, break or lose their answers anew,
those that no longer do, and ends that are cut off or joined again.

Rules kept here (semantics, sections 4 and 6): ends are a segment and a group on either side; what
leaks or breaks between them does so on any path; two versions are compared packet by packet.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from oaktag.core.packets import Atoms, Region, boxes_of
from oaktag.core.reach import Flow

#: By names, so that two versions can be compared: segment and group of the source, of the
#: destination.
EndPair = tuple[tuple[str, str], tuple[str, str]]
What = Literal["leak", "break", "one-way", "cut-off"]
WHAT: tuple[What, ...] = ("leak", "break", "one-way", "cut-off")


class Changed(NamedTuple):
    """What is new, or over, between two ends.

    ``masks`` are the packets that leak or break by family, ``lost`` those whose answers are
    dropped; ``flow`` is a row that fares so, of the newer version if it is new, else of the older.
    """

    what: What
    new: bool
    ends: EndPair
    masks: dict[int, int]
    lost: tuple[Region, ...]
    flow: Flow


@dataclass(slots=True)
class _Fare:
    """How packets between two ends fare over all paths, and a row of each effect."""

    masks: dict[str, dict[int, int]] = field(default_factory=dict)
    lost: list[Region] = field(default_factory=list)
    flows: dict[str, Flow] = field(default_factory=dict)


def changes(
    was: Iterable[Flow],
    now: Iterable[Flow],
    names: tuple[Callable[[int], str], Callable[[int], str]],
) -> list[Changed]:
    """All that is new or over, what is new and worst first.

    Args:
        was, now: the rows of both versions that are not exact or are cut off, over the same atoms.
        names: group → its newest id, for the older and the newer version.
    """
    sides = [_fares(flows, name) for flows, name in zip((was, now), names, strict=True)]
    found = [
        change
        for new, (here, there) in ((True, (sides[1], sides[0])), (False, (sides[0], sides[1])))
        for ends, fare in here.items()
        for change in _more(ends, fare, there.get(ends, _Fare()), new=new)
    ]
    return sorted(found, key=lambda c: (not c.new, WHAT.index(c.what), c.ends))


def _fares(flows: Iterable[Flow], name: Callable[[int], str]) -> dict[EndPair, _Fare]:
    fares: dict[EndPair, _Fare] = {}
    for flow in flows:
        (a, s), (b, d) = flow.source, flow.destination
        fare = fares.setdefault(((a, name(s)), (b, name(d))), _Fare())
        if flow.cut_off:
            fare.flows["cut-off"] = flow
        for what, masks in (("leak", flow.leaks), ("break", flow.breaks)):
            if any(masks.values()):
                held = fare.masks.setdefault(what, {})
                for family, mask in masks.items():
                    held[family] = held.get(family, 0) | mask
                fare.flows.setdefault(what, flow)
        if flow.unanswered:
            fare.lost += [r for r in flow.unanswered if r not in fare.lost]
            fare.flows.setdefault("one-way", flow)
    return fares


def _more(ends: EndPair, here: _Fare, there: _Fare, *, new: bool) -> Iterator[Changed]:
    """What fares wrong here and does not there."""
    for what in WHAT[:2]:
        other = there.masks.get(what, {})
        masks = {f: m & ~other.get(f, 0) for f, m in here.masks.get(what, {}).items()}
        if any(masks.values()):
            yield Changed(what, new, ends, masks, (), here.flows[what])
    if here.lost and here.lost != there.lost:
        boxes = [[b for region in side.lost for b in boxes_of(region)] for side in (here, there)]
        atoms = Atoms([*boxes[0], *boxes[1]])
        if mask := atoms.mask(boxes[0]) & ~atoms.mask(boxes[1]):
            lost = tuple(atoms.regions(mask))
            yield Changed("one-way", new, ends, {}, lost, here.flows["one-way"])
    if "cut-off" in here.flows and "cut-off" not in there.flows:
        yield Changed("cut-off", new, ends, {}, (), here.flows["cut-off"])
