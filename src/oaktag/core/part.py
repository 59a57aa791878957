"""A part of a network, with what surrounds it folded to one node each side.

A part is closed: nodes on least-cost paths between its own belong to it, so that those paths are
the ones of the whole network. What is left falls into sides, each joined within itself. A side of
one node stays as it is. Of a larger one the node with the most hosts stands for all: links out of
the part lead to it at the cost of the least-cost way there, so that no path between nodes of the
part is drawn outside; all segments of the side hang on it; it marks frames of those whose tags
would come as far as the part, and its feeds bring what those of the side bring. Points of the part
hold the cells that they hold in the whole network; those of the sides are left out.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Collection, Iterator, Mapping, Sequence
from itertools import islice
from typing import NamedTuple

import numpy as np

from oaktag.core.addresses import prefixes_of
from oaktag.core.bindings import Binding, Bindings, Lookup
from oaktag.core.model import Given, Model
from oaktag.core.network import Feed, Link, Network, Node, Point, Scope
from oaktag.core.paths import MOST_PATHS
from oaktag.core.placement import Host, Hosts, cuts_between
from oaktag.core.registry import PrefixPin


class Part(NamedTuple):
    """A part of a network.

    Attributes:
        network: its nodes, and one for each side.
        stands_for: of each side the node that stands for it → all its nodes.
        besides: what those that stand for sides know.
        pins: what nodes that are not there have bound, for the registry.
        left_out: the ids of points that are not there.
        near: the segments that hang on the same node in the whole network.
    """

    network: Network
    stands_for: Mapping[str, tuple[str, ...]]
    besides: Mapping[str, Bindings]
    pins: tuple[PrefixPin, ...]
    left_out: tuple[str, ...]
    near: frozenset[str]

    def stand_ins(self, hosts: Hosts) -> set[Host]:
        """Who is there of a side: one of each group and family, near ones before others."""
        found: dict[tuple[str, int, int], Host] = {}
        there = np.isin(hosts.node, [n for n, x in enumerate(hosts.nodes) if x in self.stands_for])
        for row in np.flatnonzero(there).tolist():
            host = hosts[row]
            key = host.node, host.group, host.family
            if key not in found or (self._rank(host) < self._rank(found[key])):
                found[key] = host
        return set(found.values())

    def _rank(self, host: Host) -> tuple[bool, bool]:
        return host.segment not in self.near, host.endpoint < 0

    def given(self, given: Given) -> Given:
        """What a workspace says whose network is this part."""
        there = {None, *given.network.nodes}
        return given._replace(
            besides=self.besides,
            prefix_pins=[*(p for p in given.prefix_pins if p.node in there), *self.pins],
        )


def part_of(model: Model, names: Collection[str]) -> Part:
    """The part of a workspace's network that some nodes make.

    Args:
        model: the workspace.
        names: nodes of it; those between them belong to the part as well.
    """
    whole = model.network
    inner = _closed(model, names)
    sides = list(_sides(whole, inner))
    inner |= {side[0] for side in sides if len(side) == 1}
    counted = np.bincount(model.hosts.node, minlength=len(whole.nodes))
    number = model.paths.number
    stands_for = {
        max(side, key=lambda n: (counted[number[n]], -number[n])): side
        for side in sides
        if len(side) > 1
    }
    of = {node: heart for heart, side in stands_for.items() for node in side}
    crossing = [f for f in whole.feeds if f.receiver in inner and f.sender in of]
    brought = {id(f): model.knowledge.brought_by(f) for f in crossing}
    feeds = [
        _narrowed(f, of[f.sender], brought[id(f)]) if f.sender in of else f
        for f in whole.feeds
        if f.receiver in inner
    ]
    besides = {
        heart: Bindings.of(
            b._replace(node=heart)
            for b in dict.fromkeys(
                b for f in crossing if of[f.sender] == heart for b in brought[id(f)]
            )
        )
        for heart in stands_for
    }
    nodes = [
        _kept(model, node) if node.name in inner else _heart(whole, node, stands_for[node.name])
        for node in whole.nodes.values()
        if node.name in inner or node.name in stands_for
    ]
    segments = [s._replace(node=of.get(s.node, s.node)) for s in whole.segments.values()]
    network = Network(nodes, segments, list(_links(model, inner, of)), feeds, checked=False)
    network.prices = whole.prices
    pins = tuple(
        PrefixPin(a, node.group, node.location)
        for node in whole.nodes.values()
        if node.name in of and node.group is not None
        for a in node.addresses
    )
    part = Part(
        network, stands_for, besides, pins,
        tuple(p for p, point in whole.points.items() if point.node not in inner),
        frozenset(s.name for s in whole.segments.values() if s.node in stands_for),
    )  # fmt: skip
    return _marking(model, part)


def _closed(model: Model, names: Collection[str]) -> set[str]:
    """Nodes, and all on least-cost paths between any two of them."""
    every = list(model.network.nodes)
    inner, done = set(names), set[str]()
    while fresh := inner - done:
        done |= fresh
        targets = [n for n in every if n in inner]
        model.paths.prepare(targets)
        inner |= {n for n in every if n not in inner
                  and any(model.paths.crossed(n, targets, targets))}  # fmt: skip
    return inner


def _sides(network: Network, inner: Collection[str]) -> Iterator[tuple[str, ...]]:
    """What is left without some nodes, each piece that is joined within itself."""
    joined: dict[str, list[str]] = {n: [] for n in network.nodes if n not in inner}
    for link in network.links:
        if link.a in joined and link.b in joined:
            joined[link.a].append(link.b)
            joined[link.b].append(link.a)
    seen: set[str] = set()
    for first in joined:
        if first not in seen:
            side = {first}
            waiting = [first]
            while waiting:
                fresh = set(joined[waiting.pop()]) - side
                side |= fresh
                waiting += fresh
            seen |= side
            yield tuple(n for n in joined if n in side)


def _kept(model: Model, node: Node) -> Node:
    """A node of the part, with points that hold the cells that they hold in the whole."""

    def held(point: Point) -> Point:
        sources, destinations = map(frozenset, model.scope(point))
        listed = Scope("listed", sources, destinations)
        return point._replace(scope=listed) if point.scope.kind == "known" else point

    return node._replace(points=tuple(map(held, node.points)))


def _heart(network: Network, node: Node, side: Sequence[str]) -> Node:
    """What stands for a side: the addresses of all its nodes are here, so that nobody else has
    them; ``pins`` binds them."""
    nodes = [network.nodes[n] for n in side]
    return node._replace(
        addresses=tuple(a for n in nodes for a in n.addresses), group=None,
        carries=all(n.carries for n in nodes), marks=False, learns=frozenset(), relays=False,
        can=(), points=(),
    )  # fmt: skip


def _links(model: Model, inner: Collection[str], of: Mapping[str, str]) -> Iterator[Link]:
    """Links of the part, and those out of it, to what stands for the side."""
    for link in model.network.links:
        outer = [end for end in (link.a, link.b) if end in of]
        if not outer:
            yield link
        elif len(outer) == 1:
            # Within a side all is joined, but the least-cost way may lead through the part: then
            # it is longer than that of another link, and it is right that this one is not taken.
            heart = of[outer[0]]
            onward = int(model.paths.costs(outer[0])[model.paths.number[heart]])
            ends = [of.get(end, end) for end in (link.a, link.b)]
            yield link._replace(a=ends[0], b=ends[1], cost=link.cost + onward, can=())


def _narrowed(feed: Feed, heart: str, brought: Bindings) -> Feed:
    """A feed that brings from the side what it brings in the whole."""
    some = list(brought)
    return feed._replace(
        sender=heart, prefixes=tuple(dict.fromkeys(b.prefix for b in some)),
        tags=frozenset(b.tag for b in some),
    )  # fmt: skip


def _marking(model: Model, part: Part) -> Part:
    """Let those stand for sides mark the frames that come tagged as far as the part."""
    order = model.given.binding_order
    there = Model(part.given(model.given._replace(network=part.network)), model)
    more: dict[str, list[Binding]] = {heart: [] for heart in part.stands_for}
    marking: set[str] = set()
    ways: dict[tuple[str, str], bool] = {}
    wide = [there.known_hosts[row] for row in there.known_hosts.ends]
    stretched = {h.endpoint for h in wide} | {-1}
    grounds = [s for of in there.network.spans.values() for s in of]
    cuts = cuts_between((there.registry, *there.tables()), wide, grounds)
    hosts = sorted(part.stand_ins(there.hosts), key=lambda h: (h.node, h.family, h.address))
    for host in sorted(hosts, key=lambda h: h.endpoint not in stretched):
        entry = model.network.segments[host.segment].node if host.segment else host.node
        way = host.node, entry
        if way not in ways:
            ways[way] = _comes(model, part, *way)
        tag = model.knowledge.at(entry).tag(host.family, host.address) if ways[way] else 0
        if tag:
            marking.add(host.node)
        held = Lookup(Bindings.join([part.besides[host.node], Bindings.of(more[host.node])]), order)
        if tag == held.tag(host.family, host.address):
            continue
        first = last = host.address
        if host.endpoint in stretched:  # it stands for all of a stretch, which stays whole
            at = bisect_right(cuts[host.family], host.address)
            first, last = cuts[host.family][at - 1], cuts[host.family][at] - 1
        more[host.node] += [
            Binding(prefix, tag, order[0], node=host.node)
            for prefix in prefixes_of(host.family, first, last)
        ]
    nodes = [
        n._replace(marks=True) if n.name in marking else n for n in part.network.nodes.values()
    ]
    besides = {
        heart: Bindings.join([held, Bindings.of(more[heart] if heart in marking else ())])
        for heart, held in part.besides.items()
    }
    network = part.network.less(part.network.links, part.network.feeds, nodes)
    return part._replace(network=network, besides=besides)


def _comes(model: Model, part: Part, heart: str, entry: str) -> bool:
    """Whether a frame's tag comes from a node of a side, unharmed, as far as the part."""
    nodes = model.network.nodes
    if not nodes[entry].marks:
        return False
    side = set(part.stands_for[heart])
    targets = {n for k in model.network.links for n, other in ((k.a, k.b), (k.b, k.a))
               if other in side and n not in side}  # fmt: skip
    for target in sorted(targets):
        for path in islice(model.paths.between(entry, target), MOST_PATHS):
            out = next(n for n, name in enumerate(path.nodes) if name not in side)
            between = path.nodes[1:out]
            if not all(nodes[n].carries for n in between):
                return False
            if not all(link.carries for link in path.links[: out - 1]):
                return False
    return True


def differing(model: Model, there: Model) -> dict[str, int]:
    """Nodes of a part that know otherwise than in the whole network: of how many of the
    bindings in force there or here."""
    found: dict[str, int] = {}
    for name in there.network.nodes:
        if name not in there.given.besides:
            held = [_in_force(m.knowledge.at(name)) for m in (model, there)]
            if held[0] != held[1]:
                found[name] = len(held[0] ^ held[1])
    return found


def _in_force(table: Lookup) -> frozenset[tuple[str, int]]:
    return frozenset((str(b.prefix), b.tag) for b in table.in_force)
