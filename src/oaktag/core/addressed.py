"""The access list as one row of entries that match addresses: for points without tables and tags.

Every entry names at most one prefix at each end; what nobody judges, and what is outside of all
cells, are entries as well, and the last one matches everything. ``tree`` tells addresses apart that
some entry does not treat alike: each class of them has a number of its own in place of a tag.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise, product

import numpy as np
from numpy.typing import NDArray

from oaktag.core.accesslist import (
    EVERYWHERE,
    OUTSIDE_KEY,
    UNJUDGED_KEY,
    AccessList,
    Blank,
    End,
    Forget,
    Keep,
    ListEntry,
    Look,
    PassBetween,
    PassKnown,
    PassNeighbours,
    PassUnless,
    PassWithin,
    Reassemble,
)
from oaktag.core.addresses import Prefix, Range, Span, prefixes_of
from oaktag.core.flatlist import FlatList


@dataclass(frozen=True, slots=True)
class AddressEntry:
    """One entry; None for every address."""

    source: Prefix | None
    destination: Prefix | None
    entry: ListEntry

    def holds(self, source: End, destination: End) -> bool:
        """Whether it is tried for some packets of a cell."""
        return _meets(self.source, source) and _meets(self.destination, destination)


@dataclass(frozen=True, slots=True)
class AddressList:
    """What one point holds."""

    point: str
    stateful: bool
    entries: tuple[AddressEntry, ...]
    own: tuple[Span, ...] = ()
    names: Mapping[int, str] = field(default_factory=dict)

    def tree(self) -> AccessList:
        """The same list by classes of addresses, which stand for tags."""
        sides = [
            _Classes([e.source for e in self.entries]),
            _Classes([e.destination for e in self.entries]),
        ]
        chains: dict[tuple[int, ...], str] = {}
        blocks: dict[int, dict[int, str]] = {}
        for d, toward in enumerate(sides[1].rows):
            for s, come in enumerate(sides[0].rows):
                numbers = np.flatnonzero(come & toward).tolist()
                whole = (n for n, m in enumerate(numbers) if self.entries[m].entry.region is None)
                last = next(whole, None)
                if last is None:  # of two families: no packet is of this cell
                    continue
                name = chains.setdefault(tuple(numbers[: last + 1]), f"p{len(chains)}")
                blocks.setdefault(d, {})[s] = name
        held = {
            name: tuple(self.entries[n].entry for n in numbers) for numbers, name in chains.items()
        }
        return AccessList(
            self.point,
            (PassKnown() if self.stateful else Reassemble(), PassNeighbours(), Forget(), Keep(),
             Blank(), Look(4, False), Look(6, False)),
            True, sides[0].ranges, sides[1].ranges, blocks, held, ("deny", "deny"), self.own,
            cites_for="list",
        )  # fmt: skip


def _meets(prefix: Prefix | None, end: End) -> bool:
    return prefix is None or any(
        s.family == prefix.family and s.start <= prefix.end and prefix.start <= s.end
        for s in end.spans
    )


class _Classes:
    """Classes of the addresses of one end; class 0 has those that no entry names.

    Attributes:
        rows: which entries match addresses of each class, [classes][entries].
        ranges: the addresses of each class but 0.
    """

    def __init__(self, named: Sequence[Prefix | None]) -> None:
        every = np.array([p is None for p in named], dtype=np.bool_)
        self.rows: list[NDArray[np.bool_]] = [every]
        known: dict[bytes, int] = {every.tobytes(): 0}
        found: list[Range] = []
        at: dict[Prefix, list[int]] = {}
        for number, prefix in enumerate(named):
            if prefix is not None:
                at.setdefault(prefix, []).append(number)
        for family, start, end, holding in _stretches(at):
            row = every.copy()
            for prefix in holding:
                row[at[prefix]] = True
            number = known.setdefault(row.tobytes(), len(self.rows))
            if number == len(self.rows):
                self.rows.append(row)
            if number:
                found.append(Range(family, start, end, number))
        self.ranges = tuple(found)


def _stretches(some: Iterable[Prefix]) -> Iterator[tuple[int, int, int, list[Prefix]]]:
    """Stretches of addresses between the ends of prefixes, each with those that hold it."""
    for family in (4, 6):
        mine = sorted((p for p in some if p.family == family), key=lambda p: (p.start, p.length))
        cuts = sorted({p.start for p in mine} | {p.end + 1 for p in mine})
        open_: list[Prefix] = []
        place = 0
        for start, behind in pairwise(cuts):
            open_ = [p for p in open_ if p.end >= start]
            while place < len(mine) and mine[place].start == start:
                open_.append(mine[place])
                place += 1
            if open_:
                yield family, start, behind - 1, open_


# -- from tags to addresses ----------------------------------------------------------------------


class Ground:
    """Which addresses the tags of one end stand for.

    Args:
        bindings: disjoint ranges, sorted.
        scope: the tags of the cells that the list holds.
    """

    def __init__(self, bindings: Sequence[Range], scope: Iterable[int]) -> None:
        self._bindings = bindings
        self.every = frozenset({0, *(r.tag for r in bindings)})
        self.scope = frozenset(scope) & self.every
        self._known: dict[frozenset[int], list[Prefix] | None] = {}

    def of(self, tags: frozenset[int] | None) -> list[Prefix] | None:
        """The prefixes of some tags of the scope, or of all of it; None where that is everybody."""
        wanted = self.scope if tags is None else self.scope & tags
        if wanted not in self._known:
            self._known[wanted] = None if wanted == self.every else self._prefixes(wanted)
        return self._known[wanted]

    def _prefixes(self, tags: frozenset[int]) -> list[Prefix]:
        spans = [
            Span(r.family, r.start, r.end) for r in self._bindings if (r.tag in tags) != (0 in tags)
        ]
        spans = joined(spans)
        if 0 in tags:  # all that is bound to no other tag
            spans = apart_from(spans)
        return [p for span in spans for p in prefixes_of(*span)]


def joined(spans: Iterable[Span]) -> list[Span]:
    """Sorted spans, those that touch as one."""
    found: list[Span] = []
    for span in sorted(spans):
        last = found[-1] if found else None
        if last is not None and last.family == span.family and span.start <= last.end + 1:
            found[-1] = Span(span.family, last.start, max(last.end, span.end))
        else:
            found.append(span)
    return found


def apart_from(spans: Sequence[Span], families: Sequence[int] = (4, 6)) -> list[Span]:
    """All addresses of some families that are in none of some spans, sorted and disjoint."""
    found: list[Span] = []
    for whole in EVERYWHERE:
        start = whole.start
        for span in spans:
            if span.family == whole.family:
                if span.start > start:
                    found.append(Span(whole.family, start, span.start - 1))
                start = span.end + 1
        if start <= whole.end:
            found.append(Span(whole.family, start, whole.end))
    return [span for span in found if span.family in families]


def pairs_of(
    sources: Sequence[Prefix] | None, destinations: Sequence[Prefix] | None
) -> Iterator[tuple[Prefix | None, Prefix | None]]:
    """Each two prefixes of one family; None at an end for everybody."""
    everybody: list[Prefix | None] = [None]
    for a, b in product(sources or everybody, destinations or everybody):
        if a is None or b is None or a.family == b.family:
            yield a, b


def addressed(flat: FlatList) -> AddressList:
    """A list of tags as one of addresses; frames count for nothing in it."""
    grounds = (
        Ground(flat.source_bindings, flat.sources),
        Ground(flat.destination_bindings, flat.destinations),
    )
    found = list(unjudged(flat))
    for one in flat.entries:
        ends = grounds[0].of(one.sources), grounds[1].of(one.destinations)
        if [] in ends:
            continue  # nobody is there
        found += _spread(ends, one.entry)
        if ends == (None, None) and one.entry.region is None:
            break
    else:
        action, would = flat.outside
        last = ListEntry(None, action, would, keys=(OUTSIDE_KEY,))
        found.append(AddressEntry(None, None, last))
    return AddressList(flat.point, flat.stateful, tuple(found), flat.own, flat.names)


def _spread(
    ends: tuple[Sequence[Prefix] | None, Sequence[Prefix] | None], entry: ListEntry
) -> Iterator[AddressEntry]:
    """An entry for each two prefixes; what names one is of its family alone."""
    for a, b in pairs_of(*ends):
        family, region = next((p.family for p in (a, b) if p is not None), 0), entry.region
        if family and region is not None:
            if family not in region.families:
                continue
            region = region._replace(families=(family,))
        yield AddressEntry(a, b, replace(entry, region=region))


def unjudged(flat: FlatList) -> Iterator[AddressEntry]:
    """What the head lets pass, as entries."""
    free = ListEntry(None, "allow", "allow", keys=(UNJUDGED_KEY,))
    for step in flat.head:
        match step:
            case PassWithin(end, _, spans):
                yield from _at(end, spans, free)
            case PassUnless(end, family, spans):
                yield from _at(end, apart_from(spans, [family]), free)
            case PassBetween(_, pairs):
                for a, b in pairs:
                    yield from _spread((prefixes_of(*a), prefixes_of(*b)), free)


def _at(end: str, spans: Iterable[Span], entry: ListEntry) -> Iterator[AddressEntry]:
    held = [p for span in spans for p in prefixes_of(*span)]
    if held:
        yield from _spread((held, None) if end == "source" else (None, held), entry)


# -- from classes back to tags -------------------------------------------------------------------


def named_by(held: AccessList, bindings: Sequence[Range]) -> AccessList:
    """The list with the tags of some bindings for its classes of addresses.

    Addresses of one tag that the list does not treat alike keep a number of no tag, but for the
    first: to those the list is not what it should be.
    """
    taken = {r.tag for r in bindings}
    free = (n for n in range(65535, 0, -1) if n not in taken)
    rows, columns = _behaviours(held)
    sources, ones = _renamed(held.source_bindings, bindings, rows, free)
    targets, twos = _renamed(held.destination_bindings, bindings, columns, free)
    blocks = {
        t: {s: held.blocks[d][c] for s, c in ones.items() if c in held.blocks.get(d, {})}
        for t, d in twos.items()
    }
    return replace(held, source_bindings=sources, destination_bindings=targets, blocks=blocks)


def _behaviours(held: AccessList) -> tuple[dict[int, int], dict[int, int]]:
    """Of each class, as source and as destination, a number that those share which fare alike."""
    classes = sorted({0, *held.blocks, *(s for b in held.blocks.values() for s in b)})
    content = {name: repr(chain) for name, chain in held.chains.items()}
    found: tuple[dict[int, int], dict[int, int]] = ({}, {})
    for side in (0, 1):
        known: dict[object, int] = {}
        for one in classes:
            row = tuple(
                content.get(held.blocks.get(d, {}).get(s, ""))
                for s, d in (((one, x) if side == 0 else (x, one)) for x in classes)
            )
            found[side][one] = known.setdefault(row, len(known))
    return found


def _renamed(
    classes: Sequence[Range], bindings: Sequence[Range], alike: Mapping[int, int],
    free: Iterator[int],
) -> tuple[tuple[Range, ...], dict[int, int]]:  # fmt: skip
    """Ranges with tags for classes, and of each tag a class that it stands for."""
    names: dict[tuple[int, int], int] = {}
    stands: dict[int, int] = {}
    found: list[Range] = []
    for family, start, end, one, tag in _overlaid(classes, bindings):
        key = alike.get(one, -1), tag
        if key not in names:
            names[key] = tag if tag not in stands else next(free)
            stands[names[key]] = one
        if names[key]:
            found.append(Range(family, start, end, names[key]))
    return tuple(found), stands


def _overlaid(
    classes: Sequence[Range], bindings: Sequence[Range]
) -> Iterator[tuple[int, int, int, int, int]]:
    """Stretches of addresses with their class and tag, 0 where they have none."""
    for whole in EVERYWHERE:
        sides = [[r for r in some if r.family == whole.family] for some in (classes, bindings)]
        cuts = {whole.start, whole.end + 1}
        cuts |= {cut for some in sides for r in some for cut in (r.start, r.end + 1)}
        ends = sorted(cuts)
        at = [0, 0]
        for start, behind in pairwise(ends):
            told = []
            for side, some in enumerate(sides):
                while at[side] < len(some) and some[at[side]].end < start:
                    at[side] += 1
                here = some[at[side]] if at[side] < len(some) else None
                told.append(here.tag if here is not None and here.start <= start else 0)
            yield whole.family, start, behind - 1, told[0], told[1]
