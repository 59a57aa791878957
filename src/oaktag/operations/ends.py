"""Who the ends of a question are: hosts, by the word that was asked."""

from __future__ import annotations

from dataclasses import replace

from oaktag.core.addresses import may_be_a_host
from oaktag.core.placement import Host, node_hosts
from oaktag.core.question_words import End
from oaktag.operations.model import Model


def hosts_of(model: Model, end: End) -> list[Host]:
    """Who an end stands for, where they are. A node stands for its own addresses; a group also for
    nodes in it that guard themselves."""
    if end.kind == "points":
        return node_hosts(model.groups, model.network, model.registry)
    if end.kind == "endpoint":
        return [h for h in model.hosts if h.endpoint == end.endpoint]
    if end.kind == "address":
        return at_address(model, *end.address)
    if end.kind == "node":
        every = node_hosts(model.groups, model.network, model.registry, points=False)
        return [h for h in every if h.node == end.word]
    if end.kind == "segment":
        return [h for h in model.hosts if h.segment == end.word]
    if end.kind == "site":
        nodes = {n.name for n in model.network.nodes.values() if n.site == end.word}
        return [h for h in model.ends if h.node in nodes]
    return [h for h in model.ends if h.group in end.groups]


def at_address(model: Model, family: int, address: int) -> list[Host]:
    """Who is at an address: a node, endpoints, a part of a whole network, or somebody unknown."""
    nodes = node_hosts(model.groups, model.network, model.registry, points=False)
    own = [h for h in nodes if (h.family, h.address) == (family, address)]
    if own:
        return own
    found = [
        h for h in model.hosts if (h.family, h.address) == (family, address) and h.endpoint >= 0
    ]
    if found:
        return found
    segment = model.network.segment_at(family, address)
    if segment is None or not may_be_a_host(family, address):
        return []
    group = model.groups.by_tag.get(model.registry.tag(family, address), 0)
    node = model.network.segments[segment].node
    unknown = Host(-1, family, address, segment, node, group)
    sizes = {
        h: h.end - h.address for h in model.wide
        if h.family == family and h.segment == segment and h.end is not None
        and h.address <= address <= h.end
    }  # fmt: skip
    assigned = model.assignment.group
    return [
        replace(
            unknown,
            endpoint=h.endpoint,
            group=group if assigned[h.endpoint] < 0 else int(assigned[h.endpoint]),
        )
        for h, size in sizes.items()
        if size == min(sizes.values())
    ] or [unknown]
