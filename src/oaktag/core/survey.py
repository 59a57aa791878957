"""Reach in numbers: how many rows fare how, and why, without making every row.

Rules kept here are those of ``reach``, for whole ``units`` at once. Rows of one sort that leak are
counted by sums over groups. Where a pair of segments has more to it (a wrong tag, a stateless
point, half a scope, very many paths) its rows are made one by one.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import reduce

import numpy as np
from numpy.typing import NDArray

from oaktag.core.classes import Class
from oaktag.core.pathtree import PathTrees, Tree
from oaktag.core.ranges import spread
from oaktag.core.reach import Flow, Reason, State, weaker
from oaktag.core.units import (
    AMISS,
    APART,
    DIRECTION,
    ENFORCED,
    INSIDE,
    LOOKUP_DOES,
    LOOKUP_WHY,
    OBSERVED,
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
#: Of each cause so many segments are named.
MOST_NAMED = 20

_RESULTS = ("unenforced", "observed", "enforced")


@dataclass(slots=True)
class Cause:
    """Rows with one cause: how many, an example, and some of the segments between which they are
    (at most 20)."""

    rows: int
    example: Flow
    sources: dict[str, None] = field(default_factory=dict)
    destinations: dict[str, None] = field(default_factory=dict)

    def between(self, source: str, destination: str) -> None:
        """Name two segments, if there is room."""
        for held, name in ((self.sources, source), (self.destinations, destination)):
            if len(held) < MOST_NAMED:
                held[name] = None


@dataclass(slots=True)
class Survey:
    """Rows by effect and by result; what is not exact by effect and the last reason on the path."""

    effects: Counter[str] = field(default_factory=Counter)
    results: Counter[str] = field(default_factory=Counter)
    causes: dict[tuple[str, tuple[Reason, ...]], Cause] = field(default_factory=dict)

    def add(self, flow: Flow) -> None:
        """Count one row."""
        self.effects[flow.effect] += 1
        self.results[flow.result] += 1
        if flow.effect != "exact":
            cause = self.causes.setdefault((flow.effect, flow.causes[-1:]), Cause(0, flow))
            cause.rows += 1
            cause.between(flow.source[0], flow.destination[0])


def survey(
    state: State,
    sources: Sequence[Class],
    destinations: Sequence[Class],
    progress: Callable[[str], None] | None = None,
) -> Survey:
    """All rows between the classes, counted.

    Args:
        state: the network.
        sources, destinations: classes of hosts, by ``state.classes``; one object where both ends
            are the same hosts.
        progress: told how far it is.
    """
    return _Counting(state, sources, destinations).run(progress)


@dataclass(slots=True)
class _Rows:
    """Rows of one source unit: arrays of shape [rows]. ``sorts`` is a set of sorts as bits, the
    upper half those of IPv6; ``reason`` is node × 8 + why, -1 for none,
    -2 for no point (so that both index an array from its end)."""

    entry: Ints
    unit: Ints
    sorts: NDArray[np.uint64]
    result: Ints
    reason: Ints
    apart: Flags

    def of(self, chosen: Flags | Ints) -> _Rows:
        """Some of them."""
        return _Rows(*(getattr(self, name)[chosen] for name in self.__slots__))


class _Counting:
    def __init__(
        self, state: State, sources: Sequence[Class], destinations: Sequence[Class]
    ) -> None:
        self.state = state
        self.found = Survey()
        groups = {c.host.group for side in (sources, destinations) for c in side}
        self.placed = np.array(sorted(groups), dtype=np.int64)
        sets = Sets(state, 0), Sets(state, 1)
        self.one = Side(state, sources, self.placed, sets[0])
        self.two = Side(state, destinations, self.placed, sets[1])
        self.alike = sources is destinations
        state.paths.prepare(dict.fromkeys(block[0] for block in self.one.blocks))
        self.trees = PathTrees(state.network, state.paths)
        self.points = Points(state, (self.one, self.two), self.placed)
        self.sums = Sums(state, self.placed)
        self._many_homes = shared_endpoints(self.one, self.two)
        self._tables = np.array([state.table_of.get(n, -1) for n in self.trees.names])
        causes = 8 * len(self.trees.names) + 2
        self._wrong = {e: np.zeros(causes, dtype=np.int64) for e in ("leak", "break")}
        self._told = {e: np.zeros(causes, dtype=np.bool_) for e in ("leak", "break")}
        self._causes: dict[tuple[str, int], Cause] = {}

    def run(self, progress: Callable[[str], None] | None) -> Survey:
        """Count block by block of sources."""
        tree, node = None, ""
        order = sorted(range(len(self.one.blocks)), key=lambda n: (self.one.blocks[n][0], n))
        for done, number in enumerate(order):
            block = self.one.blocks[number]
            if progress is not None and done % 10 == 0:
                progress(f"{done} of {len(order)} segments")
            if block[2]:
                self._slowly(number, range(len(self.two.blocks)))
                continue
            if tree is None or block[0] != node:
                tree, node = self.trees.tree(block[0]), block[0]
            self._block(number, tree)
        for (effect, code), cause in self._causes.items():
            reasons = cause.example.causes[-1:]
            known = self.found.causes.setdefault((effect, reasons), Cause(0, cause.example))
            known.rows += int(self._wrong[effect][code])
            for name in cause.sources:
                known.between(name, next(iter(cause.destinations)))
            for name in cause.destinations:
                known.between(next(iter(cause.sources)), name)
        return self.found

    def _block(self, number: int, tree: Tree) -> None:
        """All rows from one block."""
        two = self.two
        name = self.one.blocks[number]
        slow = two.own | self._many_homes.get(number, set())
        same = two.number.get(name)
        if same is not None and not self._alone_inside(number, same):
            slow.add(same)
        crowded, reached = (np.zeros(len(self.trees.names), dtype=np.bool_) for _ in range(2))
        crowded[tree.node[tree.many]] = True
        reached[tree.node] = True
        slow |= set(np.flatnonzero(crowded[two.node]).tolist()) - {same}
        entries, elements = self._ends(tree)
        held: list[tuple[int, _Rows]] = []
        for unit in self.one.units[number]:
            rows = self._rows(number, unit, tree, entries, elements, same)
            slow |= set(two.block[rows.unit[rows.apart]].tolist())
            held.append((unit, rows))
        quick = np.ones(len(two.blocks), dtype=np.bool_)
        quick[list(slow)] = False
        for unit, rows in held:
            kept = rows.of(quick[two.block[rows.unit]])
            self._count(number, unit, kept, tree, same)
            if not reached[two.node].all():
                self._unconnected(unit, quick & ~reached[two.node])
        if slow:
            self._slowly(number, sorted(slow))

    def _ends(self, tree: Tree) -> tuple[Ints, Ints]:
        """Each path that ends where there are elements, with each of these."""
        low, high = self.two.at_node[tree.node], self.two.at_node[tree.node + 1]
        high = np.where(tree.many, low, high)
        return np.repeat(np.arange(len(tree.node)), high - low), spread(low, high)

    def _rows(
        self, number: int, unit: int, tree: Tree, entries: Ints, elements: Ints, same: int | None
    ) -> _Rows:
        """All rows from one unit, those of several elements as one."""
        parts: list[_Rows] = []
        for element in self.one.elements[unit]:
            mine = self.two.family[elements] == self.one.family[element]
            here, there = entries[mine], elements[mine]
            # Inside one segment the path is the node alone, whatever loops there may be.
            parts.append(self._judged(number, unit, element, tree, here, there, same))
        every = parts[0] if len(parts) == 1 else _Rows(
            *(np.concatenate([getattr(p, n) for p in parts]) for n in _Rows.__slots__)
        )  # fmt: skip
        if len(parts) == 1 and len(self.two.unit) == len(self.two.size):
            return every
        return _merged(every, len(self.two.size))

    def _judged(
        self, number: int, unit: int, element: int, tree: Tree, entries: Ints, elements: Ints,
        same: int | None,
    ) -> _Rows:  # fmt: skip
        """Every path between one element and others, walked back from its end."""
        points, two = self.points, self.two
        done, reason = np.zeros(len(entries), np.int64), np.full(len(entries), -2, np.int64)
        amiss = np.full(len(entries), -1, np.int64)
        units = two.unit[elements]
        blocks = two.block[units]
        by_source = self._by_source(unit, element, tree)
        frames = tree.alive.copy()
        frames[0] = False  # the first node's own point goes by its bindings
        places, at, inner = np.arange(len(entries)), entries, same
        while len(places):
            nodes = tree.node[at]
            for nth in range(points.most):
                has = points.count[nodes] > nth
                here, node, entry = places, nodes, at
                if not has.all():
                    here, node, entry = places[has], nodes[has], at[has]
                p = points.first[node] + (points.count[node] - 1 - nth)
                target = two.known[elements[here], points.table[p]]
                found = by_source[p * 2 + frames[entry]] + self._by_target(p, target, units[here])
                why, does = LOOKUP_WHY[found], LOOKUP_DOES[found]
                if not points.all_plain:
                    does = does | np.where(points.plain[p], 0, APART)
                idle = self._idle(p, number, blocks[here], inner)
                if idle is not None:
                    why, does = np.where(idle == 0, why, idle), np.where(idle == 0, does, 0)
                done[here] |= does
                last, code = reason[here], node * 8 + why
                reason[here] = np.where((last < 0) & (why != 0), code, last)
                acts = does & AMISS != 0
                if acts.any():
                    last = amiss[here]
                    amiss[here] = np.where((last < 0) & acts, code, last)
            parent = tree.parent[at]
            left = parent >= 0
            # Only at the first node itself do both ends lie on one segment.
            places, at, inner = places[left], parent[left], None
        result = np.where(done & ENFORCED, 2, np.where(done & OBSERVED, 1, 0))
        reason = np.where(result > 0, amiss, reason)
        shift = done % SORTS + (SORTS if self.one.family[element] == 6 else 0)
        sorts = np.uint64(1) << shift.astype(np.uint64)
        return _Rows(entries, units, sorts, result, reason, (done & APART) > 0)

    def _by_source(self, unit: int, element: int, tree: Tree) -> Ints:
        """The source's part of the place in the look-up, for each point, where no frame arrives
        and where one does; shape [2 × points]."""
        points, one = self.points, self.one
        seen = one.seen[element].astype(np.int64)
        scope = points.scopes[0]
        covers, zero = scope.covers[scope.of_point, unit], scope.untagged[scope.of_point]
        bound = seen[points.table]
        in_frame = int(seen[self._tables[tree.node[0]]]) if tree.alive[0] else 0
        found = np.empty((len(bound), 2), dtype=np.int64)
        for arrives, frame in enumerate((0, in_frame)):
            first = np.where(points.by_frame, frame, bound)
            tag = np.where(first == 0, np.where(points.by_frame, bound, frame), first)
            tag = np.where(points.by_address, bound, tag)
            source = np.where(tag == 0, TRUE if one.untagged[element] else UNKNOWN, tag)
            inside = np.where(source == TRUE, covers, zero)
            found[:, arrives] = ((source * 3 + inside) * 9) * 4 + points.deed
        return found.ravel()

    def _by_target(self, points: Ints, target: NDArray[np.int8], units: Ints) -> Ints:
        """The destination's part."""
        scope = self.points.scopes[1]
        row = scope.of_point[points]
        covers = scope.untagged[row]
        true = np.flatnonzero(target == TRUE)
        covers[true] = scope.covers[row[true], units[true]]
        found: Ints = (target.astype(np.int64) * 3 + covers) * 4
        return found

    def _idle(self, p: Ints, number: int, blocks: Ints, same: int | None) -> Ints | None:
        """Why points do not judge, 0 where they do; None where all do."""
        points = self.points
        (from_row, from_flags), (to_row, to_flags) = points.from_block, points.to_block
        if same is None and len(from_flags) == 1 and len(to_flags) == 1:
            return None
        judged = from_flags[from_row[p], number] & to_flags[to_row[p], blocks]
        inner = (blocks == same) & ~points.inside[p]
        return np.where(inner, INSIDE, np.where(judged, 0, DIRECTION))

    # -- counting ----------------------------------------------------------------------------

    def _count(self, number: int, unit: int, rows: _Rows, tree: Tree, same: int | None) -> None:
        two, found = self.two, self.found
        groups = self.one.groups[unit]
        size = len(groups) * two.size[rows.unit]
        # Who is alone in his group on a segment does not meet it there.
        alone: dict[int, Ints] = {}
        if same is not None:
            lonely = self._lonely(unit)
            alone = {u: np.intersect1d(lonely, two.groups[u]) for u in two.units[same]}
        inner = np.flatnonzero(two.block[rows.unit] == same) if alone else ()
        for at in inner:
            size[at] -= len(alone[int(rows.unit[at])])
        for result, name in enumerate(_RESULTS):
            if count := int(size[rows.result == result].sum()):
                found.results[name] += count
        found.effects["exact"] += int(size.sum())
        for sorts, mine in _by_value(rows.sorts):
            for effect, wrong in zip(("leak", "break"), self.sums.of(sorts), strict=True):
                counts = two.summed(wrong[groups].sum(axis=0, dtype=np.int64))[rows.unit[mine]]
                for at in inner:
                    here = alone[int(rows.unit[at])]
                    counts[mine == at] -= int(wrong[here, here].sum())
                total = int(counts.sum())
                if not total:
                    continue
                found.effects[effect] += total
                found.effects["exact"] -= total
                bad = counts > 0
                self._blame(
                    number, unit, effect, wrong, rows.of(mine[bad]), counts[bad], tree, alone
                )
        found.effects += Counter()  # drops what is zero

    def _blame(
        self, number: int, unit: int, effect: str, wrong: Matrix, rows: _Rows, counts: Ints,
        tree: Tree, alone: dict[int, Ints],
    ) -> None:  # fmt: skip
        """Count rows by cause; causes that have few segments named yet learn of these."""
        np.add.at(self._wrong[effect], rows.reason, counts)
        told = self._told[effect]
        rows = rows.of(~told[rows.reason])
        source = self.one.blocks[number]
        codes, first = np.unique(rows.reason, return_index=True)
        for code, at in zip(codes.tolist(), first.tolist(), strict=True):
            cause = self._causes.get((effect, code))
            if cause is None:
                flow = self._example(unit, rows.of(np.array([at])), wrong, tree, alone)
                cause = self._causes[effect, code] = Cause(0, flow)
            target = self.two.blocks[int(self.two.block[rows.unit[at]])]
            cause.between(source[1] or source[0], target[1] or target[0])
            told[code] = len(cause.sources) == MOST_NAMED

    def _example(
        self, unit: int, row: _Rows, wrong: Matrix, tree: Tree, alone: dict[int, Ints]
    ) -> Flow:
        other = int(row.unit[0])
        groups = self.one.groups[unit], self.two.groups[other]
        cells = wrong[np.ix_(*groups)].copy()
        for group in alone.get(other, ()):
            cells[groups[0] == group, groups[1] == group] = 0
        i, j = np.argwhere(cells)[0]
        path = self.trees.path(tree, int(row.entry[0]))
        ends = [
            side.held[n][int(self.placed[of[k]])]
            for side, n, of, k in ((self.one, unit, groups[0], i), (self.two, other, groups[1], j))
        ]
        return reduce(
            weaker,
            [
                self.state.row(a.host, a.tags, b.host, b.tags, path)
                for a in ends[0]
                for b in ends[1]
                if a.host.family == b.host.family
            ],
        )

    def _unconnected(self, unit: int, blocks: Flags) -> None:
        """Rows between ends that nothing joins."""
        two = self.two
        mine = {int(self.one.family[e]) for e in self.one.elements[unit]}
        shared = np.zeros(len(two.size), dtype=np.bool_)
        shared[two.unit[np.isin(two.family, list(mine))]] = True
        count = len(self.one.groups[unit]) * int(two.size[shared & blocks[two.block]].sum())
        if count:
            self.found.effects["exact"] += count
            self.found.results["unconnected"] += count

    def _slowly(self, number: int, others: Sequence[int]) -> None:
        one, two = list(self.one.classes.values()), list(self.two.classes.values())
        for flow in self.state.rows(one[number], [c for n in others for c in two[n]]):
            self.found.add(flow)

    # -- inside one segment ------------------------------------------------------------------

    def _alone_inside(self, number: int, same: int) -> bool:
        """Whether rows inside a segment can be counted: nobody is there twice, nobody is unknown,
        and each group is of one host alone, or has company in each of its classes."""
        if not self.alike or number != same:
            return False
        mine = self.one.classes[self.one.blocks[number]]
        hosts = [h for c in mine for h in c.hosts]
        endpoints = {(h.family, h.endpoint) for h in hosts}
        addresses = {(h.family, h.address) for h in hosts}
        if any(h.endpoint < 0 for h in hosts) or not len(hosts) == len(endpoints) == len(addresses):
            return False
        by_group: dict[int, list[Class]] = {}
        for one in mine:
            by_group.setdefault(one.host.group, []).append(one)
        for of in by_group.values():
            single = [len(c.hosts) == 1 for c in of]
            if any(single) and not (all(single) and len({c.host.family for c in of}) == len(of)):
                return False
        return True

    def _lonely(self, unit: int) -> Ints:
        """The groups of a unit that have one host alone on its segment."""
        held = self.one.held[unit]
        return np.array(
            [
                place
                for place in self.one.groups[unit].tolist()
                if all(len(c.hosts) == 1 for c in held[int(self.placed[place])])
            ],
            dtype=np.int64,
        )


def _by_value(values: NDArray[np.uint64]) -> list[tuple[int, Ints]]:
    """Each distinct value, and where it is."""
    if not len(values):
        return []
    if (values == values[0]).all():
        return [(int(values[0]), np.arange(len(values)))]
    return [(int(v), np.flatnonzero(values == v)) for v in np.unique(values)]


def _merged(rows: _Rows, units: int) -> _Rows:
    """Rows between the same ends on the same path as one: the weakest result, every sort; reasons
    that differ must be told apart row by row."""
    order = np.argsort(rows.entry * units + rows.unit, kind="stable")
    rows = rows.of(order)
    key = rows.entry * units + rows.unit
    if not len(key):
        return rows
    first = np.flatnonzero(np.concatenate([[True], key[1:] != key[:-1]]))
    counts = np.diff(np.concatenate([first, [len(key)]]))
    result = np.minimum.reduceat(rows.result, first)
    weakest = rows.result == np.repeat(result, counts)
    low = np.minimum.reduceat(np.where(weakest, rows.reason, 1 << 40), first)
    high = np.maximum.reduceat(np.where(weakest, rows.reason, -3), first)
    return _Rows(
        rows.entry[first], rows.unit[first], np.bitwise_or.reduceat(rows.sorts, first), result, low,
        np.logical_or.reduceat(rows.apart, first) | (low != high),
    )  # fmt: skip
