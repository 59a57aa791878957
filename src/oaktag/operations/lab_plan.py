"""What a lab of a workspace is to be: everybody in it, and its network, as a plan."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple, TypeVar, get_args

from oaktag.core.abilities import EVERYTHING
from oaktag.core.addresses import WIDTH, address_text
from oaktag.core.bindings import Binding
from oaktag.core.network import REGISTRY, Feed, Link, Network, Point
from oaktag.core.placement import Host
from oaktag.dialects import DIALECTS
from oaktag.errors import UsageError
from oaktag.lab.plan import LabFeed, LabHost, LabLink, LabNode, LabPlan, LabPoint, Row
from oaktag.near import perhaps
from oaktag.operations.lists import list_of, points_of
from oaktag.operations.model import Model

BrokenKind = Literal["link", "node", "feed", "registry", "point"]
#: The dialect of the kernel, which stands for points of every dialect.
KERNEL = "nftables"
#: Of the unknown hosts of a segment, and of the parts of an endpoint that is a whole network, so
#: many have a stand-in.
MOST_STAND_INS = 4
#: Why of two endpoints of one address one alone is in the lab.
TAKEN = "its address is another's too"


class Broken(NamedTuple):
    """Something of the network that fails."""

    kind: BrokenKind
    name: str


def names_of(network: Network) -> dict[BrokenKind, list[str]]:
    """What can fail: its names as they are told apart."""
    return {
        "link": list(named(network.links)),
        "node": list(network.nodes),
        "feed": list(named([f for f in network.feeds if f.up])),
        "registry": list(dict.fromkeys(f.origin for f in network.feeds if f.sender == REGISTRY)),
        "point": [name for name, p in network.points.items() if p.mode != "off"],
    }


Joining = TypeVar("Joining", Link, Feed)


def named(things: Sequence[Joining]) -> dict[str, Joining]:
    """Links or feeds by name; of several of one name the second is called ``NAME#2``."""
    found: dict[str, Joining] = {}
    for thing in things:
        name, number = thing.name, 1
        while name in found:
            number += 1
            name = f"{thing.name}#{number}"
        found[name] = thing
    return found


def failing(model: Model, broken: Sequence[Broken]) -> Model:
    """The workspace whose network lacks some things: a lost node stays, alone.

    Raises:
        UsageError: there is no such thing.
    """
    if not broken:
        return model
    network, known = model.network, names_of(model.network)
    for kind, name in broken:
        if name not in known[kind]:
            hint = perhaps(name, known[kind])
            raise UsageError(f"there is no {kind} {name!r} that could fail{hint and f'; {hint}'}")
    lost = {kind: {b.name for b in broken if b.kind == kind} for kind in get_args(BrokenKind)}
    links = [
        k for n, k in named(network.links).items()
        if n not in lost["link"] and not {k.a, k.b} & lost["node"]
    ]  # fmt: skip
    down = {
        id(f) for n, f in named([f for f in network.feeds if f.up]).items() if n in lost["feed"]
    }
    feeds = [
        f for f in network.feeds
        if id(f) not in down and not {f.sender, f.receiver} & lost["node"]
        and not (f.sender == REGISTRY and f.origin in lost["registry"])
    ]  # fmt: skip
    nodes = [
        node._replace(
            points=tuple(
                p._replace(mode="off") if p.id in lost["point"] else p for p in node.points
            )
        )
        for node in network.nodes.values()
    ]
    fewer = network.less(links, feeds, nodes)
    return Model(model.files._replace(network=fewer), model.today, model)


# -- who is there --------------------------------------------------------------------------------


class Being(NamedTuple):
    """Somebody in the lab: what he is called, where he hangs, and his addresses."""

    name: str
    shown: str
    node: str
    hosts: tuple[Host, ...]


class Beings:
    """Everybody in the lab, and who cannot be there.

    Attributes:
        every: by name.
        guests: who is there for one question alone, by name.
        absent: hosts of the model that are not in the lab, and why.
    """

    def __init__(self, model: Model) -> None:
        self.every: dict[str, Being] = {}
        self.guests: dict[str, Being] = {}
        self.absent: dict[Host, str] = {}
        self._of: dict[Host, str] = {}
        self._ids = ids = model.files.endpoints.ids
        self._at = taken = dict[tuple[int, int], Host]()
        some: dict[tuple[object, ...], int] = {}
        held: dict[str, list[Host]] = {}
        shown: dict[str, str] = {}
        part = model.files.part
        stand_ins = part.stand_ins(model.hosts) if part is not None else set()
        own = {(a.family, a.start) for n in model.network.nodes.values() for a in n.addresses}
        for host in model.hosts:
            place = host.family, host.address
            if part is not None and host.node in part.stands_for and host not in stand_ins:
                self.absent[host] = "another of its group is there, for its side of the network"
                continue
            if place in taken or place in own:
                self.absent[host] = TAKEN
                continue
            if host.endpoint < 0 or host.end is not None:
                key = host.endpoint, host.segment, host.group, host.family
                some[key] = some.get(key, 0) + 1
                if some[key] > MOST_STAND_INS:
                    self.absent[host] = "others of its kind stand for it"
                    continue
            taken[place] = host
            text = address_text(*place)
            name = f"{ids[host.endpoint] if host.endpoint >= 0 else text}@{host.node}"
            shown[name] = ids[host.endpoint] if host.endpoint >= 0 else f"somebody at {text}"
            held.setdefault(name, []).append(host)
            self._of[host] = name
        for name, hosts in held.items():
            self.every[name] = Being(name, shown[name], hosts[0].node, tuple(hosts))

    def name_of(self, host: Host) -> str | None:
        """Who a host of the model is in the lab; a node's own address is the node's."""
        return host.node if host.own else self._of.get(host)

    def invite(self, host: Host) -> None:
        """Let a host with any address be there for one question, unless another has its address."""
        place = host.family, host.address
        known = self._at.setdefault(place, host)
        if known.endpoint != host.endpoint or self.absent.get(host) == TAKEN:
            return
        if known is not host:
            self._of[host] = self._of[known]
            return
        text = address_text(*place)
        name = f"{text}@{host.node}"
        shown = self._ids[host.endpoint] if host.endpoint >= 0 else f"somebody at {text}"
        self.guests[name] = Being(name, shown, host.node, (host,))
        self._of[host] = name


# -- the plan ------------------------------------------------------------------------------------


def plan_of(model: Model, beings: Beings) -> LabPlan:
    """The lab that the workspace describes."""
    network = model.network
    grounds: dict[str, list[str]] = {}
    for segment in network.segments.values():
        grounds.setdefault(segment.node, []).extend(str(p) for p in segment.prefixes)
    links, feeds = named(network.links), named([f for f in network.feeds if f.up])
    link_names = {id(link): name for name, link in links.items()}
    return LabPlan(
        nodes={
            node.name: LabNode(
                [str(a) for a in node.addresses], node.marks, node.carries, node.relays,
                _routes(model, node.name, link_names), [_row(b) for b in model.learned[node.name]],
                grounds.get(node.name, []),
            )
            for node in network.nodes.values()
        },
        hosts={name: lab_host(being) for name, being in beings.every.items()},
        links={n: LabLink(k.a, k.b, k.carries) for n, k in links.items()},
        feeds={n: _feed(f) for n, f in feeds.items()},
        points={p.id: _point(model, p) for p in points_of(model)},
        registry=[_row(b) for b in model.registry_bindings],
        order=list(model.files.config.binding_order),
    )  # fmt: skip


def lab_host(being: Being) -> LabHost:
    """Somebody as a host of a lab."""
    addresses = [f"{address_text(h.family, h.address)}/{WIDTH[h.family]}" for h in being.hosts]
    return LabHost(being.shown, being.node, addresses)


def _feed(feed: Feed) -> LabFeed:
    return LabFeed(
        feed.sender, feed.receiver,
        None if feed.prefixes is None else [str(p) for p in feed.prefixes],
        None if feed.tags is None else sorted(feed.tags),
    )  # fmt: skip


def _point(model: Model, point: Point) -> LabPoint:
    held = list_of(model, point)  # in the lab the kernel stands for points of every dialect
    return LabPoint(point.node, DIALECTS[KERNEL].write(held, EVERYTHING).text, sorted(held.blocks))


def _row(binding: Binding) -> Row:
    return str(binding.prefix), binding.tag, binding.source, binding.since


def _routes(model: Model, node: str, links: dict[int, str]) -> dict[str, str]:
    """Where a node sends what is for the segments and addresses of others: along least cost."""
    network = model.network
    routes: dict[str, str] = {}
    ways: dict[str, str | None] = {}
    wanted = [(s.node, p) for s in network.segments.values() for p in s.prefixes]
    wanted += [(n.name, a) for n in network.nodes.values() for a in n.addresses]
    for there, prefix in wanted:
        if there not in ways:
            path = next(model.paths.between(node, there), None)
            ways[there] = links[id(path.links[0])] if path is not None and path.links else None
        if (way := ways[there]) is not None:
            routes[str(prefix)] = way
    return routes
