"""More than 64 equal paths between two nodes: found as what they come to, not one by one.

Rules kept here (semantics, section 6): above 64 equal paths of one pair, rows are grouped by
result. Node by node from the source outward, paths that come to the same so far (does a frame
arrive, what the points met let pass together, where it was enforced or observed first, the last
reason, which points will know the flow of an answer) are one, with their number.

What one path comes to, all of a kind do, but not over which points: who drops an answer, or is gone
round by it, is asked of examples. So of a kind there are so many that each point that one of its
paths meets (with the tag in the frame, or without) is met by an example, and the points of one
state that one of its paths goes round are gone round by an example.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from oaktag.core.effects import Member
from oaktag.core.network import Link
from oaktag.core.paths import Path

if TYPE_CHECKING:
    from oaktag.core.batches import Batches
    from oaktag.core.reach import State

RESULTS = ("unenforced", "observed", "enforced")


class _So(NamedTuple):
    """What paths come to so far, for one pair of elements: the set of cuts; the nodes where it was
    enforced and observed first, and how far out; the last reason, and the last that is amiss."""

    out: int = 0
    enforced: tuple[int, str] | None = None
    observed: tuple[int, str] | None = None
    reason: tuple[str | None, int] = (None, 0)
    amiss: tuple[str | None, int] = (None, 0)


@dataclass(frozen=True, slots=True, eq=False)
class _Way:
    """An example so far: the node where it ends, and the link and the way that led there."""

    node: str
    link: Link | None = None
    before: _Way | None = None

    def path(self) -> Path:
        """The whole."""
        nodes, links, way = [self.node], [], self
        while way.before is not None and way.link is not None:
            links.append(way.link)
            way = way.before
            nodes.append(way.node)
        return Path(tuple(reversed(nodes)), tuple(reversed(links)))


#: Examples by what they show: nothing of their own (None), that a node is met with the tag in the
#: frame or without, or that a state is gone round.
_Examples = dict[tuple[str, bool] | str | None, _Way]
#: Whether a frame arrives; one of the above for each pair; and what will know the answers' flow.
_Key = tuple[bool, tuple[_So, ...], tuple[int, ...], frozenset[int]]


class Crowd:
    """The least-cost paths between two nodes, as a graph."""

    def __init__(self, state: State, source: str, destination: str) -> None:
        self.state = state
        self.source, self.destination = source, destination
        paths = state.paths
        out, back = paths.costs(source), paths.costs(destination)
        total = out[paths.number[destination]]
        on = [n for n in paths.number if out[paths.number[n]] + back[paths.number[n]] == total]
        self.order = sorted(on, key=lambda n: (float(out[paths.number[n]]), paths.number[n]))
        judges = {
            n: [state.judges[p.id] for p in state.network.nodes[n].points if p.id in state.judges]
            for n in self.order
        }
        self._judged = {n for n, of in judges.items() if of}
        self._states = {n: {j.state for j in of if j.state is not None} for n, of in judges.items()}

    def examples(self) -> tuple[Path, ...]:
        """Some of the paths: each point that any of them meets, and each state that any goes round,
        one of these does."""
        nodes = self.state.network.nodes
        held: dict[str, dict[bool, _Examples]] = {n: {} for n in self.order}
        held[self.source][nodes[self.source].marks] = self._start()
        for before, link, name, carries in self._steps():
            for arrived, examples in held[before].items():
                arrives = arrived and carries
                known = held[name].setdefault(arrives, {})
                _learn(known, self._longer(examples, link, name, arrives))
        every: _Examples = {}
        for examples in held[self.destination].values():
            _learn(every, examples)
        return _paths(every)

    def _steps(self) -> Iterator[tuple[str, Link, str, bool]]:
        """From node over link to node, so that all that leads to a node comes before it; and
        whether a tag that arrives at the first goes on to the second."""
        nodes = self.state.network.nodes
        for name in self.order[1:]:
            for before, link in self.state.paths.before(self.source, name):
                carries = link.carries and (before == self.source or nodes[before].carries)
                yield before, link, name, carries

    def _start(self) -> _Examples:
        """The way that has not left yet: it meets what is there, and goes round all the rest."""
        way, here = _Way(self.source), self._states[self.source]
        round_: set[str] = set().union(*self._states.values()) - here
        marks = self.state.network.nodes[self.source].marks
        return dict.fromkeys((None, (self.source, marks), *sorted(round_)), way)

    def _longer(self, examples: _Examples, link: Link, name: str, arrives: bool) -> _Examples:
        """Examples led on over a link to a node."""
        longer = {way: _Way(name, link, way) for way in examples.values()}
        here = self._states[name]
        found = {shown: longer[way] for shown, way in examples.items() if shown not in here}
        if name in self._judged:
            found[name, arrives] = longer[examples[None]]
        return found

    def rows(
        self, reach: Batches, pairs: Sequence[tuple[int, int]]
    ) -> list[
        tuple[
            tuple[Path, ...], list[tuple[Member, int, int, str, str | None]], int, tuple[int, int]
        ]
    ]:
        """What the paths come to for some pairs of elements of two units.

        Returns:
            for each kind of path examples, its members (with elements, result and place), and how
            many paths are of this kind; and the units.
        """
        back = _Back(self, reach, pairs)
        held: dict[str, dict[_Key, tuple[_Examples, int, int]]] = {n: {} for n in self.order}
        nodes, effects = self.state.network.nodes, reach.effects
        none = back.crossed(self.source, back.nothing)
        first = tuple(self._at(reach, pairs, self.source, False, (_So(),) * len(pairs), 0))
        held[self.source][nodes[self.source].marks, first, *none] = self._start(), 1, 0
        for before, link, name, carries in self._steps():
            for (arrived, so, *crossed), (examples, ways, hop) in held[before].items():
                arrives = arrived and carries
                done = tuple(self._at(reach, pairs, name, arrives, so, hop + 1))
                key = (arrives, done, *back.crossed(name, tuple(crossed)))  # type: ignore[arg-type]
                known, others, first_hop = held[name].get(key, ({}, 0, hop + 1))
                _learn(known, self._longer(examples, link, name, arrives))
                held[name][key] = known, others + ways, first_hop
        found = []
        units = int(reach.one.unit[pairs[0][0]]), int(reach.two.unit[pairs[0][1]])
        for (_, so, *crossed), (examples, ways, _) in held[self.destination].items():
            results = [2 if s.enforced else 1 if s.observed else 0 for s in so]
            weak = min(results)
            places = [(s.enforced or s.observed or (-1, None)) for s in so]
            late = max(p[0] for p, r in zip(places, results, strict=True) if r == weak)
            members = []
            for n, ((es, ed), s) in enumerate(zip(pairs, so, strict=True)):
                cuts = effects.number(back.left(n, tuple(crossed)))  # type: ignore[arg-type]
                counts = results[n] == weak and places[n][0] == late
                member = Member(int(reach.one.family[es]), s.out, cuts, counts)
                members.append((member, es, ed, RESULTS[results[n]], places[n][1]))
            found.append((_paths(examples), members, ways, units))
        return found

    def _at(
        self, reach: Batches, pairs: Sequence[tuple[int, int]], name: str, arrives: bool,
        so: tuple[_So, ...], hop: int,
    ) -> list[_So]:  # fmt: skip
        """What some pairs come to behind the points of a node."""
        points, node = reach.points, reach.trees.number[name]
        found = list(so)
        for p in range(int(points.first[node]), int(points.first[node] + points.count[node])):
            number = np.full(len(pairs), p)
            es, ed = (np.array([pair[side] for pair in pairs]) for side in (0, 1))
            seen = points.judged(reach.view, number, 0, es, ed, arrives)
            for n in range(len(pairs)):
                s, why, acts = found[n], int(seen.why[n]), bool(seen.enforces[n])
                right = bool(seen.judges[n]) and not why
                out = int(reach.effects.join(np.array([s.out]), seen.cut[n : n + 1])[0])
                found[n] = _So(
                    out,
                    (hop, name) if right and acts and s.enforced is None else s.enforced,
                    (hop, name) if right and not acts and s.observed is None else s.observed,
                    (name, why) if why else s.reason,
                    (name, why) if why and acts else s.amiss,
                )
        return found


def _learn(known: _Examples, more: _Examples) -> None:
    """Take examples for what none is known for; the first one counts."""
    for shown, way in more.items():
        known.setdefault(shown, way)


def _paths(examples: _Examples) -> tuple[Path, ...]:
    """Each once, the first of all first."""
    return tuple(dict.fromkeys(way.path() for way in dict.fromkeys(examples.values())))


class _Back:
    """What answers meet on all paths back, and which of it a path out makes known."""

    def __init__(self, crowd: Crowd, reach: Batches, pairs: Sequence[tuple[int, int]]) -> None:
        points = reach.points
        met = self._met(crowd, reach)
        self._always: list[set[int]] = [set() for _ in pairs]
        cuts: dict[int, list[set[int]]] = {}
        for p, arrives in sorted(met):
            if not points.acts[p]:
                continue
            number = np.full(len(pairs), p)
            es, ed = (np.array([pair[side] for pair in pairs]) for side in (0, 1))
            seen = points.judged(reach.view, number, 1, ed, es, arrives)
            for n, cut in enumerate(seen.cut.tolist()):
                if cut and points.state[p] < 0:
                    self._always[n].add(cut)
                elif cut:
                    cuts.setdefault(int(points.state[p]), [set() for _ in pairs])[n].add(cut)
        counted = Counter(points.state.tolist())
        self._shared = {s for s in cuts if counted[s] > 1}
        kinds: dict[tuple[frozenset[int], ...], int] = {}
        self._kind = {
            s: kinds.setdefault(tuple(map(frozenset, of)), len(kinds))
            for s, of in cuts.items()
            if s not in self._shared
        }
        self._size = Counter(self._kind.values())
        self._of_kind = list(kinds)
        self._cuts = cuts
        self.nothing: tuple[tuple[int, ...], frozenset[int]] = ((0,) * len(kinds), frozenset())
        self._on: dict[str, list[int]] = {
            name: [
                int(points.state[p])
                for p in range(int(points.first[n]), int(points.first[n] + points.count[n]))
                if points.state[p] >= 0
            ]
            for name in crowd.order
            for n in (reach.trees.number[name],)
        }

    @staticmethod
    def _met(crowd: Crowd, reach: Batches) -> set[tuple[int, bool]]:
        nodes, points = crowd.state.network.nodes, reach.points
        arriving: dict[str, set[bool]] = {n: set() for n in crowd.order}
        met: set[tuple[int, bool]] = set()
        for name in reversed(crowd.order):
            at_end = name == crowd.destination
            here = {False} if at_end else arriving[name]
            node = reach.trees.number[name]
            for p in range(int(points.first[node]), int(points.first[node] + points.count[node])):
                met |= {(p, a) for a in here}
            for before, link in crowd.state.paths.before(crowd.source, name):
                leaves = (
                    {nodes[name].marks} if at_end else {a and nodes[name].carries for a in here}
                )
                if before in arriving:
                    arriving[before] |= {a and link.carries for a in leaves}
        return met

    def crossed(
        self, name: str, so: tuple[tuple[int, ...], frozenset[int]]
    ) -> tuple[tuple[int, ...], frozenset[int]]:
        """What is known of flows behind one node more."""
        counts, shared = list(so[0]), so[1]
        for s in self._on[name]:
            if s in self._kind:
                counts[self._kind[s]] += 1
            elif s in self._shared:
                shared |= {s}
        return tuple(counts), shared

    def left(self, pair: int, so: tuple[tuple[int, ...], frozenset[int]]) -> frozenset[int]:
        """The cuts that the answers of a pair meet."""
        found = set(self._always[pair])
        for kind, count in enumerate(so[0]):
            if count < self._size[kind]:
                found |= self._of_kind[kind][pair]
        for s in self._shared - so[1]:
            found |= self._cuts[s][pair]
        return frozenset(found)
