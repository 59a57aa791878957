"""Who is where: each address on its segment, with its true group, and who meets whom.

Rules kept here (semantics, sections 6 and 8): an address stands for itself, on the segment of the
longest prefix; its true group is its endpoint's, else what the registry's look-up gives; a
segment with a default tag also stands for its unknown hosts, whose group is what the registry
gives; pins and node addresses place nobody; nobody talks to himself.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise

from oaktag.core.addresses import Span
from oaktag.core.assignment import Assignment
from oaktag.core.bindings import Lookup
from oaktag.core.groups import Groups
from oaktag.core.network import Network
from oaktag.core.sessions import Place


@dataclass(frozen=True, slots=True)
class Host:
    """One address of somebody: an endpoint (its row), or unknown hosts (-1).

    ``node`` is where paths to it end; ``segment`` is None for an address on no segment;
    ``group`` is its true group's index.
    """

    endpoint: int
    family: int
    address: int
    segment: str | None
    node: str
    group: int
    own: bool = False


def place_endpoints(
    groups: Groups,
    assignment: Assignment,
    network: Network,
    registry: Lookup,
    places: Iterable[Place],
) -> tuple[list[Host], list[Place]]:
    """All endpoints' addresses that are on a segment, and the places that are on none."""
    hosts: list[Host] = []
    nowhere: list[Place] = []
    for place in places:
        address = place.address
        segment = network.segment_of(address)
        if segment is None:
            nowhere.append(place)
            continue
        group = int(assignment.group[place.endpoint])
        if group < 0:
            group = groups.by_tag.get(registry.tag(address.family, address.start), 0)
        node = network.segments[segment].node
        hosts.append(Host(place.endpoint, address.family, address.start, segment, node, group))
    return hosts, nowhere


def place_unknown(
    groups: Groups,
    network: Network,
    registry: Lookup,
    tables: Sequence[Lookup],
    known: Sequence[Host],
) -> list[Host]:
    """Unknown hosts of segments with a default tag: one for each stretch that is bound alike.

    A stretch ends where any table of bindings changes; one that known addresses fill has nobody.
    """
    taken: dict[int, set[int]] = {4: set(), 6: set()}
    for host in known:
        taken[host.family].add(host.address)
    for node in network.nodes.values():
        for prefix in node.addresses:
            taken[prefix.family].add(prefix.start)
    cuts: dict[int, set[int]] = {4: set(), 6: set()}
    for table in (registry, *tables):
        for number in table.winners:
            prefix = table.bindings[number].prefix
            cuts[prefix.family].update((prefix.start, prefix.end + 1))
    ordered = {family: sorted(of) for family, of in cuts.items()}
    hosts: list[Host] = []
    for segment in network.segments.values():
        if segment.group is None:
            continue
        for span in network.spans[segment.name]:
            for start, end in _stretches(span, ordered[span.family]):
                address = _free(start, end, taken[span.family])
                if address is not None:
                    tag = registry.tag(span.family, address)
                    group = groups.by_tag.get(tag, 0)
                    hosts.append(Host(-1, span.family, address, segment.name, segment.node, group))
    return hosts


def _stretches(span: Span, cuts: list[int]) -> list[tuple[int, int]]:
    inner = [span.start, *(c for c in cuts if span.start < c <= span.end), span.end + 1]
    return [(a, b - 1) for a, b in pairwise(inner)]


def _free(start: int, end: int, taken: set[int]) -> int | None:
    address = start
    while address <= end and address in taken:
        address += 1
    return address if address <= end else None


def node_hosts(groups: Groups, network: Network, registry: Lookup) -> list[Host]:
    """The own addresses of all nodes that have a point: the word ``points`` as an end."""
    return [
        Host(
            -1, a.family, a.start, network.segment_of(a), node.name,
            groups.by_tag.get(registry.tag(a.family, a.start), 0), own=True,
        )
        for node in network.nodes.values()
        if node.points
        for a in node.addresses
    ]  # fmt: skip


def meet(a: Host, b: Host, network: Network) -> bool:
    """Whether the two are a pair: one family, two endpoints with two addresses.

    Unknown hosts of one segment pair with those of their own group only where that group is the
    segment's default.
    """
    if a.family != b.family:
        return False
    if a.segment == b.segment and a.group == b.group and -1 in (a.endpoint, b.endpoint):
        segment = None if a.segment is None else network.segments[a.segment]
        if not (a.own or b.own):
            return segment is not None and segment.group == a.group
    if a.endpoint == b.endpoint and a.endpoint >= 0:
        return False
    return a.address != b.address
