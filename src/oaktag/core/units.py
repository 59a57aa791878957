"""Units of rows that fare alike, and what points do to all rows of a unit at once.

Rules kept here are those of ``judging`` and ``reach``, for whole blocks. Groups of one segment that
every table of bindings knows alike, and that the scopes which see them hold alike, are a *unit*.
Of two units all rows on one path meet the same points in the same way; what then passes depends on
few forms besides the true one, and which these are is the row's *sort*.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from oaktag.core.classes import Class
from oaktag.core.judging import Judge
from oaktag.core.reach import State

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]
Block = tuple[str, str | None, bool]
Matrix = NDArray[np.uint8]
#: What makes groups of one block a unit: whether they are ``untagged``, how the tables know their
#: addresses of each family, and which scopes hold them.
Kind = tuple[bool, tuple[tuple[int, bytes], ...], bytes]


# How a point sees an end: no tag where there should be one, the true one, a wrong one.
UNKNOWN, TRUE, WRONG = 0, 1, 2
# Forms that cut what passes, besides the true one: bits of a row's sort.
_BY_TRUE, _NOTHING, _BY_NEITHER, _BY_DESTINATION, _BY_SOURCE = 1, 2, 4, 8, 16
SORTS = 32
# What else a point does to a row; rows that are ``apart`` are made one by one.
ENFORCED, OBSERVED, APART, AMISS = 32, 64, 128, 256
WHY = (
    None, "source-unknown", "source-wrong", "destination-unknown", "destination-wrong", "no-cell",
    "direction", "inside",
)  # fmt: skip
DIRECTION, INSIDE = 6, 7


class Side:
    """Classes by block (one segment at one node), then unit, then element (one way in which all
    tables know the addresses of one family); units and elements as arrays.

    ``flat`` holds the units' groups, unit after unit, as places among ``placed``.
    """

    def __init__(self, state: State, classes: Sequence[Class], placed: Ints, sets: Sets) -> None:
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
        self.known = np.where((self.seen == 0) & self.untagged[:, None], TRUE, self.seen)
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


class Sets:
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
            seen = {n for way in ways for n, known in enumerate(way) if known == TRUE}
            told = range(len(self._by_table)) if seen and self._frames else seen
            rows = {row for table in told for row in self._by_table[table]}
            self._rows[key] = np.array(sorted(rows), dtype=np.int64)
        held: bytes = self._holds[self._rows[key], group].tobytes()
        return held


class Points:
    """All points that count, as arrays, node after node in file order."""

    def __init__(self, state: State, sides: tuple[Side, Side], placed: Ints) -> None:
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
            Scopes([j.sources if s == 0 else j.destinations for j in every], side, placed)
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


class Scopes:
    """One side of all scopes: which row each point has, how much of each unit a row covers, and
    whether it holds ``untagged``."""

    def __init__(self, sets: Sequence[frozenset[int]], side: Side, placed: Ints) -> None:
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
    forms = {(TRUE, TRUE): _BY_TRUE, (UNKNOWN, TRUE): _BY_DESTINATION,
             (TRUE, UNKNOWN): _BY_SOURCE, (UNKNOWN, UNKNOWN): _BY_NEITHER}  # fmt: skip
    for at in np.ndindex(shape):
        source, covers_source, destination, covers_destination, enforces, is_open = at
        covers = min(covers_source, covers_destination)
        if source != TRUE:
            why[at] = 2 if source == WRONG else 1
        elif destination != TRUE:
            why[at] = 4 if destination == WRONG else 3
        else:
            why[at] = 0 if covers == 2 else 5
        if covers == 1 or WRONG in (source, destination):
            does[at] = APART
        if why[at] == 0:
            does[at] |= ENFORCED if enforces else OBSERVED
        elif enforces:
            does[at] |= AMISS
        if enforces and covers == 2:
            does[at] |= forms.get((source, destination), 0)
        elif enforces and not is_open:
            does[at] |= _NOTHING
    return why.ravel(), does.ravel()


LOOKUP_WHY, LOOKUP_DOES = _lookup()


def shared_endpoints(one: Side, two: Side) -> dict[int, set[int]]:
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


class Sums:
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
            for bit in range(2 * SORTS):
                if sorts >> bit & 1:
                    leaking, breaking = self._of_sort(bit % SORTS, 6 if bit >= SORTS else 4)
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
