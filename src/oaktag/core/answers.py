"""What becomes of answers: the way back of everything that the way out lets pass.

Rules kept here (semantics, section 6): a way back may go round the stateful point that judged the
way out, or meet a point that did not see the way out and drops the answer.

In a small network every pair is followed. In a large one it is enough to know of each point
whether it does so, with one example: whether some answer may meet it is asked on arrays, for all
pairs of many paths at once, and only where it does a pair is followed.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import chain
from typing import Any, Literal, NamedTuple

from oaktag.core.arrays import Flags, Ints, np
from oaktag.core.batches import Batch
from oaktag.core.effects import Member
from oaktag.core.judging import NOTHING, Judge, dropping
from oaktag.core.packets import Packet
from oaktag.core.painting import distinct
from oaktag.core.paths import Path
from oaktag.core.pathtree import Tree
from oaktag.core.placement import Host
from oaktag.core.population import Class
from oaktag.core.ranges import distinct as sorted_distinct
from oaktag.core.ranges import spread
from oaktag.core.reach import Between, Reach, State

Kind = Literal["round", "dropped"]


class Trouble(NamedTuple):
    """An answer from ``b`` to ``a`` that goes ``round`` a stateful point, or that a point drops;
    ``back`` is its path, ``packet`` an example of it."""

    kind: Kind
    point: str
    a: Host
    b: Host
    out: Path
    back: Path
    packet: Packet


def troubles(state: State, hosts: Iterable[Host]) -> Iterator[Trouble]:
    """Every trouble of answers between classes of hosts."""
    classes = state.classes(hosts)
    for row in Reach(state, classes, classes).by_class():
        several = state.paths.count(row.path.nodes[0], row.path.nodes[-1]) > 1
        if several or row.outcome.unanswered:
            yield from _of(state, row)


def _of(state: State, row: Between) -> Iterator[Trouble]:
    a, b, atoms = row.a, row.b, state.matrix.atoms
    family = a.host.family
    cell = a.host.group, b.host.group
    should = state.matrix.forms[state.matrix.form(*cell)] & atoms.of_family(family)
    arriving = should & ~row.outcome.breaks
    answered = atoms.unanswered(arriving, 0)
    if not answered:
        return
    packet = answered[0].usual(family).exchanged()
    outs: dict[Judge, Path] = {}
    for out in row.paths:
        for met in state.meetings(a, b, out):
            if met.judged and met.judge.enforces and met.judge.stateful:
                outs.setdefault(met.judge, out)
    kept = [(out, state.flows_kept(out)) for out in row.paths]
    for back in state.ways_back(b, a):
        if back is None:
            continue
        there = state.flows_kept(back)
        for judge, out in outs.items():
            if judge.state not in there:
                yield Trouble("round", judge.point.id, a.host, b.host, out, back, packet)
        for met, lost in dropping(state, b, a, back, row.paths, arriving):
            out = next(out for out, known in kept if met.judge.state not in known)
            dropped = lost.usual(family).exchanged()
            yield Trouble("dropped", met.judge.point.id, a.host, b.host, out, back, dropped)


def one_of_each(
    state: State, hosts: Iterable[Host], progress: Callable[[str], None] | None = None
) -> Iterator[Trouble]:
    """Of each kind and point one trouble, if there is any.

    Args:
        state: the network.
        hosts: everybody.
        progress: told how far it is.
    """
    yield from _Search(state, state.classes(hosts)).run(progress)


class _Found(NamedTuple):
    """A row of a batch in which a point is in trouble, and between which groups; bool [groups of
    the source's unit, groups that are somewhere]."""

    kind: Kind
    row: int
    point: int
    cells: Flags


class _Search:
    def __init__(self, state: State, classes: Sequence[Class]) -> None:
        self.state = state
        self.reach = Reach(state, classes, classes)
        self.told: set[tuple[Kind, str]] = set()
        self._ids = [judge.point.id for judge in self.reach.points.every]
        self._last: tuple[Tree | None, Ints, Ints] = None, *(np.empty(0, dtype=np.int64),) * 2

    def run(self, progress: Callable[[str], None] | None) -> Iterator[Trouble]:
        """Batch by batch."""
        reach, blocks = self.reach, len(self.reach.one.blocks)
        for batch in reach.batches():
            if progress is not None and batch.block % 10 == 0:
                progress(f"answers of {batch.block} of {blocks} segments")
            for found in chain(self._going_round(batch), self._dropped(batch)):
                key = found.kind, self._ids[found.point]
                if key in self.told:
                    continue
                path = reach.trees.path(batch.tree, int(batch.entry[found.row]))
                members = reach.members_on(batch, found.row, path)
                unit = int(batch.unit[found.row])
                for trouble in self._followed(batch, unit, (path,), members, found.cells):
                    yield trouble
                    if key in self.told:
                        break
            for kinds, other in batch.crowded:
                for paths, members, *_ in kinds:
                    some = [self._lost(batch, m.family, m.out, self._all) for m, *_ in members]
                    cells = np.logical_or.reduce(some)
                    yield from self._followed(batch, other, paths, members, cells)

    def _followed(
        self,
        batch: Batch,
        unit: int,
        paths: tuple[Path, ...],
        members: Sequence[Any],
        cells: Flags,
    ) -> Iterator[Trouble]:
        """The troubles between some groups of two units on a path, or on several alike, that are
        not told yet."""
        reach, every = self.reach, self.reach.effects.placed
        place = {g: n for n, g in enumerate(reach.one.groups[batch.source].tolist())}
        for g, h in reach.pairs(batch.source, unit):
            if not cells[place[g], int(np.searchsorted(every, h))]:
                continue
            for member, es, ed, *_ in members:
                outcome = reach.effects.outcome(member, g, h)
                # The classes of one group in an element fare alike.
                for a in reach.one.classes_of(es, g)[:1]:
                    for b in reach.two.classes_of(ed, h)[:1]:
                        between = Between(a, b, paths[0], outcome, paths[1:])
                        for trouble in _of(self.state, between):
                            if (trouble.kind, trouble.point) not in self.told:
                                self.told.add((trouble.kind, trouble.point))
                                yield trouble

    # -- on arrays ---------------------------------------------------------------------------

    @property
    def _all(self) -> int:
        """The set of cuts that lets no answer pass."""
        effects = self.reach.effects
        cut = effects.cuts.setdefault(NOTHING, len(effects.cuts))
        return effects.number(frozenset({cut}))

    def _lost(self, batch: Batch, family: int, out: int, back: int) -> Flags:
        """Between which groups of the source's unit and of all some answer is dropped."""
        groups, effects = self.reach.one.groups[batch.source], self.reach.effects
        return effects.lost(Member(family, out, back), groups, effects.placed)

    def _rows(self, batch: Batch, *, answered: bool) -> tuple[Ints, Ints, Ints, Ints]:
        """Rows with a path by their members (all, or those whose answers some point may cut): the
        row, the place of the member, its family, its set of cuts out."""
        parts: list[Ints] = [np.empty((4, 0), dtype=np.int64)]
        for mix in np.unique(batch.mix[batch.mix >= 0]).tolist():
            rows = np.flatnonzero(batch.mix == mix)
            for nth, member in enumerate(self.reach.effects.mixes[mix]):
                if not answered or member.back:
                    told = np.full((2, len(rows)), [[member.family], [member.out]])
                    parts.append(np.stack([rows, batch.first[rows] + nth, *told]))
        rows, members, family, out = np.concatenate(parts, axis=1)
        return rows, members, family, out

    def _found(
        self, kind: Kind, batch: Batch, rows: Ints, point: Ints, family: Ints, out: Ints, back: Ints
    ) -> Iterator[_Found]:
        """Those of some rows, each with a point, in which some answer is dropped by a set of cuts
        on the way back."""
        if not len(rows):
            return
        two = self.reach.two
        cases, case = distinct(family, out, back)
        for number, (of, passed, cut) in enumerate(cases):
            cells = self._lost(batch, of, passed, cut)
            sums = np.zeros(len(self.state.tags), dtype=np.int64)
            sums[self.reach.effects.placed] = cells.sum(axis=0)
            mine = np.flatnonzero(case == number)
            for n in mine[two.summed(sums)[batch.unit[rows[mine]]] > 0].tolist():
                if (kind, self._ids[int(point[n])]) not in self.told:
                    yield _Found(kind, int(rows[n]), int(point[n]), cells)

    def _untold(self, kind: Kind) -> Flags:
        """The points of which nothing of a kind is told yet."""
        return np.array([(kind, name) not in self.told for name in self._ids], dtype=np.bool_)

    def _dropped(self, batch: Batch) -> Iterator[_Found]:
        """Points that judge an answer on some way back, and drop it."""
        reach, points = self.reach, self.reach.points
        rows, members, family, out = self._rows(batch, answered=True)
        entries, of = np.unique(batch.entry[rows], return_inverse=True)
        if not len(entries):
            return iter(())
        first, count, point, arrives = reach.walks.ways_back(batch.tree, entries)
        at = np.repeat(np.arange(len(rows)), count[of])
        which = spread(first[of], first[of] + count[of])
        kept = self._untold("dropped")[point[which]]
        at, which = at[kept], which[kept]
        near, far = (side[members[at]] for side in batch.elements)
        seen = points.judged(reach.view, point[which], 1, far, near, arrives[which])
        back = reach.effects.join(np.zeros(len(at), dtype=np.int64), seen.cut)
        hit = back > 0
        at = at[hit]
        return self._found(
            "dropped", batch, rows[at], point[which][hit], family[at], out[at], back[hit]
        )

    def _going_round(self, batch: Batch) -> Iterator[_Found]:
        """Points that judge the way out and keep the flow, and are not on every way back."""
        reach, points = self.reach, self.reach.points
        if self._last[0] is not batch.tree:
            self._last = batch.tree, *self._passed_by(batch.tree)
        _, entries, point = self._last
        kept = self._untold("round")[point] if len(point) else np.empty(0, dtype=np.bool_)
        entries, point = entries[kept], point[kept]
        if not len(entries):
            return iter(())
        rows, members, family, out = self._rows(batch, answered=False)
        low = np.searchsorted(entries, batch.entry[rows])
        high = np.searchsorted(entries, batch.entry[rows], side="right")
        at, which = np.repeat(np.arange(len(rows)), high - low), spread(low, high)
        near, far = (side[members[at]] for side in batch.elements)
        framed = np.zeros(len(at), dtype=np.bool_)  # it does not matter to whether it judges
        seen = points.judged(reach.view, point[which], 0, near, far, framed)
        at, which = at[seen.enforces], which[seen.enforces]
        back = np.full(len(at), self._all)
        return self._found("round", batch, rows[at], point[which], family[at], out[at], back)

    def _passed_by(self, tree: Tree) -> tuple[Ints, Ints]:
        """Paths with points on them that know of flows, and that some other path between the same
        two nodes goes round: the paths, sorted, and the points."""
        points, walks = self.reach.points, self.reach.walks
        asked = np.flatnonzero(self._untold("round") & points.acts & (points.state >= 0))
        end = tree.root * len(self.reach.trees.names) + tree.node
        every = np.flatnonzero((np.bincount(end)[end] > 1) & ~tree.many)
        if not len(every) or not len(asked):
            return np.empty(0, dtype=np.int64), np.empty(0, dtype=np.int64)
        on, met = walks.expanded(tree, every, inward=True)
        states = int(points.state.max()) + 1
        on = on[np.isin(on[:, 1], points.state[asked])]
        key = sorted_distinct(on[:, 0] * states + on[:, 1])
        place, state = np.divmod(key, states)
        at_end = end[every[place]] * states + state
        shared, number = np.unique(at_end, return_inverse=True)
        ways = np.bincount(end)[shared // states]
        lacking = key[(np.bincount(number) < ways)[number]]
        met = met[np.isin(met[:, 1], asked)]
        place, point = met[:, 0], met[:, 1]
        hit = np.isin(place * states + points.state[point], lacking)
        place, point = place[hit], point[hit]
        order = np.argsort(place, kind="stable")
        return every[place[order]], point[order]
