"""Reach in numbers: how many rows fare how, and why, without making every row.

Rules kept here are those of ``reach``, for whole blocks at once. Groups of one segment that every
table of bindings knows alike are a *unit*. Of two units all rows on one path meet the same points
in the same way; what then passes depends on few forms besides the true one, and which these are
is the row's *sort*. Rows of one sort that leak are counted by sums over groups. Where a pair of
segments has more to it (a wrong tag, a stateless point, half a scope, very many paths) its rows
are made one by one.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property, reduce

import numpy as np
from numpy.typing import NDArray

from oaktag.core.classes import Class
from oaktag.core.judging import Judge
from oaktag.core.pathtree import PathTrees, Tree
from oaktag.core.ranges import spread
from oaktag.core.reach import Flow, Reason, State, weaker

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]
Block = tuple[str, str | None, bool]
Matrix = NDArray[np.uint8]
#: What makes groups of one block a unit: whether they are ``untagged``, how the tables know their
#: addresses of each family, and which scopes hold them.
Kind = tuple[bool, tuple[tuple[int, bytes], ...], bytes]

#: Of each cause so many segments are named.
MOST_NAMED = 20

# How a point sees an end: no tag where there should be one, the true one, a wrong one.
_UNKNOWN, _TRUE, _WRONG = 0, 1, 2
# Forms that cut what passes, besides the true one: bits of a row's sort.
_BY_TRUE, _NOTHING, _BY_NEITHER, _BY_DESTINATION, _BY_SOURCE = 1, 2, 4, 8, 16
_SORTS = 32
# What else a point does to a row; rows that are ``apart`` are made one by one.
_ENFORCED, _OBSERVED, _APART, _AMISS = 32, 64, 128, 256
_WHY = (
    None, "source-unknown", "source-wrong", "destination-unknown", "destination-wrong", "no-cell",
    "direction", "inside",
)  # fmt: skip
_DIRECTION, _INSIDE = 6, 7
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


class _Side:
    """Classes by block (one segment at one node), then unit, then element (one way in which all
    tables know the addresses of one family); units and elements as arrays.

    ``flat`` holds the units' groups, unit after unit, as places among ``placed``.
    """

    def __init__(self, state: State, classes: Sequence[Class], placed: Ints, sets: _Sets) -> None:
        self.classes: dict[Block, list[Class]] = {}
        for one in classes:
            block = (one.host.node, one.host.segment, one.host.own)
            self.classes.setdefault(block, []).append(one)
        self.blocks = list(self.classes)
        self.held: list[dict[int, list[Class]]] = []
        block_of, elements = [], []
        self.units: list[list[int]] = []
        for number, mine in enumerate(self.classes.values()):
            by_kind: dict[Kind, dict[int, list[Class]]] = {}
            ways = _ways(state, mine)
            for group, of in ways.items():
                seen = tuple(sorted({(c.host.family, way) for c, way in of}))
                kind = group == 0, seen, sets.holding(group, [way for _, way in seen])
                by_kind.setdefault(kind, {})[group] = [c for c, _ in of]
            self.units.append([])
            for (untagged, seen, _), groups in by_kind.items():
                self.units[-1].append(len(self.held))
                elements += [(len(self.held), f, way, untagged) for f, way in seen]
                self.held.append(groups)
                block_of.append(number)
        self.block = np.array(block_of, dtype=np.int64)
        self.groups = [np.searchsorted(placed, sorted(g)) for g in self.held]
        self.flat = np.concatenate([*self.groups, np.empty(0, dtype=np.int64)]).astype(np.int64)
        self.size = np.array([len(g) for g in self.groups], dtype=np.int64)
        self.first = np.concatenate([[0], np.cumsum(self.size)[:-1]]).astype(np.int64)
        # Elements are sorted by their node, so that those of one node are neighbours.
        numbers = {name: n for n, name in enumerate(state.network.nodes)}
        self.node = np.array([numbers[block[0]] for block in self.blocks], dtype=np.int64)
        self.own = {n for n, block in enumerate(self.blocks) if block[2]}
        self.number = {block: n for n, block in enumerate(self.blocks)}
        node_of = self.node[self.block[np.array([e[0] for e in elements], dtype=np.int64)]]
        order = np.argsort(node_of, kind="stable")
        elements = [elements[n] for n in order]
        self.unit = np.array([e[0] for e in elements], dtype=np.int64)
        self.family = np.array([e[1] for e in elements], dtype=np.int64)
        self.untagged = np.array([e[3] for e in elements], dtype=np.bool_)
        known = [np.frombuffer(e[2], dtype=np.int8) for e in elements]
        self.seen = np.array(known, dtype=np.int8).reshape(len(elements), len(state.tables))
        #: What a point makes of it: who is untagged is known as such where nothing is bound.
        self.known = np.where((self.seen == 0) & self.untagged[:, None], _TRUE, self.seen)
        self.at_node = np.searchsorted(node_of[order], np.arange(len(numbers) + 1))
        of_unit: dict[int, list[int]] = {}
        for place, unit in enumerate(self.unit.tolist()):
            of_unit.setdefault(unit, []).append(place)
        self.elements = of_unit

    def summed(self, values: Ints) -> Ints:
        """A number for each placed group, summed over the groups of each unit."""
        return np.add.reduceat(values[self.flat], self.first)

    def covered(self, mask: Flags) -> Ints:
        """For each unit whether a set holds none (0), some (1) or all (2) of its groups."""
        count = self.summed(mask.astype(np.int64))
        return np.where(count == 0, 0, np.where(count == self.size, 2, 1))


def _ways(state: State, classes: Sequence[Class]) -> dict[int, list[tuple[Class, bytes]]]:
    """For each group its classes, and of each how the tables know it: a byte for each table, 0
    for no tag, 1 for the true one, 2 for another."""
    by_group: dict[int, list[tuple[Class, bytes]]] = {}
    tags = np.array([c.tags for c in classes], dtype=np.int64).reshape(len(classes), -1)
    true = np.array([state.matrix.groups.tag(c.host.group) for c in classes])
    known = np.where(tags == 0, 0, np.where(tags == true[:, None], 1, 2)).astype(np.int8)
    for one, way in zip(classes, known, strict=True):
        by_group.setdefault(one.host.group, []).append((one, way.tobytes()))
    return by_group


class _Sets:
    """One side of all scopes, by the tables whose points go by them."""

    def __init__(self, state: State, side: int) -> None:
        row: dict[frozenset[int], int] = {}
        by_table: list[set[int]] = [set() for _ in state.tables]
        for judge in state.judges.values():
            of = judge.sources if side == 0 else judge.destinations
            by_table[state.table_of[judge.point.node]].add(row.setdefault(of, len(row)))
        self._holds = np.zeros((len(row), len(state.matrix.groups)), dtype=np.bool_)
        for groups, number in row.items():
            self._holds[number, list(groups)] = True
        self._by_table = by_table
        # A tag that comes in a frame is seen by points of any table.
        self._frames = side == 0 and any(n.marks for n in state.network.nodes.values())
        self._rows: dict[tuple[bytes, ...], Ints] = {}

    def holding(self, group: int, ways: Sequence[bytes]) -> bytes:
        """Which of the sets hold a group, of those by which points go that see its tag."""
        key = tuple(ways)
        if key not in self._rows:
            seen = {n for way in ways for n, known in enumerate(way) if known == _TRUE}
            told = range(len(self._by_table)) if seen and self._frames else seen
            rows = {row for table in told for row in self._by_table[table]}
            self._rows[key] = np.array(sorted(rows), dtype=np.int64)
        held: bytes = self._holds[self._rows[key], group].tobytes()
        return held


class _Points:
    """All points that count, as arrays, node after node in file order."""

    def __init__(self, state: State, sides: tuple[_Side, _Side], placed: Ints) -> None:
        names = list(state.network.nodes)
        judges = [
            [state.judges[p.id] for p in state.network.nodes[n].points if p.id in state.judges]
            for n in names
        ]
        every = [judge for held in judges for judge in held]
        points = [judge.point for judge in every]
        self.count = np.array([len(held) for held in judges], dtype=np.int64)
        self.first = np.concatenate([[0], np.cumsum(self.count)[:-1]]).astype(np.int64)
        self.most = int(self.count.max(initial=0))
        self.table = np.array([state.table_of[p.node] for p in points], dtype=np.int64)
        deeds = [(p.mode == "enforce") * 2 + (p.outside == "allow") for p in points]
        self.deed = np.array(deeds, dtype=np.int64)
        self.by_address = np.array([p.source_by == "address" for p in points], dtype=np.bool_)
        self.by_frame = np.array([p.if_differ == "frame" for p in points], dtype=np.bool_)
        self.inside = np.array([p.inside for p in points], dtype=np.bool_)
        self.plain = np.array(
            [type(j) is Judge and j.point.stateful for j in every], dtype=np.bool_
        )
        self.all_plain = bool(self.plain.all())
        segments = [[block[1] for block in side.blocks] for side in sides]
        self.from_block = _allowing([p.origins for p in points], segments[0])
        self.to_block = _allowing([p.targets for p in points], segments[1])
        self.scopes = [
            _Scopes([j.sources if s == 0 else j.destinations for j in every], side, placed)
            for s, side in enumerate(sides)
        ]


def _allowing(
    named: Sequence[frozenset[str] | None], segments: Sequence[str | None]
) -> tuple[Ints, Flags]:
    """Which segments points name: a row for each distinct set, and each point's row."""
    row: dict[frozenset[str] | None, int] = {None: 0}
    rows = [[True] * len(segments)]
    for of in named:
        if of is not None and of not in row:
            row[of] = len(rows)
            rows.append([s in of for s in segments])
    return np.array([row[of] for of in named], dtype=np.int64), np.array(rows, dtype=np.bool_)


class _Scopes:
    """One side of all scopes: which row each point has, how much of each unit a row covers, and
    whether it holds ``untagged``."""

    def __init__(self, sets: Sequence[frozenset[int]], side: _Side, placed: Ints) -> None:
        row: dict[frozenset[int], int] = {}
        self.of_point = np.array([row.setdefault(s, len(row)) for s in sets], dtype=np.int64)
        self.covers = np.zeros((len(row), len(side.size)), dtype=np.int8)
        for groups, number in row.items():
            self.covers[number] = side.covered(np.isin(placed, list(groups)))
        self.untagged = np.array([2 * (0 in groups) for groups in row], dtype=np.int64)


def _lookup() -> tuple[Ints, Ints]:
    """What a point does, by (source seen, its scope covers it, destination seen, its scope covers
    it, enforces, open): why the row is not enforced there, and the bits of what it does."""
    shape = 3, 3, 3, 3, 2, 2
    why, does = np.zeros(shape, dtype=np.int64), np.zeros(shape, dtype=np.int64)
    forms = {(_TRUE, _TRUE): _BY_TRUE, (_UNKNOWN, _TRUE): _BY_DESTINATION,
             (_TRUE, _UNKNOWN): _BY_SOURCE, (_UNKNOWN, _UNKNOWN): _BY_NEITHER}  # fmt: skip
    for at in np.ndindex(shape):
        source, covers_source, destination, covers_destination, enforces, is_open = at
        covers = min(covers_source, covers_destination)
        if source != _TRUE:
            why[at] = 2 if source == _WRONG else 1
        elif destination != _TRUE:
            why[at] = 4 if destination == _WRONG else 3
        else:
            why[at] = 0 if covers == 2 else 5
        if covers == 1 or _WRONG in (source, destination):
            does[at] = _APART
        if why[at] == 0:
            does[at] |= _ENFORCED if enforces else _OBSERVED
        elif enforces:
            does[at] |= _AMISS
        if enforces and covers == 2:
            does[at] |= forms.get((source, destination), 0)
        elif enforces and not is_open:
            does[at] |= _NOTHING
    return why.ravel(), does.ravel()


_LOOKUP_WHY, _LOOKUP_DOES = _lookup()


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
        sets = _Sets(state, 0), _Sets(state, 1)
        self.one = _Side(state, sources, self.placed, sets[0])
        self.two = _Side(state, destinations, self.placed, sets[1])
        self.alike = sources is destinations
        self.trees = PathTrees(state.network, state.paths)
        self.points = _Points(state, (self.one, self.two), self.placed)
        self.sums = _Sums(state, self.placed)
        self._many_homes = _shared_endpoints(self.one, self.two)
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
                why, does = _LOOKUP_WHY[found], _LOOKUP_DOES[found]
                if not points.all_plain:
                    does = does | np.where(points.plain[p], 0, _APART)
                idle = self._idle(p, number, blocks[here], inner)
                if idle is not None:
                    why, does = np.where(idle == 0, why, idle), np.where(idle == 0, does, 0)
                done[here] |= does
                last, code = reason[here], node * 8 + why
                reason[here] = np.where((last < 0) & (why != 0), code, last)
                acts = does & _AMISS != 0
                if acts.any():
                    last = amiss[here]
                    amiss[here] = np.where((last < 0) & acts, code, last)
            parent = tree.parent[at]
            left = parent >= 0
            # Only at the first node itself do both ends lie on one segment.
            places, at, inner = places[left], parent[left], None
        result = np.where(done & _ENFORCED, 2, np.where(done & _OBSERVED, 1, 0))
        reason = np.where(result > 0, amiss, reason)
        shift = done % _SORTS + (_SORTS if self.one.family[element] == 6 else 0)
        sorts = np.uint64(1) << shift.astype(np.uint64)
        return _Rows(entries, units, sorts, result, reason, (done & _APART) > 0)

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
            source = np.where(tag == 0, _TRUE if one.untagged[element] else _UNKNOWN, tag)
            inside = np.where(source == _TRUE, covers, zero)
            found[:, arrives] = ((source * 3 + inside) * 9) * 4 + points.deed
        return found.ravel()

    def _by_target(self, points: Ints, target: NDArray[np.int8], units: Ints) -> Ints:
        """The destination's part."""
        scope = self.points.scopes[1]
        row = scope.of_point[points]
        covers = scope.untagged[row]
        true = np.flatnonzero(target == _TRUE)
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
        return np.where(inner, _INSIDE, np.where(judged, 0, _DIRECTION))

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


def _shared_endpoints(one: _Side, two: _Side) -> dict[int, set[int]]:
    """Blocks that share an endpoint which is the whole of a class in both: it does not meet
    itself."""
    homes: list[dict[int, set[int]]] = []
    for side in (one, two):
        of: dict[int, set[int]] = {}
        for number, mine in enumerate(side.classes.values()):
            for held in mine:
                first = held.hosts[0].endpoint
                if first >= 0 and all(h.endpoint == first for h in held.hosts):
                    of.setdefault(first, set()).add(number)
        homes.append(of)
    found: dict[int, set[int]] = {}
    for endpoint, numbers in homes[0].items():
        others = homes[1].get(endpoint, set())
        for number in numbers:
            apart = {n for n in others if two.blocks[n] != one.blocks[number]}
            if apart:
                found.setdefault(number, set()).update(apart)
    return found


class _Sums:
    """Which cells leak or break, by the sorts of a row: matrices of placed groups."""

    def __init__(self, state: State, placed: Ints) -> None:
        self._state = state
        self._placed = placed
        self._known: dict[int, tuple[Matrix, Matrix]] = {}
        self._cells: dict[tuple[int, int], tuple[Matrix, Matrix]] = {}

    def of(self, sorts: int) -> tuple[Matrix, Matrix]:
        """Cells that leak, and that break and do not leak, in rows of several sorts."""
        if sorts not in self._known:
            leak = np.zeros((len(self._placed),) * 2, dtype=np.uint8)
            gone = leak.copy()
            for bit in range(2 * _SORTS):
                if sorts >> bit & 1:
                    leaking, breaking = self._of_sort(bit % _SORTS, 6 if bit >= _SORTS else 4)
                    leak |= leaking
                    gone |= breaking
            self._known[sorts] = leak, np.where(leak, 0, gone).astype(np.uint8)
        return self._known[sorts]

    @cached_property
    def _forms(self) -> tuple[Ints, Ints, Ints, int]:
        """The forms of placed cells, of those from and to ``untagged``, and between untagged."""
        of, placed = self._state.matrix.action_form, self._placed
        return (
            of[np.ix_(placed, placed)].astype(np.int64), of[0, placed].astype(np.int64),
            of[placed, 0].astype(np.int64), int(of[0, 0]),
        )  # fmt: skip

    def _of_sort(self, sort: int, family: int) -> tuple[Matrix, Matrix]:
        if (sort, family) in self._cells:
            return self._cells[sort, family]
        true, to, away, between = self._forms
        size = len(self._state.matrix.forms)
        code = true.copy()
        code = code * size + (to[None, :] if sort & _BY_DESTINATION else 0)
        code = code * size + (away[:, None] if sort & _BY_SOURCE else 0)
        distinct, inverse = np.unique(code, return_inverse=True)
        wrong = np.array(
            [
                self._effect(n // size // size, n // size % size, n % size, between, sort, family)
                for n in distinct.tolist()
            ],
            dtype=np.uint8,
        ).reshape(-1, 2)
        cells = wrong[inverse.reshape(code.shape)]
        self._cells[sort, family] = cells[:, :, 0].copy(), cells[:, :, 1].copy()
        return self._cells[sort, family]

    def _effect(
        self, true: int, to: int, away: int, between: int, sort: int, family: int
    ) -> tuple[bool, bool]:
        matrix = self._state.matrix
        atoms = matrix.atoms
        mine = atoms.of_family(family)
        passes = 0 if sort & _NOTHING else mine
        for bit, form in (
            (_BY_TRUE, true), (_BY_DESTINATION, to), (_BY_SOURCE, away), (_BY_NEITHER, between),
        ):  # fmt: skip
            if sort & bit:
                passes &= matrix.forms[form]
        should = matrix.forms[true]
        return bool(passes & ~should), bool(should & ~passes & mine)
