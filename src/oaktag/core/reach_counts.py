"""Reach in numbers: how many rows fare how, and why, without making every row.

Rows of one mix (``effects``) are counted by sums over the groups of their units; of each cause one
row is made, as an example. Only rows that the workspace may bear (semantics, section 6: accepted)
are made one by one, and counted apart where it does.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from oaktag.core.batches import Batch
from oaktag.core.effects import EFFECTS
from oaktag.core.judging import WHY
from oaktag.core.population import Class, place_of
from oaktag.core.reach import RESULTS, Flow, Reach, Reason, State
from oaktag.core.walks import NO_POINT, NONE, REASONS

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]
#: Of each cause so many segments are named.
MOST_NAMED = 20
#: Up to so many groups that are somewhere, cells are taken of all of them at once.
FEW_GROUPS = 500
Key = tuple[str, tuple[Reason, ...]]


class Bearing(Protocol):
    """What the workspace bears."""

    def cells(self, effect: str, sources: Ints, destinations: Ints) -> Flags:
        """Between which groups a row of an effect, or one that is cut off, might be borne; shape
        [sources, destinations]."""

    def of(self, flow: Flow) -> bool:
        """Whether all that is wrong with a row is borne."""


@dataclass(slots=True)
class Cause:
    """Rows with one cause: how many, an example (or how to make it, once somebody asks), some of
    the segments between which they are (at most 20)."""

    rows: int
    first: Flow | Callable[[], Flow]
    sources: dict[str, None] = field(default_factory=dict)
    destinations: dict[str, None] = field(default_factory=dict)

    @property
    def example(self) -> Flow:
        """One of the rows."""
        if not isinstance(self.first, Flow):
            self.first = self.first()
        return self.first

    def between(self, source: str, destination: str) -> None:
        """Name two segments, if there is room."""
        for held, name in ((self.sources, source), (self.destinations, destination)):
            if len(held) < MOST_NAMED:
                held[name] = None


@dataclass(slots=True)
class ReachCounts:
    """Rows by effect and by result; what is not exact by effect and the last reason on the path;
    and what is cut off. Borne rows are only counted, by what is wrong with them."""

    effects: Counter[str] = field(default_factory=Counter)
    results: Counter[str] = field(default_factory=Counter)
    accepted: Counter[str] = field(default_factory=Counter)
    causes: dict[Key, Cause] = field(default_factory=dict)
    cut_off: Cause | None = None

    def add(self, flow: Flow, rows: int = 1) -> None:
        """Count a row, or some like it."""
        self.effects[flow.effect] += rows
        self.results[flow.result] += rows
        if flow.effect != "exact":
            self.blame((flow.effect, flow.causes[-1:]), flow, rows)
        if flow.cut_off:
            self.off(flow, rows)

    def off(self, flow: Flow, rows: int) -> Cause:
        """Count rows that are cut off."""
        if self.cut_off is None:
            self.cut_off = Cause(0, flow)
        self.cut_off.rows += rows
        self.cut_off.between(flow.source[0], flow.destination[0])
        return self.cut_off

    def blame(self, key: Key, flow: Flow, rows: int) -> Cause:
        """Count rows of a cause."""
        cause = self.causes.setdefault(key, Cause(0, flow))
        cause.rows += rows
        cause.between(flow.source[0], flow.destination[0])
        return cause


def count_rows(
    state: State,
    sources: Sequence[Class],
    destinations: Sequence[Class],
    progress: Callable[[str], None] | None = None,
    bearing: Bearing | None = None,
) -> ReachCounts:
    """All rows between the classes, counted.

    Args:
        state: the network.
        sources, destinations: classes of hosts, by ``state.classes``; one object where both ends
            are the same hosts.
        progress: told how far it is.
        bearing: what the workspace bears.
    """
    return _Counting(Reach(state, sources, destinations), bearing).run(progress)


class _Counting:
    def __init__(self, reach: Reach, bearing: Bearing | None) -> None:
        self.reach = reach
        self.bearing = bearing
        self.found = ReachCounts()
        nodes = len(reach.trees.names)
        #: Of each effect and reason so many rows; a cause that is named as often as it may be.
        self._rows = np.zeros((len(EFFECTS), nodes * REASONS + 2), dtype=np.int64)
        self._full = np.zeros(self._rows.shape, dtype=np.bool_)
        self._causes: dict[tuple[int, int], Cause] = {}
        self._placed = np.unique(reach.two.flat)

    def run(self, progress: Callable[[str], None] | None) -> ReachCounts:
        """Count unit by unit."""
        blocks = len(self.reach.one.blocks)
        for batch in self.reach.batches():
            if progress is not None and batch.block % 10 == 0:
                progress(f"{batch.block} of {blocks} segments")
            for flow in self.reach.grouped(batch):
                self._add(flow)
            self._count(batch)
        for (effect, code), cause in self._causes.items():
            key = EFFECTS[effect], self._reasons(code)
            known = self.found.causes.setdefault(key, Cause(0, cause.first))
            known.rows += int(self._rows[effect, code])
            for a, b in zip(cause.sources, cause.destinations, strict=False):
                known.between(a, b)
            for name in cause.sources:
                known.between(name, next(iter(cause.destinations)))
            for name in cause.destinations:
                known.between(next(iter(cause.sources)), name)
        self.found.effects += Counter()  # drops what is zero
        self.found.results += Counter()
        return self.found

    def _count(self, batch: Batch) -> None:
        reach, found = self.reach, self.found
        one, two = reach.one, reach.two
        groups = one.groups[batch.source]
        size = len(groups) * two.size[batch.unit]
        mine = one.blocks[batch.block]
        lonely = [g for g in groups.tolist() if (mine, g) in reach.company.lonely]
        # Who does not meet himself: of rows inside his segment one less for each such group.
        alone: dict[int, Ints] = {}
        if lonely:
            for at in np.flatnonzero(
                (batch.entry >= 0) & (batch.tree.parent[batch.entry] < 0)
            ).tolist():
                unit = int(batch.unit[at])
                if two.blocks[int(two.block[unit])] == mine:
                    alone[at] = np.intersect1d(lonely, two.groups[unit])
                    size[at] -= len(alone[at])
        for result, name in enumerate(RESULTS):
            found.results[name] += int(size[batch.result == result].sum())
        off = batch.entry < 0
        if off.any():
            self._cut_off(batch, off, size)
        found.effects["exact"] += int(size.sum())
        for mix, rows in _by_value(batch.mix):
            if mix >= 0:
                self._effects(batch, mix, rows, groups, alone)

    def _cut_off(self, batch: Batch, off: Any, size: Ints) -> None:
        reach = self.reach
        rows, groups = np.flatnonzero(off), reach.one.groups[batch.source]
        if self.bearing is not None:
            asked = self.bearing.cells("cut-off", groups, self._placed)
            if asked.any():
                size = size.copy()
                size[rows] -= self._one_by_one(batch, rows, groups, self._placed, asked)
        rows = rows[size[rows] > 0]
        flow = next(iter(reach.rows(batch, rows[:1].tolist())), None)
        if flow is None:
            return
        total = int(size[rows].sum())
        self.found.results["unconnected"] += total
        cause = self.found.off(flow, total)
        for unit in batch.unit[rows][:MOST_NAMED].tolist():
            block = reach.two.blocks[int(reach.two.block[unit])]
            cause.between(flow.source[0], place_of(block))

    def _add(self, flow: Flow) -> None:
        """Count a row that was made, by itself."""
        if self.bearing is not None and self.bearing.of(flow):
            self.found.accepted["cut-off" if flow.cut_off else flow.effect] += 1
        else:
            self.found.add(flow)

    def _one_by_one(
        self, batch: Batch, rows: Ints, groups: Ints, every: Ints, asked: Flags
    ) -> Ints:
        """Make the rows between some groups that are asked for, and count each by itself, no more
        as exact; returns how many there are of each place in the batch."""
        reach, counts = self.reach, np.zeros(len(rows), dtype=np.int64)
        for n, row in enumerate(rows.tolist()):
            unit = int(batch.unit[row])
            held = reach.two.groups[unit]
            mine = np.argwhere(asked[:, np.searchsorted(every, held)])
            pairs = [(int(groups[i]), int(held[j])) for i, j in mine.tolist()]
            pairs = [p for p in pairs if not reach.alone(batch.source, unit, *p)]
            counts[n] = len(pairs)
            for flow in reach.chosen(batch, row, pairs) if pairs else ():
                self._add(flow)
        self.found.effects["exact"] -= int(counts.sum())
        return counts

    def _effects(
        self, batch: Batch, mix: int, rows: Ints, groups: Ints, alone: dict[int, Ints]
    ) -> None:
        """Count rows of one mix that are not exact, by effect and by the member to be blamed."""
        effects, two = self.reach.effects, self.reach.two
        units = batch.unit[rows]
        every = self._placed
        if len(every) > FEW_GROUPS and len(rows) * 8 < len(two.held):
            every = np.unique(np.concatenate([two.groups[u] for u in np.unique(units).tolist()]))
        codes, blamed = effects.cells(mix, groups, every)
        # Rows are sorted.
        inner = [
            (n, r)
            for r in alone
            if (n := int(np.searchsorted(rows, r))) < len(rows) and rows[n] == r
        ]
        for effect in np.unique(codes).tolist():
            if not effect:
                continue
            wrong = codes == effect
            for member in np.unique(blamed[wrong]).tolist():
                cells = wrong & (blamed == member)
                if self.bearing is not None:
                    cells = cells & ~self._borne(batch, effect, rows, groups, every, cells)
                sums = np.zeros(len(self.reach.state.tags), dtype=np.int64)
                sums[every] = cells.sum(axis=0)
                counts = two.summed(sums)[units]
                for n, row in inner:
                    for group in alone[row].tolist():
                        at = np.flatnonzero(groups == group)[0], np.searchsorted(every, group)
                        counts[n] -= int(cells[at])
                total = int(counts.sum())
                if not total:
                    continue
                self.found.effects[EFFECTS[effect]] += total
                self.found.effects["exact"] -= total
                bad = np.flatnonzero(counts)
                self._blame(batch, effect, member, rows[bad], counts[bad])

    def _borne(
        self, batch: Batch, effect: int, rows: Ints, groups: Ints, every: Ints, cells: Flags
    ) -> Flags:
        """The cells of which some row may be borne; all their rows are counted here."""
        assert self.bearing is not None
        asked = cells & self.bearing.cells(EFFECTS[effect], groups, every)
        if asked.any():
            made = self._one_by_one(batch, rows, groups, every, asked)
            for result, name in enumerate(RESULTS):
                self.found.results[name] -= int(made[batch.result[rows] == result].sum())
        return asked

    def _blame(self, batch: Batch, effect: int, member: int, rows: Ints, counts: Ints) -> None:
        """Count rows by cause; causes that have few segments named yet learn of these."""
        if EFFECTS[effect] == "one-way":  # who drops the answers only each row tells
            for row, count in zip(rows.tolist(), counts.tolist(), strict=True):
                flow = self._example(batch, effect, member, row)()
                self.found.blame((flow.effect, flow.causes[-1:]), flow, count)
            return
        reason = batch.members.reason[batch.first[rows] + member]
        np.add.at(self._rows[effect], reason, counts)
        rows = rows[~self._full[effect, reason]]
        reason = batch.members.reason[batch.first[rows] + member]
        source = self.reach.one.blocks[batch.block]
        codes, first = np.unique(reason, return_index=True)
        for code, at in zip(codes.tolist(), first.tolist(), strict=True):
            row = int(rows[at])
            cause = self._causes.get((effect, code))
            if cause is None:
                made = self._example(batch, effect, member, row)
                cause = self._causes[effect, code] = Cause(0, made)
            target = self.reach.two.blocks[int(self.reach.two.block[batch.unit[row]])]
            cause.between(place_of(source), place_of(target))
            self._full[effect, code] = len(cause.sources) == MOST_NAMED

    def _reasons(self, code: int) -> tuple[Reason, ...]:
        """The last reason of rows, as it was counted."""
        if code == NO_POINT:
            return (Reason(None, "no-point"),)
        node, why = divmod(code, REASONS)
        return () if code == NONE else (Reason(self.reach.trees.names[node], WHY[why] or ""),)

    def _example(self, batch: Batch, effect: int, member: int, row: int) -> Callable[[], Flow]:
        """Makes a row with an effect that is blamed on a member."""
        reach, mix = self.reach, int(batch.mix[row])
        source, unit = batch.source, int(batch.unit[row])
        place = reach.place(batch, row)

        def made() -> Flow:
            groups = reach.one.groups[source], reach.two.groups[unit]
            codes, blamed = reach.effects.cells(mix, *groups)
            for i, j in np.argwhere((codes == effect) & (blamed == member)).tolist():
                g, h = int(groups[0][i]), int(groups[1][j])
                if not reach.alone(source, unit, g, h):
                    return reach.row_between(g, h, place)
            raise AssertionError("a row was counted that is none")

        return made


def _by_value(values: Ints) -> list[tuple[int, Ints]]:
    """Each distinct value, and where it is."""
    if not len(values):
        return []
    if (values == values[0]).all():
        return [(int(values[0]), np.arange(len(values)))]
    return [(int(v), np.flatnonzero(values == v)) for v in np.unique(values)]
