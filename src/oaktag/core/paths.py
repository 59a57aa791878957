"""All least-cost paths between nodes.

Rules kept here (semantics, section 6): equal costs all count; costs are positive integers;
parallel links are different paths; between segments of one node the path is that node alone.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from math import inf
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from oaktag.core.network import Link, Network

if TYPE_CHECKING:
    from scipy.sparse import csr_array


@dataclass(frozen=True, slots=True)
class Path:
    """The nodes from first to last, and the links between them (one fewer)."""

    nodes: tuple[str, ...]
    links: tuple[Link, ...] = ()


#: Above so many equal paths of one pair, rows are grouped by result (semantics, section 6).
MOST_PATHS = 64
#: Paths of a pair are kept where they are few, for so many pairs.
FEW_PATHS, MOST_KEPT = 64, 100_000
Costs = NDArray[np.float64]
#: From so many nodes on, SciPy's shortest paths are worth importing.
MANY_NODES = 300


class Paths:
    """Least-cost paths of a network; costs from each source node are computed once.

    A link is on a least-cost path where the cost of its one end and its own make the cost of the
    other, so only costs are kept (Dijkstra, 1959; for large networks SciPy's).

    Attributes:
        number: the number of each node, in file order.
    """

    def __init__(self, network: Network) -> None:
        self.number = {name: n for n, name in enumerate(network.nodes)}
        self._links = network.links
        self._costs: dict[str, Costs] = {}
        self._counts: dict[tuple[str, str], int] = {}
        self._ways: dict[tuple[str, str], tuple[Path, ...]] = {}
        self._reached: dict[str, set[str]] = {}

    @cached_property
    def _joined(self) -> dict[str, list[tuple[str, Link]]]:
        joined: dict[str, list[tuple[str, Link]]] = {name: [] for name in self.number}
        for link in self._links:
            joined[link.a].append((link.b, link))
            joined[link.b].append((link.a, link))
        return joined

    def costs(self, source: str) -> Costs:
        """The cost to each node, by its number; infinite where it is not reached."""
        if source not in self._costs:
            many = len(self.number) >= MANY_NODES
            self._costs[source] = self._scipy(source) if many else self._plain(source)
        return self._costs[source]

    def prepare(self, sources: Iterable[str]) -> None:
        """Compute the costs from many nodes at once."""
        left = [s for s in sources if s not in self._costs]
        if len(self.number) >= MANY_NODES and left:
            from scipy.sparse.csgraph import dijkstra

            found = dijkstra(self._matrix, indices=[self.number[s] for s in left])
            self._costs.update(zip(left, found, strict=True))

    def _plain(self, source: str) -> Costs:
        costs = [inf] * len(self.number)
        costs[self.number[source]] = 0
        queue: list[tuple[float, str]] = [(0, source)]
        while queue:
            spent, node = heapq.heappop(queue)
            if spent > costs[self.number[node]]:
                continue
            for other, link in self._joined[node]:
                total = spent + link.cost
                if total < costs[self.number[other]]:
                    costs[self.number[other]] = total
                    heapq.heappush(queue, (total, other))
        return np.array(costs)

    def _scipy(self, source: str) -> Costs:
        from scipy.sparse.csgraph import dijkstra

        start = np.array([self.number[source]])
        costs: Costs = dijkstra(self._matrix, indices=start)[0]
        return costs

    @cached_property
    def _matrix(self) -> csr_array[Any, tuple[int, int]]:
        """The cheapest link between each two nodes, both ways."""
        from scipy.sparse import coo_array

        ends = [(self.number[k.a], self.number[k.b]) for k in self._links]
        pairs = np.array(ends, dtype=np.int64).reshape(-1, 2)
        tails, heads = pairs.T.ravel(), pairs[:, ::-1].T.ravel()
        costs = np.tile(np.array([k.cost for k in self._links], dtype=np.float64), 2)
        order = np.lexsort((costs, heads, tails))
        tails, heads, costs = tails[order], heads[order], costs[order]
        fresh = np.ones(len(tails), dtype=np.bool_)
        fresh[1:] = (tails[1:] != tails[:-1]) | (heads[1:] != heads[:-1])
        size = len(self.number)
        least = costs[fresh], (tails[fresh], heads[fresh])
        return coo_array(least, shape=(size, size)).tocsr()

    def before(self, source: str, node: str) -> list[tuple[str, Link]]:
        """The nodes and links just before a node on least-cost paths, in the order of the links."""
        costs, number = self.costs(source), self.number
        here = costs[number[node]]
        if node == source:
            return []
        return [(o, k) for o, k in self._joined[node] if costs[number[o]] + k.cost == here]

    def after(self, source: str, node: str) -> list[tuple[str, Link]]:
        """The nodes and links just after a node on least-cost paths, in the order of the links."""
        costs, number = self.costs(source), self.number
        here = costs[number[node]]
        return [(o, k) for o, k in self._joined[node] if here + k.cost == costs[number[o]]]

    def reached(self, source: str) -> set[str]:
        """All nodes to which there is a path from a node, itself included."""
        if source not in self._reached:
            costs = self.costs(source)
            self._reached[source] = {n for n, at in self.number.items() if costs[at] < inf}
        return self._reached[source]

    def crossed(self, node: str, sources: Sequence[str], targets: Sequence[str]) -> list[bool]:
        """For each target whether a least-cost path to it from another node of the sources holds a
        node: where the costs to it and on from it make the cost of the whole."""
        v, at = self.number[node], np.array([self.number[t] for t in targets], dtype=np.int64)
        found = np.zeros(len(at), dtype=np.bool_)
        onward = self.costs(node)[at]
        for start in range(0, len(sources), 256):
            some = sources[start : start + 256]
            costs = np.stack([self.costs(s) for s in some])
            whole, other = costs[:, at], np.array([self.number[s] for s in some])[:, None] != at
            holds = (costs[:, v][:, None] + onward == whole) & (whole < inf) & other
            found |= holds.any(axis=0)
        return [bool(f) for f in found]

    def count(self, source: str, destination: str) -> int:
        """How many least-cost paths there are; 0 where the nodes are not connected."""
        key = source, destination
        if key not in self._counts:
            self._counts[key] = self._count(source, destination)
        return self._counts[key]

    def _count(self, source: str, destination: str) -> int:
        if self.costs(source)[self.number[destination]] == inf:
            return 0
        known: dict[str, int] = {source: 1}

        def ways(node: str) -> int:
            if node not in known:
                known[node] = sum(ways(previous) for previous, _ in self.before(source, node))
            return known[node]

        return ways(destination)

    def between(self, source: str, destination: str) -> Iterator[Path]:
        """Every least-cost path, in the order of the files' links; none where not connected."""
        key = source, destination
        if key not in self._ways:
            if self.count(source, destination) > FEW_PATHS or len(self._ways) >= MOST_KEPT:
                yield from self._between(source, destination)
                return
            self._ways[key] = tuple(self._between(source, destination))
        yield from self._ways[key]

    def _between(self, source: str, destination: str) -> Iterator[Path]:
        if self.costs(source)[self.number[destination]] == inf:
            return
        stack: list[tuple[str, tuple[str, ...], tuple[Link, ...]]] = [
            (destination, (destination,), ())
        ]
        while stack:
            node, nodes, links = stack.pop()
            if node == source:
                yield Path(nodes, links)
                continue
            for previous, link in reversed(self.before(source, node)):
                stack.append((previous, (previous, *nodes), (link, *links)))
