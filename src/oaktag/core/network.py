"""Nodes, segments, links, feeds and points: the network as it was written down.

Rules kept here (semantics, sections 5 and 6): defaults of what nodes, links and points do; which
segment an address is on (the longest prefix); which packets a point judges.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from copy import copy
from functools import cached_property
from typing import Any, Literal, NamedTuple

from oaktag.core.addresses import Prefix, Span, key_number
from oaktag.core.arrays import NDArray, np
from oaktag.core.bindings import Binding, Lookup
from oaktag.core.lines import Action, Mode
from oaktag.core.prefixes import Prefixes
from oaktag.core.templates import Template
from oaktag.errors import UsageError
from oaktag.located import Location

REGISTRY = "registry"
FAMILIES = frozenset({4, 6})
#: What can be added or widened anywhere.
MENDING = ("feed", "scope", "direction", "inside")


class Scope(NamedTuple):
    """Which cells a point's list holds: all, what it needs, or these groups (None: every)."""

    kind: Literal["all", "known", "listed"] = "all"
    sources: frozenset[int] | None = None
    destinations: frozenset[int] | None = None


class Point(NamedTuple):
    """An enforcement point of a node. ``origins`` and ``targets`` name segments; None is ``*``;
    points of one ``shares_state`` know each other's flows."""

    node: str
    name: str = ""
    source_by: Literal["tag", "address"] = "tag"
    destination_by: Literal["tag", "address"] = "tag"
    dialect: str = "nftables"
    mode: Mode = "enforce"
    stateful: bool = True
    capacity: int | None = None
    origins: frozenset[str] | None = None
    targets: frozenset[str] | None = None
    inside: bool = False
    own: bool = False
    scope: Scope = Scope()
    outside: Action = "allow"
    if_differ: Literal["frame", "bindings"] = "frame"
    shares_state: str = ""
    #: What it cannot do of what its dialect can: fields of ``Abilities``, with their values.
    limits: tuple[tuple[str, Any], ...] = ()
    #: The file of its template, where its dialect goes by one.
    template: str = ""
    location: Location = Location("network.yaml")

    @property
    def id(self) -> str:
        """The node's name, with the point's own where it has one."""
        return f"{self.node}.{self.name}" if self.name else self.node

    @property
    def families(self) -> frozenset[int]:
        """The families of addresses that it judges; packets of another pass."""
        held: frozenset[int] = dict(self.limits).get("families", FAMILIES)
        return held

    @property
    def by_frame(self) -> bool:
        """Whether the tag in the frame counts first for it."""
        return self.source_by != "address" and self.if_differ == "frame"

    @property
    def needed(self) -> Point | None:
        """The point with those cells alone that are known to it, where it holds all."""
        return self._replace(scope=Scope("known")) if self.scope.kind == "all" else None

    def widened(self, kind: str) -> Point:
        """The point, judging more: its ``scope``, its ``direction``, or ``inside``."""
        if kind == "scope":
            return self._replace(scope=Scope())
        if kind == "direction":
            return self._replace(origins=None, targets=None)
        return self._replace(inside=True)


class Node(NamedTuple):
    """A switch, router, firewall, access point or host in the path."""

    name: str
    site: str = ""
    addresses: tuple[Prefix, ...] = ()
    group: int | None = None
    carries: bool = False
    marks: bool = False
    learns: frozenset[str] = frozenset()
    relays: bool = False
    can: tuple[tuple[str, int], ...] = ()
    points: tuple[Point, ...] = ()
    location: Location = Location("network.yaml")


class Segment(NamedTuple):
    """A subnet attached to a node; ``group`` is its default tag's group, None without one;
    ``origin`` is the other domain whose addresses they are, "" where they are ours."""

    name: str
    node: str
    prefixes: tuple[Prefix, ...]
    group: int | None = None
    location: Location = Location("network.yaml")
    origin: str = ""


class Link(NamedTuple):
    """Two nodes joined."""

    name: str
    a: str
    b: str
    carries: bool = True
    cost: int = 1
    location: Location = Location("network.yaml")
    can: tuple[tuple[str, int], ...] = ()


class Registry(NamedTuple):
    """One of several registries: it holds the bindings that equal one of its prefixes or lie inside
    one; None for all."""

    name: str
    prefixes: tuple[Prefix, ...] | None = None
    location: Location = Location("network.yaml")

    def holds(self, prefix: Prefix) -> bool:
        """Whether it holds a binding of a prefix."""
        return self.prefixes is None or any(p.holds(prefix) for p in self.prefixes)


class Feed(NamedTuple):
    """A directed connection over which bindings travel. What comes from one of several registries
    has ``REGISTRY`` for its sender, and its prefixes are those that this one holds and ``only``
    lets through; ``registry`` is which."""

    name: str
    sender: str
    receiver: str
    prefixes: tuple[Prefix, ...] | None = None
    tags: frozenset[int] | None = None
    up: bool = True
    location: Location = Location("network.yaml")
    registry: str = ""

    @property
    def origin(self) -> str:
        """Who sends, by its name: a node, the registry, or one of several."""
        return self.registry or self.sender

    def passes(self, binding: Binding) -> bool:
        """Whether ``only`` lets the binding through."""
        if self.tags is not None and binding.tag not in self.tags:
            return False
        return self.prefixes is None or any(p.holds(binding.prefix) for p in self.prefixes)


def _check(
    nodes: Sequence[Node], segments: Sequence[Segment], links: Sequence[Link], feeds: Sequence[Feed]
) -> None:
    names = {n.name for n in nodes}
    wrong = [f"the node {n!r} is there twice" for n in _twice(node.name for node in nodes)]
    wrong += [f"the segment {n!r} is there twice" for n in _twice(s.name for s in segments)]
    wrong += [
        f"the segment {s.name} is at {s.node!r}, which is no node"
        for s in segments
        if s.node not in names
    ]
    wrong += [
        f"the link {link.name} joins {end!r}, which is no node"
        for link in links
        for end in (link.a, link.b)
        if end not in names
    ]
    for feed in feeds:
        ends = ((feed.sender, {*names, REGISTRY}), (feed.receiver, names))
        wrong += [
            f"the feed {feed.name} names {end!r}, which is no node"
            for end, known in ends
            if end not in known
        ]
    inside = {s.name for s in segments}
    wrong += [
        f"the point {point.id} names the segment {word!r}, and there is none"
        for node in nodes
        for point in node.points
        for word in sorted((point.origins or frozenset()) | (point.targets or frozenset()))
        if word not in inside
    ]
    if wrong:
        raise UsageError("; ".join(wrong))


def _twice(names: Iterable[str]) -> list[str]:
    return [name for name, often in Counter(names).items() if often > 1]


class Network:
    """The whole network; names are unique and all that is named exists.

    Args:
        nodes, segments, links, feeds: what there is.
        checked: whether names are looked at here; a reader of files has said already what is wrong.

    Raises:
        UsageError: two nodes or segments of one name, or a segment, link or feed at no node.
    """

    def __init__(
        self,
        nodes: Sequence[Node] = (),
        segments: Sequence[Segment] = (),
        links: Sequence[Link] = (),
        feeds: Sequence[Feed] = (),
        *,
        checked: bool = True,
    ) -> None:
        if checked:
            _check(nodes, segments, links, feeds)
        self.nodes = {n.name: n for n in nodes}
        self.segments = {s.name: s for s in segments}
        self.links = tuple(links)
        self.feeds = tuple(feeds)
        #: What can be added or widened anywhere, and at what price.
        self.prices: tuple[tuple[str, int], ...] = tuple((k, 1) for k in MENDING)
        self.points = {p.id: p for n in nodes for p in n.points}
        #: Registries besides the one that holds all, by their names.
        self.registries: Mapping[str, Registry] = {}
        #: Forms of lists of the engineer's own, by their files.
        self.templates: Mapping[str, Template] = {}

    def less(
        self, links: Sequence[Link], feeds: Sequence[Feed], nodes: Sequence[Node] | None = None
    ) -> Network:
        """The same nodes and segments with only some of the links and feeds; or other nodes."""
        fewer = copy(self)
        fewer.links, fewer.feeds = tuple(links), tuple(feeds)
        if nodes is not None:
            fewer.nodes = {n.name: n for n in nodes}
            fewer.points = {p.id: p for n in nodes for p in n.points}
        return fewer

    @cached_property
    def _on_segments(self) -> tuple[Lookup, list[str]]:
        names = list(self.segments)
        bindings = [
            Binding(prefix, number, "segment")
            for number, segment in enumerate(self.segments.values())
            for prefix in segment.prefixes
        ]
        return Lookup(bindings), names

    def segment_of(self, prefix: Prefix) -> str | None:
        """The segment on which an address (or the first of a prefix) is: longest prefix."""
        return self.segment_at(prefix.family, prefix.start)

    def segment_at(self, family: int, address: int) -> str | None:
        """The segment on which an address is."""
        lookup, names = self._on_segments
        found = int(lookup.find(family, [address])[0])
        return names[lookup.bindings[found].tag] if found >= 0 else None

    def segment_holding(self, prefix: Prefix) -> str | None:
        """The segment whose prefix is the longest that holds all of a prefix."""
        holding = [
            (p.length, s.name)
            for s in self.segments.values()
            for p in s.prefixes
            if p.holds(prefix)
        ]
        return max(holding, key=lambda h: h[0])[1] if holding else None

    def segment_numbers(self, prefixes: Prefixes) -> NDArray[np.int64]:
        """The segment of each of many addresses (of a prefix: of its first), as its place among the
        segments; -1 for none. Shape [n]."""
        lookup, _ = self._on_segments
        found = np.full(len(prefixes), -1, dtype=np.int64)
        for family in lookup.tables:
            here = np.flatnonzero(prefixes.family == family)
            held = lookup.tables[family].find(prefixes.take(here).starts(family))
            found[here[held >= 0]] = lookup.bindings.tags[held[held >= 0]]
        return found

    @cached_property
    def spans(self) -> dict[str, list[Span]]:
        """The addresses of each segment, less those of longer prefixes of other segments."""
        lookup, names = self._on_segments
        result: dict[str, list[Span]] = {name: [] for name in names}
        for family, table in lookup.tables.items():
            for start, end, tag in zip(table.starts, table.ends, table.tags.tolist(), strict=True):
                mine = result[names[tag]]
                first, last = key_number(family, start), key_number(family, end)
                if mine and mine[-1].family == family and mine[-1].end + 1 == first:
                    mine[-1] = Span(family, mine[-1].start, last)
                else:
                    mine.append(Span(family, first, last))
        return result

    def spans_of(self, names: frozenset[str] | None) -> tuple[Span, ...] | None:
        """The addresses of some segments, sorted; None for ``*``."""
        if names is None:
            return None
        return tuple(sorted(s for name in names for s in self.spans[name]))

    @cached_property
    def inside_pairs(self) -> tuple[tuple[Span, Span], ...]:
        """Pairs of spans between which traffic stays inside one segment."""
        return tuple(
            (a, b)
            for name in sorted(self.segments)
            for a in self.spans[name]
            for b in self.spans[name]
            if a.family == b.family
        )

    @cached_property
    def inside_by_target(self) -> tuple[list[tuple[int, int]], list[tuple[Span, list[int]]]]:
        """The same by the span of the destination, sorted: the family and the first address of
        each, and which pairs have it."""
        found: dict[Span, list[int]] = {}
        for number, pair in enumerate(self.inside_pairs):
            found.setdefault(pair[1], []).append(number)
        return [(s.family, s.start) for s in sorted(found)], sorted(found.items())


def both(
    one: tuple[Prefix, ...] | None, other: tuple[Prefix, ...] | None
) -> tuple[Prefix, ...] | None:
    """Prefixes in one of which just that lies which lies in one of each of two lists; None for
    all."""
    if one is None or other is None:
        return other if one is None else one
    found = (b if a.holds(b) else a for a in one for b in other if a.holds(b) or b.holds(a))
    return tuple(dict.fromkeys(found))


def turn_of(point: Point, network: Network) -> int:
    """Of the points of a node that do not go by the frame first, which it is, from 1; 0 for one
    that does."""
    keep = [p.id for p in network.nodes[point.node].points if not p.by_frame]
    return keep.index(point.id) + 1 if point.id in keep else 0


def own_addresses(point: Point, network: Network) -> tuple[Span, ...]:
    """The addresses of a point's node that it judges traffic to and from, sorted."""
    addresses = network.nodes[point.node].addresses if point.own else ()
    return tuple(
        sorted(Span(a.family, a.start, a.end) for a in addresses if a.family in point.families)
    )
