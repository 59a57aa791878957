"""What the loss of one link, node, feed or point does to flows that were exact.

Rules kept here (semantics, section 6): which single link, node or feed, if lost, turns exact into
leak or break. A lost node takes its segments, links and feeds with it. Only what the loss touches
is computed again: of a link, a node or a point the pairs of nodes with a least-cost path over it
(where the costs to it and on from it make the cost of the whole); of a feed the pairs with a path
over a node that knows otherwise than before.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.fares import Fares
from oaktag.core.knowledge import Knowledge
from oaktag.core.network import Network
from oaktag.core.paths import MANY_NODES, Paths
from oaktag.core.pathtree import PathTrees
from oaktag.core.placement import Host
from oaktag.core.reach import Effect, Flow, State

Kind = Literal["link", "node", "feed", "point"]
Ends = tuple[tuple[str, int], tuple[str, int]]
Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]
_WORST: tuple[Effect, ...] = ("leak", "break", "exact")


class Lost(NamedTuple):
    """One thing that fails; ``number`` tells parallel links apart."""

    kind: Kind
    name: str
    number: int = 0


class Loss(NamedTuple):
    """What its failure does: how many pairs of ends were exact and leak or break then, and a row
    of one of them."""

    lost: Lost
    leaks: int
    breaks: int
    example: Flow | None


def candidates(network: Network) -> list[Lost]:
    """Every link, node, feed that is up, and point, in file order."""
    return [
        *(Lost("link", link.name, n) for n, link in enumerate(network.links)),
        *(Lost("node", name) for name in network.nodes),
        *(Lost("feed", feed.name) for feed in network.feeds if feed.up),
        *(Lost("point", name) for name, p in network.points.items() if p.mode == "enforce"),
    ]


def without(network: Network, lost: Lost) -> Network:
    """The network less one thing. A lost node stays, alone: its links and feeds go; a lost point
    is not taken out here but from the judges."""
    links, feeds = list(network.links), list(network.feeds)
    if lost.kind == "link":
        del links[lost.number]
    elif lost.kind == "feed":
        feeds = [f for f in feeds if f.name != lost.name]
    elif lost.kind == "node":
        links = [k for k in links if lost.name not in (k.a, k.b)]
        feeds = [f for f in feeds if lost.name not in (f.sender, f.receiver)]
    nodes, segments = list(network.nodes.values()), list(network.segments.values())
    return Network(nodes, segments, links, feeds)


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


def worst(flows: Iterable[Flow]) -> dict[Ends, Flow]:
    """For each pair of ends the row that fares worst, over all paths."""
    found: dict[Ends, Flow] = {}
    for flow in flows:
        ends = flow.source, flow.destination
        known = found.get(ends)
        if known is None or _WORST.index(flow.effect) < _WORST.index(known.effect):
            found[ends] = flow
    return found


@dataclass(slots=True)
class _Found:
    """What was found of one failure so far."""

    leaks: int = 0
    breaks: int = 0
    leaking: Flow | None = None
    breaking: Flow | None = None

    @property
    def example(self) -> Flow | None:
        """A row that leaks, else one that breaks."""
        return self.leaking or self.breaking


class _Failing:
    """How everything fares before, kept; and after, where a loss touches it."""

    def __init__(self, state: State, hosts: Sequence[Host]) -> None:
        self.state = state
        self.hosts = hosts
        self.trees = PathTrees(state.network, state.paths)
        tables = {id(t): t for t in (*state.tables, state.knowledge.nothing)}
        self.fares = Fares(state, hosts, list(tables.values()))
        self.before = self.fares.all(self.trees)
        names = [self.trees.names[n] for n in self.fares.nodes]
        costs = [state.paths.costs(name) for name in names]
        self.costs = np.array(costs).reshape(len(names), len(self.trees.names))
        self.between = self.costs[:, self.fares.nodes]
        self._worst: dict[tuple[int, int], dict[Ends, Flow]] = {}

    def loss(self, lost: Lost) -> Loss:
        """What one failure does."""
        state = self.state
        network = without(state.network, lost)
        judges = dict(state.judges)
        if lost.kind == "point":
            judges.pop(lost.name, None)
        kept = {id(f) for f in network.feeds}
        gone = [f for f in state.network.feeds if id(f) not in kept]
        knowledge = state.knowledge.less(network, gone) if gone else state.knowledge
        other: set[str] = set()
        if gone:
            other = {n for n in state.watching if knowledge.at(n) is not state.knowledge.at(n)}
        touched, inner = self._touched(lost, other, knowledge)
        found = _Found()
        if not touched.any() and not inner:
            return Loss(lost, 0, 0, None)
        moved = lost.kind in ("link", "node")
        paths = Paths(network) if moved else state.paths
        after = State(state.matrix, network, paths, knowledge, judges, state.memo)
        trees = self.trees
        if moved and len(network.nodes) < MANY_NODES:
            trees = PathTrees(network, paths)
        elif moved:
            links = enumerate(state.network.links)
            trees = trees.less(
                [lost.number] if lost.kind == "link"
                else [n for n, k in links if lost.name in (k.a, k.b)]
            )  # fmt: skip
        fares, before = self.fares, self.before
        tables = {id(t): t for t in fares.tables}
        known = {id(t): t for t in map(knowledge.at, other)}
        if known.keys() - tables.keys():
            # What some node knows then, nobody knows now: it tells units apart too.
            fares = Fares(state, self.hosts, list((tables | known).values()))
            before = fares.all(self.trees, touched)
        after.tables = fares.tables
        rows = fares.some(
            trees, touched, fares.view(after, lost.name if lost.kind == "point" else None)
        )
        apart = before.apart | fares.apart_of(rows)
        for leaks, breaks, where in fares.turned(before, rows, apart):
            found.leaks += leaks
            found.breaks += breaks
            if (leaks and not found.leaking) or (not found.leaking and not found.breaking):
                self._example(fares, after, where, found)
        slow = apart.copy()
        np.fill_diagonal(slow, val=False)
        if slow.any():
            slow &= fares.by_block(touched)
        for number in inner:
            slow[number, number] = True
        for pair in np.argwhere(slow).tolist():
            self._one_by_one(fares, after, (pair[0], pair[1]), found)
        return Loss(lost, found.leaks, found.breaks, found.example)

    def _touched(
        self, lost: Lost, other: set[str], knowledge: Knowledge
    ) -> tuple[Flags, list[int]]:
        """Pairs of nodes with a path on which something is otherwise after the loss; and blocks
        within which it is."""
        network, number = self.state.network, self.trees.number
        touched = np.zeros_like(self.between, dtype=np.bool_)
        changed = {name for name in other if self._judging(name)}
        gone = number.get(lost.name) if lost.kind == "node" else None
        if lost.kind == "link":
            link = network.links[lost.number]
            touched |= self._over(number[link.a], number[link.b], link.cost)
        elif lost.kind == "node":
            touched |= self._over(number[lost.name], number[lost.name], 0)
        elif lost.kind == "point":
            changed.add(network.points[lost.name].node)
            place = number[network.points[lost.name].node]
            touched |= self._over(place, place, 0)
        for name in other:
            differing = self.fares.differing(self.state.knowledge.at(name), knowledge.at(name))
            if name in changed:
                over = self._over(number[name], number[name], 0)
                if differing is not None:  # only who is known otherwise can fare otherwise
                    over &= differing[:, None] | differing[None, :]
                touched |= over
            at = self.fares.at[number[name]]
            if network.nodes[name].marks and at >= 0 and (differing is None or differing[at]):
                touched[at, :] = touched[:, at] = True
        touched &= np.isfinite(self.between)
        inner = [
            n
            for n, block in enumerate(self.fares.one.blocks)
            if block[0] in changed and any(p.inside for p in network.nodes[block[0]].points)
        ]
        if gone is not None:
            at = self.fares.at[gone]
            if at >= 0:
                touched[at, :] = touched[:, at] = False
            inner = [n for n in inner if self.fares.one.blocks[n][0] != lost.name]
        return touched, inner

    def _judging(self, name: str) -> bool:
        return any(p.id in self.state.judges for p in self.state.network.nodes[name].points)

    def _over(self, a: int, b: int, cost: int) -> Flags:
        """Pairs of nodes with a least-cost path over two nodes and a link between them, or over
        one node."""
        there = self.costs[:, a][:, None] + cost + self.costs[:, b][None, :] == self.between
        found: Flags = there | there.T
        return found

    def _one_by_one(self, fares: Fares, after: State, pair: tuple[int, int], found: _Found) -> None:
        sides = [
            list(side.classes.values())[n]
            for side, n in zip((fares.one, fares.two), pair, strict=True)
        ]
        if fares is not self.fares or pair not in self._worst:
            before = worst(fares.state.rows(*sides))
            if fares is self.fares:
                self._worst[pair] = before
        else:
            before = self._worst[pair]
        for ends, flow in worst(after.rows(*sides)).items():
            if before[ends].effect != "exact" or flow.effect == "exact":
                continue
            if flow.effect == "leak":
                found.leaks += 1
                found.leaking = found.leaking or flow
            else:
                found.breaks += 1
                found.breaking = found.breaking or flow

    def _example(
        self, fares: Fares, after: State, where: tuple[int, int, int, int], found: _Found
    ) -> None:
        one, two, source, target = where
        rows = after.rows(fares.one.held[one][source], fares.two.held[two][target])
        for flow in worst(rows).values():
            if flow.effect == "leak":
                found.leaking = found.leaking or flow
            elif flow.effect == "break":
                found.breaking = found.breaking or flow
