"""Few ordered boxes for a table of outcomes: what makes a list of entries short.

The table says what is done between each source and destination (a cell) with each kind of packet. A
box is some sources, some destinations and some kinds; of an ordered row of boxes the first that
holds a place decides, and the last holds everything. What an earlier box has decided is free for
later ones, so the row is made from its front: a box may hold only places of its outcome, and free
ones. To find the fewest is hard (it holds the covering of a bipartite graph by bicliques); here
boxes are grown from places in every order of the three axes, also over places of the last outcome
that a box before them decides, and taken by what they decide for their price. What is made is tried
without each of its boxes. Several rows are made, and the cheapest is given.

Kinds are bits of a number, so that a cell is one number for each outcome.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from itertools import permutations
from typing import Any, NamedTuple

import numpy as np

#: Outcomes by source, destination and kind.
Table = Sequence[Sequence[Sequence[int]]]
#: Kinds of each cell.
Cells = list[list[int]]
#: Sources, destinations, and kinds as bits.
Sides = tuple[tuple[int, ...], tuple[int, ...], int]

#: Boxes are grown from so many places at a time.
SEEDS = 24
#: So many rows are made at most, and fewer of larger tables: so many places are looked at.
TRIES, PLACES = 24, 1500
#: The order of axes in which a box is grown.
ORDERS = tuple(permutations(("sources", "destinations", "kinds")))


class Fitted(NamedTuple):
    """How some kinds are matched: for which price, which ones, and by what; and of which others a
    part is matched as well."""

    price: int
    kinds: int
    by: Any = None
    partly: int = 0


#: What some sources and destinations together cost: each entry for them counts so often.
Spread = Callable[[Sequence[int], Sequence[int]], int]
#: Of kinds that must be in a box, and of those that may be, how they are matched.
Fit = Callable[[int, int], Fitted]


class Box(NamedTuple):
    """One box, and what is done with what is in it."""

    sources: tuple[int, ...]
    destinations: tuple[int, ...]
    fitted: Fitted
    outcome: int

    @property
    def kinds(self) -> int:
        """The kinds in it, as bits."""
        return self.fitted.kinds


class _Move(NamedTuple):
    """Boxes that are taken together, what they cost, and how many places they decide."""

    boxes: tuple[Box, ...]
    price: int
    gain: int


def one_each(needed: int, _: int) -> Fitted:
    """Any set of kinds is one entry."""
    return Fitted(1, needed)


def together(_: Sequence[int], __: Sequence[int]) -> int:
    """Any sources and destinations are named by one entry."""
    return 1


def minimized(
    table: Table, fit: Fit = one_each, spread: Spread = together, seed: int = 1
) -> list[Box]:
    """Ordered boxes that say what a table says.

    Args:
        table: outcomes, [sources, destinations, kinds], none of them empty.
        fit: what a set of kinds costs.
        spread: how often that counts, for some sources and destinations.
        seed: of the tries; the same gives the same.

    Returns:
        the boxes, the last of which holds everything; none where no row was found, for sets of
        kinds cannot be matched as they are.
    """
    counted = Counter(outcome for row in table for cell in row for outcome in cell)
    last = [outcome for outcome, _ in counted.most_common(3)]
    rng = np.random.default_rng(seed)
    best: list[Box] = []
    least = 0
    for number in range(max(min(TRIES, PLACES // counted.total()), 1)):
        row = _Row(table, fit, spread, last[number % len(last)], rng, greedy=number < len(last))
        found = row.made()
        if not found:
            continue
        price = sum(box.fitted.price * spread(box.sources, box.destinations) for box in found)
        if not best or price < least:
            best, least = found, price
        if len(best) == len(counted):  # each outcome needs one
            break
    return best


class _Row:
    """One row of boxes in the making, whose last box has a given outcome."""

    def __init__(
        self, table: Table, fit: Fit, spread: Spread, last: int, rng: np.random.Generator, *,
        greedy: bool,
    ) -> None:  # fmt: skip
        self.table, self.fit, self.last, self.rng, self.greedy = table, fit, last, rng, greedy
        self.spread = spread
        self.sources, self.destinations = range(len(table)), range(len(table[0]))
        self.kinds = (1 << len(table[0][0])) - 1
        self.cells = _by_outcome(table)
        self.free: Cells = [[0] * len(table[0]) for _ in table]
        #: Of each outcome the kinds that a box of it may hold, and those of the last one besides.
        self._may: dict[int, tuple[Cells, Cells]] = {}

    def made(self) -> list[Box]:
        """The whole row; empty where it comes to no end."""
        boxes: list[Box] = []
        while left := self._left():
            move = self._best(left)
            if move is None:
                return []
            for box in move.boxes:
                for s in box.sources:
                    for d in box.destinations:
                        self.free[s][d] |= box.kinds
                boxes.append(box)
            self._may.clear()
        every = Fitted(1, self.kinds)
        boxes.append(Box(tuple(self.sources), tuple(self.destinations), every, self.last))
        return without_idle(self.table, boxes)

    def _left(self) -> list[tuple[int, int, int]]:
        """The places that no box decides, and the last one must not."""
        return [
            (s, d, kind)
            for s, row in enumerate(self.cells[self.last])
            for d, mine in enumerate(row)
            for kind in bits(self.kinds & ~mine & ~self.free[s][d])
        ]

    def _best(self, left: list[tuple[int, int, int]]) -> _Move | None:
        some = left
        if len(left) > SEEDS:
            step = len(left) / SEEDS
            start = 0.0 if self.greedy else self.rng.random() * step
            some = [left[int(start + n * step) % len(left)] for n in range(SEEDS)]
        moves = self._moves(some) or self._moves(left)
        spread = 0.0 if self.greedy else 0.35
        return max(
            moves, key=lambda m: (m.gain / m.price * (1 + spread * self.rng.random()), m.gain),
            default=None,
        )  # fmt: skip

    # -- boxes that can be taken -----------------------------------------------------------------

    def _moves(self, places: Sequence[tuple[int, int, int]]) -> list[_Move]:
        """The moves that decide anything, of boxes grown from some places."""
        grown: dict[tuple[int, Sides], None] = {}
        for s, d, kind in places:
            outcome = self.table[s][d][kind]
            if outcome not in self._may:
                mine = _joined(self.cells[outcome], self.free)
                self._may[outcome] = mine, _joined(mine, self.cells[self.last])
            mine, calm = self._may[outcome]
            for may in (mine, calm):
                for order in ORDERS:
                    grown[outcome, self._grown(may, (s, d, kind), order)] = None
            grown |= {(outcome, sides): None for sides in self._alike(s, d, mine)}
        found = (self._move(outcome, *sides, self._may[outcome][0]) for outcome, sides in grown)
        return [move for move in found if move is not None and move.gain]

    def _grown(self, may: Cells, place: tuple[int, int, int], order: Sequence[str]) -> Sides:
        """The largest box of places that may be in it, one axis after the other."""
        ones: tuple[int, ...] = (place[0],)
        twos: tuple[int, ...] = (place[1],)
        kinds = 1 << place[2]
        for axis in order:
            if axis == "sources":
                ones = tuple(s for s in self.sources if all(not kinds & ~may[s][d] for d in twos))
            elif axis == "destinations":
                twos = tuple(
                    d for d in self.destinations if all(not kinds & ~may[s][d] for s in ones)
                )
            else:
                kinds = self.kinds
                for s in ones:
                    for d in twos:
                        kinds &= may[s][d]
        return ones, twos, kinds

    def _alike(self, s: int, d: int, mine: Cells) -> Iterator[Sides]:
        """All kinds of a cell but those of a third outcome, and the ends between which the same
        ones are of the last outcome."""
        calm = _joined(self.cells[self.last], self.free)
        holes = calm[s][d] & ~mine[s][d]
        if not holes:
            return
        solid = mine[s][d]

        def like(one: int, two: int) -> bool:
            return not (solid & ~mine[one][two] or holes & ~calm[one][two])

        ones = tuple(one for one in self.sources if like(one, d))
        yield (
            ones,
            tuple(t for t in self.destinations if all(like(o, t) for o in ones)),
            (solid | holes),
        )
        twos = tuple(two for two in self.destinations if like(s, two))
        yield tuple(o for o in self.sources if all(like(o, t) for t in twos)), twos, solid | holes

    def _move(
        self, outcome: int, ones: Sequence[int], twos: Sequence[int], kinds: int, mine: Cells
    ) -> _Move | None:
        """A box, behind one that decides the places of the last outcome in it."""
        last = self.cells[self.last]
        boxes: list[Box] = []
        price = before = 0
        inner = [(s, d) for s in ones for d in twos if kinds & ~mine[s][d]]
        hole_s, hole_d = ({c[axis] for c in inner} for axis in (0, 1))
        if inner:
            wanted, may = 0, self.kinds
            for s in hole_s:
                for d in hole_d:
                    wanted |= kinds & ~mine[s][d]
                    may &= last[s][d] | self.free[s][d]
            if wanted & ~may:
                return None
            fitted = self.fit(wanted, may)
            box = Box(tuple(sorted(hole_s)), tuple(sorted(hole_d)), fitted, self.last)
            before, price = fitted.kinds, fitted.price * self.spread(box.sources, box.destinations)
            boxes.append(box)
        wanted, may = 0, self.kinds
        for s in ones:
            for d in twos:
                front = before if s in hole_s and d in hole_d else 0
                wanted |= kinds & self.cells[outcome][s][d] & ~self.free[s][d]
                may &= mine[s][d] | front
        if wanted & ~may:  # the box in front does not match all that it should
            return None
        fitted = self.fit(wanted, may)
        gain = sum(
            (fitted.kinds & ~self.free[s][d] & ~last[s][d]).bit_count() for s in ones for d in twos
        )
        boxes.append(Box(tuple(ones), tuple(twos), fitted, outcome))
        return _Move(tuple(boxes), price + fitted.price * self.spread(ones, twos), gain)


def _by_outcome(table: Table) -> dict[int, Cells]:
    """Of each outcome the kinds of each cell that have it."""
    found: dict[int, Cells] = {}
    for s, row in enumerate(table):
        for d, cell in enumerate(row):
            for kind, outcome in enumerate(cell):
                if outcome not in found:
                    found[outcome] = [[0] * len(row) for _ in table]
                found[outcome][s][d] |= 1 << kind
    return found


def _joined(some: Cells, more: Cells) -> Cells:
    return [[a | b for a, b in zip(x, y, strict=True)] for x, y in zip(some, more, strict=True)]


def bits(mask: int) -> Iterator[int]:
    """The places of the bits of a mask."""
    while mask:
        low = mask & -mask
        yield low.bit_length() - 1
        mask ^= low


def decided(table: Table, boxes: Sequence[Box]) -> list[list[list[int]]]:
    """What ordered boxes say of each place of a table of that shape; -1: nothing."""
    said = [[[-1] * len(cell) for cell in row] for row in table]
    for box in reversed(boxes):
        for s in box.sources:
            for d in box.destinations:
                for kind in bits(box.kinds):
                    said[s][d][kind] = box.outcome
    return said


def without_idle(table: Table, boxes: Sequence[Box]) -> list[Box]:
    """The boxes without those that can be left out, the ones behind first; where the last decides
    nothing, the one before it may hold everything."""
    kept = list(boxes)
    cells = _by_outcome(table)
    for at in range(len(kept) - 2, -1, -1):
        if not _needed(cells, kept, at):
            del kept[at]
    while len(kept) > 1 and not _decides(kept):
        kept[-2:] = [kept[-1]._replace(outcome=kept[-2].outcome)]
    return kept


def _decides(boxes: Sequence[Box]) -> bool:
    """Whether the last box decides anything."""
    *front, last = boxes
    for s in last.sources:
        for d in last.destinations:
            left = last.kinds
            for box in front:
                if s in box.sources and d in box.destinations:
                    left &= ~box.kinds
            if left:
                return True
    return False


def _needed(cells: dict[int, Cells], boxes: Sequence[Box], at: int) -> bool:
    """Whether without one box some place of it would meet another outcome."""
    box = boxes[at]
    for s in box.sources:
        for d in box.destinations:
            left = box.kinds
            for number, other in enumerate(boxes):
                if number != at and s in other.sources and d in other.destinations:
                    met = left & (other.kinds | other.fitted.partly)
                    if number > at and met & ~cells[other.outcome][s][d]:
                        return True
                    left &= ~other.kinds
                    if not left:
                        break
    return False
