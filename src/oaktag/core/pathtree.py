"""All least-cost paths from one node as a tree in arrays, for networks of many nodes.

Rules kept here (semantics, section 6): those of ``paths``, and of ``judging`` where a tag put into
the frame at the first node is there still. Entry e of a tree is one path: to a node, by one more
link than the path that is its parent.
"""

from __future__ import annotations

from collections.abc import Sequence
from copy import copy
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.network import Network
from oaktag.core.paths import Costs, Path, Paths
from oaktag.core.ranges import spread

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]
#: More paths than this to one node are not held; it and all behind it are told apart.
MOST_PATHS = 64
#: Trees of so many entries are kept.
MOST_HELD = 4_000_000


class Tree(NamedTuple):
    """Paths from one node: arrays of shape [entries].

    ``node`` is where each ends, ``parent`` the path less its last link (-1 for the first entry,
    the source itself), ``link`` that link's number, ``alive`` whether frames arrive with the tag
    of the source (of the first entry: whether it marks), ``many`` whether the end has more than
    64 paths, which then are not all here.
    """

    node: Ints
    parent: Ints
    link: Ints
    alive: Flags
    many: Flags


class PathTrees:
    """Trees of paths of one network; nodes are numbered in file order."""

    def __init__(self, network: Network, paths: Paths) -> None:
        self._network = network
        self._trees: dict[str, Tree] = {}
        self._held = 0
        self._paths: Paths | None = paths
        self._costs: dict[int, Costs] = {}
        self.names = list(network.nodes)
        self.number = {name: n for n, name in enumerate(self.names)}
        ends = [(self.number[k.a], self.number[k.b]) for k in network.links]
        pairs = np.array(ends, dtype=np.int64).reshape(-1, 2)
        tails, heads = pairs.T.ravel(), pairs[:, ::-1].T.ravel()
        links = np.tile(np.arange(len(pairs)), 2)
        order = np.lexsort((links, tails))
        self._tail, self._head, self._link = tails[order], heads[order], links[order]
        self._cost = np.array([k.cost for k in network.links], dtype=np.float64)[self._link]
        self._first = np.searchsorted(self._tail, np.arange(len(self.names) + 1))
        self.link_carries = np.array([k.carries for k in network.links], dtype=np.bool_)
        self.carries = np.array([n.carries for n in network.nodes.values()], dtype=np.bool_)
        self.marks = np.array([n.marks for n in network.nodes.values()], dtype=np.bool_)

    def less(self, lost: Sequence[int]) -> PathTrees:
        """The trees of a network without some links; the others keep their numbers."""
        fewer = copy(self)
        kept = ~np.isin(self._link, lost)
        fewer._tail, fewer._head = self._tail[kept], self._head[kept]
        fewer._link, fewer._cost = self._link[kept], self._cost[kept]
        fewer._first = np.searchsorted(fewer._tail, np.arange(len(self.names) + 1))
        fewer._trees, fewer._held, fewer._costs = {}, 0, {}
        fewer._paths = None
        return fewer

    def prepare(self, nodes: Ints) -> None:
        """Compute costs from some nodes at once."""
        if self._paths is not None:
            self._paths.prepare([self.names[n] for n in nodes])
            return
        from scipy.sparse import coo_array
        from scipy.sparse.csgraph import dijkstra

        order = np.lexsort((self._cost, self._head, self._tail))
        tail, head = self._tail[order], self._head[order]
        fresh = np.ones(len(tail), dtype=np.bool_)
        fresh[1:] = (tail[1:] != tail[:-1]) | (head[1:] != head[:-1])
        least = self._cost[order][fresh], (tail[fresh], head[fresh])
        graph = coo_array(least, shape=(len(self.names),) * 2).tocsr()
        self._costs.update(zip(nodes.tolist(), dijkstra(graph, indices=nodes), strict=True))

    def _costs_from(self, source: str) -> Costs:
        if self._paths is not None:
            return self._paths.costs(source)
        number = self.number[source]
        if number not in self._costs:
            self.prepare(np.array([number]))
        return self._costs[number]

    def tree(self, source: str) -> Tree:
        """All least-cost paths from a node; trees are kept while they are small together."""
        if source not in self._trees:
            made = self._grown(source)
            self._held += len(made.node)
            if self._held > MOST_HELD:
                return made
            self._trees[source] = made
        return self._trees[source]

    def _grown(self, source: str) -> Tree:
        costs = self._costs_from(source)
        used = costs[self._tail] + self._cost == costs[self._head]
        places = np.concatenate([[0], np.cumsum(used)])[self._first]
        heads, links = self._head[used], self._link[used]
        root = self.number[source]
        node, parent = np.array([root]), np.array([-1])
        alive = self.marks[node]
        link, many = np.array([-1]), np.array([False])
        levels = [(node, parent, link, alive, many)]
        paths = np.zeros(len(self.names), dtype=np.int64)
        paths[root] = 1
        base = 0
        while True:
            low, high = places[node], places[node + 1]
            steps = spread(low, high)
            if not len(steps):
                break
            above = np.repeat(np.arange(len(node)), high - low)
            inner = alive & self.carries[node] if len(levels) > 1 else alive
            below, link = heads[steps], links[steps]
            alive = inner[above] & self.link_carries[link]
            many = many[above]
            kept = self._few(below, many, paths)
            node, parent, link = below[kept], (base + above)[kept], link[kept]
            base += len(levels[-1][0])
            alive, many = alive[kept], paths[node] > MOST_PATHS
            levels.append((node, parent, link, alive, many))
        node, parent, link, alive = (np.concatenate(c) for c in list(zip(*levels, strict=True))[:4])
        return Tree(node, parent, link, alive, paths[node] > MOST_PATHS)

    def _few(self, below: Ints, many: Flags, paths: Ints) -> Ints:
        """Which new entries are kept: all, but of a node with too many paths the first alone."""
        before = paths[below]
        np.add.at(paths, below, np.where(many, MOST_PATHS + 1, 1))
        crowded = paths[below] > MOST_PATHS
        if not crowded.any():
            return np.arange(len(below))
        np.minimum(paths, MOST_PATHS + 1, out=paths)
        first = np.zeros(len(below), dtype=np.bool_)
        first[np.unique(below, return_index=True)[1]] = True
        kept: Ints = np.flatnonzero(~crowded | (first & (before <= MOST_PATHS)))
        return kept

    def path(self, tree: Tree, entry: int) -> Path:
        """One entry as a path."""
        nodes, links = [], []
        while entry >= 0:
            nodes.append(self.names[int(tree.node[entry])])
            if tree.parent[entry] >= 0:
                links.append(self._network.links[int(tree.link[entry])])
            entry = int(tree.parent[entry])
        return Path(tuple(reversed(nodes)), tuple(reversed(links)))
