"""The registry: which bindings there are, from endpoints, pins, nodes and segments.

Rules kept here (semantics, sections 2, 3 and 6): an endpoint whose address is stable has a
standing binding, source ``inventory``, if it is assigned; one whose address is not stable has its
binding from its session, and without one is taken to have a session at its inventory address,
learned by that segment's node if it learns sessions and absent from the registry; a node's
``group`` pins its own addresses; a segment's default tag is a binding; a pin ``at`` a node is
known to the registry not at all.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from oaktag.core.addresses import Prefix
from oaktag.core.assignment import Assignment
from oaktag.core.bindings import Binding
from oaktag.core.groups import Groups
from oaktag.core.network import Network
from oaktag.core.sessions import Place
from oaktag.located import Location


class PrefixPin(NamedTuple):
    """A binding made by hand; ``node`` places it at one node alone."""

    prefix: Prefix
    group: int
    location: Location
    since: int | None = None
    node: str | None = None


def registry_bindings(
    groups: Groups,
    assignment: Assignment,
    pins: Sequence[PrefixPin],
    network: Network,
    places: Sequence[Place],
) -> list[Binding]:
    """All bindings that the registry holds."""
    result = [
        Binding(p.prefix, groups.tag(p.group), "pinned", p.since, p.location)
        for p in pins
        if p.node is None
    ]
    for node in network.nodes.values():
        if node.group is not None:
            tag = groups.tag(node.group)
            result += [
                Binding(a, tag, "pinned", None, node.location, node.name) for a in node.addresses
            ]
    result += [_bound(groups, assignment, p) for p in _assigned(assignment, places)]
    for segment in network.segments.values():
        if segment.group is not None:
            tag = groups.tag(segment.group)
            result += [
                Binding(p, tag, "segment", None, segment.location, segment.name)
                for p in segment.prefixes
            ]
    return result


def learned_bindings(
    groups: Groups,
    assignment: Assignment,
    pins: Sequence[PrefixPin],
    network: Network,
    places: Sequence[Place],
) -> dict[str, list[Binding]]:
    """What each node learns itself: sessions, defaults of its segments, pins placed at it."""
    result: dict[str, list[Binding]] = {name: [] for name in network.nodes}
    for pin in pins:
        if pin.node is not None:
            tag = groups.tag(pin.group)
            result[pin.node].append(
                Binding(pin.prefix, tag, "pinned", pin.since, pin.location, "", pin.node)
            )
    moving = [p for p in _assigned(assignment, places, assumed=True) if p.by != "inventory"]
    segments = network.segments_of([p.address for p in moving])
    for place, segment_name in zip(moving, segments, strict=True):
        if segment_name is not None:
            node = network.segments[segment_name].node
            if "session" in network.nodes[node].learns:
                result[node].append(_bound(groups, assignment, place)._replace(node=node))
    for segment in network.segments.values():
        if segment.group is not None and "segment" in network.nodes[segment.node].learns:
            tag = groups.tag(segment.group)
            result[segment.node] += [
                Binding(p, tag, "segment", None, segment.location, segment.name, segment.node)
                for p in segment.prefixes
            ]
    return result


def _assigned(
    assignment: Assignment, places: Sequence[Place], *, assumed: bool = False
) -> Iterator[Place]:
    """Places of endpoints that are in a group; assumed ones only where asked for."""
    for place in places:
        if assignment.group[place.endpoint] >= 0 and (assumed or place.by != "assumed"):
            yield place


def _bound(groups: Groups, assignment: Assignment, place: Place) -> Binding:
    tag = groups.tag(int(assignment.group[place.endpoint]))
    source = "inventory" if place.by == "inventory" else "session"
    who = assignment.endpoints.ids[place.endpoint]
    return Binding(place.address, tag, source, place.since, place.location, who)
