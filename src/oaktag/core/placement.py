"""Who is where: each address on its segment, with its true group, and who meets whom.

Rules kept here (semantics, sections 6 and 8): an address stands for itself, on the segment of the
longest prefix; its true group is its endpoint's, else what the registry's look-up gives; a
segment with a default tag also stands for its unknown hosts, whose group is what the registry
gives; pins and node addresses place nobody; nobody talks to himself. An endpoint that is a whole
network is at home on the one segment whose prefix is the longest that holds all of it; narrower
segments, other endpoints and node addresses inside it are others' ground, and of the rest it stands
on each stretch that all tables treat alike. A node's own address stands at the node.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from oaktag.core.addresses import UNJUDGED, Span
from oaktag.core.assignment import Assignment
from oaktag.core.bindings import Lookup
from oaktag.core.groups import Groups
from oaktag.core.network import Network
from oaktag.core.sessions import Place


@dataclass(frozen=True, slots=True)
class Host:
    """One address of somebody: an endpoint (its row), or unknown hosts (-1).

    ``node`` is where paths to it end; ``segment`` is None for an address on no segment;
    ``group`` is its true group's index. ``end`` is the last address of an endpoint that is a
    whole network, None for all others.
    """

    endpoint: int
    family: int
    address: int
    segment: str | None
    node: str
    group: int
    own: bool = False
    end: int | None = None


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
    every = list(places)
    segments = network.segments_of([p.address for p in every])
    for place, segment in zip(every, segments, strict=True):
        address = place.address
        wide = address.end > address.start
        if wide:
            segment = network.segment_holding(address)
        if segment is None:
            nowhere.append(place)
            continue
        group = int(assignment.group[place.endpoint])
        if group < 0:
            group = groups.by_tag.get(registry.tag(address.family, address.start), 0)
        node = network.segments[segment].node
        hosts.append(
            Host(
                place.endpoint, address.family, address.start, segment, node, group,
                end=address.end if wide else None,
            )
        )  # fmt: skip
    return hosts, nowhere


def part_networks(
    network: Network, registry: Lookup, tables: Sequence[Lookup], hosts: Sequence[Host]
) -> Iterator[Host]:
    """All hosts, those that are whole networks as one address for each part that is bound alike.

    Ground of others is left out: narrower segments, other endpoints, addresses of nodes.
    """
    wide = [h for h in hosts if h.end is not None]
    if not wide:
        yield from hosts
        return
    distinct = list({id(t): t for t in (registry, *tables)}.values())
    grounds = {s.name: network.spans[s.name] for s in network.segments.values()}
    cuts = _cuts(distinct, hosts, [s for of in grounds.values() for s in of])
    taken = _taken(network, hosts)
    for host in hosts:
        if host.end is None:
            yield host
            continue
        others = [
            (h.address, h.end) for h in wide
            if h.end is not None and h.family == host.family and host.address <= h.address
            and h.end <= host.end and h.end - h.address < host.end - host.address
        ]  # fmt: skip
        others += [
            (s.start, s.end)
            for name, of in grounds.items() if name != host.segment
            for s in of if s.family == host.family
        ]  # fmt: skip
        stretches = _stretches(Span(host.family, host.address, host.end), cuts[host.family])
        free = [
            a for a in (_free(low, high, taken[host.family]) for low, high in stretches)
            if a is not None and not any(low <= a <= high for low, high in others)
        ]  # fmt: skip
        alike = zip(*(t.tags(host.family, free).tolist() for t in distinct), strict=True)
        for address in dict(zip(reversed(list(alike)), reversed(free), strict=True)).values():
            yield replace(host, address=address, end=None)


def _taken(network: Network, hosts: Sequence[Host]) -> dict[int, set[int]]:
    """Addresses of endpoints and of nodes, by family."""
    taken: dict[int, set[int]] = {4: set(), 6: set()}
    for host in hosts:
        if host.end is None:
            taken[host.family].add(host.address)
    for node in network.nodes.values():
        for prefix in node.addresses:
            taken[prefix.family].add(prefix.start)
    return taken


def _cuts(
    tables: Sequence[Lookup], hosts: Sequence[Host] = (), spans: Sequence[Span] = ()
) -> dict[int, list[int]]:
    """Where any table's bindings, any endpoint's network, any other ground, or what nobody judges
    begins or ends, by family."""
    cuts: dict[int, set[int]] = {4: set(), 6: set()}
    for table in tables:
        for number in table.winners:
            prefix = table.bindings[number].prefix
            cuts[prefix.family].update((prefix.start, prefix.end + 1))
    for host in hosts:
        if host.end is not None:
            cuts[host.family].update((host.address, host.end + 1))
    for span in (*spans, *UNJUDGED):
        cuts[span.family].update((span.start, span.end + 1))
    return {family: sorted(of) for family, of in cuts.items()}


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
    if all(s.group is None for s in network.segments.values()):
        return []
    taken = _taken(network, known)
    wide = [h for h in known if h.end is not None]
    ordered = _cuts((registry, *tables), wide)
    hosts: list[Host] = []
    for segment in network.segments.values():
        if segment.group is None:
            continue
        for span in network.spans[segment.name]:
            for start, end in _stretches(span, ordered[span.family]):
                address = _free(start, end, taken[span.family])
                if address is None or any(
                    h.family == span.family and h.address <= address <= h.end
                    for h in wide
                    if h.end is not None
                ):
                    continue
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


def node_hosts(
    groups: Groups, network: Network, registry: Lookup, *, points: bool = True
) -> list[Host]:
    """The own addresses of all nodes that have a point (the word ``points`` as an end), or of
    all nodes."""
    return [
        Host(
            -1, a.family, a.start, network.segment_of(a), node.name,
            groups.by_tag.get(registry.tag(a.family, a.start), 0), own=True,
        )
        for node in network.nodes.values()
        if node.points or not points
        for a in node.addresses
    ]  # fmt: skip


def meet(a: Host, b: Host) -> bool:
    """Whether the two are a pair: one family, two beings with two addresses.

    Unknown hosts stand for many: those of one group on one segment talk among themselves.
    """
    if a.family != b.family:
        return False
    if a.endpoint < 0 and b.endpoint < 0 and not (a.own or b.own):
        return True
    return a.address != b.address and (a.endpoint < 0 or a.endpoint != b.endpoint)
