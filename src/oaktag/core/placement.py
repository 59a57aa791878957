"""Who is where: each address on its segment, with its true group, and who meets whom.

Rules kept here (semantics, sections 6 and 8): an address stands for itself, on the segment of the
longest prefix; its true group is its endpoint's, else what the registry's look-up gives for that
address; a segment with a default tag also stands for its unknown hosts, whose group is what the
registry gives; pins and node addresses place nobody; nobody talks to himself. An endpoint that is a
whole network is at home on the one segment whose prefix is the longest that holds all of it;
narrower segments, other endpoints and node addresses inside it are others' ground, and of the rest
it stands on each stretch that all tables treat alike. A node's own address stands at the node.
Nobody stands on addresses that no host has, and no unknown host on ground that is at home
elsewhere. A segment or an endpoint may be all addresses; it takes nothing from those inside it.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from oaktag.core.addresses import (
    HOSTLESS,
    WIDTH,
    Keys,
    Prefix,
    Span,
    key_number,
    keys,
    may_be_a_host,
)
from oaktag.core.assignment import Assignment
from oaktag.core.bindings import FAMILIES, Lookup
from oaktag.core.columns import Columns
from oaktag.core.groups import Groups
from oaktag.core.network import Network
from oaktag.core.prefixes import Prefixes
from oaktag.core.sessions import Places

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]


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


class Hosts(Columns[Host]):
    """Hosts as columns; one of them is made when it is asked for.

    Attributes:
        endpoint: int64 [n], -1 for unknown hosts and nodes.
        first: their addresses (whole networks: the first), as prefixes; [n].
        segment, node: int64 [n], places in ``segments`` and ``nodes``; ``segment`` is -1 for none.
        group: int64 [n].
        own: bool [n].
        ends: the last addresses of those that are whole networks, by place.
    """

    def __init__(
        self,
        endpoint: Ints,
        first: Prefixes,
        segment: Ints,
        node: Ints,
        group: Ints,
        own: Flags,
        names: tuple[Sequence[str], Sequence[str]],
        ends: Mapping[int, int] | None = None,
    ) -> None:
        self.endpoint, self.first, self.segment, self.node = endpoint, first, segment, node
        self.group, self.own, self.ends = group, own, ends or {}
        self.segments, self.nodes = names

    @classmethod
    def of(
        cls, hosts: Iterable[Host], names: tuple[Sequence[str], Sequence[str]] | None = None
    ) -> Hosts:
        """The columns of some hosts; ``names`` are of all segments and nodes, where known."""
        if isinstance(hosts, Hosts):
            return hosts
        if isinstance(hosts, Some):
            return hosts.base.take(hosts.rows)
        every = list(hosts)
        segments, nodes = names or (
            list(dict.fromkeys(h.segment for h in every if h.segment is not None)),
            list(dict.fromkeys(h.node for h in every)),
        )
        places: dict[str | None, int] = {name: n for n, name in enumerate(segments)}
        at = {name: n for n, name in enumerate(nodes)}
        return cls(
            np.array([h.endpoint for h in every], dtype=np.int64),
            Prefixes.of([Prefix(h.family, h.address, WIDTH[h.family]) for h in every]),
            np.array([places.get(h.segment, -1) for h in every], dtype=np.int64),
            np.array([at[h.node] for h in every], dtype=np.int64),
            np.array([h.group for h in every], dtype=np.int64),
            np.array([h.own for h in every], dtype=np.bool_),
            (segments, nodes),
            {n: h.end for n, h in enumerate(every) if h.end is not None},
        )

    def __len__(self) -> int:
        return len(self.endpoint)

    def one(self, at: int) -> Host:
        """One of them, made."""
        segment = int(self.segment[at])
        first = self.first[at]
        return Host(
            int(self.endpoint[at]), first.family, first.start,
            None if segment < 0 else self.segments[segment], self.nodes[int(self.node[at])],
            int(self.group[at]), bool(self.own[at]), self.ends.get(int(at)) if self.ends else None,
        )  # fmt: skip

    def take(self, rows: Ints | Flags) -> Hosts:
        """Those of some rows."""
        ends: dict[int, int] = {}
        if self.ends:
            numbers = np.flatnonzero(rows) if rows.dtype == np.bool_ else rows
            ends = {n: self.ends[r] for n, r in enumerate(numbers.tolist()) if r in self.ends}
        return Hosts(
            self.endpoint[rows], self.first.take(rows), self.segment[rows], self.node[rows],
            self.group[rows], self.own[rows], (self.segments, self.nodes), ends,
        )  # fmt: skip

    def and_also(self, more: Sequence[Host]) -> Hosts:
        """These, and more of the same network after them."""
        if not more:
            return self
        other = Hosts.of(more, (self.segments, self.nodes))
        return Hosts(
            np.concatenate([self.endpoint, other.endpoint]),
            Prefixes.join([self.first, other.first]),
            np.concatenate([self.segment, other.segment]),
            np.concatenate([self.node, other.node]),
            np.concatenate([self.group, other.group]),
            np.concatenate([self.own, other.own]),
            (self.segments, self.nodes),
            {**self.ends, **{len(self) + n: end for n, end in other.ends.items()}},
        )


class Some(Columns[Host]):
    """Some of many hosts, by their places there."""

    def __init__(self, base: Hosts, rows: Ints) -> None:
        self.base, self.rows = base, rows

    def __len__(self) -> int:
        return len(self.rows)

    def one(self, at: int) -> Host:
        """One of them, made."""
        return self.base.one(int(self.rows[at]))

    def take(self, rows: Ints | Flags) -> Some:
        """Those of some rows."""
        return Some(self.base, self.rows[rows])


def together(parts: Sequence[Sequence[Host]]) -> Hosts:
    """All hosts of several lists, one after the other."""
    some = [p for p in parts if isinstance(p, Some)]
    if some and len(some) == len(parts) and all(p.base is some[0].base for p in some):
        return some[0].base.take(np.concatenate([p.rows for p in some]))
    return Hosts.of([h for p in parts for h in p])


def place_endpoints(
    groups: Groups,
    assignment: Assignment,
    network: Network,
    registry: Lookup,
    places: Places,
) -> tuple[Hosts, Places]:
    """All endpoints' addresses that are on a segment, and the places that are on none.

    A place whose address no host has is among neither.
    """
    hosted = hosted_places(places)
    places = places if hosted.all() else places.take(hosted)
    names = list(network.segments)
    place = {name: n for n, name in enumerate(names)}
    at = network.segment_numbers(places.addresses)
    wide = np.flatnonzero(places.addresses.wide)
    for row in wide.tolist():
        at[row] = place.get(network.segment_holding(places.addresses[row]) or "", -1)
    here = np.flatnonzero(at >= 0)
    group = assignment.group[places.endpoint].astype(np.int64)
    lost = here[group[here] < 0]
    if len(lost):
        tags = registry.tags_of(places.addresses.take(lost))
        group[lost] = [groups.by_tag.get(tag, 0) for tag in tags.tolist()]
    nodes = list(network.nodes)
    number = {name: n for n, name in enumerate(nodes)}
    node_of = np.array([number[s.node] for s in network.segments.values()], dtype=np.int64)
    rows = {row: n for n, row in enumerate(here.tolist())} if len(wide) else {}
    hosts = Hosts(
        places.endpoint[here], places.addresses.take(here), at[here], node_of[at[here]],
        group[here], np.zeros(len(here), dtype=np.bool_), (names, nodes),
        {rows[r]: places.addresses[r].end for r in wide.tolist() if r in rows},
    )  # fmt: skip
    return hosts, places.take(at < 0)


def hosted_places(places: Places) -> Flags:
    """Which places have an address that a host may have."""
    prefixes = places.addresses
    hosted = np.ones(len(prefixes), dtype=np.bool_)
    for family in FAMILIES:
        rows = np.flatnonzero(prefixes.family == family)
        first, last = (f(family) for f in (prefixes.take(rows).starts, prefixes.take(rows).ends))
        for span in HOSTLESS:
            if span.family == family:
                low, high = keys(family, [span.start, span.end])
                hosted[rows[(low <= first) & (last <= high)]] = False
    return hosted


def part_networks(
    groups: Groups,
    assignment: Assignment,
    network: Network,
    registry: Lookup,
    tables: Sequence[Lookup],
    hosts: Hosts,
) -> Hosts:
    """All hosts, those that are whole networks as one address for each part that is bound alike.

    Ground of others is left out: narrower segments, other endpoints, addresses of nodes, and what
    no host has.
    """
    wide = {row: hosts[row] for row in hosts.ends}
    if not wide:
        return hosts
    distinct = list({id(t): t for t in (registry, *tables)}.values())
    grounds = {s.name: network.spans[s.name] for s in network.segments.values()}
    cuts = cuts_between(distinct, list(wide.values()), [s for of in grounds.values() for s in of])
    taken, bounds = taken_addresses(network, hosts), network_bounds(network, list(wide.values()))
    parts: list[Host] = []
    whose: list[int] = []
    for row, host in wide.items():
        assert host.end is not None
        others = [
            (h.address, h.end) for h in wide.values()
            if h.end is not None and h.family == host.family and host.address <= h.address
            and h.end <= host.end and h.end - h.address < host.end - host.address
        ]  # fmt: skip
        others += [
            (s.start, s.end)
            for name, of in grounds.items() if name != host.segment
            for s in of if s.family == host.family
        ]  # fmt: skip
        stretches = stretches_of(Span(host.family, host.address, host.end), cuts[host.family])
        free = [
            a
            for a in (
                free_address(low, high, taken[host.family], bounds[host.family])
                for low, high in stretches
                if not any(first <= low and high <= last for first, last in others)
            )
            if a is not None
        ]
        alike = zip(*(t.tags(host.family, free).tolist() for t in distinct), strict=True)
        without_group = int(assignment.group[host.endpoint]) < 0
        for address in dict(zip(reversed(list(alike)), reversed(free), strict=True)).values():
            group = host.group
            if without_group:
                group = groups.by_tag.get(registry.tag(host.family, address), 0)
            parts.append(replace(host, address=address, end=None, group=group))
            whose.append(row)
    alone = np.setdiff1d(np.arange(len(hosts)), list(wide))
    order = np.argsort(np.concatenate([alone, np.array(whose, dtype=np.int64)]), kind="stable")
    return hosts.take(alone).and_also(parts).take(order)


def taken_addresses(network: Network, hosts: Hosts) -> dict[int, set[int]]:
    """Addresses of endpoints and of nodes, by family."""
    alone = np.ones(len(hosts), dtype=np.bool_)
    alone[list(hosts.ends)] = False
    taken: dict[int, set[int]] = {}
    for family in FAMILIES:
        here = hosts.first.take(alone & (hosts.first.family == family))
        taken[family] = set(_numbers(family, here.starts(family)))
    for node in network.nodes.values():
        for prefix in node.addresses:
            taken[prefix.family].add(prefix.start)
    return taken


def _numbers(family: int, some: Keys) -> list[int]:
    return some.tolist() if family == 4 else [key_number(family, key) for key in some]


def cuts_between(
    tables: Sequence[Lookup], hosts: Sequence[Host] = (), spans: Sequence[Span] = ()
) -> dict[int, list[int]]:
    """Where any table's bindings, any endpoint's network, any other ground, or addresses that no
    host has begin or end, by family."""
    cuts: dict[int, set[int]] = {4: set(), 6: set()}
    for table in tables:
        for family, held in table.tables.items():
            cuts[family].update(_numbers(family, held.starts))
            cuts[family].update(last + 1 for last in _numbers(family, held.ends))
    for host in hosts:
        if host.end is not None:
            cuts[host.family].update((host.address, host.end + 1))
    for span in (*spans, *HOSTLESS):
        cuts[span.family].update((span.start, span.end + 1))
    return {family: sorted(of) for family, of in cuts.items()}


def place_unknown(
    groups: Groups,
    network: Network,
    registry: Lookup,
    tables: Sequence[Lookup],
    known: Hosts,
    segments: Sequence[str] | None = None,
) -> list[Host]:
    """Unknown hosts of some segments, by default those with a default tag: one for each stretch
    that is bound alike.

    A stretch ends where any table of bindings changes. No unknown host is on one that known
    addresses fill, nor on the ground of a whole network that is at home on the segment.
    """
    if segments is None:
        segments = [s.name for s in network.segments.values() if s.group is not None]
    if not segments:
        return []
    wide = [known[row] for row in known.ends]
    taken, bounds = taken_addresses(network, known), network_bounds(network, wide)
    ordered = cuts_between((registry, *tables), wide)
    at_home: dict[tuple[str | None, int], list[tuple[int, int]]] = {}
    for h in wide:
        at_home.setdefault((h.segment, h.family), []).append((h.address, h.end or h.address))
    hosts: list[Host] = []
    for segment in map(network.segments.__getitem__, segments):
        for span in network.spans[segment.name]:
            others = at_home.get((segment.name, span.family), ())
            for start, end in stretches_of(span, ordered[span.family]):
                if any(low <= start and end <= high for low, high in others):
                    continue
                address = free_address(start, end, taken[span.family], bounds[span.family])
                if address is not None:
                    group = groups.by_tag.get(registry.tag(span.family, address), 0)
                    hosts.append(Host(-1, span.family, address, segment.name, segment.node, group))
    return hosts


def stretches_of(span: Span, cuts: list[int]) -> list[tuple[int, int]]:
    """The stretches between cuts on which a host may stand."""
    between = cuts[bisect_right(cuts, span.start) : bisect_right(cuts, span.end)]
    inner = [span.start, *between, span.end + 1]
    return [(a, b - 1) for a, b in pairwise(inner) if may_be_a_host(span.family, a)]


def network_bounds(network: Network, wide: Sequence[Host]) -> dict[int, set[int]]:
    """The first and the last address of every segment's and every endpoint's network, by family."""
    bounds: dict[int, set[int]] = {4: set(), 6: set()}
    for segment in network.segments.values():
        for prefix in segment.prefixes:
            bounds[prefix.family].update((prefix.start, prefix.end))
    for host in wide:
        bounds[host.family].update((host.address, host.end or host.address))
    return bounds


def free_address(start: int, end: int, taken: set[int], bounds: set[int]) -> int | None:
    """An address of a stretch that nobody known has: not its first or last one, nor a network's,
    where there is another."""
    address = start + 1
    while address < end and address in taken:
        address += 1
    if address < end:
        return address
    ends = [a for a in (start, end) if a not in taken]
    return min(ends, key=lambda a: a in bounds, default=None)


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
        if may_be_a_host(a.family, a.start)
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
