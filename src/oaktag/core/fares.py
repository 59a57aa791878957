"""How all pairs of units fare, over all their paths: before something changes, and after.

Rules kept here are those of ``reach``, for whole ``units`` at once: what a pair of units does is
the set of the sorts of its rows, of all paths and families; it leaks where one of them leaks, else
breaks where one breaks. Pairs of segments that have more to it are told ``apart``, for the caller
to make their rows one by one.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.bindings import Lookup
from oaktag.core.pathtree import PathTrees, Tree
from oaktag.core.placement import Host
from oaktag.core.ranges import spread
from oaktag.core.reach import State
from oaktag.core.units import (
    APART,
    LOOKUP_DOES,
    SORTS,
    TRUE,
    UNKNOWN,
    Matrix,
    Points,
    Sets,
    Side,
    Sums,
    shared_endpoints,
)

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]
Sorts = NDArray[np.uint64]
#: So many matrices of sums over units are kept.
MOST_KEPT = 24
#: Trees of so many nodes are grown and walked together.
TOGETHER = 64


class View(NamedTuple):
    """What a state has otherwise: the table of each point, the table by which each node marks (-1
    where it does not), and a point that is lost (-1 for none)."""

    table: Ints
    frame: Ints
    lost: int


class Fare(NamedTuple):
    """Pairs of units, the sorts of their rows, and whether they must be told apart; shape [n]."""

    one: Ints
    two: Ints
    sorts: Sorts
    apart: Flags


class Before(NamedTuple):
    """Sorts by source and destination unit, and pairs of blocks that must be told apart."""

    sorts: Sorts
    apart: Flags


class Fares:
    """All pairs of units of some hosts.

    Args:
        state: the network; what its points hold and which nodes there are must not change.
        hosts: everybody who is somewhere.
        tables: all tables of bindings that any view goes by.

    Attributes:
        nodes: the numbers of nodes where somebody is.
    """

    def __init__(self, state: State, hosts: Sequence[Host], tables: list[Lookup]) -> None:
        self.tables = tables
        self.state = State(
            state.matrix, state.network, state.paths, state.knowledge, state.judges, state.memo
        )
        self.state.tables = tables
        classes = self.state.classes(hosts)
        self.placed = np.array(sorted({c.host.group for c in classes}), dtype=np.int64)
        self.one, self.two = (
            Side(self.state, classes, self.placed, Sets(self.state, side)) for side in (0, 1)
        )
        self.points = Points(self.state, (self.one, self.two), self.placed)
        self.sums = Sums(self.state, self.placed)
        self.nodes = np.unique(self.one.node)
        self.at = np.full(len(state.network.nodes), -1, dtype=np.int64)
        self.at[self.nodes] = np.arange(len(self.nodes))
        self._ids = [
            p.id for n in state.network.nodes.values() for p in n.points if p.id in state.judges
        ]
        self._turned: dict[tuple[int, int], list[tuple[Matrix, Ints]]] = {}

    def view(self, state: State, lost: str | None = None) -> View:
        """What a state of the same nodes has otherwise."""
        if lost is not None and state.knowledge is self.state.knowledge:
            return self._own._replace(lost=self._ids.index(lost))
        if state.knowledge is self.state.knowledge:
            return self._own
        return self._viewed(state)

    @cached_property
    def _own(self) -> View:
        return self._viewed(self.state)

    def _viewed(self, state: State) -> View:
        places = {id(table): n for n, table in enumerate(self.tables)}
        network, knowledge = state.network, state.knowledge
        of_node = {n: places[id(knowledge.at(n))] for n in self.state.watching}
        table = [of_node[network.points[i].node] for i in self._ids]
        frame = [of_node[n.name] if n.marks else -1 for n in network.nodes.values()]
        return View(np.array(table, dtype=np.int64), np.array(frame, dtype=np.int64), -1)

    def all(self, trees: PathTrees, touched: Flags | None = None) -> Before:
        """Every pair, or those between some nodes, in the state itself."""
        shape = len(self.one.blocks), len(self.two.blocks)
        apart = np.eye(*shape, dtype=np.bool_)
        apart[list(self.one.own), :] = True
        apart[:, list(self.two.own)] = True
        for number, others in shared_endpoints(self.one, self.two).items():
            apart[number, list(others)] = True
        sorts = np.zeros((len(self.one.size), len(self.two.size)), dtype=np.uint64)
        trees.prepare(self.nodes)
        if touched is None:
            touched = np.ones((len(self.nodes),) * 2, dtype=np.bool_)
        for fare in self.some(trees, touched, self.view(self.state)):
            sorts[fare.one, fare.two] = fare.sorts
            apart |= self._apart(fare)
        return Before(sorts, apart)

    def apart_of(self, fares: Sequence[Fare]) -> Flags:
        """The pairs of blocks that some pairs of units must be told apart of."""
        apart = np.zeros((len(self.one.blocks), len(self.two.blocks)), dtype=np.bool_)
        for fare in fares:
            apart |= self._apart(fare)
        return apart

    def _apart(self, fare: Fare) -> Flags:
        found = np.zeros((len(self.one.blocks), len(self.two.blocks)), dtype=np.bool_)
        found[self.one.block[fare.one[fare.apart]], self.two.block[fare.two[fare.apart]]] = True
        return found

    def by_block(self, touched: Flags) -> Flags:
        """Pairs of nodes as pairs of blocks."""
        pairs: Flags = touched[np.ix_(self.at[self.one.node], self.at[self.two.node])]
        return pairs

    def some(self, trees: PathTrees, touched: Flags, view: View) -> list[Fare]:
        """Pairs between some nodes, both ways: trees are grown from as few nodes as cover them.

        Args:
            trees: of the paths to be taken.
            touched: pairs of ``nodes``, symmetrical.
            view: what is otherwise.
        """
        left = touched.copy()
        degree = left.sum(axis=1)
        roots: list[int] = []
        ends: list[Flags] = []
        while degree.any():
            root = int(degree.argmax())
            roots.append(int(self.nodes[root]))
            wanted = np.zeros(len(self.at), dtype=np.bool_)
            wanted[self.nodes[left[root]]] = True
            ends.append(wanted)
            degree -= left[:, root]
            left[root, :] = left[:, root] = False
            degree[root] = 0
        if roots:
            trees.prepare(np.array(roots))
        found: list[Fare] = []
        for start in range(0, len(roots), TOGETHER):
            part = slice(start, start + TOGETHER)
            forest = trees.forest([trees.names[root] for root in roots[part]])
            entries = np.flatnonzero(np.stack(ends[part])[forest.root, forest.node])
            for outward in (True, False):
                found += self._pairs(trees, forest, entries, view, outward=outward)
        return found

    def _pairs(
        self, trees: PathTrees, forest: Tree, entries: Ints, view: View, *, outward: bool
    ) -> Iterator[Fare]:
        """All pairs of elements at roots with those at the ends of paths, one way."""
        near, far = (self.one, self.two) if outward else (self.two, self.one)
        if not outward:  # pairs of two segments of one node are the same both ways
            entries = entries[forest.parent[entries] >= 0]
        here = far.at_node[forest.node[entries]], far.at_node[forest.node[entries] + 1]
        others, places = spread(*here), np.repeat(entries, here[1] - here[0])
        first = forest.node[: int(forest.root.max()) + 1][forest.root[places]]
        there = near.at_node[first], near.at_node[first + 1]
        elements, pair = spread(*there), np.repeat(np.arange(len(places)), there[1] - there[0])
        others, places = others[pair], places[pair]
        alike = near.family[elements] == far.family[others]
        elements, others, places = elements[alike], others[alike], places[alike]
        ones, twos = (elements, others) if outward else (others, elements)
        if len(ones):
            done = self._walk(trees, forest, places, ones, twos, view, outward=outward)
            done |= np.where(forest.many[places], APART, 0)
            yield self._joined(ones, twos, done)

    def _joined(self, ones: Ints, twos: Ints, done: Ints) -> Fare:
        """Elements and paths of the same two units as one."""
        shift = done % SORTS + np.where(self.one.family[ones] == 6, SORTS, 0)
        sorts = np.uint64(1) << shift.astype(np.uint64)
        key = self.one.unit[ones] * len(self.two.size) + self.two.unit[twos]
        order = np.argsort(key, kind="stable")
        key = key[order]
        first = np.flatnonzero(np.concatenate([[True], key[1:] != key[:-1]]))
        apart = np.logical_or.reduceat((done & APART)[order] > 0, first)
        one, two = np.divmod(key[first], len(self.two.size))
        return Fare(one, two, np.bitwise_or.reduceat(sorts[order], first), apart)

    def _walk(
        self, trees: PathTrees, tree: Tree, entries: Ints, ones: Ints, twos: Ints, view: View,
        *, outward: bool,
    ) -> Ints:  # fmt: skip
        """What all points do on each path: from the root to its end, or the other way."""
        points, one = self.points, self.one
        done = np.zeros(len(entries), dtype=np.int64)
        table = view.frame[one.node[one.block[one.unit[ones]]]]
        tag = np.where(table < 0, 0, one.seen[ones, table]).astype(np.int64)
        places, at = np.arange(len(entries)), entries
        # Inward the frame travels with the walk: whether it arrived here, and goes on from here.
        arrived, onward = np.zeros(len(entries), dtype=np.bool_), table >= 0
        while len(places):
            nodes, parent = tree.node[at], tree.parent[at]
            left = parent >= 0
            if outward:
                arrived = tree.alive[at] & left
            for nth in range(points.most):
                has = np.flatnonzero(points.count[nodes] > nth)
                here = places[has]
                frame = np.where(arrived[has], tag[here], 0)
                p = points.first[nodes[has]] + nth
                done[here] |= self._does(p, ones[here], twos[here], frame, view)
            if not outward:
                arrived = onward[left] & trees.link_carries[tree.link[at[left]]]
                onward = arrived & trees.carries[tree.node[parent[left]]]
            places, at = places[left], parent[left]
        return done

    def _does(self, p: Ints, ones: Ints, twos: Ints, frame: Ints, view: View) -> Ints:
        points, one, two = self.points, self.one, self.two
        table = view.table[p]
        bound = one.seen[ones, table].astype(np.int64)
        by_frame = points.by_frame[p]
        first = np.where(by_frame, frame, bound)
        tag = np.where(first == 0, np.where(by_frame, bound, frame), first)
        tag = np.where(points.by_address[p], bound, tag)
        source = np.where(tag == 0, np.where(one.untagged[ones], TRUE, UNKNOWN), tag)
        target = two.known[twos, table].astype(np.int64)
        covers = []
        for scope, side, known, elements in zip(
            points.scopes, (one, two), (source, target), (ones, twos), strict=True
        ):
            row = scope.of_point[p]
            whole = scope.covers[row, side.unit[elements]]
            covers.append(np.where(known == TRUE, whole, scope.untagged[row]))
        found = (((source * 3 + covers[0]) * 3 + target) * 3 + covers[1]) * 4 + points.deed[p]
        does = LOOKUP_DOES[found] | np.where(points.plain[p], 0, APART)
        (from_row, from_flags), (to_row, to_flags) = points.from_block, points.to_block
        judged = from_flags[from_row[p], one.block[one.unit[ones]]]
        judged &= to_flags[to_row[p], two.block[two.unit[twos]]]
        return np.where(judged & (p != view.lost), does, 0)

    def differing(self, old: Lookup, new: Lookup) -> Flags | None:
        """The ``nodes`` with somebody of whom two tables do not say the same; None where one of
        them is not among the tables."""
        places = {id(table): n for n, table in enumerate(self.tables)}
        a, b = places.get(id(old)), places.get(id(new))
        if a is None or b is None:
            return None
        found = np.zeros(len(self.nodes), dtype=np.bool_)
        for side in (self.one, self.two):
            other = side.seen[:, a] != side.seen[:, b]
            found[self.at[side.node[side.block[side.unit[other]]]]] = True
        return found

    def turned(
        self, before: Before, fares: Sequence[Fare], apart: Flags
    ) -> Iterator[tuple[int, int, tuple[int, int, int, int]]]:
        """Pairs of ends that were exact and are no more: how many leak, how many break, and one of
        them, the leaks first, as (source unit, destination unit, source group, destination group).

        Args:
            before: how all fare before.
            fares: how some fare after.
            apart: pairs of blocks that are left out.
        """
        for fare in fares:
            was = before.sorts[fare.one, fare.two]
            other = (was != fare.sorts) & ~apart[
                self.one.block[fare.one], self.two.block[fare.two]
            ]  # fmt: skip
            pairs = np.stack([was[other], fare.sorts[other]])
            ones, twos = fare.one[other], fare.two[other]
            for old, new in np.unique(pairs, axis=1).T.tolist():
                mine = np.flatnonzero((pairs[0] == old) & (pairs[1] == new))
                leak, gone = self._between(old, new)
                counts = [of[1][ones[mine], twos[mine]] for of in (leak, gone)]
                numbers = int(counts[0].sum()), int(counts[1].sum())
                if not any(numbers):
                    continue
                cells, count = (leak[0], counts[0]) if numbers[0] else (gone[0], counts[1])
                at = mine[np.flatnonzero(count)[0]]
                u, v = int(ones[at]), int(twos[at])
                i, j = np.argwhere(cells[np.ix_(self.one.groups[u], self.two.groups[v])])[0]
                source, target = self.one.groups[u][i], self.two.groups[v][j]
                where = u, v, int(self.placed[source]), int(self.placed[target])
                yield *numbers, where

    def _between(self, old: int, new: int) -> list[tuple[Matrix, Ints]]:
        """Of leaks, then breaks: the cells that turn when sorts change, and their number for each
        pair of units."""
        if (old, new) not in self._turned:
            if len(self._turned) >= MOST_KEPT:
                self._turned.clear()
            exact = 1 - (self.sums.of(old)[0] | self.sums.of(old)[1])
            made = []
            for wrong in self.sums.of(new):
                cells = exact & wrong
                rows = np.add.reduceat(cells[self.one.flat].astype(np.int32), self.one.first)
                made.append(
                    (cells, np.add.reduceat(rows[:, self.two.flat], self.two.first, axis=1))
                )
            self._turned[old, new] = made
        return self._turned[old, new]
