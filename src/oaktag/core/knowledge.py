"""Which bindings each node knows: what it learns itself, and what its feeds bring.

Rules kept here (semantics, section 6): a feed passes on what its sender learned itself, and more
only if the sender relays; the registry passes on all it holds; ``only`` filters; a feed that is
down brings nothing; source and time travel along; loops are harmless.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from copy import copy
from functools import cached_property
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from oaktag.core.addresses import Keys, Prefix, keys
from oaktag.core.bindings import BINDING_SOURCES, FAMILIES, Binding, Bindings, Lookup
from oaktag.core.network import REGISTRY, Feed, Network


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
        self._order = tuple(order)
        parts = [Bindings.of(registry), *(Bindings.of(learned.get(n, ())) for n in network.nodes)]
        self._pool = Bindings.join(parts)
        ends = np.cumsum([0, *map(len, parts)]).tolist()
        self._own = {
            name: frozenset(range(start, end))
            for name, (start, end) in zip((REGISTRY, *network.nodes), pairwise(ends), strict=True)
        }
        self._from: dict[str, list[Feed]] = {}
        self._to: dict[str, list[Feed]] = {}
        for feed in network.feeds:
            self._from.setdefault(feed.sender, []).append(feed)
            self._to.setdefault(feed.receiver, []).append(feed)
        self._passing: dict[object, frozenset[int]] = {}
        self._known: dict[str, frozenset[int]] = self._spread()
        self._tables: dict[frozenset[int], Lookup] = {}

    def _spread(self) -> dict[str, frozenset[int]]:
        known = dict(self._own)
        self._settle(known, self.network.feeds)
        return known

    def _settle(self, known: dict[str, frozenset[int]], feeds: Sequence[Feed]) -> None:
        """Let some feeds bring what they can, until nothing is new."""
        changed = True
        while changed:
            changed = False
            for feed in feeds:
                fresh = self._brought(feed, known)
                held = known[feed.receiver]
                if not fresh <= held:
                    known[feed.receiver] = held | fresh if held else fresh
                    changed = True

    def less(self, network: Network, lost: Sequence[Feed]) -> Knowledge:
        """The same without some feeds: only nodes behind these are asked again, and nodes that
        know the same as before share its tables.

        Args:
            network: one of the same nodes, without the feeds.
            lost: the feeds that it lacks.
        """
        fewer = copy(self)
        fewer.network = network
        touched: dict[str, None] = {}
        waiting = [f.receiver for f in lost if f.up]
        while waiting:
            node = waiting.pop()
            if node not in touched:
                touched[node] = None
                if self.network.nodes[node].relays:
                    waiting += [f.receiver for f in self._from.get(node, ()) if f.up]
        gone = {id(f) for f in lost}
        fewer._from = {
            sender: [f for f in feeds if id(f) not in gone] for sender, feeds in self._from.items()
        }
        into = [f for node in touched for f in self._to.get(node, ()) if id(f) not in gone]
        fewer._to = {**self._to, **{n: [f for f in into if f.receiver == n] for n in touched}}
        fewer._known = {**self._known, **{n: self._own[n] for n in touched}}
        fewer._settle(fewer._known, into)
        return fewer

    def differing(self, other: Knowledge) -> set[str]:
        """The nodes that do not know the same as in another state of the network."""
        held = other._known
        return {n for n, known in self._known.items() if known is not held[n] and known != held[n]}

    def _brought(self, feed: Feed, known: Mapping[str, frozenset[int]]) -> frozenset[int]:
        if not feed.up:
            return frozenset()
        relays = feed.sender == REGISTRY or self.network.nodes[feed.sender].relays
        sent = known[feed.sender] if relays else self._own[feed.sender]
        if feed.prefixes is None and feed.tags is None:
            return sent
        if not relays or feed.sender == REGISTRY:  # what it sends never grows
            key = (feed.sender, feed.prefixes, feed.tags)
            if key not in self._passing:
                self._passing[key] = sent & self._filter(feed)
            return self._passing[key]
        return sent & self._filter(feed)

    def _filter(self, feed: Feed) -> frozenset[int]:
        """All bindings that ``only`` lets through; those inside a prefix are neighbours."""
        key = (feed.prefixes, feed.tags)
        if key not in self._passing:
            rows = np.arange(len(self._pool))
            if feed.prefixes is not None:
                rows = np.concatenate([np.empty(0, np.int64), *map(self._inside, feed.prefixes)])
            if feed.tags is not None:
                rows = rows[np.isin(self._pool.tags[rows], list(feed.tags))]
            self._passing[key] = frozenset(rows.tolist())
        return self._passing[key]

    def _inside(self, prefix: Prefix) -> NDArray[np.int64]:
        """All bindings whose prefix equals one or lies inside it."""
        starts, rows = self._sorted[prefix.family]
        low, high = keys(prefix.family, [prefix.start, prefix.end])
        held = rows[np.searchsorted(starts, low) : np.searchsorted(starts, high, side="right")]
        inside: NDArray[np.int64] = held[self._pool.prefixes.length[held] >= prefix.length]
        return inside

    @cached_property
    def _sorted(self) -> dict[int, tuple[Keys, NDArray[np.int64]]]:
        """Of each family the first addresses of all bindings, sorted, and whose they are."""
        prefixes, found = self._pool.prefixes, {}
        for family in FAMILIES:
            rows = np.flatnonzero(prefixes.family == family)
            starts = prefixes.take(rows).starts(family)
            order = np.argsort(starts, kind="stable")
            found[family] = starts[order], rows[order]
        return found

    @property
    def order(self) -> tuple[str, ...]:
        """The sources of bindings, the strongest first."""
        return self._order

    def feeds_from(self, sender: str) -> Sequence[Feed]:
        """The feeds of a sender."""
        return self._from.get(sender, ())

    @property
    def every(self) -> Bindings:
        """All bindings that anybody learned: the registry's and each node's own."""
        return self._pool

    def known(self, node: str) -> frozenset[Binding]:
        """All bindings that a node knows, those that lose included."""
        return frozenset(self._pool[n] for n in self._known[node])

    def at(self, node: str) -> Lookup:
        """The bindings in force at a node; nodes that know the same share one table."""
        return self._table(self._known[node])

    @property
    def nothing(self) -> Lookup:
        """The table of a node that knows nothing."""
        return self._table(frozenset())

    def _table(self, known: frozenset[int]) -> Lookup:
        if known not in self._tables:
            self._tables[known] = Lookup(self._pool.take(_rows(known)), self._order)
        return self._tables[known]

    def chain(self, binding: Binding, node: str) -> list[Feed] | None:
        """The shortest chain of feeds by which a binding comes to a node from where it was learned
        (the registry, or a node); None where it does not come."""
        return self._spreads(binding, node).get(node)

    def holders(self, binding: Binding) -> list[str]:
        """Where a binding is: where it was learned, and every node that it comes to."""
        held = self._spreads(binding)
        return [name for name in (REGISTRY, *self.network.nodes) if name in held]

    def _spreads(self, binding: Binding, until: str | None = None) -> dict[str, list[Feed]]:
        """The shortest chain to every node that a binding comes to, or to one."""
        origin = binding.node or REGISTRY
        came: dict[str, list[Feed]] = {origin: []}
        waiting = [origin]
        while waiting and until not in came:
            sender = waiting.pop(0)
            if sender not in (origin, REGISTRY) and not self.network.nodes[sender].relays:
                continue
            for feed in self._from.get(sender, ()):
                if feed.up and feed.receiver not in came and feed.passes(binding):
                    came[feed.receiver] = [*came[sender], feed]
                    waiting.append(feed.receiver)
        return came

    def brought_by(self, feed: Feed) -> Bindings:
        """What one feed brings to its receiver."""
        return self._pool.take(_rows(self._brought(feed, self._known)))


def _rows(some: frozenset[int]) -> NDArray[np.int64]:
    return np.sort(np.fromiter(some, dtype=np.int64, count=len(some)))
