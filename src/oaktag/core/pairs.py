"""Pairs of nodes with a least-cost path over a link or a node, as sorted numbers.

Rules kept here (semantics, section 6): something is on a least-cost path where the costs to it and
on from it make the cost of the whole. Squares of thousands of nodes are too large to be handed
about, so a pair is one number: ``one × len(nodes) + two`` with ``one <= two``, places in ``nodes``.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int64]
#: Rows of costs that are compared at once: so many fit the cache.
ROWS = 128


class Pairs:
    """Pairs of some nodes of a network.

    Args:
        nodes: their numbers, sorted; shape [n].
        costs: from each of them to every node, infinite where there is no path; shape [n, every].

    Attributes:
        at: the place of each node of the network in ``nodes``, -1 for all others.
    """

    def __init__(self, nodes: Ints, costs: NDArray[np.float64]) -> None:
        self.nodes = nodes
        self.at = np.full(costs.shape[1], -1, dtype=np.int64)
        self.at[nodes] = np.arange(len(nodes))
        most = costs[np.isfinite(costs)].max(initial=0)
        kind = np.int32 if most < 1 << 28 else np.int64
        #: What no path costs.
        self.far = int(np.iinfo(kind).max // 4)
        self.costs: NDArray[Any] = np.where(np.isfinite(costs), costs, self.far).astype(kind)
        self.between: NDArray[Any] = np.ascontiguousarray(self.costs[:, nodes])

    def numbers(self, one: Ints, two: Ints) -> Ints:
        """Pairs by the places of their two ends, in any order."""
        return np.minimum(one, two) * len(self.nodes) + np.maximum(one, two)

    def ends(self, pairs: Ints) -> tuple[Ints, Ints]:
        """The places of both ends."""
        one, two = np.divmod(pairs, max(len(self.nodes), 1))
        return one, two

    def every(self) -> Ints:
        """All pairs, those of a node with itself included."""
        return self.numbers(*np.triu_indices(len(self.nodes)))

    def joined(self, at: int) -> Ints:
        """The pairs of one place with all to which there is a path."""
        return self.numbers(np.array(at), np.flatnonzero(self.between[at] < self.far))

    def over_link(self, a: int, b: int, cost: int) -> Ints:
        """Pairs of nodes with a least-cost path over two nodes, in this order, and a link between
        them."""
        to, on = self.costs[:, a], self.costs[:, b]
        # A part of a least-cost path is one too.
        ones = np.flatnonzero((to + cost == on) & (to < self.far))
        twos = np.flatnonzero((on + cost == to) & (on < self.far))
        whole = self.between[ones].take(twos, axis=1)
        held = np.flatnonzero((to[ones, None] + (on[twos] + cost) == whole).ravel())
        one, two = ones[held // max(len(twos), 1)], twos[held % max(len(twos), 1)]
        return self.numbers(one, two)

    def over_node(self, node: int) -> Ints:
        """Pairs of nodes with a least-cost path over a node."""
        cost, count = self.costs[:, node], len(self.nodes)
        near = np.flatnonzero(cost < self.far)
        found = [np.empty(0, dtype=np.int64)]
        for start in range(0, len(near), ROWS):
            one, two = near[start : start + ROWS], near[start:]
            whole = (
                self.between[one] if len(near) == count else self.between[one].take(near, axis=1)
            )
            whole = whole[:, start:]
            held = np.flatnonzero((cost[one, None] + cost[two] == whole).ravel())
            one, two = one[held // len(two)], two[held % len(two)]
            found.append((one * count + two)[one <= two])
        return np.concatenate(found)

    def covering(self, pairs: Ints) -> tuple[Ints, list[Ints]]:
        """As few nodes as have one end of each pair, about; and of each the other ends."""
        count = len(self.nodes)
        one, two = np.divmod(pairs, count)
        apart = one != two
        tail, head = np.concatenate([one, two[apart]]), np.concatenate([two, one[apart]])
        degree = np.bincount(tail, minlength=count)
        heads = head[np.argsort(tail, kind="stable")]
        bounds = np.concatenate([[0], np.cumsum(degree)])
        left = np.ones(count, dtype=np.bool_)
        roots: list[int] = []
        ends: list[Ints] = []
        while True:
            root = int(degree.argmax()) if count else 0
            if not count or not degree[root]:
                break
            mine = heads[bounds[root] : bounds[root + 1]]
            mine = mine[left[mine]]
            left[root] = False
            degree[mine] -= 1
            degree[root] = 0
            roots.append(root)
            ends.append(mine)
        return np.array(roots, dtype=np.int64), ends
