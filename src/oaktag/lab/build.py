"""Build the network of a plan: namespaces, wires, addresses, routes, marks.

Hosts hang each on a wire of their own behind their node, so that traffic inside a segment passes
the node too. A link that carries tags is a VXLAN tunnel with the group extension
(draft-smith-vxlan-group-policy): the packet mark's low 16 bits cross it. A link that does not is
a plain wire, and marks end there.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

from oaktag.lab.namespaces import inside, load, run, settings
from oaktag.lab.plan import LabPlan

GATEWAY4, GATEWAY6 = "169.254.1.1", "fe80::1"
REGISTRY = "registry"
FEED_NET = "169.254.2"
ENTRY_TABLE = "oaktag_entry"

_SETTINGS = {
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
    "ipv6/conf/default/dad_transmits": "0",
}


def node_name(number: int) -> str:
    """The namespace of a node."""
    return f"n{number}"


def host_name(number: int) -> str:
    """The namespace of a host."""
    return f"h{number}"


def feed_address(node: int) -> str:
    """A node's address on the network of feeds; the registry is node -1."""
    return f"{FEED_NET}.{node + 2}"


def build(plan: LabPlan) -> None:
    """Make everything but lists.

    Raises:
        OakTagError: a program of the system refuses, with what it says.
    """
    nodes, hosts = range(len(plan.nodes)), range(len(plan.hosts))
    names = [node_name(n) for n in nodes] + [host_name(h) for h in hosts] + [REGISTRY]
    run(["ip", "-batch", "-"], "".join(f"netns add {n}\n" for n in names))
    for name in names:
        with inside(name):
            settings(_SETTINGS)
    run(["ip", "-batch", "-"], _wires(plan))
    commands = {name: ["link set lo up"] for name in names}
    commands[REGISTRY].append("link add feeds type bridge")
    for number, host in enumerate(plan.hosts):
        _host(host.addresses, commands[host_name(number)])
        _host_side(number, host.addresses, commands[node_name(host.node)])
    for number, link in enumerate(plan.links):
        for end, joined in enumerate((link.a, link.b)):
            _link(number, end, link.carries, commands[node_name(joined)])
    for number, at in enumerate(plan.nodes):
        mine = commands[node_name(number)]
        _feed_port(number, mine, commands[REGISTRY])
        mine += [f"addr add {a} dev lo{_nodad(a)}" for a in at.addresses]
        for prefix, way in at.routes:
            end = 0 if plan.links[way].a == number else 1
            mine.append(f"route add {prefix} via {_link_address(way, 1 - end, prefix)} dev l{way}")
    registry = commands[REGISTRY]
    registry += [f"addr add {feed_address(-1)}/24 dev feeds", "link set feeds up"]
    with ThreadPoolExecutor(4) as pool:  # the registry first: all feeds' wires end there
        run(["ip", "-n", REGISTRY, "-batch", "-"], "\n".join(commands.pop(REGISTRY)) + "\n")
        batches = ["\n".join(lines) + "\n" for lines in commands.values()]
        list(pool.map(run, [["ip", "-n", name, "-batch", "-"] for name in commands], batches))
    for number, at in enumerate(plan.nodes):
        with inside(node_name(number)):
            load(_entry_rules(marks=at.marks, carries=at.carries))


def _wires(plan: LabPlan) -> str:
    lines = [
        f"link add v{number} netns {node_name(host.node)} type veth "
        f"peer name eth0 netns {host_name(number)}"
        for number, host in enumerate(plan.hosts)
    ]
    for number, link in enumerate(plan.links):
        wire = f"u{number}" if link.carries else f"l{number}"
        lines.append(
            f"link add {wire} netns {node_name(link.a)} type veth "
            f"peer name {wire} netns {node_name(link.b)}"
        )
    lines += [
        f"link add feed netns {node_name(number)} type veth peer name f{number} netns {REGISTRY}"
        for number in range(len(plan.nodes))
    ]
    return "\n".join(lines) + "\n"


def _host(addresses: list[str], lines: list[str]) -> None:
    lines.append("link set eth0 mtu 1450 up")
    lines += [f"addr add {a} dev eth0{_nodad(a)}" for a in addresses]
    if any("." in a for a in addresses):
        lines.append(f"route add {GATEWAY4} dev eth0 scope link")
        lines.append(f"route add default via {GATEWAY4} dev eth0 onlink")
    if any(":" in a for a in addresses):
        lines.append(f"route add ::/0 via {GATEWAY6} dev eth0 onlink")


def _host_side(number: int, addresses: list[str], lines: list[str]) -> None:
    lines += [
        f"link set v{number} mtu 1450 up",
        f"addr add {GATEWAY4}/32 dev v{number}",
        f"addr add {GATEWAY6}/64 dev v{number} nodad",
    ]
    lines += [f"route add {a} dev v{number}" for a in addresses]


def _link(number: int, end: int, carries: bool, lines: list[str]) -> None:
    device = f"l{number}"
    if carries:
        under = [f"169.254.{100 + number}.{side + 1}" for side in (0, 1)]
        lines += [
            f"link set u{number} mtu 1550 up",
            f"addr add {under[end]}/30 dev u{number}",
            f"link add {device} type vxlan id {100 + number} local {under[end]} "
            f"remote {under[1 - end]} dstport 4789 gbp",
        ]
    lines += [
        f"link set {device} mtu 1450 up",
        f"addr add {_link_address(number, end, '.')}/30 dev {device}",
        f"addr add {_link_address(number, end, ':')}/64 dev {device} nodad",
    ]


def _link_address(number: int, end: int, like: str) -> str:
    return f"fe80::{end + 1}" if ":" in like else f"169.254.{10 + number}.{end + 1}"


def _feed_port(number: int, lines: list[str], registry: list[str]) -> None:
    lines += [f"addr add {feed_address(number)}/24 dev feed", "link set feed up"]
    registry += [f"link set f{number} master feeds up"]


def _nodad(address: str) -> str:
    return " nodad" if ":" in address else ""


def _entry_rules(*, marks: bool, carries: bool) -> str:
    """What a node does with marks: sets them for its hosts if it marks, and lets them through
    from link to link if it carries them. The kernel's own packets carry none. A connection's
    opening packet passes once: sent again, it would count twice in the cells.
    """
    opening = 'iifname "v*" tcp flags & (syn | ack) == syn'
    lines = [
        f"table inet {ENTRY_TABLE} {{",
        "map tags4 { type ipv4_addr : mark; flags interval; }",
        "map tags6 { type ipv6_addr : mark; flags interval; }",
        "set opened { typeof tcp sequence; flags dynamic; timeout 5s; size 65536; }",
        "chain enter { type filter hook prerouting priority mangle; policy accept;",
        f"{opening} tcp sequence @opened drop",
        f"{opening} add @opened {{ tcp sequence }}",
        'iifname "v*" meta mark set 0',
        'iifname "l*" meta mark set meta mark & 0xffff',
    ]
    if marks:
        lines.append('iifname "v*" meta mark set ip saddr map @tags4')
        lines.append('iifname "v*" meta mark set ip6 saddr map @tags6')
    lines.append("}")
    if not carries:
        lines.append("chain between { type filter hook forward priority 10; policy accept;")
        lines += ['iifname "l*" oifname "l*" meta mark set 0', "}"]
    lines.append("chain own { type route hook output priority mangle; policy accept;")
    lines += ['oifname "l*" meta mark set 0', "}", "}"]
    return "\n".join(lines) + "\n"
