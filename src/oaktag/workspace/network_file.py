"""``network.yaml``: nodes and their points, segments, links, feeds."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar

import yaml

from oaktag.core.addresses import WIDTH
from oaktag.core.groups import PLAIN_ID, UNTAGGED, Groups
from oaktag.core.network import (
    MENDING,
    REGISTRY,
    Feed,
    Link,
    Network,
    Node,
    Point,
    Registry,
    Scope,
    Segment,
    both,
)
from oaktag.core.templates import Template
from oaktag.near import later
from oaktag.workspace.folder import Folder
from oaktag.workspace.template_file import read_template
from oaktag.workspace.textfile import Problems
from oaktag.workspace.yamlfile import NAME, YamlFile
from oaktag.workspace.yamlfile import Node as YamlNode

FILE = "network.yaml"
NODE_KEYS = (
    "node", "site", "address", "group", "carries", "marks", "learns", "relays", "point", "points",
    "can",
)  # fmt: skip
POINT_KEYS = (
    "match", "dialect", "mode", "stateful", "capacity", "from", "toward", "inside", "own", "scope",
    "outside", "if_differ", "shares_state", "limits", "template",
)  # fmt: skip
BY = ("tag", "address")
LEARNED = ("session", "segment")
LIMITS = (
    "families", "tables", "ports", "range_costs", "icmp_types", "logging", "observing", "answers",
)  # fmt: skip
NUMBERS = ("lists", "ranges", "blocks", "single", "none")
DIALECTS = ("nftables", "json", "ietf-acl", "template")


def read_network(root: Folder, groups: Groups | None, problems: Problems) -> Network:
    """The network; an empty one where there is no file."""
    if not root.has(FILE):
        return Network()
    file = YamlFile(root, FILE, problems)
    if file.root is None:
        return Network()
    keys = ("nodes", "segments", "links", "registries", "feeds", "mending")
    top = file.fields(file.root, FILE, keys)
    if top is None:
        return Network()
    return _Reader(root, file, groups, top).read()


class _Reader:
    def __init__(
        self, root: Folder, file: YamlFile, groups: Groups | None, top: dict[str, YamlNode]
    ) -> None:
        self.root, self.file = root, file
        self.templates: dict[str, Template | None] = {}
        self.groups = groups
        self.top = top
        self.nodes: dict[str, YamlNode] = {}
        self.segments: dict[str, YamlNode] = {}
        #: Who may send bindings: the registry, several of them, and all nodes.
        self.senders: dict[str, YamlNode | None] = {REGISTRY: None}
        self.registries: dict[str, Registry] = {}
        self.named: dict[str, YamlNode] = {}

    def read(self) -> Network:
        file = self.file
        items = {k: file.items(self.top.get(k), k) for k in self.top if k != "mending"}
        for kind, key, table in (
            ("node", "nodes", self.nodes),
            ("segment", "segments", self.segments),
        ):
            for item in items.get(key, []):
                for name, _, value in file.pairs(item, f"a {kind}"):
                    if name == kind:
                        self._claim(kind, value, table)
        segments = [s for i in items.get("segments", []) if (s := self.segment(i)) is not None]
        self._check_prefixes(segments)
        nodes = [n for i in items.get("nodes", []) if (n := self.node(i)) is not None]
        for item in items.get("registries", []):
            self.registry(item, nodes, segments)
        self.senders |= self.nodes | dict.fromkeys(self.registries)
        links = [k for i in items.get("links", []) if (k := self.link(i)) is not None]
        feeds = [f for i in items.get("feeds", []) if (f := self.feed(i)) is not None]
        network = Network(nodes, segments, _named_apart(links), _named_apart(feeds), checked=False)
        network.registries = self.registries
        network.templates = {n: t for n, t in self.templates.items() if t is not None}
        if "mending" in self.top:
            network.prices = self.prices(self.top["mending"], "mending", MENDING)
        return network

    def prices(
        self, item: YamlNode | None, what: str, keys: tuple[str, ...]
    ) -> tuple[tuple[str, int], ...]:
        """What could be switched on or added, each with its price, a whole number from 0."""
        if item is None:
            return ()
        fields = self.file.fields(item, what, keys) or {}
        found = ((k, self.file.number(v, f"the price of {k}", 0, 10**9)) for k, v in fields.items())
        return tuple((key, price) for key, price in found if price is not None)

    def _claim(self, kind: str, value: YamlNode, table: dict[str, YamlNode]) -> None:
        name = self.file.text(value, f"the name of a {kind}", NAME)
        if name is None:
            return
        if name == REGISTRY:
            self.file.clash(value, f"{name!r} is a word of Oak Tag's own", "another name")
        elif name in table:
            line = table[name].start_mark.line + 1
            self.file.clash(value, f"the {kind} {name!r} is there twice", f"first in line {line}")
        table.setdefault(name, value)

    def known(self, value: YamlNode | None, what: str, table: Mapping[str, object]) -> str | None:
        """A name that must be in the table."""
        name = self.file.text(value, what)
        if name is None or value is None:
            return None
        if name not in table:
            expected = later(name, table, f"a {what} of this file")
            self.file.clash(value, f"there is no {what} {name!r}", expected)
            return None
        return name

    def group(self, value: YamlNode | None, what: str) -> int | None:
        """A group by name; ``untagged`` is one."""
        if self.groups is None or value is None:
            return None
        name = self.known(value, "group", self.groups.index)
        return None if name is None else self.groups.index[name]

    def node(self, item: YamlNode) -> Node | None:
        file = self.file
        fields = file.fields(item, "a node", NODE_KEYS, ("node",))
        if fields is None:
            return None
        name = file.text(fields["node"], "node")
        if name is None:
            return None
        addresses = file.prefixes(fields.get("address"), "the address of a node")
        for address, value in addresses:
            if address.length != WIDTH[address.family]:
                file.fail(value, f"{address} is a prefix", "the node's own address")
        points = self.points(name, fields)
        learns = file.texts(fields.get("learns"), "learns")
        for word, value in learns:
            if word not in LEARNED:
                file.fail(value, f"a node learns no {word!r}", f"some of {', '.join(LEARNED)}")
        return Node(
            name=name,
            site=file.text(fields.get("site"), "site") or "",
            addresses=tuple(a for a, _ in addresses),
            group=self.group(fields.get("group"), "group"),
            carries=file.flag(fields.get("carries"), "carries", default=False),
            marks=file.flag(fields.get("marks"), "marks", default=False),
            learns=frozenset(word for word, _ in learns),
            relays=file.flag(fields.get("relays"), "relays", default=False),
            points=points,
            can=self.prices(fields.get("can"), "can", ("carry", "mark", "point")),
            location=file.place(item),
        )

    def points(self, node: str, fields: dict[str, YamlNode]) -> tuple[Point, ...]:
        """The one point of a node, or its several with names of their own."""
        file = self.file
        if "point" in fields and "points" in fields:
            file.fail(fields["points"], "a node has point or points", "one of the two")
        found: list[Point] = []
        if "point" in fields and (point := self.point(node, fields["point"], named=False)):
            found.append(point)
        for item in file.items(fields.get("points"), "points"):
            point = self.point(node, item, named=True)
            if point is not None and any(p.name == point.name for p in found):
                file.clash(item, f"{node} has two points {point.name!r}", "each name once")
            elif point is not None:
                found.append(point)
        return tuple(found)

    def point(self, node: str, item: YamlNode, *, named: bool) -> Point | None:
        file = self.file
        keys = ("name", *POINT_KEYS) if named else POINT_KEYS
        fields = file.fields(item, "a point", keys, ("name",) if named else ())
        if fields is None:
            return None
        match: dict[str, YamlNode] = {}
        if "match" in fields:
            match = file.fields(fields["match"], "match", ("source", "destination")) or {}
        given: dict[str, Any] = {
            "source_by": file.choice(match.get("source"), "source", BY),
            "destination_by": file.choice(match.get("destination"), "destination", BY),
            "dialect": file.choice(fields.get("dialect"), "dialect", DIALECTS),
            "mode": file.choice(fields.get("mode"), "mode", ("enforce", "observe", "off")),
            "capacity": file.number(fields.get("capacity"), "capacity", 1, 10**9),
            "scope": self.scope(fields.get("scope")),
            "outside": file.choice(fields.get("outside"), "outside", ("allow", "deny")),
            "if_differ": file.choice(fields.get("if_differ"), "if_differ", ("frame", "bindings")),
        }
        return Point(
            node=node,
            name=file.text(fields.get("name"), "the name of a point", NAME) or "",
            origins=self.ends(fields.get("from"), "from"),
            targets=self.ends(fields.get("toward"), "toward"),
            inside=file.flag(fields.get("inside"), "inside", default=False),
            stateful=file.flag(fields.get("stateful"), "stateful", default=True),
            own=file.flag(fields.get("own"), "own", default=False),
            shares_state=file.text(fields.get("shares_state"), "the name of a shared state", NAME)
            or "",
            limits=self.limits(fields.get("limits")),
            template=self.template(item, fields, given["dialect"]),
            location=file.place(item),
            **{key: value for key, value in given.items() if value is not None},
        )

    def template(self, item: YamlNode, fields: dict[str, YamlNode], dialect: str | None) -> str:
        """The file of a point's template."""
        name = self.file.text(fields.get("template"), "template") or ""
        if name and dialect != "template":
            self.file.clash(
                fields["template"], "only the dialect template goes by one", "dialect: template"
            )
        elif dialect == "template" and not name:
            self.file.fail(item, "the dialect template goes by a template", "template: FILE")
        elif name and name not in self.templates:
            self.templates[name] = read_template(self.root, name, self.file.problems)
        return name

    def limits(self, item: YamlNode | None) -> tuple[tuple[str, Any], ...]:
        """What a point cannot do of what its dialect can."""
        file = self.file
        if item is None:
            return ()
        fields = file.fields(item, "limits", LIMITS) or {}
        found: dict[str, Any] = {
            key: file.flag(fields.get(key), key, default=True)
            for key in ("tables", "logging", "observing", "answers")
            if key in fields
        }
        for key, words in (("ports", NUMBERS[:-1]), ("icmp_types", NUMBERS)):
            found[key] = file.choice(fields.get(key), key, words)
        found["range_costs"] = file.number(fields.get("range_costs"), "range_costs", 1, 10**6)
        if "families" in fields:
            told = file.texts(fields["families"], "families")
            for word, value in told:
                if word not in ("4", "6"):
                    file.fail(value, f"there is no family {word!r}", "4, 6, or both")
            found["families"] = frozenset(int(w) for w, _ in told if w in ("4", "6"))
            if not told:
                file.fail(fields["families"], "a point judges some family", "[4], [6] or [4, 6]")
        return tuple(sorted((k, v) for k, v in found.items() if v is not None))

    def ends(self, value: YamlNode | None, what: str) -> frozenset[str] | None:
        """Segments, or None for ``*``."""
        if value is None:
            return None
        words = self.file.texts(value, what)
        if [w for w, _ in words] == ["*"]:
            return None
        names = [self.known(n, "segment", self.segments) for _, n in words]
        if not words:
            self.file.fail(value, f"{what} names no segment", '"*", or a list of segments')
        return frozenset(n for n in names if n is not None)

    def scope(self, value: YamlNode | None) -> Scope | None:
        if value is None:
            return None
        if isinstance(value, yaml.ScalarNode):
            word = self.file.choice(value, "scope", ("all", "known"))
            return None if word is None else Scope("known" if word == "known" else "all")
        fields = self.file.fields(value, "scope", ("sources", "destinations"))
        if not fields:
            return None
        return Scope(
            "listed",
            self._groups(fields.get("sources"), "sources"),
            self._groups(fields.get("destinations"), "destinations"),
        )

    def _groups(self, value: YamlNode | None, what: str) -> frozenset[int] | None:
        if value is None or self.groups is None:
            return None
        known = {**self.groups.index, **self.groups.sets}
        found: set[int] = set()
        for word, node in self.file.texts(value, what):
            if word == "*":
                return None
            if self.known(node, "group", known) is not None:
                found.update(self.groups.members(word))
        return frozenset(found)

    def segment(self, item: YamlNode) -> Segment | None:
        file = self.file
        keys = ("segment", "node", "prefixes", "tag", "origin")
        fields = file.fields(item, "a segment", keys, keys[:3])
        if fields is None:
            return None
        name = file.text(fields["segment"], "segment")
        node = self.known(fields["node"], "node", self.nodes)
        prefixes = file.prefixes(fields["prefixes"], "prefixes")
        if not prefixes and not file.items(fields["prefixes"], "prefixes"):
            file.fail(fields["prefixes"], "a segment needs a prefix", "[10.20.1.0/24]")
        if name is None or node is None:
            return None
        group = self.group(fields.get("tag"), UNTAGGED)
        origin = file.text(fields.get("origin"), "origin", PLAIN_ID) or ""
        return Segment(name, node, tuple(p for p, _ in prefixes), group, file.place(item), origin)

    def _check_prefixes(self, segments: list[Segment]) -> None:
        first: dict[object, Segment] = {}
        for segment in segments:
            for prefix in segment.prefixes:
                other = first.setdefault(prefix, segment)
                if other is not segment:
                    self.file.problems.clash(
                        segment.location,
                        f"{segment.name} and {other.name} both have the prefix {prefix}",
                        "each prefix on one segment",
                    )

    def link(self, item: YamlNode) -> Link | None:
        file = self.file
        fields = file.fields(
            item, "a link", ("between", "name", "carries", "cost", "can"), ("between",)
        )
        if fields is None:
            return None
        ends = file.items(fields["between"], "between")
        if len(ends) != 2:
            file.fail(fields["between"], f"a link with {len(ends)} ends", "[one-node, another]")
            return None
        a, b = (self.known(n, "node", self.nodes) for n in ends)
        if a is None or b is None:
            return None
        if a == b:
            file.clash(fields["between"], f"a link from {a} to itself", "two nodes")
            return None
        cost = file.number(fields.get("cost"), "cost", 1, 10**9)
        name = file.text(fields.get("name"), "the name of a link", NAME)
        return Link(
            name or f"{a}--{b}", a, b,
            file.flag(fields.get("carries"), "carries", default=True), cost or 1, file.place(item),
            self.prices(fields.get("can"), "can", ("carry",)),
        )  # fmt: skip

    def registry(self, item: YamlNode, nodes: list[Node], segments: list[Segment]) -> None:
        """One of several registries: of some prefixes, of some sites, or of all."""
        file = self.file
        fields = file.fields(item, "a registry", ("registry", "prefixes", "sites"), ("registry",))
        if fields is None:
            return
        self._claim("registry", fields["registry"], self.nodes | self.named)
        name = file.text(fields["registry"], "the name of a registry", NAME)
        if "prefixes" in fields and "sites" in fields:
            told = "prefixes, or sites whose prefixes count"
            file.fail(fields["sites"], "a registry is of prefixes or of sites", told)
        prefixes = None
        if "prefixes" in fields:
            prefixes = tuple(p for p, _ in file.prefixes(fields["prefixes"], "prefixes"))
        elif "sites" in fields:
            known = {n.site: None for n in nodes if n.site}
            words = file.texts(fields["sites"], "a site")
            sites = {w for w, value in words if self.known(value, "site", known) is not None}
            there = {n.name for n in nodes if n.site in sites}
            prefixes = (
                *(p for s in segments if s.node in there for p in s.prefixes),
                *(a for n in nodes if n.name in there for a in n.addresses),
            )
        if name is not None:
            self.named[name] = fields["registry"]
            self.registries[name] = Registry(name, prefixes, file.place(item))

    def feed(self, item: YamlNode) -> Feed | None:
        file = self.file
        keys = ("from", "to", "name", "only", "state")
        fields = file.fields(item, "a feed", keys, ("from", "to"))
        if fields is None:
            return None
        sender = self.known(fields["from"], "node", self.senders)
        receiver = self.known(fields["to"], "node", self.nodes)
        if sender is None or receiver is None:
            return None
        name = file.text(fields.get("name"), "the name of a feed", NAME)
        only: dict[str, YamlNode] = {}
        if "only" in fields:
            only = file.fields(fields["only"], "only", ("prefixes", "groups")) or {}
        prefixes = tags = None
        if "prefixes" in only:
            prefixes = tuple(p for p, _ in file.prefixes(only["prefixes"], "prefixes"))
        if "groups" in only and self.groups is not None:
            found = self._groups(only["groups"], "groups")
            tags = None if found is None else frozenset(self.groups.tag(g) for g in found)
        state = file.choice(fields.get("state"), "state", ("up", "down"))
        registry = self.registries.get(sender)
        if registry is not None:
            prefixes = both(registry.prefixes, prefixes)
        return Feed(
            name or f"{sender}>{receiver}", sender if registry is None else REGISTRY, receiver,
            prefixes, tags, state != "down", file.place(item),
            "" if registry is None else registry.name,
        )  # fmt: skip


Named = TypeVar("Named", Link, Feed)


def _named_apart(items: list[Named]) -> list[Named]:
    """Parallel links, and feeds, without names of their own get a number behind the second and
    later."""
    seen: dict[str, int] = {}
    result: list[Named] = []
    for item in items:
        count = seen[item.name] = seen.get(item.name, 0) + 1
        result.append(item if count == 1 else item._replace(name=f"{item.name}#{count}"))
    return result
