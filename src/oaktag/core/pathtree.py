"""All least-cost paths from one node as a tree in arrays, for networks of many nodes.

Rules kept here (semantics, section 6): those of ``paths``, and of ``judging`` where a tag put into
the frame at the first node is there still. Entry e of a tree is one path: to a node, by one more
link than the path that is its parent.
"""

from __future__ import annotations

from collections.abc import Sequence
from copy import copy
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.network import Network
from oaktag.core.paths import MOST_PATHS, Costs, Path, Paths
from oaktag.core.ranges import distinct, spread

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]


class Tree(NamedTuple):
    """Paths from one node or some: arrays of shape [entries].

    ``node`` is where each ends, ``parent`` the path less its last link (-1 for a source itself),
    ``link`` that link's number, ``alive`` whether frames arrive with the tag of the source (of a
    source itself: whether it marks), ``many`` whether the end has more than 64 paths, which then
    are not all here, ``root`` from which of the sources. Those of the sources come first;
    ``levels`` says where the paths of each number of links begin, ``depth`` is that number.
    """

    node: Ints
    parent: Ints
    link: Ints
    alive: Flags
    many: Flags
    root: Ints
    depth: Ints
    levels: Ints


class PathTrees:
    """Trees of paths of one network; nodes are numbered in file order."""

    def __init__(self, network: Network, paths: Paths) -> None:
        self._network = network
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
        self._cheapest = np.lexsort((self._cost, self._head, self._tail))
        self._into = np.argsort(self._head, kind="stable")
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
        place = np.cumsum(kept) - 1
        fewer._cheapest = place[self._cheapest[kept[self._cheapest]]]
        fewer._into = place[self._into[kept[self._into]]]
        fewer._costs = {}
        fewer._paths = None
        return fewer

    def prepare(self, nodes: Ints) -> None:
        """Compute costs from some nodes at once."""
        if self._paths is not None:
            self._paths.prepare([self.names[n] for n in nodes])
            return
        from scipy.sparse import csr_array
        from scipy.sparse.csgraph import dijkstra

        tail, head = self._tail[self._cheapest], self._head[self._cheapest]
        fresh = np.ones(len(tail), dtype=np.bool_)
        fresh[1:] = (tail[1:] != tail[:-1]) | (head[1:] != head[:-1])
        first = np.searchsorted(tail[fresh], np.arange(len(self.names) + 1))
        least = self._cost[self._cheapest][fresh], head[fresh], first
        graph: csr_array[Any, tuple[int, int]] = csr_array(least, shape=(len(self.names),) * 2)
        self._costs.update(zip(nodes.tolist(), dijkstra(graph, indices=nodes), strict=True))

    def _costs_from(self, source: str) -> Costs:
        if self._paths is not None:
            return self._paths.costs(source)
        number = self.number[source]
        if number not in self._costs:
            self.prepare(np.array([number]))
        return self._costs[number]

    def tree(self, source: str) -> Tree:
        """All least-cost paths from a node."""
        return self.forest([source])

    def _leading(self, costs: NDArray[np.float64], wanted: Flags) -> Flags:
        """Which nodes are on a path to a wanted one; shape [sources, nodes] of all three."""
        leading = wanted & np.isfinite(costs)
        count, bounds = len(self.names), np.arange(len(self.names) + 1)
        first = np.searchsorted(self._head[self._into], bounds)
        row, node = np.nonzero(leading)
        while len(row):
            low, high = first[node], first[node + 1]
            edge = self._into[spread(low, high)]
            row, head = np.repeat(row, high - low), np.repeat(node, high - low)
            tail = self._tail[edge]
            held = (costs[row, tail] + self._cost[edge] == costs[row, head]) & ~leading[row, tail]
            row, node = np.divmod(distinct(row[held] * count + tail[held]), count)
            leading[row, node] = True
        return leading

    def forest(self, sources: Sequence[str], wanted: Flags | None = None) -> Tree:
        """The trees of some nodes, grown together, one root each, in their order; or of them only
        the paths to wanted nodes and to those on the way there, by a flag for each source and
        node."""
        count, edges = len(self.names), len(self._tail)
        costs = np.stack([self._costs_from(source) for source in sources])
        # All places are good ones: with "clip" they are taken without being checked.
        reached = costs.take(self._tail, axis=1, mode="clip") + self._cost
        held = reached == costs.take(self._head, axis=1, mode="clip")
        if wanted is not None:
            held &= self._leading(costs, wanted).take(self._head, axis=1, mode="clip")
        used = np.flatnonzero(held)
        before = np.zeros(len(sources) * edges + 1, dtype=np.int64)
        before[used + 1] = 1
        np.cumsum(before, out=before)
        node = np.array([self.number[source] for source in sources], dtype=np.int64)
        root = np.arange(len(sources))
        parent, link = np.full(len(root), -1), np.full(len(root), -1)
        alive, many = self.marks[node], np.zeros(len(root), dtype=np.bool_)
        levels = [(node, parent, link, alive, root)]
        paths = np.zeros(len(sources) * count, dtype=np.int64)
        paths[root * count + node] = 1
        base = 0
        while True:
            start = root * edges
            low = before.take(start + self._first.take(node), mode="clip")
            high = before.take(start + self._first.take(node + 1), mode="clip")
            steps = spread(low, high)
            if not len(steps):
                break
            above = np.repeat(np.arange(len(node)), high - low)
            inner = alive & self.carries[node] if len(levels) > 1 else alive
            edge = used.take(steps, mode="clip") - start.take(above, mode="clip")
            below, link, mine = self._head.take(edge), self._link.take(edge), root.take(above)
            place = mine * count + below
            kept = _few(place, many[above], paths)
            if not len(kept):  # other ways to ends that have too many already
                break
            above = above[kept]
            node, link, root = below[kept], link[kept], mine[kept]
            alive, parent = inner[above] & self.link_carries[link], base + above
            base += len(levels[-1][0])
            many = paths[place[kept]] > MOST_PATHS
            levels.append((node, parent, link, alive, root))
        sizes = np.array([len(level[0]) for level in levels])
        node, parent, link, alive, root = (np.concatenate(c) for c in zip(*levels, strict=True))
        crowded = paths[root * count + node] > MOST_PATHS
        depth = np.repeat(np.arange(len(sizes)), sizes)
        bounds = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
        return Tree(node, parent, link, alive, crowded, root, depth, bounds)

    def path(self, tree: Tree, entry: int) -> Path:
        """One entry as a path."""
        nodes, links = [], []
        while entry >= 0:
            nodes.append(self.names[int(tree.node[entry])])
            if tree.parent[entry] >= 0:
                links.append(self._network.links[int(tree.link[entry])])
            entry = int(tree.parent[entry])
        return Path(tuple(reversed(nodes)), tuple(reversed(links)))


def _few(place: Ints, many: Flags, paths: Ints) -> Ints:
    """Which new entries are kept: all, but of an end with too many paths the first alone.

    Args:
        place: the number of each entry's root and end.
        many: whether its parent's end has too many.
        paths: how many paths each end has, brought up to date here.
    """
    before = paths[place]
    np.add.at(paths, place, np.where(many, MOST_PATHS + 1, 1))
    crowded = paths[place] > MOST_PATHS
    if not crowded.any():
        return np.arange(len(place))
    np.minimum(paths, MOST_PATHS + 1, out=paths)
    first = np.zeros(len(place), dtype=np.bool_)
    first[np.unique(place, return_index=True)[1]] = True
    kept: Ints = np.flatnonzero(~crowded | (first & (before <= MOST_PATHS)))
    return kept
