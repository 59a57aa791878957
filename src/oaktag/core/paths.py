"""All least-cost paths between nodes.

Rules kept here (semantics, section 6): equal costs all count; costs are positive integers;
parallel links are different paths; between segments of one node the path is that node alone.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator
from dataclasses import dataclass

from oaktag.core.network import Link, Network


@dataclass(frozen=True, slots=True)
class Path:
    """The nodes from first to last, and the links between them (one fewer)."""

    nodes: tuple[str, ...]
    links: tuple[Link, ...] = ()


class Paths:
    """Least-cost paths of a network, computed from each source node once (Dijkstra, 1959)."""

    def __init__(self, network: Network) -> None:
        self._joined: dict[str, list[tuple[str, Link]]] = {name: [] for name in network.nodes}
        for link in network.links:
            self._joined[link.a].append((link.b, link))
            self._joined[link.b].append((link.a, link))
        self._used: dict[str, tuple[set[str], set[int]]] = {}
        self._before: dict[str, dict[str, list[tuple[str, Link]]]] = {}

    def _from(self, source: str) -> dict[str, list[tuple[str, Link]]]:
        """For each node reached from the source, the nodes and links just before it."""
        if source in self._before:
            return self._before[source]
        cost = {source: 0}
        before: dict[str, list[tuple[str, Link]]] = {source: []}
        queue = [(0, source)]
        while queue:
            spent, node = heapq.heappop(queue)
            if spent > cost[node]:
                continue
            for other, link in self._joined[node]:
                total = spent + link.cost
                known = cost.get(other)
                if known is None or total < known:
                    cost[other] = total
                    before[other] = [(node, link)]
                    heapq.heappush(queue, (total, other))
                elif total == known and other != source:
                    before[other].append((node, link))
        self._before[source] = before
        return before

    def used(self, source: str) -> tuple[set[str], set[int]]:
        """All nodes on least-cost paths from a node, and the links (by identity)."""
        if source not in self._used:
            before = self._from(source)
            self._used[source] = set(before), {id(k) for b in before.values() for _, k in b}
        return self._used[source]

    def count(self, source: str, destination: str) -> int:
        """How many least-cost paths there are; 0 where the nodes are not connected."""
        before = self._from(source)
        if destination not in before:
            return 0
        known: dict[str, int] = {source: 1}

        def ways(node: str) -> int:
            if node not in known:
                known[node] = sum(ways(previous) for previous, _ in before[node])
            return known[node]

        return ways(destination)

    def between(self, source: str, destination: str) -> Iterator[Path]:
        """Every least-cost path, in the order of the files' links; none where not connected."""
        before = self._from(source)
        if destination not in before:
            return
        stack: list[tuple[str, tuple[str, ...], tuple[Link, ...]]] = [
            (destination, (destination,), ())
        ]
        while stack:
            node, nodes, links = stack.pop()
            if node == source:
                yield Path(nodes, links)
                continue
            for previous, link in reversed(before[node]):
                stack.append((previous, (previous, *nodes), (link, *links)))
