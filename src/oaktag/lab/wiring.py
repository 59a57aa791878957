"""The things of a plan as namespaces, wires, addresses and routes, and what they are called there.

Hosts hang each on a wire of their own behind their node, so that traffic inside a segment passes
the node too. A link that carries tags is a VXLAN tunnel with the group extension
(draft-smith-vxlan-group-policy): the packet mark's low 16 bits cross it. A link that does not is
a plain wire, and marks end there. All that the lab itself needs of addresses is link-local, which
no point judges (RFC 3927; RFC 4291, section 2.5.6).
"""

from __future__ import annotations

from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

from oaktag.lab.namespaces import inside, run, settings
from oaktag.lab.plan import REGISTRY, LabHost, LabLink

GATEWAY4, GATEWAY6 = "169.254.1.1", "fe80::1"
#: A node: its name among feeds begins here, its links' tunnels there.
FEED_NET, TUNNEL_NET = 0xA9FE2000, 0xA9FE4000
FEED_BITS, TUNNELS = 19, 0x3000

NODE_SETTINGS = {
    "ipv4/ip_forward": "1",
    "ipv4/conf/all/rp_filter": "0",
    "ipv4/conf/default/rp_filter": "0",
    "ipv4/icmp_ratelimit": "0",
    "ipv4/icmp_msgs_per_sec": "100000",
    "ipv4/icmp_msgs_burst": "100000",
    "ipv6/icmp/ratelimit": "0",
    "ipv4/ping_group_range": "0 0",
    "ipv6/conf/all/forwarding": "1",
    "ipv6/conf/all/accept_dad": "0",
    "ipv6/conf/default/accept_dad": "0",
}
HOST_SETTINGS = {"ipv4/ping_group_range": "0 0", "ipv6/icmp/ratelimit": "0"}


class Numbers:
    """Numbers for the things of one kind, by name: the lowest that is free."""

    def __init__(self) -> None:
        self._of: dict[str, int] = {}
        self._free: list[int] = []
        self._next = 0

    def __getitem__(self, name: str) -> int:
        return self._of[name]

    def give(self, name: str) -> int:
        """A number for something new; one of its name keeps its own until that is taken back."""
        if self._free:
            number = min(self._free)
            self._free.remove(number)
        else:
            number, self._next = self._next, self._next + 1
        self._of[name] = number
        return number

    def take(self, name: str, number: int) -> None:
        """Take back the number of something that is gone."""
        if self._of.get(name) == number:
            del self._of[name]
        self._free.append(number)


def mac(kind: int, number: int, side: int = 0) -> str:
    """An address of a device that is made here: locally administered, so that whoever is on the
    other side can be told it, and need not ask (its table of neighbours is the kernel's, for all
    namespaces together, and small)."""
    parts = 2, kind, side, number >> 16 & 255, number >> 8 & 255, number & 255
    return ":".join(f"{part:02x}" for part in parts)


HOST, LINK = 1, 2


def dotted(number: int) -> str:
    """An IPv4 address."""
    return ".".join(str(number >> shift & 255) for shift in (24, 16, 8, 0))


def feed_address(number: int) -> str:
    """A node's address on the network of feeds; the registry is node -1."""
    return dotted(FEED_NET + number + 2)


@dataclass
class Orders:
    """What is to be told to the system: first of all namespaces and their settings, which new
    wires take over, then wires between them, then what is done inside each; and at the end what
    goes."""

    first: list[str] = field(default_factory=list)
    settings: dict[str, dict[str, str]] = field(default_factory=dict)
    wires: list[str] = field(default_factory=list)
    within: dict[str, list[str]] = field(default_factory=dict)
    last: list[str] = field(default_factory=list)

    def inside(self, name: str) -> list[str]:
        """The orders inside a namespace."""
        return self.within.setdefault(name, [])

    def run(self) -> None:
        """Give them.

        Raises:
            OakTagError: a program of the system refuses, with what it says.
        """
        _batch(self.first)
        for name, values in self.settings.items():
            with inside(name):
                settings(values)
        _batch(self.wires)
        _batch(self.within.pop(REGISTRY, []), REGISTRY)  # all feeds' wires end there
        with ThreadPoolExecutor(4) as pool:
            list(pool.map(_batch, self.within.values(), self.within))
        _batch(self.last)


def _batch(lines: list[str], name: str = "") -> None:
    if lines:
        at = ["-n", name] if name else []
        run(["ip", *at, "-batch", "-"], "\n".join(lines) + "\n")


# -- nodes and the network of feeds --------------------------------------------------------------


def registry(orders: Orders) -> None:
    """The registry, and the network of feeds."""
    orders.first.append(f"netns add {REGISTRY}")
    orders.inside(REGISTRY).extend(
        (
            "link set lo up", "link add feeds type bridge",
            f"addr add {feed_address(-1)}/{FEED_BITS} dev feeds", "link set feeds up",
        )
    )  # fmt: skip


def node_comes(orders: Orders, number: int) -> None:
    """A node, with its port on the network of feeds."""
    name = f"n{number}"
    orders.first.append(f"netns add {name}")
    orders.settings[name] = NODE_SETTINGS
    orders.wires.append(
        f"link add feed netns {name} type veth peer name f{number} netns {REGISTRY}"
    )
    orders.inside(REGISTRY).append(f"link set f{number} master feeds up")
    orders.inside(name).extend(
        ("link set lo up", f"addr add {feed_address(number)}/{FEED_BITS} dev feed",
         "link set feed up")
    )  # fmt: skip


def node_goes(orders: Orders, number: int) -> None:
    """A node, whose links and hosts are gone."""
    orders.inside(REGISTRY).append(f"link del f{number}")
    orders.last.append(f"netns del n{number}")


def own_addresses(orders: Orders, node: int, word: str, addresses: Iterable[str]) -> None:
    """A node's own addresses: ``add`` or ``del``."""
    orders.inside(f"n{node}").extend(
        f"addr {word} {a} dev lo{_nodad(a) if word == 'add' else ''}" for a in addresses
    )


# -- hosts ---------------------------------------------------------------------------------------


def host_comes(orders: Orders, number: int, node: int, host: LabHost) -> None:
    """A host on its wire."""
    name = f"h{number}"
    orders.first.append(f"netns add {name}")
    orders.settings[name] = HOST_SETTINGS
    there, here = mac(HOST, number, 1), mac(HOST, number)
    orders.wires.append(
        f"link add v{number} address {there} netns n{node} type veth "
        f"peer name eth0 address {here} netns {name}"
    )
    orders.inside(name).extend(
        (
            "link set lo up", "link set eth0 mtu 1450 up",
            f"neigh replace {GATEWAY4} lladdr {there} dev eth0",
            f"neigh replace {GATEWAY6} lladdr {there} dev eth0",
        )
    )  # fmt: skip
    orders.inside(f"n{node}").extend(
        (
            f"link set v{number} mtu 1450 up",
            f"addr add {GATEWAY4}/32 dev v{number}",
            f"addr add {GATEWAY6}/64 dev v{number} nodad",
        )
    )
    addressed(orders, number, node, [], host.addresses)


def addressed(orders: Orders, number: int, node: int, was: list[str], now: list[str]) -> None:
    """A host's addresses, and the routes to and from them."""
    mine, there = orders.inside(f"h{number}"), orders.inside(f"n{node}")
    for gone in (a for a in was if a not in now):
        mine.append(f"addr del {gone} dev eth0")
        there.append(f"route del {gone} dev v{number}")
        there.append(f"neigh del {gone.split('/')[0]} dev v{number}")
    for come in (a for a in now if a not in was):
        mine.append(f"addr add {come} dev eth0{_nodad(come)}")
        there.append(f"route replace {come} dev v{number}")
        beside = mac(HOST, number)
        there.append(f"neigh replace {come.split('/')[0]} lladdr {beside} dev v{number}")
    if any("." in a for a in now):
        mine.append(f"route replace {GATEWAY4} dev eth0 scope link")
        mine.append(f"route replace default via {GATEWAY4} dev eth0 onlink")
    if any(":" in a for a in now):
        mine.append(f"route replace ::/0 via {GATEWAY6} dev eth0 onlink")


def host_goes(orders: Orders, number: int, node: int) -> None:
    """A host, and its wire with it."""
    orders.inside(f"n{node}").append(f"link del v{number}")
    orders.last.append(f"netns del h{number}")


# -- links and routes ----------------------------------------------------------------------------


def link_comes(orders: Orders, number: int, ends: tuple[int, int], link: LabLink) -> None:
    """A link between two nodes, with both its ends."""
    wire = f"u{number}" if link.carries else f"l{number}"
    macs = [mac(LINK, number, side) for side in (1, 2)]
    under = [dotted(TUNNEL_NET + 4 * (number % TUNNELS) + side) for side in (1, 2)]
    orders.wires.append(
        f"link add {wire} address {macs[0]} netns n{ends[0]} type veth "
        f"peer name {wire} address {macs[1]} netns n{ends[1]}"
    )
    for side, node in enumerate(ends):
        lines, beside = orders.inside(f"n{node}"), macs[1 - side]
        if link.carries:
            lines += [
                f"link set u{number} mtu 1550 up",
                f"addr add {under[side]}/30 dev u{number}",
                f"neigh replace {under[1 - side]} lladdr {beside} dev u{number}",
                f"link add l{number} address {macs[side]} type vxlan id {100 + number} "
                f"local {under[side]} remote {under[1 - side]} dstport 4789 gbp",
            ]
        lines += [
            f"link set l{number} mtu 1450 up",
            f"addr add fe80::{side + 1}/64 dev l{number} nodad",
            f"neigh replace fe80::{2 - side} lladdr {beside} dev l{number}",
        ]


def link_goes(orders: Orders, number: int, ends: tuple[int, int], link: LabLink) -> None:
    """A link, with both its ends; its routes go with it."""
    if link.carries:
        for node in ends:
            orders.inside(f"n{node}").append(f"link del l{number}")
    orders.inside(f"n{ends[0]}").append(f"link del {'u' if link.carries else 'l'}{number}")


def route_leads(orders: Orders, node: int, prefix: str, link: int, side: int) -> None:
    """A node's route to a prefix, over the end of a link at its other side."""
    inet6 = "" if ":" in prefix else "inet6 "
    orders.inside(f"n{node}").append(
        f"route replace {prefix} via {inet6}fe80::{side + 1} dev l{link}"
    )


def route_goes(orders: Orders, node: int, prefix: str) -> None:
    """A route that leads nowhere any more."""
    orders.inside(f"n{node}").append(f"route del {prefix}")


def _nodad(address: str) -> str:
    return " nodad" if ":" in address else ""
