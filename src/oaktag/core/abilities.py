"""What a kind of point can do, as data; and what that makes of an entry.

Rules kept here (semantics, section 5): a dialect says what its points can do at most, a point's own
``limits`` narrow it; how ports count against a point's capacity is part of it. What a point cannot
express is told in words, and never widened or narrowed.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import product
from typing import Any, Literal, NamedTuple

from oaktag.core.accesslist import ListEntry
from oaktag.core.packets import ICMP_OF, PORTED, Ranges, Region, span_of

Numbers = Literal["lists", "ranges", "blocks", "single", "none"]
SCTP = 132
#: The price of what cannot be expressed: more than any list has entries.
NEVER = 1 << 40


class Abilities(NamedTuple):
    """What a kind of point can do.

    Attributes:
        families: the families of addresses that it judges; others pass.
        tags: it sees tags in frames and tables; else it matches addresses alone.
        tables: it holds tables of addresses; else they stand in entries.
        state: it lets known flows pass.
        ports: how an entry names ports: ``lists`` of ranges, one of the ``ranges``, ranges that
            count as aligned ``blocks`` (a value and a mask), or one ``single`` port.
        range_costs: so many entries a range of ports counts as, where an entry has one.
        icmp_types: how it names types and codes of ICMP: ``lists``, ``single``, or ``none``.
        sctp_ports: it sees the ports of SCTP.
        readable: it tells packets whose ports, or ICMP type and code, can be read, from those cut
            short: all of them, those with ports, or none.
        apart: an entry is of one family, and of one protocol.
        logging: it records what an entry asks to be logged.
        observing: it records what would be otherwise.
        answers: it can refuse with an answer.
        counters: it counts what meets each cell or entry.
        own: it can judge what goes to and from its node's own addresses.
    """

    families: frozenset[int] = frozenset({4, 6})
    tags: bool = True
    tables: bool = True
    state: bool = True
    ports: Numbers = "lists"
    range_costs: int = 1
    icmp_types: Numbers = "lists"
    sctp_ports: bool = True
    readable: Literal["all", "ports", "none"] = "all"
    apart: bool = False
    logging: bool = True
    observing: bool = True
    answers: bool = True
    counters: bool = True
    own: bool = True

    def narrowed(self, limits: Sequence[tuple[str, Any]]) -> Abilities:
        """The same, less what limits say."""
        return self._replace(**dict(limits))

    def price(self, region: Region | None, *, readable: bool = False) -> int:
        """The entries that one for a region counts as at the point; ``NEVER`` where it cannot be
        expressed."""
        if region is None:
            return 2 if self.apart else 1
        if self.unseen(region, readable=readable):
            return NEVER
        total = len(region.families) * _count(region.protocols) if self.apart else 1
        form = self._form(region)
        for axis in (region.sources, region.destinations):
            if _whole(region, axis):
                continue
            cut = [part for low, high in axis for part in _cut(low, high, form)]
            dear = 1 if form == "blocks" else self.range_costs
            if form != "lists" or dear > 1:
                total *= sum(dear if low < high else 1 for low, high in cut)
        return total

    def parts(self, region: Region) -> Iterator[Region]:
        """A region as the regions of entries that the point can hold, in order."""
        form = self._form(region)
        families = [(f,) for f in region.families] if self.apart else [region.families]
        protocols = [region.protocols]
        if self.apart:
            numbers = (p for low, high in region.protocols for p in range(low, high + 1))
            protocols = [((number, number),) for number in numbers]
        axes: list[list[Ranges]] = []
        for axis in (region.sources, region.destinations):
            if form == "lists" or _whole(region, axis):
                axes.append([axis])
            else:
                axes.append([(part,) for low, high in axis for part in _cut(low, high, form)])
        for family, protocol, source, destination in product(families, protocols, axes[0], axes[1]):
            yield Region(family, protocol, source, destination)

    def unseen(self, region: Region, *, readable: bool = False) -> str:
        """Why entries for a region cannot be written; empty where they can."""
        kinds = {p for low, high in region.protocols for p in range(low, high + 1)}
        named = not (_whole(region, region.sources) and _whole(region, region.destinations))
        if named and kinds & {*ICMP_OF.values()} and self.icmp_types == "none":
            return "is for some types of ICMP, and the point tells no types apart"
        if named and SCTP in kinds and not self.sctp_ports:
            return "is for ports of SCTP, and the point does not see these"
        if (
            readable
            and not named
            and (
                self.readable == "none"
                or (self.readable == "ports" and kinds <= {*ICMP_OF.values()})
            )
        ):
            return "is for packets whose ports can be read alone, which the point cannot tell"
        return ""

    def refused(self, entry: ListEntry) -> str:
        """Why the point cannot do what an entry says, whatever it matches; empty where it can."""
        if entry.log is not None and not self.logging:
            return "asks for a log, and the point keeps none"
        if entry.action != entry.would and not self.observing:
            return "is observed, and the point cannot record what would be"
        if entry.answer and not self.answers:
            return "refuses with an answer, and the point only drops"
        return ""

    def _form(self, region: Region) -> Numbers:
        kinds = {low for low, _ in region.protocols}
        return self.icmp_types if kinds <= {*ICMP_OF.values()} else self.ports


#: A point without any limit.
EVERYTHING = Abilities()


def _count(ranges: Ranges) -> int:
    return sum(high - low + 1 for low, high in ranges)


def _whole(region: Region, axis: Ranges) -> bool:
    """Whether an axis of a region leaves nothing out."""
    number, family = region.protocols[0][0], region.families[0]
    ported = number in PORTED or number == ICMP_OF[family]
    return not ported or axis == ((0, span_of(family, number)),)


def _cut(low: int, high: int, form: Numbers) -> Iterator[tuple[int, int]]:
    """A range as those that an entry can name."""
    if form == "single":
        yield from ((n, n) for n in range(low, high + 1))
    elif form != "blocks":
        yield low, high
    else:
        while low <= high:
            size = low & -low or 1 << 16
            while size > high - low + 1:
                size //= 2
            yield low, low + size - 1
            low += size
