"""The network as nodes report it: the same computation on another state.

Rules kept here (semantics, section 6): what each node knows and what each point holds is taken
as reported; what is not reported is as intended. A list that was read back is judged by as it
stands: its own bindings, addresses, cells, and whether it keeps state. Of a list that cannot be
read nothing good is assumed: it lets everything pass.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping, Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from oaktag.core.accesslist import (
    AccessList,
    Blank,
    PassBetween,
    PassUnless,
    PassWithin,
    WhichEnd,
)
from oaktag.core.addresses import Range, Span, prefixes_of
from oaktag.core.bindings import Binding, Lookup
from oaktag.core.judging import Judge, Sight
from oaktag.core.knowledge import Knowledge
from oaktag.core.matrix import Matrix
from oaktag.core.network import Point
from oaktag.core.packets import boxes_of
from oaktag.core.placement import Host

Ints = NDArray[np.int64]


class ObservedKnowledge(Knowledge):
    """What nodes say that they know; the others as intended."""

    def __init__(self, intended: Knowledge, tables: Mapping[str, Lookup]) -> None:
        self.__dict__.update(intended.__dict__)
        self._reported = dict(tables)

    def at(self, node: str) -> Lookup:
        """The bindings in force at a node."""
        return self._reported.get(node) or super().at(node)


class HeldJudge(Judge):
    """A point that acts by the list it holds, whatever was compiled for it.

    Args:
        point: in the mode that it reports.
        matrix: cut along the list's regions too.
        list_: its list as a tree.
        inside: pairs of addresses inside a segment, between which it is not meant to judge; a list
            need not name those of which it lets everything pass anyway.
    """

    held = True

    def __init__(
        self, point: Point, matrix: Matrix, list_: AccessList,
        inside: Sequence[tuple[Span, Span]] = (),
    ) -> None:  # fmt: skip
        super().__init__(point._replace(own=bool(list_.own), inside=True), matrix, ((), ()))
        self.list = list_
        self.frames = list_.frames
        self.stateful = list_.stateful
        self.outside = list_.outside[0]
        self._chains: dict[str, int] = {}
        for name, chain in list_.chains.items():
            allowed = 0
            for entry in reversed(chain):
                region = entry.region
                mask = matrix.atoms.full if region is None else matrix.atoms.mask(boxes_of(region))
                allowed = allowed | mask if entry.action == "allow" else allowed & ~mask
            self._chains[name] = allowed
        self._tables = _lookup(list_.source_bindings), _lookup(list_.destination_bindings)
        steps = list_.head
        ends: tuple[WhichEnd, WhichEnd] = ("source", "destination")
        self._unless, self._exempt = (
            {
                end: [
                    _Spans(s.spans, s.family) for s in steps if isinstance(s, kind) and s.end == end
                ]
                for end in ends
            }
            for kind in (PassUnless, PassWithin)
        )
        pairs = [pair for s in steps if isinstance(s, PassBetween) for pair in s.pairs]
        left = set(inside) - set(pairs)
        passes = list_.outside == ("allow", "allow") and not list_.blocks.get(0)
        if passes and not point.inside and set(pairs) <= set(inside):
            known = _Spans([Span(*r[:3]) for r in list_.destination_bindings])
            pairs += [pair for pair in sorted(left) if not known.meets(pair[1])]
        self._own = _Spans(list_.own)
        self._inside = tuple(_Pairs([pair[n] for pair in pairs]) for n in (0, 1))

    @property
    def from_key(self) -> object:
        """What ``judges_from`` depends on."""
        return id(self), "from"

    @property
    def to_key(self) -> object:
        """What ``judges_to`` depends on."""
        return id(self), "to"

    def judges_from(self, host: Host) -> bool:
        """Whether it judges packets from there."""
        return self._judges("source", host)

    def judges_to(self, host: Host) -> bool:
        """Whether it judges packets toward there."""
        return self._judges("destination", host)

    def _judges(self, end: WhichEnd, host: Host) -> bool:
        place = host.family, host.address
        if host.own and host.node == self.point.node and not self._own.hold(*place):
            return False
        if any(s.family == host.family and s.hold(*place) for s in self._exempt[end]):
            return False
        return all(s.hold(*place) for s in self._unless[end] if s.family == host.family)

    def within(self, a: Host, b: Host) -> bool:
        """Whether it leaves packets between the two alone, as being inside one segment."""
        one, two = (p.of(h.family, h.address) for p, h in zip(self._inside, (a, b), strict=True))
        return bool(one & two)

    @cached_property
    def marks(self) -> list[Lookup]:
        """Tables along whose ends hosts must be told apart, beside bindings."""
        named = [s for by in (self._unless, self._exempt) for of in by.values() for s in of]
        spans = [of.spans for of in (*named, *self._inside, self._own) if of.spans]
        return [
            _lookup([Range(s.family, s.start, s.end, 1 + n) for n, s in enumerate(of)])
            for of in spans
        ]

    def tables(self, known: Lookup) -> tuple[Lookup, Lookup]:
        """The bindings of the list."""
        return self._tables

    def holds(self, sight: Sight) -> bool:
        """Whether the cell of the tags seen is in its list."""
        return sight.source in self.list.blocks.get(sight.destination, {})

    def allowed(self, sight: Sight) -> int:
        """The packets that it lets pass between the tags seen, as answers or not."""
        chain = self.list.blocks.get(sight.destination, {}).get(sight.source)
        if chain is None:
            return self.matrix.atoms.full if self.outside == "allow" else 0
        return self._chains[chain]

    def opening(self, sight: Sight) -> int:
        """The packets that it lets pass by the cell itself.

        A stateless list has answers written in it: what it lets pass beyond the cell, and what
        answers the opposite cell, is taken to be there as an answer.
        """
        allowed = self.allowed(sight)
        cell = self._cell(sight)
        if self.stateful or not self.holds(sight) or -1 in cell:
            return allowed
        back = self._form(Sight(sight.destination, sight.source))
        return allowed & ~(self.matrix.atoms.exchanged(back) & ~self._form(sight))

    def book_of(self, tags: Sequence[int]) -> HeldBook:
        """Its cells, by places of tags."""
        return HeldBook(self, tags)


def open_list(point: str) -> AccessList:
    """What is assumed of a list that nobody knows: it lets everything pass."""
    return AccessList(point, (Blank(),), True, (), (), {}, {}, ("allow", "allow"))


class HeldBook:
    """The cells of a list that was read back, by places of tags."""

    def __init__(self, judge: HeldJudge, tags: Sequence[int]) -> None:
        self._judge = judge
        self._tags = tags
        self._known: dict[tuple[int, int, bool], int] = {}

    def holds(self, source: int, destination: int) -> bool:
        """Whether a cell is in the list."""
        return self._judge.holds(Sight(self._tags[source], self._tags[destination]))

    def opening(self, sources: Ints, destinations: Ints) -> Ints:
        """What each cell itself allows."""
        return self._numbers(sources, destinations, opening=True)

    def allowed(self, sources: Ints, destinations: Ints, *, stateless: bool) -> Ints:
        """The same, with the answers that a stateless point lets pass."""
        return self._numbers(sources, destinations, opening=False)

    def _numbers(self, sources: Ints, destinations: Ints, *, opening: bool) -> Ints:
        sources, destinations = np.broadcast_arrays(sources, destinations)
        found = [
            self._number(s, d, opening)
            for s, d in zip(sources.ravel().tolist(), destinations.ravel().tolist(), strict=True)
        ]
        return np.array(found, dtype=np.int64).reshape(sources.shape)

    def _number(self, source: int, destination: int, opening: bool) -> int:
        key = source, destination, opening
        if key not in self._known:
            sight = Sight(self._tags[source], self._tags[destination])
            mask = self._judge.opening(sight) if opening else self._judge.allowed(sight)
            self._known[key] = self._judge.matrix.forms.number(mask)
        return self._known[key]


class _Spans:
    """Disjoint spans of addresses."""

    def __init__(self, spans: Sequence[Span], family: int = 0) -> None:
        self.family = family
        self.spans = sorted(set(spans))
        self._starts = [(s.family, s.start) for s in self.spans]

    def hold(self, family: int, address: int) -> bool:
        """Whether an address is in one of them."""
        return self._find(family, address) is not None

    def meets(self, span: Span) -> bool:
        """Whether an address of a span is in one of them."""
        at = bisect_right(self._starts, (span.family, span.end)) - 1
        last = self.spans[at] if at >= 0 else None
        return last is not None and last.family == span.family and last.end >= span.start

    def _find(self, family: int, address: int) -> Span | None:
        at = bisect_right(self._starts, (family, address)) - 1
        if at < 0 or self.spans[at].family != family or address > self.spans[at].end:
            return None
        return self.spans[at]


class _Pairs(_Spans):
    """Disjoint spans, each of which may stand at several places."""

    def __init__(self, spans: Sequence[Span]) -> None:
        super().__init__(spans)
        self._places: dict[Span, set[int]] = {}
        for place, span in enumerate(spans):
            self._places.setdefault(span, set()).add(place)

    def of(self, family: int, address: int) -> set[int]:
        """The places of the span that holds an address."""
        span = self._find(family, address)
        return set() if span is None else self._places[span]


def _lookup(ranges: Sequence[Range]) -> Lookup:
    """Ranges with their tags as a table of bindings."""
    return Lookup(
        [
            Binding(prefix, r.tag, "pinned")
            for r in ranges
            for prefix in prefixes_of(r.family, r.start, r.end)
        ]
    )
