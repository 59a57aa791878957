"""One packet and one list: what the point does with it as it stands, step by step.

Rules kept here (semantics, section 5): the head says what is judged and which source tag counts;
the destination's tag chooses a block, the source's tag in it a chain, and the first entry that
matches decides; what no cell of the list is for meets ``outside``. It shares nothing with the
proof, which does this for all packets at once.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from oaktag.core.accesslist import (
    AccessList,
    Blank,
    ListEntry,
    Look,
    PassBetween,
    PassUnless,
    PassWithin,
)
from oaktag.core.addresses import Range, Span
from oaktag.core.lines import Action
from oaktag.core.packets import Packet


class Acted(NamedTuple):
    """What a list does with a packet: ``entry`` is None for what it does not judge, and for what is
    outside of its cells; the tags are those that it sees, 0 where it does not look."""

    action: Action
    source: int = 0
    destination: int = 0
    judged: bool = False
    entry: ListEntry | None = None


def act(held: AccessList, packet: Packet, source: int, destination: int, frame: int = 0) -> Acted:
    """What a list does with a packet that opens a flow.

    Args:
        held: the list.
        packet: the packet; its ports can be read.
        source, destination: its addresses, of its family.
        frame: the tag in its frame; 0: none.
    """
    family, tag = packet.family, frame
    if source == destination and _among(source, (s for s in held.own if s.family == family)):
        return Acted("allow")
    ends = {"source": source, "destination": destination}
    for step in held.head:
        match step:
            case PassWithin(end, of, spans):
                if of == family and _among(ends[end], spans):
                    return Acted("allow")
            case PassUnless(end, of, spans):
                if of == family and not _among(ends[end], spans):
                    return Acted("allow")
            case PassBetween(of, pairs):
                if of == family and any(
                    a.start <= source <= a.end and b.start <= destination <= b.end for a, b in pairs
                ):
                    return Acted("allow")
            case Blank():
                tag = 0
            case Look(of, unless_known):
                if of == family and not (unless_known and tag):
                    tag = _bound(family, source, held.source_bindings) or tag
    toward = _bound(family, destination, held.destination_bindings)
    chain = held.blocks.get(toward, {}).get(tag)
    if chain is None:
        return Acted(held.outside[0], tag, toward, True)
    entry = first(held.chains[chain], packet)
    return Acted(entry.action, tag, toward, True, entry)


def first(chain: Iterable[ListEntry], packet: Packet) -> ListEntry:
    """The first entry of a chain that matches a packet; the last one matches everything."""
    return next(e for e in chain if e.region is None or e.region.holds(packet))


def _among(address: int, spans: Iterable[Span]) -> bool:
    return any(s.start <= address <= s.end for s in spans)


def _bound(family: int, address: int, ranges: Sequence[Range]) -> int:
    """The tag of the range that holds an address; 0 where none does."""
    at = bisect_right(ranges, (family, address), key=lambda r: (r.family, r.start)) - 1
    held = ranges[at] if at >= 0 else None
    return held.tag if held and held.family == family and held.end >= address else 0
