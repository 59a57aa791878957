"""Rows of reach as arrays: who is on both sides, and unit by unit what becomes of their packets.

Rules kept here (semantics, section 6): of addresses of one group that fare differently the weakest
result counts, and of several enforced the one latest on the path; nobody talks to himself.

Units of one element each are walked many at once, each with a tree of paths of its own: a step of
NumPy costs as much for a few entries as for hundreds.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from oaktag.core.effects import Effects, MatrixBook, Member
from oaktag.core.judging import Book
from oaktag.core.judging_many import Points, View
from oaktag.core.many_paths import Crowd
from oaktag.core.pathtree import PathTrees, Tree
from oaktag.core.population import Class, Company, Side, company
from oaktag.core.ranges import numbered, spread
from oaktag.core.walks import NONE, Done, Walks

if TYPE_CHECKING:
    from oaktag.core.reach import State

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]
#: So many units are walked together, at most 256; at first few, and never more paths than this.
TOGETHER, FEW = 32, 4
MOST_ENTRIES = 1 << 19


@dataclass(slots=True)
class Batch:
    """Rows of one source unit: arrays of shape [rows].

    ``entry`` is the path in ``tree`` (-1: not connected), ``unit`` the destination's unit, ``mix``
    how its members fare, which stand from ``first`` on in the columns of ``members``; ``elements``
    are these members' elements of source and destination.
    """

    block: int
    source: int
    tree: Tree
    entry: Ints
    unit: Ints
    mix: Ints
    first: Ints
    result: Ints
    members: Done
    elements: tuple[Ints, Ints]
    #: What more than 64 paths come to, and the destination's unit.
    crowded: list[tuple[list[Any], int]] = field(default_factory=list)


class Batches:
    """All rows between two sides, as arrays.

    Args:
        state: the network.
        sources, destinations: classes of hosts, by ``state.classes``.
        trees: of its paths, if there are some already.
    """

    def __init__(
        self,
        state: State,
        sources: Sequence[Class],
        destinations: Sequence[Class],
        trees: PathTrees | None = None,
    ) -> None:
        self.state = state
        self.company: Company = company(sources, destinations)
        alone = self.company.alone
        if sources is destinations:
            both = alone[0] | alone[1]
            self.one = self.two = Side(state, sources, both)
        else:
            self.one = Side(state, sources, alone[0])
            self.two = Side(state, destinations, alone[1])
        books: list[Book] = [MatrixBook(state.matrix), *state.held_books.values()]
        placed = np.unique(np.concatenate([self.one.flat, self.two.flat]))
        self.effects = Effects(state.matrix, books, state.wrongs, placed)
        self.points = Points(state, (self.one, self.two), self.effects.cuts)
        self.trees = trees or PathTrees(state.network, state.paths)
        self.view = self.viewed(state)
        self.walks = Walks(self.points, self.effects, self.trees, self.view)
        self._said: dict[tuple[int, int, int], tuple[Any, ...]] = {}

    @cached_property
    def _by_tables(self) -> tuple[Ints, Ints, Ints]:
        """The numbers of the tables by which each point sees sources and destinations, and of that
        by which each node marks (-1: it does not, or nobody is there)."""
        return self._by_table_of(self.state, self.state.network.nodes)

    def _by_table_of(self, state: State, nodes: Collection[str]) -> tuple[Ints, Ints, Ints]:
        """The same in a state, for the points at some nodes and for these nodes; else as here."""
        points, number = self.points, self.trees.number
        if len(nodes) == len(number):
            found = [np.full(len(points.every), -1, dtype=np.int64) for _ in range(2)]
            found.append(np.full(len(number) + 1, -1, dtype=np.int64))
        else:
            found = [column.copy() for column in self._by_tables]
        for name in nodes:
            known, at = state.knowledge.at(name), number[name]
            if state.network.nodes[name].marks:
                found[2][at] = self._table_number[id(known)]
            for p in range(int(points.first[at]), int(points.first[at] + points.count[at])):
                for column, table in zip(found, points.every[p].tables(known), strict=False):
                    column[p] = self._table_number[id(table)]
        return found[0], found[1], found[2]

    @cached_property
    def _table_number(self) -> dict[int, int]:
        return {id(t): n for n, t in enumerate(self.state.tables)}

    def viewed(self, state: State) -> View:
        """By which tables points and frames go in a state of the same nodes and points."""
        source, target, of_node = self._by_tables
        if state.knowledge is not self.state.knowledge:
            other = state.knowledge.differing(self.state.knowledge)
            source, target, of_node = self._by_table_of(state, other)
        frames = []
        for side in (self.one, self.two):
            table = np.where(side.node >= 0, of_node[side.node], -1)
            rows = np.arange(len(side.hosts))
            known = bool(self.state.tables)
            seen = side.seen[rows, table] if known else np.zeros(len(rows), np.int64)
            frames.append(np.where(table >= 0, seen, 0))
        return View(source, target, (frames[0], frames[1]))

    def batches(self) -> Iterator[Batch]:
        """All rows, unit by unit of the sources."""
        every = [(block, unit) for block, mine in enumerate(self.one.units) for unit in mine]
        nodes = {self.trees.number[self.one.blocks[block][0]] for block, _ in every}
        self.trees.prepare(np.array(sorted(nodes), dtype=np.int64))
        alike: list[tuple[int, int]] = []
        size = FEW
        for n, (block, unit) in enumerate(every, 1):
            alike.append((block, unit))
            onward = n < len(every) and len(alike) < size
            if onward and self._is_alone(unit) and self._is_alone(every[n][1]):
                continue
            for batch in self._together(alike):
                yield batch
            # A network of many equal paths has trees of very many entries.
            size = MOST_ENTRIES * len(alike) // max(len(batch.tree.node), 1)
            size = max(min(size, TOGETHER), 1)
            alike = []

    def _is_alone(self, unit: int) -> bool:
        """Whether a unit has one element."""
        return len(self.one.of_unit[unit]) == 1

    def _together(self, some: Sequence[tuple[int, int]]) -> Iterator[Batch]:
        """The rows of some units (each after its block) of one element each, or of one unit."""
        one, two = self.one, self.two
        tree = self.trees.forest([one.blocks[block][0] for block, _ in some])
        ends = _Elements(self, tree)
        elements = np.array([one.of_unit[unit] for _, unit in some], dtype=np.int64)
        parts = [self._elements(es, tree, ends) for es in elements.T]
        entry, ones, twos = (np.concatenate([p[n] for p in parts]) for n in range(3))
        done = Done(*(np.concatenate(c) for c in zip(*(p[3] for p in parts), strict=True)))
        back = np.concatenate([p[4] for p in parts])
        key = entry * len(two.held) + two.unit[twos]
        if (key[1:] < key[:-1]).any():
            order = np.argsort(key, kind="stable")
            key, done, back = key[order], done.at(order), back[order]
            ones, twos = ones[order], twos[order]
        first = np.flatnonzero(np.concatenate([[True], key[1:] != key[:-1]])[: len(key)])
        count = np.diff(np.concatenate([first, [len(key)]]))
        rows, units = np.divmod(key[first], max(len(two.held), 1))
        mix, result = self._mixed(first, count, done, back, one.family[ones])
        reached = np.zeros((len(some), len(self.trees.names)), dtype=np.bool_)
        reached[tree.root, tree.node] = True
        crowded = np.zeros_like(reached)
        crowded[tree.root[tree.many], tree.node[tree.many]] = True
        root_of = tree.root[rows].astype(np.uint8)  # few: sorted quickly
        order = np.argsort(root_of, kind="stable")
        bounds = np.searchsorted(root_of[order], np.arange(len(some) + 1))
        for root, (block, unit) in enumerate(some):
            mine = order[bounds[root] : bounds[root + 1]]
            loose = self._unconnected(unit, reached[root])
            none = np.full(len(loose), NONE, dtype=np.int64)
            more = (none, loose, none, none, none)
            entry, unit_of, kind, at, worst = (
                np.concatenate([column[mine], rest])
                for column, rest in zip((rows, units, mix, first, result), more, strict=True)
            )
            crowds = self._crowded(unit, crowded[root])
            yield Batch(
                block, unit, tree, entry, unit_of, kind, at, worst, done, (ones, twos), crowds
            )

    def _elements(
        self, es: Ints, tree: Tree, ends: _Elements
    ) -> tuple[Ints, Ints, Ints, Done, Ints]:
        """All paths from one element at each root: entries, elements on both sides, and what is
        done."""
        entry, twos = ends.of(self.one.family[es])
        ones = es[tree.root[entry]]
        if self.company.apart:
            kept = self.meeting(ones, twos)
            entry, twos, ones = entry[kept], twos[kept], ones[kept]
        asked, cut = self._asked(es, tree, entry, twos, ends)
        done = self.walks.down(tree, es, self.two.nobody).at(entry)
        strangers = self.two.untagged[twos] & ~asked
        if strangers.any():
            other = self.walks.down(tree, es, self.two.stranger).at(entry)
            done = Done(*(np.where(strangers, b, a) for a, b in zip(done, other, strict=True)))
        back = np.zeros(len(entry), dtype=np.int64)
        some = np.flatnonzero(asked)
        if len(some):
            walked = self.walks.up(tree, entry[some], ones[some], twos[some])
            for column, fresh in zip(done, walked, strict=True):
                column[some] = fresh
        some = some[cut[some] & ends.answered[entry[some]]]
        if len(some):
            back[some] = self.walks.back(tree, entry[some], ones[some], twos[some])
        return entry, ones, twos, done, back

    def _asked(
        self, es: Ints, tree: Tree, entry: Ints, twos: Ints, ends: _Elements
    ) -> tuple[Flags, Flags]:
        """Which pairs must be walked by themselves; and of which answers may be dropped."""
        bits, some = ends.met
        asked = some[entry] | (entry < ends.roots)
        for path, side in zip(bits.T, self.two.bits.T, strict=True):
            asked |= (path[entry] & side[twos]) != 0
        # Who may be dropped on some way back: a point there judges toward the source.
        nodes = len(self.trees.names)
        cutting = np.zeros((len(es), nodes), dtype=np.bool_)
        if len(self.points.every):
            root, point = np.nonzero(self.points.may_cut(self.view, 1, es))
            cutting[root, self.points.node[point]] = True
        if not cutting.any():
            return asked, np.zeros(len(entry), dtype=np.bool_)
        passed = cutting[tree.root, tree.node]
        for low, high in zip(tree.levels[1:-1], tree.levels[2:], strict=True):
            passed[low:high] |= passed[tree.parent[low:high]]
        passed &= ends.answered
        end = tree.root * nodes + tree.node
        touched = np.zeros(len(es) * nodes, dtype=np.bool_)
        touched[end[passed]] = True
        cut = touched[end][entry]
        return asked | cut, cut

    def meeting(self, ones: Ints, twos: Ints) -> Flags:
        """Which pairs of elements have two classes that meet."""
        return ~self._lonely_pairs(ones, twos)

    def _lonely_pairs(self, ones: Ints, twos: Ints) -> Flags:
        lonely = np.zeros(len(ones), dtype=np.bool_)
        pairs = self._apart_elements
        if pairs.size:
            lonely = np.isin(ones * len(self.two.hosts) + twos, pairs)
        return lonely

    @cached_property
    def _apart_elements(self) -> Ints:
        """Pairs of elements of one class each which do not meet."""
        places = []
        for side in (self.one, self.two):
            place: dict[int, int] = {}
            for held in side.held:
                if len(held) == 1:
                    for by_element in held.values():
                        for element, mine in by_element.items():
                            if len(mine) == 1:
                                place[mine[0]] = element
            places.append(place)
        found = [
            places[0][a] * len(self.two.hosts) + places[1][b]
            for a, b in self.company.apart
            if a in places[0] and b in places[1] and not self._is_lonely(a)
        ]
        return np.array(sorted(found), dtype=np.int64)

    def _is_lonely(self, number: int) -> bool:
        h = self.one.every[number].host
        return ((h.node, h.segment, h.own), h.group) in self.company.lonely

    def _mixed(
        self, first: Ints, count: Ints, done: Done, back: Ints, family: Ints
    ) -> tuple[Ints, Ints]:
        """The number of the mix of each row, and its result: the weakest of its members."""
        if not len(first):
            return first, first
        result = np.minimum.reduceat(done.result, first)
        weakest = done.result == np.repeat(result, count)
        late = np.where(weakest, done.hop, -2)
        weakest &= late == np.repeat(np.maximum.reduceat(late, first), count)
        width = int(back.max()) + 1
        code = ((done.out * width + back) * 2 + (family == 6)) * 2 + weakest
        distinct, code = numbered(code)
        members = [
            Member(6 if rest % 2 else 4, rest // 2 // width, rest // 2 % width, bool(n % 2))
            for n in distinct.tolist()
            for rest in (n // 2,)
        ]
        most = int(count.max())
        columns = np.full((len(first), most), -1, dtype=np.int64)
        for nth in range(most):
            has = count > nth
            columns[has, nth] = code[first[has] + nth]
        if most == 1:
            alone, inverse = numbered(columns[:, 0])
            kinds = alone[:, None]
        else:
            kinds, inverse = np.unique(columns, axis=0, return_inverse=True)
        numbers = np.array(
            [self.effects.mix(tuple(members[m] for m in row if m >= 0)) for row in kinds.tolist()],
            dtype=np.int64,
        )
        return numbers[inverse.ravel()], result

    def _unconnected(self, unit: int, reached: Flags) -> Ints:
        """Units that nothing joins with one; ``reached`` says to which nodes it has a path."""
        two = self.two
        far = ~reached[two.node[: two.count]]
        if not far.any():
            return np.empty(0, dtype=np.int64)
        mine = sorted({int(self.one.family[e]) for e in self.one.of_unit[unit]})
        far &= np.isin(two.family[: two.count], mine)
        if self.company.apart:
            some = np.flatnonzero(far)
            kept = np.zeros(len(some), dtype=np.bool_)
            for es in self.one.of_unit[unit]:
                alike = two.family[some] == self.one.family[es]
                kept |= alike & self.meeting(np.full(len(some), es), some)
            far[some[~kept]] = False
        found: Ints = np.unique(two.unit[far])
        return found

    def _crowded(self, unit: int, many: Flags) -> list[tuple[list[Any], int]]:
        """What more than 64 paths come to, by the destination's unit; ``many`` says to which nodes
        there are so many."""
        two = self.two
        rows: list[tuple[list[Any], int]] = []
        if not many.any():
            return rows
        for other in np.unique(two.unit[many[two.node[: two.count]]]).tolist():
            pairs = [
                (es, ed)
                for es in self.one.of_unit[unit]
                for ed in two.of_unit[other]
                if self.one.family[es] == two.family[ed]
                and not self._lonely_pairs(np.array([es]), np.array([ed])).any()
            ]
            if pairs:
                ends = (
                    self.one.blocks[int(self.one.block[unit])][0],
                    two.blocks[int(two.block[other])][0],
                )
                rows.append((Crowd(self.state, *ends).rows(self, pairs), other))
        return rows


class _Elements:
    """Of one tree, each path that ends where there are elements, with each of these."""

    def __init__(self, reach: Batches, tree: Tree) -> None:
        two = reach.two
        low, high = two.at_node[tree.node], two.at_node[tree.node + 1]
        high = np.where(tree.many, low, high)
        self._entry = np.repeat(np.arange(len(tree.node)), high - low)
        self._elements = spread(low, high)
        self._root = tree.root[self._entry]
        self._two = two
        self.roots = int(tree.levels[1])
        self.met = reach.walks.met(tree)
        self.answered = reach.walks.answered(tree)

    def of(self, families: Ints) -> tuple[Ints, Ints]:
        """Entries and elements, of one family for each root."""
        mine = self._two.family[self._elements] == families[self._root]
        return self._entry[mine], self._elements[mine]
