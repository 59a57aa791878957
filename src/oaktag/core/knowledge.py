"""Which bindings each node knows: what it learns itself, and what its feeds bring.

Rules kept here (semantics, section 6): a feed passes on what its sender learned itself, and more
only if the sender relays; the registry passes on all it holds; ``only`` filters; a feed that is
down brings nothing; source and time travel along; loops are harmless.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from oaktag.core.bindings import BINDING_SOURCES, Binding, Lookup
from oaktag.core.network import REGISTRY, Network


class Knowledge:
    """What every node knows.

    Args:
        network: the network.
        registry: what the registry holds.
        learned: node → what it learns itself.
        order: sources of bindings, the strongest first.
    """

    def __init__(
        self,
        network: Network,
        registry: Sequence[Binding],
        learned: Mapping[str, Sequence[Binding]],
        order: Sequence[str] = BINDING_SOURCES,
    ) -> None:
        self.network = network
        self.registry = Lookup(registry, order)
        self._order = tuple(order)
        self._pool: list[Binding] = list(registry)
        own: dict[str, frozenset[int]] = {REGISTRY: frozenset(range(len(registry)))}
        for node in network.nodes:
            start = len(self._pool)
            self._pool += learned.get(node, ())
            own[node] = frozenset(range(start, len(self._pool)))
        self._own = own
        self._known: dict[str, frozenset[int]] = self._spread()
        self._tables: dict[frozenset[int], Lookup] = {}

    def _spread(self) -> dict[str, frozenset[int]]:
        known = dict(self._own)
        changed = True
        while changed:
            changed = False
            for feed in self.network.feeds:
                fresh = self._brought(feed_number=self.network.feeds.index(feed), known=known)
                if not fresh <= known[feed.receiver]:
                    known[feed.receiver] |= fresh
                    changed = True
        return known

    def _brought(self, feed_number: int, known: Mapping[str, frozenset[int]]) -> frozenset[int]:
        feed = self.network.feeds[feed_number]
        if not feed.up:
            return frozenset()
        relays = feed.sender == REGISTRY or self.network.nodes[feed.sender].relays
        sent = known[feed.sender] if relays else self._own[feed.sender]
        return frozenset(n for n in sent if feed.passes(self._pool[n]))

    def at(self, node: str) -> Lookup:
        """The bindings in force at a node; nodes that know the same share one table."""
        known = self._known[node]
        if known not in self._tables:
            self._tables[known] = Lookup([self._pool[n] for n in sorted(known)], self._order)
        return self._tables[known]

    def brought_by(self, name: str) -> list[Binding]:
        """What one feed brings to its receiver."""
        number = next(n for n, f in enumerate(self.network.feeds) if f.name == name)
        return [self._pool[n] for n in sorted(self._brought(number, self._known))]
