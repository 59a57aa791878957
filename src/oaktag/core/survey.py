"""Reach in numbers: how many rows fare how, and why, without making every row.

Rules kept here are those of ``reach``, for whole blocks at once: the classes of one segment against
those of another, on one path, as arrays. Where a block has more to it (one segment, several
classes of one group, stateless points, very many paths) its rows are made one by one.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from oaktag.core.judging import Judge, frame_arrives
from oaktag.core.paths import Path
from oaktag.core.placement import Host
from oaktag.core.reach import MOST_PATHS, Flow, Reason, State

Class = tuple[Host, dict[str, int], list[Host]]
Ints = NDArray[np.int64]
_WHY = (
    None,
    "source-unknown",
    "source-wrong",
    "destination-unknown",
    "destination-wrong",
    "no-cell",
)
#: Reasons of so many points fit into one number, three bits each.
MOST_POINTS = 18


@dataclass(slots=True)
class Cause:
    """Rows with one cause: how many, an example, and between which segments."""

    rows: int
    example: Flow
    sources: set[str] = field(default_factory=set)
    destinations: set[str] = field(default_factory=set)


@dataclass(slots=True)
class Survey:
    """Rows by effect and by result; what is not exact by effect and reasons."""

    effects: Counter[str] = field(default_factory=Counter)
    results: Counter[str] = field(default_factory=Counter)
    causes: dict[tuple[str, tuple[Reason, ...]], Cause] = field(default_factory=dict)

    def add(self, flow: Flow, rows: int = 1) -> None:
        """Count rows that fare as one does."""
        self.effects[flow.effect] += rows
        self.results[flow.result] += rows
        if flow.effect != "exact":
            key = flow.effect, flow.reasons
            cause = self.causes.setdefault(key, Cause(0, flow))
            cause.rows += rows
            cause.sources.add(flow.source[0])
            cause.destinations.add(flow.destination[0])


def survey(
    state: State,
    sources: Iterable[Host],
    destinations: Iterable[Host],
    progress: Callable[[str], None] | None = None,
) -> Survey:
    """All rows between the hosts, counted."""
    origins, targets = (_blocks(state, hosts) for hosts in (sources, destinations))
    counting = _Counting(state)
    for number, (origin, held) in enumerate(origins.items()):
        if progress is not None:
            progress(f"{number} of {len(origins)} segments")
        for target, others in targets.items():
            counting.block(origin, held, target, others)
    return counting.found


Block = tuple[str, str | None, bool]


def _blocks(state: State, hosts: Iterable[Host]) -> dict[Block, list[Class]]:
    """Classes by node, segment, and whether they are a node's own address."""
    blocks: dict[Block, list[Class]] = {}
    for one in state.classes(hosts):
        blocks.setdefault((one[0].node, one[0].segment, one[0].own), []).append(one)
    return blocks


class _Side:
    """The classes of one segment and family as arrays."""

    def __init__(self, state: State, classes: Sequence[Class]) -> None:
        self.classes = classes
        by_tag = state.matrix.groups.by_tag
        self.group = np.array([c[0].group for c in classes], dtype=np.int64)
        self.true = np.array([state.matrix.groups.tag(c[0].group) for c in classes])
        sole = [{h.endpoint for h in c[2]} for c in classes]
        self.sole = np.array([next(iter(s)) if len(s) == 1 else -1 for s in sole])
        self.tags = {
            node: np.array([c[1][node] for c in classes])
            for node in (classes[0][1] if classes else ())
        }
        self._by_tag = by_tag

    def index(self, tags: Ints) -> Ints:
        """Group indices of tags; -1 for a tag of no group."""
        return np.array([self._by_tag.get(int(t), -1) for t in tags], dtype=np.int64)


class _Counting:
    def __init__(self, state: State) -> None:
        self.state = state
        self.found = Survey()
        self._effects: dict[tuple[int, ...], int] = {}
        self._sides: dict[int, dict[int, _Side]] = {}
        self._plain = {
            name: judge for name, judge in state.judges.items()
            if judge.point.stateful and type(judge) is Judge
        }  # fmt: skip

    def block(
        self, origin: Block, sources: list[Class], target: Block, destinations: list[Class]
    ) -> None:
        """All rows from one segment to another."""
        state = self.state
        same = origin == target
        own = origin[2] or target[2]
        if same or own or _double(sources) or _double(destinations):
            return self._slowly(sources, destinations)
        a, b = sources[0][0], destinations[0][0]
        if state.paths.count(a.node, b.node) > MOST_PATHS:
            return self._slowly(sources, destinations)
        paths = list(state.paths_of(a, b))
        if any(p is not None and not self._simple(p) for p in paths):
            return self._slowly(sources, destinations)
        for family in (4, 6):
            one, two = (self._side(c, family) for c in (sources, destinations))
            if len(one.group) and len(two.group):
                for path in paths:
                    self._count(one, two, path, family)
        return None

    def _side(self, classes: list[Class], family: int) -> _Side:
        held = self._sides.setdefault(id(classes), {})
        if family not in held:
            held[family] = _Side(self.state, [c for c in classes if c[0].family == family])
        return held[family]

    def _simple(self, path: Path) -> bool:
        judges = [j.point.id for _, j in self.state.judges_on(path)]
        return len(judges) <= MOST_POINTS and all(name in self._plain for name in judges)

    def _slowly(self, sources: list[Class], destinations: list[Class]) -> None:
        hosts = [[h for c in side for h in c[2]] for side in (sources, destinations)]
        for flow in self.state.flows(*hosts):
            self.found.add(flow)

    def _count(self, one: _Side, two: _Side, path: Path | None, family: int) -> None:
        """One path of one block, as arrays of all sources by all destinations."""
        shape = len(one.group), len(two.group)
        apart = (one.sole[:, None] != two.sole[None, :]) | (one.sole[:, None] < 0)
        if path is None:
            first = self._row(one, two, path, *np.argwhere(apart)[0]) if apart.any() else None
            if first is not None:
                self.found.add(first, int(apart.sum()))
            return
        painted = self.state.matrix.action_form
        reasons = np.zeros(shape, dtype=np.int64)
        enforced = np.zeros(shape, dtype=np.bool_)
        observed = np.zeros(shape, dtype=np.bool_)
        forms = [painted[np.ix_(one.group, two.group)].astype(np.int64)]
        for hop, judge in self.state.judges_on(path):
            why, form = self._judge(one, two, path, hop, judge)
            reasons = reasons * 8 + (7 if why is None else why)
            if why is None:
                continue
            well = why == 0
            if judge.point.mode == "enforce":
                forms.append(form)
                enforced |= well
            else:
                observed |= well
        result = np.where(enforced, 2, np.where(observed, 1, 0))
        effect = self._effect(forms, family)
        code = (np.where(result == 0, reasons, 0) * 3 + effect) * 4 + result
        for value, count in zip(*np.unique(code[apart], return_counts=True), strict=True):
            where = np.argwhere((code == value) & apart)[0]
            self.found.add(self._row(one, two, path, *where), int(count))

    def _row(self, one: _Side, two: _Side, path: Path | None, i: int, j: int) -> Flow:
        a, b = one.classes[i], two.classes[j]
        return self.state.row(a[0], a[1], b[0], b[1], path)

    def _judge(
        self, one: _Side, two: _Side, path: Path, hop: int, judge: Judge
    ) -> tuple[Ints | None, Ints]:
        """Why a point does not enforce the true cell, and the form it acts by; None where it does
        not judge the block."""
        point, node = judge.point, path.nodes[hop]
        a, b = one.classes[0][0], two.classes[0][0]
        none = np.empty(0, dtype=np.int64)
        if point.direction(a.segment, b.segment) is not None:
            return None, none
        bound = one.tags[node]
        frame = np.zeros_like(bound)
        if frame_arrives(path, hop, self.state.network):
            frame = one.tags[path.nodes[0]]
        if point.source_by == "address":
            seen = bound
        else:
            first, second = (frame, bound) if point.if_differ == "frame" else (bound, frame)
            seen = np.where(first != 0, first, second)
        there = two.tags[node]
        source, destination = one.index(seen), two.index(there)
        inside = judge.covers(source)[:, None] & judge.covers(destination, 1)[None, :]
        why = np.where(
            (seen != one.true)[:, None], np.where(seen != 0, 2, 1)[:, None],
            np.where(
                (there != two.true)[None, :], np.where(there != 0, 4, 3)[None, :],
                np.where(inside, 0, 5),
            ),
        )  # fmt: skip
        painted = self.state.matrix.action_form
        form = painted[np.ix_(np.maximum(source, 0), np.maximum(destination, 0))].astype(np.int64)
        outside = -1 if point.outside == "allow" else -2
        return why.astype(np.int64), np.where(inside, form, outside)

    def _effect(self, forms: list[Ints], family: int) -> Ints:
        """0 exact, 1 leak, 2 break, by the true form first and those that points act by."""
        flat = np.stack([f.ravel() for f in forms], axis=1)
        distinct, inverse = np.unique(flat, axis=0, return_inverse=True)
        codes = np.array([self._known(tuple(row), family) for row in distinct.tolist()])
        return codes[inverse.ravel()].reshape(forms[0].shape)

    def _known(self, row: tuple[int, ...], family: int) -> int:
        key = (family, row[0], *sorted(set(row[1:])))
        if key not in self._effects:
            matrix = self.state.matrix
            full = matrix.atoms.full
            passes = full
            for form in row[1:]:
                passes &= full if form == -1 else 0 if form == -2 else matrix.forms[form]
            should, mine = matrix.forms[row[0]], matrix.atoms.of_family(family)
            leak, gone = passes & ~should & mine, should & ~passes & mine
            self._effects[key] = 1 if leak else 2 if gone else 0
        return self._effects[key]


def _double(classes: list[Class]) -> bool:
    """Whether some group of one segment and family has several classes, or two families have one
    (these make one row together)."""
    groups = [c[0].group for c in classes]
    return len(groups) != len(set(groups))
