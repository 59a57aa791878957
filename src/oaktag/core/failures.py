"""What the loss of one link, node, feed, registry or point does to flows that were exact.

Rules kept here (semantics, section 6): which single link, node or feed, if lost, turns exact into
leak, break or one-way, or cuts ends off from each other. A lost node takes its segments, links and
feeds with it, a lost registry its feeds. Only what the loss touches is computed again: of a link,
a node or a point the pairs of nodes with a least-cost path over it (where the costs to it and on
from it make the cost of the whole); of a feed or a registry the pairs with a path over a node that
knows otherwise than before.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from copy import copy
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.bindings import Lookup
from oaktag.core.effects import EFFECTS, Effect, Member
from oaktag.core.judging_many import View
from oaktag.core.knowledge import Knowledge
from oaktag.core.many_paths import Crowd
from oaktag.core.network import REGISTRY, Feed, Network
from oaktag.core.pairs import Pairs
from oaktag.core.paths import MANY_NODES, Paths
from oaktag.core.pathtree import PathTrees, Tree
from oaktag.core.placement import Host
from oaktag.core.ranges import distinct, numbered, spread
from oaktag.core.reach import Flow, Reach, State
from oaktag.core.walks import Walks

LossOf = Literal["link", "node", "feed", "registry", "point"]
EndPair = tuple[tuple[str, int], tuple[str, int]]
Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]
_WORST: tuple[Effect, ...] = ("leak", "break", "one-way", "exact")
#: Trees of so many nodes are grown and walked together.
TOGETHER = 64
#: How packets fare that nothing joins.
CUT_OFF = -1


class Lost(NamedTuple):
    """One thing that fails; ``number`` tells things of one name apart."""

    kind: LossOf
    name: str
    number: int = 0


class Loss(NamedTuple):
    """What its failure does: how many pairs of ends were exact and leak, break or lose answers
    then, or are cut off; and a row of one of them."""

    lost: Lost
    leaks: int
    breaks: int
    one_way: int
    cut_off: int
    example: Flow | None


def candidates(network: Network) -> list[Lost]:
    """Every link, node, feed that is up, registry of several, and point, in file order."""
    feeding = {f.origin for f in network.feeds if f.sender == REGISTRY}
    return [
        *(Lost("link", link.name, n) for n, link in enumerate(network.links)),
        *(Lost("node", name) for name in network.nodes),
        *(Lost("feed", f.name, n) for n, f in enumerate(network.feeds) if f.up),
        *(
            Lost("registry", name)
            for name in (REGISTRY, *network.registries)
            if network.registries and name in feeding
        ),
        *(Lost("point", name) for name, p in network.points.items() if p.mode == "enforce"),
    ]


def without(network: Network, lost: Lost) -> Network:
    """The network less one thing. A lost node stays, alone: its links and feeds go; a lost point
    is not taken out here but from the judges."""
    links, feeds = list(network.links), list(network.feeds)
    if lost.kind == "link":
        del links[lost.number]
    elif lost.kind == "feed":
        del feeds[lost.number]
    elif lost.kind == "registry":
        feeds = [f for f in feeds if f.origin != lost.name]
    elif lost.kind == "node":
        links = [k for k in links if lost.name not in (k.a, k.b)]
        feeds = [f for f in feeds if lost.name not in (f.sender, f.receiver)]
    return network.less(links, feeds)


def losses(
    state: State, hosts: Sequence[Host], progress: Callable[[str], None] | None = None
) -> Iterator[Loss]:
    """Each single failure and what it does.

    Args:
        state: the network as it is.
        hosts: everybody who is somewhere.
        progress: told the name of what fails next.
    """
    failing = _Failing(state, hosts)
    for lost in candidates(state.network):
        if progress is not None:
            progress(f"{lost.kind} {lost.name}")
        yield failing.loss(lost)


def worst(flows: Iterable[Flow]) -> dict[EndPair, Flow]:
    """For each pair of ends the row that fares worst, over all paths."""
    found: dict[EndPair, Flow] = {}
    for flow in flows:
        ends = flow.source, flow.destination
        known = found.get(ends)
        if known is None or _WORST.index(flow.effect) < _WORST.index(known.effect):
            found[ends] = flow
    return found


class _Fares(NamedTuple):
    """Pairs of units and how they fare over all paths: numbers of mixes, or ``CUT_OFF``."""

    one: Ints
    two: Ints
    fare: Ints


@dataclass(slots=True)
class _Found:
    """What was found of one failure so far: pairs by effect, and where one of each is."""

    counts: Counter[str] = field(default_factory=Counter)
    where: dict[str, tuple[int, int, int, int]] = field(default_factory=dict)


class _Failing:
    """How everything fares before, kept; and after, where a loss touches it."""

    state: State
    trees: PathTrees
    reach: Reach
    before: NDArray[np.int32] | None
    cutting: tuple[Ints, NDArray[np.uint64]] | None
    may_cut: tuple[Ints, Flags] | None

    def __init__(self, state: State, hosts: Sequence[Host]) -> None:
        self.hosts = hosts
        self._begin(state, (state.knowledge.nothing,))
        names = self.trees.names
        nodes = np.unique(self.reach.one.node[: self.reach.one.count])
        costs = np.array([state.paths.costs(names[n]) for n in nodes])
        #: Of the nodes where somebody is.
        self.pairs = Pairs(nodes, costs.reshape(len(nodes), len(names)))
        self._place_units()
        #: Nodes where something goes by what the node knows.
        self.looking = [
            name for name, node in state.network.nodes.items()
            if node.marks or any(p.id in state.judges for p in node.points)
        ]  # fmt: skip
        self.before = self._as_matrix(self._fares(self.state, self.trees, self.pairs.every()))

    def _begin(self, state: State, tables: Sequence[Lookup]) -> None:
        self.before = None
        self.cutting = None
        self.may_cut = None
        self.state = State(
            state.matrix, state.network, state.paths, state.knowledge, state.judges, tables
        )
        held = self.state.classes(self.hosts)
        self.trees = PathTrees(state.network, state.paths)
        self.reach = Reach(self.state, held, held, self.trees)

    def _place_units(self) -> None:
        """Which units are at each of the nodes."""
        side = self.reach.one
        at = self.pairs.at[np.array([int(side.node[of[0]]) for of in side.of_unit], dtype=np.int64)]
        self._units = np.argsort(at, kind="stable")
        self._units_at = np.searchsorted(at[self._units], np.arange(len(self.pairs.nodes) + 1))

    def _as_matrix(self, fares: _Fares) -> NDArray[np.int32]:
        units = len(self.reach.one.held)
        found = np.full((units, units), CUT_OFF, dtype=np.int32)
        found[fares.one, fares.two] = fares.fare
        return found

    def loss(self, lost: Lost) -> Loss:
        """What one failure does."""
        state = self.state
        network = without(state.network, lost)
        gone = self._gone(lost)
        knowledge = state.knowledge.less(network, gone) if gone else state.knowledge
        changed = knowledge.differing(state.knowledge) if gone else set()
        other = [n for n in self.looking if n in changed]
        touched = self._touched(lost, other, knowledge)
        if not len(touched):
            return Loss(lost, 0, 0, 0, 0, None)
        moved = lost.kind in ("link", "node")
        paths = Paths(network) if moved else state.paths
        trees = self.trees
        if moved and len(network.nodes) < MANY_NODES:
            trees = PathTrees(network, paths)
        elif moved:
            links = enumerate(state.network.links)
            trees = trees.less(
                [lost.number] if lost.kind == "link"
                else [n for n, k in links if lost.name in (k.a, k.b)]
            )  # fmt: skip
        held = {id(t) for t in state.tables}
        fresh = {id(t): t for t in map(knowledge.at, other) if id(t) not in held}
        failing = self
        if fresh:
            # What some node knows then, nobody knows now: it tells units apart too.
            failing = copy(self)
            failing._begin(self.state, (state.knowledge.nothing, *fresh.values()))
            failing._place_units()
            trees = failing.trees if not moved else trees
            failing.before = failing._as_matrix(
                failing._fares(failing.state, failing.trees, touched)
            )
        after = failing.state.moved(network, paths, knowledge)
        fares = failing._fares(after, trees, touched, lost.name if lost.kind == "point" else None)
        found = failing._turned(fares)
        example = None
        for effect in ("leak", "break", "one-way", "cut off"):
            if effect in found.where and example is None:
                gone_point = lost.name if lost.kind == "point" else None
                judges = {n: j for n, j in state.judges.items() if n != gone_point}
                less = State(state.matrix, network, paths, knowledge, judges)
                example = failing._example(less, found.where[effect])
        counts = found.counts
        return Loss(
            lost, counts["leak"], counts["break"], counts["one-way"], counts["cut off"], example
        )

    def _gone(self, lost: Lost) -> list[Feed]:
        """The feeds that go with what is lost."""
        feeds = self.state.network.feeds
        if lost.kind == "feed":
            return [feeds[lost.number]]
        if lost.kind == "registry":
            return [f for f in feeds if f.origin == lost.name]
        if lost.kind == "node":
            return [f for f in feeds if lost.name in (f.sender, f.receiver)]
        return []

    # -- what is touched -------------------------------------------------------------------------

    def _touched(self, lost: Lost, other: Sequence[str], knowledge: Knowledge) -> Ints:
        """Pairs of nodes with a path on which something is otherwise after the loss; of a node with
        itself, where it is so within it."""
        network, number, pairs = self.state.network, self.trees.number, self.pairs
        found = [np.empty(0, dtype=np.int64)]
        if lost.kind == "link":
            link = network.links[lost.number]
            found.append(pairs.over_link(number[link.a], number[link.b], link.cost))
            found.append(pairs.over_link(number[link.b], number[link.a], link.cost))
        elif lost.kind == "node":
            found.append(pairs.over_node(number[lost.name]))
        elif lost.kind == "point":
            found.append(pairs.over_node(number[network.points[lost.name].node]))
        for name in other:
            node = number[name]
            differing = self._differing(self.state.knowledge.at(name), knowledge.at(name))
            if any(p.id in self.state.judges for p in network.nodes[name].points):
                # Only who is known otherwise can fare otherwise.
                over = pairs.over_node(node)
                one, two = pairs.ends(over)
                found.append(over[differing[one] | differing[two]])
            at = int(pairs.at[node])
            if network.nodes[name].marks and at >= 0 and differing[at]:
                found.append(pairs.joined(at))
        touched = distinct(np.concatenate(found))
        if lost.kind == "node":
            at = int(pairs.at[number[lost.name]])
            one, two = pairs.ends(touched)
            touched = touched[(one != at) & (two != at)]
        return touched

    def _differing(self, old: Lookup, new: Lookup) -> Flags:
        """The ``nodes`` with somebody of whom two tables may not say the same."""
        places = {id(table): n for n, table in enumerate(self.state.tables)}
        a, b = places.get(id(old)), places.get(id(new))
        found = np.zeros(len(self.pairs.nodes), dtype=np.bool_)
        if a is None or b is None:
            return ~found
        side = self.reach.one
        other = side.seen[: side.count, a] != side.seen[: side.count, b]
        found[self.pairs.at[side.node[: side.count][other]]] = True
        return found

    def _cutting(self, view: View) -> NDArray[np.uint64]:
        """For each element the tables by which some point might drop what goes toward it, as bits;
        the last bit is for whom points must be asked one by one."""
        if self.may_cut is None:
            every = np.arange(len(self.reach.points.every))
            self.may_cut = view.target_table, self._toward(view, every)
        before, bits = self.may_cut
        # Only points that go by another table may do otherwise; what they went by is asked in vain.
        other = np.flatnonzero(before != view.target_table)
        if len(other):
            bits = bits | self._toward(view, other)
        return np.packbits(bits, axis=1, bitorder="little").view(np.uint64)

    def _toward(self, view: View, p: Ints) -> Flags:
        """The same of some points; shape [elements, bits]."""
        side, points = self.reach.one, self.reach.points
        bits = np.zeros((len(side.hosts), side.bits.shape[1] * 64), dtype=np.bool_)
        for start in range(0, side.count, 512):
            elements = np.arange(start, min(start + 512, side.count))
            row, n = np.nonzero(points.may_cut(view, 0, elements, p))
            bits[elements[row], view.target_table[p[n]]] = True
        bits[side.own | side.unjudged, -1] = True
        return bits

    # -- how pairs fare --------------------------------------------------------------------------

    def _fares(
        self, after: State, trees: PathTrees, touched: Ints, lost: str | None = None
    ) -> _Fares:
        """How pairs between some nodes fare, both ways."""
        reach = self.reach
        view = reach.view
        if after.knowledge is not self.state.knowledge:
            view = reach.viewed(after)
        if lost is not None:
            view = view._replace(lost=reach.points.number[lost])
        walks = Walks(reach.points, reach.effects, trees, view)
        if self.cutting is None or self.cutting[0] is not view.target_table:
            self.cutting = view.target_table, self._cutting(view)
        roots, ends = self.pairs.covering(touched)
        trees.prepare(self.pairs.nodes[roots])
        found: list[tuple[Ints, Ints, Ints]] = []
        off = [np.empty((0, 2), dtype=np.int64)]
        for start in range(0, len(roots), TOGETHER):
            some = roots[start : start + TOGETHER]
            wanted = np.zeros((len(some), len(self.pairs.at)), dtype=np.bool_)
            for place, far in enumerate(ends[start : start + TOGETHER]):
                wanted[place, self.pairs.nodes[far]] = True
            forest = trees.forest([trees.names[n] for n in self.pairs.nodes[some].tolist()], wanted)
            entries = np.flatnonzero(wanted[forest.root, forest.node] & ~forest.many)
            found += self._pairs(walks, forest, entries)
            found += self._crowded(walks, after, forest, wanted)
            wanted[forest.root, forest.node] = False
            row, node = np.nonzero(wanted)
            off.append(np.stack([some[row], self.pairs.at[node]], axis=1))
        columns = [np.empty(0, dtype=np.int64)] * 3
        if found:
            columns = [np.concatenate(c) for c in zip(*found, strict=True)]
        return self._with_cut_off(self._joined(*columns), np.concatenate(off))

    def _pairs(
        self, walks: Walks, forest: Tree, entries: Ints
    ) -> Iterator[tuple[Ints, Ints, Ints]]:
        """Pairs of elements at sources of paths with those at their ends, both ways, as units and
        codes of members."""
        side, nodes = self.reach.one, len(walks.trees.names)
        assert self.cutting is not None
        cutting = self.cutting[1]
        here = side.at_node[forest.node[entries]], side.at_node[forest.node[entries] + 1]
        far, places = spread(*here), np.repeat(entries, here[1] - here[0])
        first = forest.node[: int(forest.levels[1])][forest.root[places]]
        there = side.at_node[first], side.at_node[first + 1]
        near, pair = spread(*there), np.repeat(np.arange(len(places)), there[1] - there[0])
        far, places = far[pair], places[pair]
        alike = side.family[near] == side.family[far]
        near, far, places = near[alike], far[alike], places[alike]
        if not len(near):
            return
        bits, partial = walks.met(forest)
        # What some path to an end meets.
        end = forest.root * nodes + forest.node
        # Numbers of 16 bits are sorted by counting.
        order = np.argsort(
            end.astype(np.uint16) if int(end.max()) < 1 << 16 else end, kind="stable"
        )
        ordered = end[order]
        fresh = np.concatenate([[True], ordered[1:] != ordered[:-1]])
        begins = np.flatnonzero(fresh)
        of_end = np.empty(len(end), dtype=np.int64)
        of_end[order] = np.cumsum(fresh) - 1
        bits = np.bitwise_or.reduceat(bits.take(order, axis=0), begins, axis=0)
        loose = np.logical_or.reduceat(partial[order], begins)
        at_end = of_end[places]
        answered = walks.answered(forest)
        told = []
        for elements in (near, far):
            asked = loose[at_end]
            for met, cuts in zip(bits.T, cutting.T, strict=True):
                asked = asked | ((met[at_end] & cuts[elements]) != 0)
            told.append(asked)
        roots = places < forest.levels[1]
        for inward in (False, True):
            ones, twos = (far, near) if inward else (near, far)
            kept = (
                self.reach.meeting(ones, twos)
                if self.reach.company.apart
                else np.ones(len(ones), bool)
            )
            if inward:
                kept = kept & ~roots  # pairs at one node are the same both ways
            toward, away = (told[0], told[1]) if inward else (told[1], told[0])
            out, back = (np.zeros(len(ones), dtype=np.int64) for _ in range(2))
            some = np.flatnonzero(kept & toward)
            out[some] = walks.along(forest, places[some], near[some], far[some], inward=inward)
            some = np.flatnonzero(kept & away & answered[places])
            back[some] = walks.back(forest, places[some], near[some], far[some], inward=not inward)
            codes = self._code(side.family[ones[kept]], out[kept], back[kept])
            yield side.unit[ones[kept]], side.unit[twos[kept]], codes

    #: Sets of cuts are numbered below this.
    WIDTH = 1 << 24

    def _code(self, family: Ints, out: Ints, back: Ints) -> Ints:
        found: Ints = (out * self.WIDTH + back) * 2 + (family == 6)
        return found

    def _member(self, code: int) -> Member:
        rest, six = divmod(code, 2)
        return Member(6 if six else 4, *divmod(rest, self.WIDTH))

    def _crowded(
        self, walks: Walks, after: State, forest: Tree, wanted: Flags
    ) -> Iterator[tuple[Ints, Ints, Ints]]:
        """Pairs over more than 64 paths."""
        many = np.flatnonzero(wanted[forest.root, forest.node] & forest.many)
        if not len(many):
            return
        reach, names = copy(self.reach), walks.trees.names
        reach.view, reach.walks, reach.trees = walks.view, walks, walks.trees
        side = reach.one
        seen: set[tuple[int, int]] = set()
        for entry in many.tolist():
            ends = int(forest.node[forest.root[entry]]), int(forest.node[entry])
            for a, b in (ends, ends[::-1]):
                if (a, b) in seen:
                    continue
                seen.add((a, b))
                crowd = Crowd(after, names[a], names[b])
                for es in range(int(side.at_node[a]), int(side.at_node[a + 1])):
                    for ed in range(int(side.at_node[b]), int(side.at_node[b + 1])):
                        pair = np.array([es]), np.array([ed])
                        if side.family[es] != side.family[ed] or (
                            reach.company.apart and not reach.meeting(*pair)[0]
                        ):
                            continue
                        codes = [
                            int(
                                self._code(
                                    np.array([m.family]), np.array([m.out]), np.array([m.back])
                                )[0]
                            )
                            for _, members, *_ in crowd.rows(reach, [(es, ed)])
                            for m, *_ in members
                        ]
                        units = side.unit[[es, ed]]
                        size = len(codes)
                        yield np.full(size, units[0]), np.full(size, units[1]), np.array(codes)

    def _joined(self, ones: Ints, twos: Ints, codes: Ints) -> _Fares:
        """All paths and elements of the same two units as one."""
        units = len(self.reach.one.held)
        key = ones * units + twos
        kinds, small = numbered(codes)
        key, small = np.divmod(distinct(key * len(kinds) + small), max(len(kinds), 1))
        first = np.flatnonzero(np.concatenate([[True], key[1:] != key[:-1]])[: len(key)])
        count = np.diff(np.concatenate([first, [len(key)]]))
        fare = np.empty(len(first), dtype=np.int64)
        members = [self._member(c) for c in kinds.tolist()]
        mix = self.reach.effects.mix
        alone = np.array([mix((m,)) for m in members], dtype=np.int64)
        single = count == 1
        fare[single] = alone[small[first[single]]]
        for n in np.flatnonzero(~single).tolist():
            at = int(first[n])
            fare[n] = mix(tuple(members[s] for s in small[at : at + int(count[n])].tolist()))
        one, two = np.divmod(key[first], units)
        return _Fares(one, two, fare)

    def _with_cut_off(self, fares: _Fares, off: Ints) -> _Fares:
        """The same, with the pairs of units, both ways, of nodes that no path joins any more; shape
        of these [pairs, 2]."""
        if self.before is None or not len(off):
            return fares
        ones: list[Ints] = []
        twos: list[Ints] = []
        for a, b in off.tolist():
            here, there = (self._units[self._units_at[n] : self._units_at[n + 1]] for n in (a, b))
            ones += [np.repeat(here, len(there)), np.tile(there, len(here))]
            twos += [np.tile(there, len(here)), np.repeat(here, len(there))]
        one, two = np.concatenate(ones), np.concatenate(twos)
        kept = self.before[one, two] != CUT_OFF
        # In the files' order, of which the first is the example.
        order = np.lexsort((two[kept], one[kept]))
        one, two = one[kept][order], two[kept][order]
        return _Fares(
            np.concatenate([fares.one, one]), np.concatenate([fares.two, two]),
            np.concatenate([fares.fare, np.full(len(one), CUT_OFF)]),
        )  # fmt: skip

    # -- what turned -----------------------------------------------------------------------------

    def _turned(self, fares: _Fares) -> _Found:
        """Pairs of ends that were exact and are no more."""
        found = _Found()
        side = self.reach.one
        assert self.before is not None
        was = self.before[fares.one, fares.two]
        other = np.flatnonzero((was != fares.fare) & (was != CUT_OFF))
        for n in other.tolist():
            u, v = int(fares.one[n]), int(fares.two[n])
            groups = side.groups[u], side.groups[v]
            now = int(fares.fare[n])
            exact = np.ones((len(groups[0]), len(groups[1])), dtype=np.bool_)
            if now != CUT_OFF:
                exact = self.reach.effects.cells(int(was[n]), *groups)[0] == 0
            block = side.blocks[int(side.block[u])]
            if block == side.blocks[int(side.block[v])]:
                for g in groups[0].tolist():
                    if (block, g) in self.reach.company.lonely:
                        exact[np.ix_(groups[0] == g, groups[1] == g)] = False
            if now == CUT_OFF:
                codes = np.full(exact.shape, len(EFFECTS), dtype=np.int64)
            else:
                codes = self.reach.effects.cells(now, *groups)[0].astype(np.int64)
            codes = np.where(exact, codes, 0)
            for code in np.unique(codes[codes > 0]).tolist():
                effect = (*EFFECTS, "cut off")[code]
                found.counts[effect] += int((codes == code).sum())
                if effect not in found.where:
                    i, j = np.argwhere(codes == code)[0].tolist()
                    found.where[effect] = u, v, int(groups[0][i]), int(groups[1][j])
        return found

    def _example(self, after: State, where: tuple[int, int, int, int]) -> Flow | None:
        """The row of two groups of two units that fares worst."""
        u, v, g, h = where
        side = self.reach.one
        hosts = [
            [h for c in side.held[unit][group].values() for n in c for h in side.every[n].hosts]
            for unit, group in ((u, g), (v, h))
        ]
        return next(iter(worst(after.flows(*hosts)).values()), None)
