"""The registry: which bindings there are, from endpoints, pins, nodes and segments.

Rules kept here (semantics, sections 2, 3 and 6): an endpoint whose address is stable has a
standing binding, source ``inventory``, if it is assigned; one whose address is not stable has its
binding from its session, and without one is taken to have a session at its inventory address,
learned by that segment's node if it learns sessions and absent from the registry; a node's
``group`` pins its own addresses; a segment's default tag is a binding; a pin ``at`` a node is
known to the registry not at all.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from oaktag.core.addresses import Prefix
from oaktag.core.arrays import np
from oaktag.core.assignment import Assignment
from oaktag.core.bindings import BINDING_SOURCES, Binding, Bindings
from oaktag.core.groups import Groups
from oaktag.core.network import Network, Segment
from oaktag.core.sessions import ASSUMED, BY, INVENTORY, Places
from oaktag.located import Location


class PrefixPin(NamedTuple):
    """A binding that the files name; ``node`` places it at one node alone. One of another domain
    has ``source`` ``adopted``, and is ``who``'s."""

    prefix: Prefix
    group: int
    location: Location
    since: int | None = None
    node: str | None = None
    source: str = "pinned"
    who: str = ""


def registry_bindings(
    groups: Groups,
    assignment: Assignment,
    pins: Sequence[PrefixPin],
    network: Network,
    places: Places,
) -> Bindings:
    """All bindings that the registry holds."""
    told = [
        Binding(p.prefix, groups.tag(p.group), p.source, p.since, p.location, p.who)
        for p in pins
        if p.node is None
    ]
    for node in network.nodes.values():
        if node.group is not None:
            tag = groups.tag(node.group)
            told += [
                Binding(a, tag, "pinned", None, node.location, node.name) for a in node.addresses
            ]
    for segment in network.segments.values():
        if segment.group is not None:
            told += _defaults(groups, segment)
    known = np.flatnonzero((places.by != ASSUMED) & (assignment.group[places.endpoint] >= 0))
    return Bindings.join([Bindings.of(told), _bound(groups, assignment, places.take(known))])


def learned_bindings(
    groups: Groups,
    assignment: Assignment,
    pins: Sequence[PrefixPin],
    network: Network,
    places: Places,
) -> dict[str, Bindings]:
    """What each node learns itself: sessions, defaults of its segments, pins placed at it."""
    told: dict[str, list[Binding]] = {name: [] for name in network.nodes}
    for pin in pins:
        if pin.node is not None:
            tag = groups.tag(pin.group)
            told[pin.node].append(
                Binding(pin.prefix, tag, "pinned", pin.since, pin.location, "", pin.node)
            )
    for segment in network.segments.values():
        if segment.group is not None and "segment" in network.nodes[segment.node].learns:
            told[segment.node] += _defaults(groups, segment, segment.node)
    moving = places.take((places.by != INVENTORY) & (assignment.group[places.endpoint] >= 0))
    held = network.segment_numbers(moving.addresses)
    nodes = list(network.nodes)
    number = {name: n for n, name in enumerate(nodes)}
    learns = [
        number[s.node] if "session" in network.nodes[s.node].learns else -1
        for s in network.segments.values()
    ]
    at = np.array([*learns, -1], dtype=np.int64)[held]
    result = {name: Bindings.of(of) for name, of in told.items()}
    for n in np.unique(at[at >= 0]).tolist():
        mine = _bound(groups, assignment, moving.take(at == n), nodes[n])
        result[nodes[n]] = Bindings.join([result[nodes[n]], mine])
    return result


def _defaults(groups: Groups, segment: Segment, node: str | None = None) -> list[Binding]:
    """The default tag of a segment, as the registry or a node has it."""
    tag = groups.tag(segment.group or 0)
    return [
        Binding(p, tag, "segment", None, segment.location, segment.name, node)
        for p in segment.prefixes
    ]


def _bound(
    groups: Groups, assignment: Assignment, places: Places, node: str | None = None
) -> Bindings:
    """The bindings of some places, all of endpoints that are in a group."""
    tag_of = np.array([groups.tag(g) for g in range(len(groups))], dtype=np.int64)
    tags = tag_of[assignment.group[places.endpoint]]
    sources = [BINDING_SOURCES.index("inventory" if by == "inventory" else "session") for by in BY]

    def one(row: int) -> Binding:
        place = places[row]
        source = BINDING_SOURCES[sources[places.by[row]]]
        who = assignment.endpoints.ids[place.endpoint]
        return Binding(
            place.address, int(tags[row]), source, place.since, place.location, who, node
        )

    return Bindings(
        places.addresses, tags, np.array(sources, dtype=np.uint8)[places.by], places.since, [one],
        np.zeros(len(places), dtype=np.int32), np.arange(len(places)),
    )  # fmt: skip
