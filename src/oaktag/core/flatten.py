"""A list of chains → one short row of entries.

Rules kept here (semantics, section 5, Small): equal rows, columns and kinds of packets are one
each; an entry may match what entries before it have decided; never more entries than one for each
entry of each cell. The entries cite the lines of all that they decide.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.abilities import EVERYTHING, Abilities
from oaktag.core.accesslist import AccessList, ListEntry, entries_in, narrowed
from oaktag.core.addressed import Ground, unjudged
from oaktag.core.addresses import Prefix
from oaktag.core.cells import KINDS, matches_all, rules, whole_of
from oaktag.core.flatlist import FlatEntry, FlatList, of, plain
from oaktag.core.lines import Action
from oaktag.core.minimize import Box, Fitted, bits, minimized, together
from oaktag.core.packets import Atoms, Region, boxes_of

#: What an entry does.
Deed = tuple[Action, Action, str | None, bool]


class _Written(NamedTuple):
    """Regions that match a set of kinds; ``readable``: which only where ports can be read."""

    mask: int
    entries: tuple[tuple[Region | None, bool], ...]
    price: int


def flattened(held: AccessList, able: Abilities = EVERYTHING) -> FlatList:
    """The list as one row of entries that its point can hold, with tags.

    Args:
        held: the list.
        able: what the point can do; where it holds no tables, the addresses of tags count.
    """
    return _Flattening(held if able.tables else _placed(held), able).made()


def _placed(held: AccessList) -> AccessList:
    """The list without cells of tags that no address has."""
    here, there = (
        {0, *(r.tag for r in bound)} for bound in (held.source_bindings, held.destination_bindings)
    )
    blocks = {d: narrowed(row, here) for d, row in held.blocks.items() if d in there}
    return replace(held, blocks={d: row for d, row in blocks.items() if row})


class _Flattening:
    def __init__(self, held: AccessList, able: Abilities) -> None:
        self.held, self.able, self.price = held, able, able.price
        regions = [e.region for c in held.chains.values() for e in c if e.region is not None]
        self.atoms = Atoms([b for r in regions for b in boxes_of(r)])
        #: Behind the atoms a bit for each kind of packet whose ports cannot be read.
        self.short = {kind: 1 << self.atoms.count + n for n, kind in enumerate(KINDS)}
        self._whole = {kind: self.atoms.touched(boxes_of(whole_of(kind))) for kind in KINDS}
        self.full = self.atoms.full | sum(self.short.values())
        self.deeds: dict[Deed, int] = {}
        # In the order of cells, so that nothing depends on what chains are called.
        self.names = list(dict.fromkeys(c for row in held.blocks.values() for c in row.values()))
        self._fits: dict[tuple[int, int], Fitted] = {}
        self._written: dict[int, _Written] = {}
        said = [self._said(held.chains[name]) for name in self.names]
        self._mine = [masks for _, masks in said]
        #: Of each number in the grid of what cells cite: masks, with the entry that says so.
        self.cited: list[list[tuple[int, ListEntry]]] = []
        self.kinds, self.table = self._table([deeds for deeds, _ in said])
        self.masks = sorted({self._mask(e) for c in held.chains.values() for e in c})

    # -- what is said ----------------------------------------------------------------------------

    def _mask(self, entry: ListEntry) -> int:
        """The packets that an entry matches."""
        if entry.region is None:
            return self.full
        mask = self.atoms.mask(boxes_of(entry.region))
        return mask if entry.readable else mask | self._shorts(entry.region)

    def _shorts(self, region: Region) -> int:
        return sum(b for kind, b in self.short.items() if matches_all(region, whole_of(kind)))

    def _said(self, chain: Sequence[ListEntry]) -> tuple[list[tuple[int, int]], list[int]]:
        """Of a chain masks with what is done, and the mask of each entry."""
        left, deeds, masks = self.full, list[tuple[int, int]](), list[int]()
        for entry in chain:
            mine = self._mask(entry) & left
            left &= ~mine
            deed = entry.action, entry.would, entry.log, entry.answer
            deeds.append((mine, self.deeds.setdefault(deed, len(self.deeds))))
            masks.append(mine)
        return deeds, masks

    def _table(
        self, said: Sequence[Sequence[tuple[int, int]]]
    ) -> tuple[list[int], NDArray[np.int64]]:
        """Kinds of packets that all chains treat alike, as masks, and what each chain does."""
        rows = np.zeros((len(said), self.full.bit_length()), dtype=np.int64)
        for number, deeds in enumerate(said):
            for mask, deed in deeds:
                rows[number, list(bits(mask))] = deed
        count = self.atoms.count
        columns, inverse = np.unique(rows[:, :count], axis=1, return_inverse=True)
        kinds = [0] * columns.shape[1]
        for bit, kind in enumerate(inverse.ravel().tolist()):
            kinds[kind] |= 1 << bit
        # What cannot be read is matched by what matches all of its protocol, and so by itself.
        return [*kinds, *self.short.values()], np.concatenate([columns, rows[:, count:]], axis=1)

    # -- the row of entries ----------------------------------------------------------------------

    def made(self) -> FlatList:
        """The shortest that is found, and no longer than the plain one."""
        held = self.held
        place = {name: n for n, name in enumerate(self.names)}
        grid = np.array([[place[c] for c in row.values()] for row in held.blocks.values()]).T
        if not grid.size:
            return of(held, ())
        deeds, deeds_of = np.unique(self.table, axis=0, return_inverse=True)
        ones, source_of = np.unique(deeds_of.ravel()[grid], axis=0, return_inverse=True)
        twos, destination_of = np.unique(ones, axis=1, return_inverse=True)
        classes = source_of.ravel(), destination_of.ravel()
        spread = together if self.able.tables else _Spread(held, *classes)
        boxes = minimized(deeds[twos].tolist(), self._fit, spread)
        chains = _held(self._citing(grid), *classes, twos.shape)
        entries = tuple(self._entries(boxes, chains, *classes))
        short, whole = of(held, entries), plain(held, self.able.parts)
        return short if 0 < count(short, self.able) <= count(whole, self.able) else whole

    def _entries(
        self, boxes: Sequence[Box], chains: NDArray[np.object_], source_of: NDArray[np.int64],
        destination_of: NDArray[np.int64],
    ) -> Iterator[FlatEntry]:  # fmt: skip
        rows = list(self.held.blocks.values())
        tags = np.array(list(rows[0])), np.array(list(self.held.blocks))
        deeds = list(self.deeds)
        left = np.full(chains.shape, self.full, dtype=object)
        everything = _Written(self.full, ((None, False),), 1)
        for box in boxes:
            written: _Written = everything if box is boxes[-1] else box.fitted.by
            sides = []
            for chosen, of_class, every in (
                (box.sources, source_of, tags[0]), (box.destinations, destination_of, tags[1]),
            ):  # fmt: skip
                mine = every[np.isin(of_class, chosen)].tolist()
                sides.append(None if len(mine) == len(every) else frozenset(mine))
            keys, words = set[str](), set[str]()
            for s in box.sources:
                for d in box.destinations:
                    fresh = left[s, d] & written.mask
                    for mask, entry in self._saying(chains[s, d]) if fresh else ():
                        if mask & fresh:
                            keys.update(entry.keys)
                            words.update(entry.words)
                    left[s, d] &= ~written.mask
            action, would, log, answer = deeds[box.outcome]
            entry = ListEntry(
                None, action, would, log, answer, tuple(sorted(keys)), words=tuple(sorted(words))
            )
            for region, readable in written.entries:
                for part in (None,) if region is None else self.able.parts(region):
                    yield FlatEntry(
                        sides[0], sides[1], replace(entry, region=part, readable=readable)
                    )

    def _citing(self, grid: NDArray[np.int64]) -> NDArray[np.int64]:
        """What each cell cites, as a number: cells that share a chain may cite other lines."""
        found = np.empty_like(grid)
        numbers: dict[int, int] = {}

        def number(place: int, entries: Sequence[ListEntry]) -> int:
            known = numbers.setdefault(id(entries), len(numbers))
            if known == len(self.cited):
                self.cited.append(list(zip(self._mine[place], entries, strict=True)))
            return known

        for d, (_, row) in enumerate(self.held.blocks.items()):
            chains, cited = entries_in(self.held, row)
            of = np.zeros(len(self.names), dtype=np.int64)
            for place in np.unique(grid[:, d]).tolist():
                of[place] = number(place, chains[self.names[place]])
            found[:, d] = of[grid[:, d]]
            for s, tag in enumerate(row) if cited else ():
                if tag in cited:
                    found[s, d] = number(int(grid[s, d]), cited[tag])
        return found

    def _saying(self, chains: Sequence[int]) -> Iterator[tuple[int, ListEntry]]:
        return (said for chain in chains for said in self.cited[chain])

    def _packets(self, kinds: int) -> int:
        """The packets of some kinds."""
        return sum(self.kinds[k] for k in bits(kinds))

    def _fit(self, needed: int, may: int) -> Fitted:
        key = needed, may
        if key not in self._fits:
            found = self._match(needed, may)
            kinds = sum(1 << n for n, kind in enumerate(self.kinds) if not kind & ~found.mask)
            touched = sum(1 << n for n, kind in enumerate(self.kinds) if kind & found.mask)
            self._fits[key] = Fitted(found.price, kinds, found, touched & ~kinds)
        return self._fits[key]

    def _match(self, needed: int, may: int) -> _Written:
        """The cheapest regions that match some kinds, and at most some."""
        wanted, most = self._packets(needed), self._packets(may)
        whole = wanted
        for kind, bit in self.short.items():
            if wanted & bit:
                whole |= self._whole[kind]
        masks = [wanted, most, *(() if whole & ~most else (whole,))]
        found = [self._regions(mask, most) for mask in dict.fromkeys(masks)]
        for mask in self.masks:
            if not (wanted & self.atoms.full & ~mask or mask & ~most):
                found.append(self._regions(mask, most))
        return min(found, key=lambda w: (bool(wanted & ~w.mask), w.price, w.mask != wanted))

    def _regions(self, mask: int, most: int) -> _Written:
        """Regions of a set, which match what cannot be read only where that may be."""
        key = mask | most << self.full.bit_length()
        if key not in self._written:
            if mask == self.full:
                self._written[key] = _Written(mask, ((None, False),), self.price(None))
            else:
                entries = list(self._split(mask & self.atoms.full, most))
                matched = mask & self.atoms.full
                for region, readable in entries:
                    if region is not None and not readable:
                        matched |= self._shorts(region)
                self._written[key] = _Written(
                    matched, tuple(entries), sum(self.price(r, readable=x) for r, x in entries)
                )
        return self._written[key]

    def _split(self, mask: int, most: int) -> Iterator[tuple[Region | None, bool]]:
        for region in rules(self.atoms, mask) if mask else ():
            for part in self.atoms.regions(mask) if region is None else (region,):
                yield part, bool(self._shorts(part) & ~most)


def count(flat: FlatList, able: Abilities) -> int:
    """What the entries of a list count as at its point."""
    if able.tables:
        # Where each family has a list of its own, one without cells has an entry too.
        idle = able.price(None) if able.apart else 0
        return (
            sum(able.price(e.entry.region, readable=e.entry.readable) for e in flat.entries) or idle
        )
    return len(list(unjudged(flat))) + _count_placed(flat, able)


def plain_count(held: AccessList, able: Abilities) -> int:
    """What a list would count as at its point if every entry of every cell stood for itself."""
    return count(plain(held if able.tables else _placed(held), able.parts), able)


def _count_placed(flat: FlatList, able: Abilities) -> int:
    """The same for entries that name addresses, less those for what nobody judges."""
    grounds = (
        Ground(flat.source_bindings, flat.sources),
        Ground(flat.destination_bindings, flat.destinations),
    )
    known: dict[object, int] = {}
    total = 0
    for one in flat.entries:
        region = one.entry.region
        key = one.sources, one.destinations, region, one.entry.readable
        if key not in known:
            ends = grounds[0].of(one.sources), grounds[1].of(one.destinations)
            if ends == (None, None):
                known[key] = able.price(region, readable=one.entry.readable)
                if region is None:
                    return total + known[key]
            else:
                known[key] = sum(
                    times
                    * (
                        able.price(region._replace(families=(family,)), readable=one.entry.readable)
                        if region
                        else 1
                    )
                    for family, times in zip((4, 6), _pairs(*ends), strict=True)
                    if region is None or family in region.families
                )
        total += known[key]
    return total + able.price(None)


def _pairs(*ends: Sequence[Prefix] | None) -> tuple[int, int]:
    """How many pairs of prefixes two ends come to, of each family."""
    of = [None if e is None else [sum(p.family == f for p in e) for f in (4, 6)] for e in ends]
    one, two = of
    if one is None or two is None:
        held = one or two or [1, 1]
        return held[0], held[1]
    return one[0] * two[0], one[1] * two[1]


class _Spread:
    """How many entries it takes to name the addresses of some classes of tags at both ends."""

    def __init__(
        self, held: AccessList, source_of: NDArray[np.int64], destination_of: NDArray[np.int64]
    ) -> None:
        rows = list(held.blocks.values())
        sides = (
            (held.source_bindings, list(rows[0]), source_of),
            (held.destination_bindings, list(held.blocks), destination_of),
        )
        self._tags = [
            {
                c: [t for t, o in zip(tags, of_class, strict=True) if o == c]
                for c in set(of_class.tolist())
            }
            for _, tags, of_class in sides
        ]
        self._grounds = [Ground(bindings, tags) for bindings, tags, _ in sides]
        self._known: dict[tuple[tuple[int, ...], tuple[int, ...]], int] = {}

    def __call__(self, sources: Sequence[int], destinations: Sequence[int]) -> int:
        key = tuple(sources), tuple(destinations)
        if key not in self._known:
            ends = [self._named(n, of) for n, of in enumerate(key)]
            self._known[key] = 1 if ends == [None, None] else max(sum(_pairs(*ends)), 1)
        return self._known[key]

    def _named(self, side: int, classes: Sequence[int]) -> list[Prefix] | None:
        tags = frozenset(t for c in classes for t in self._tags[side][c])
        return self._grounds[side].of(tags)


def _held(
    grid: NDArray[np.int64], source_of: NDArray[np.int64], destination_of: NDArray[np.int64],
    shape: tuple[int, ...],
) -> NDArray[np.object_]:  # fmt: skip
    """The chains of the cells of each two classes: numbers, of an array of tuples."""
    found = np.empty(shape, dtype=object)
    places = (source_of[:, None] * shape[1] + destination_of) * (grid.max() + 1) + grid
    held: dict[int, list[int]] = {}
    for place in np.unique(places).tolist():
        held.setdefault(place // (int(grid.max()) + 1), []).append(place % (int(grid.max()) + 1))
    for place, chains in held.items():
        found[divmod(place, shape[1])] = tuple(chains)
    return found
