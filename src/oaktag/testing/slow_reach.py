"""A slow walker: every pair of addresses, every path, node by node, straight from the words.

It shares no code with the core. ``Net`` holds ``network.yaml`` as plain data, endpoints and pins.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address, ip_network
from typing import Any

from oaktag.testing.slow import Packet, Stack

Raw = dict[str, Any]
Address = IPv4Address | IPv6Address
Prefix = IPv4Network | IPv6Network
#: (prefix, group, source); the newest and times do not occur here.
Bound = tuple[Prefix, str, str]
ORDER = ("pinned", "session", "inventory", "adopted", "segment")


@dataclass(slots=True)
class Being:
    """An endpoint: addresses (or one network), the group that a rule gives it or None, a stable
    address or not."""

    name: str
    addresses: list[str]
    group: str | None
    stable: bool


@dataclass(slots=True)
class Row:
    """What the walker finds for one (segment, group) pair and path."""

    result: str
    at: str | None
    why: list[tuple[str | None, str]]
    leak: bool
    gone: bool
    answers: bool = False
    one_way: bool = False
    #: The reasons of all that are as weak.
    whys: list[list[tuple[str | None, str]]] = field(default_factory=list)


#: A cell by the tags seen (or what is outside), and whether the point also lets answers pass.
Judged = tuple[tuple[str, str] | str, bool]
PORTED = (6, 17, 132)
ECHOES = {(4, 1, 8): 0, (4, 1, 0): 8, (6, 58, 128): 129, (6, 58, 129): 128}


def exchanged(packet: Packet) -> Packet:
    """Ports swapped; an echo reply for an echo request; all else is its own."""
    family, protocol, source, destination = packet
    if protocol in PORTED:
        return family, protocol, destination, source
    return family, protocol, ECHOES.get((family, protocol, source), source), destination


#: What no host has as its address.
HOSTLESS = (
    "0.0.0.0/8", "127.0.0.0/8", "169.254.0.0/16", "224.0.0.0/4", "255.255.255.255/32",
    "::/128", "::1/128", "fe80::/10", "ff00::/8",
)  # fmt: skip


def _listed(given: Any) -> list[str]:
    return [given] if isinstance(given, str) else list(given)


@dataclass(slots=True)
class Net:
    """A network in the words of its file, with who lives in it."""

    stack: Stack
    nodes: list[Raw]
    segments: list[Raw]
    links: list[Raw]
    feeds: list[Raw]
    beings: list[Being]
    pins: list[Raw] = field(default_factory=list)
    sessions: list[tuple[str, str, int]] = field(default_factory=list)
    registries: list[Raw] = field(default_factory=list)
    _said: dict[tuple[str, str], list[bool]] = field(default_factory=dict)
    _answered: dict[tuple[str, str], list[bool]] = field(default_factory=dict)
    _packets: list[Packet] = field(default_factory=list)
    _known: dict[str, list[Bound]] = field(default_factory=dict)

    # -- who is where ------------------------------------------------------------------------

    def owner(self, address: str) -> str | None:
        """Whose the newest session of an address is; of equal times, the later row's."""
        held = [
            (since, row, who)
            for row, (who, where, since) in enumerate(self.sessions)
            if ip_address(where) == ip_address(address)
        ]
        return max(held)[2] if held else None

    def places(self, being: Being) -> list[tuple[str, str]]:
        """(address, how we know) of somebody: inventory, session or assumed."""
        mine = {
            where: "session" for _, where, _ in self.sessions if self.owner(where) == being.name
        }
        found = list(mine.items())
        if being.stable:
            return [(a, "inventory") for a in being.addresses] + found
        if mine:
            return found
        return [(a, "assumed") for a in being.addresses if self.owner(a) is None]

    # -- who knows what ----------------------------------------------------------------------

    def registry(self) -> list[Bound]:
        """All the registry holds."""
        held: list[Bound] = [
            (ip_network(p["prefix"]), p["group"], "pinned") for p in self.pins if "at" not in p
        ]
        held += [
            (ip_network(a), b.group, by)
            for b in self.beings
            for a, by in self.places(b)
            if b.group and by != "assumed"
        ]
        return held + [
            (ip_network(p), s["tag"], "segment")
            for s in self.segments
            for p in s["prefixes"]
            if "tag" in s
        ]

    def learned(self, node: Raw) -> list[Bound]:
        """What a node learns itself."""
        held: list[Bound] = [
            (ip_network(p["prefix"]), p["group"], "pinned")
            for p in self.pins
            if p.get("at") == node["node"]
        ]
        mine = [s for s in self.segments if s["node"] == node["node"]]
        if "segment" in node.get("learns", ()):
            held += [
                (ip_network(p), s["tag"], "segment")
                for s in mine
                if "tag" in s
                for p in s["prefixes"]
            ]
        if "session" in node.get("learns", ()):
            held += [
                (ip_network(a), b.group, "session")
                for b in self.beings
                for a, by in self.places(b)
                if b.group and by != "inventory" and self.segment(a) in [s["segment"] for s in mine]
            ]
        return held

    def known(self) -> dict[str, list[Bound]]:
        """What each node knows, by letting feeds run until nothing new comes."""
        if self._known:
            return self._known
        own = {n["node"]: self.learned(n) for n in self.nodes}
        relays = {n["node"]: n.get("relays", False) for n in self.nodes}
        known = {name: list(held) for name, held in own.items()}
        for _ in range(len(self.nodes) + 2):
            for feed in self.feeds:
                if feed.get("state") == "down":
                    continue
                sender = feed["from"]
                several = {r["registry"]: self.of_registry(r) for r in self.registries}
                if sender in several or sender == "registry":
                    sent = several.get(sender, self.registry())
                else:
                    sent = known[sender] if relays[sender] else own[sender]
                for bound in sent:
                    if self.passes(feed, bound) and bound not in known[feed["to"]]:
                        known[feed["to"]].append(bound)
        self._known = known
        return known

    def of_registry(self, registry: Raw) -> list[Bound]:
        """What one of several registries holds."""
        if "sites" not in registry:
            return [b for b in self.registry() if self.passes({"only": registry}, b)]
        sites = {n["node"] for n in self.nodes if n.get("site") in registry["sites"]}
        wide = [p for s in self.segments if s["node"] in sites for p in s["prefixes"]]
        wide += [n["address"] for n in self.nodes if n["node"] in sites and "address" in n]
        return [b for b in self.registry() if self.passes({"only": {"prefixes": wide}}, b)]

    def passes(self, feed: Raw, bound: Bound) -> bool:
        """Whether ``only`` lets a binding through."""
        only = feed.get("only", {})
        if "groups" in only and bound[1] not in only["groups"]:
            return False
        wide = [ip_network(p) for p in only.get("prefixes", ())]
        return "prefixes" not in only or any(
            w.version == bound[0].version and bound[0].subnet_of(w)  # type: ignore[arg-type]
            for w in wide
        )

    def tag(self, held: list[Bound], address: str) -> str:
        """The group that some bindings give an address."""
        here = ip_address(address)
        fitting = [b for b in held if here in b[0]]
        if not fitting:
            return "untagged"
        number = {n: tag for n, (tag, _) in self.stack.groups.items()} | {"untagged": 0}
        return min(fitting, key=lambda b: (-b[0].prefixlen, ORDER.index(b[2]), number[b[1]]))[1]

    def segment(self, address: str) -> str | None:
        """The segment of an address."""
        here = ip_address(address)
        fitting = [
            (ip_network(p).prefixlen, s["segment"])
            for s in self.segments
            for p in s["prefixes"]
            if here in ip_network(p)
        ]
        return max(fitting)[1] if fitting else None

    # -- paths -------------------------------------------------------------------------------

    def paths(self, start: str, end: str) -> list[list[tuple[str, Raw | None]]]:
        """All least-cost paths as (node, link before it), by trying every way without a circle."""
        found: list[tuple[int, list[tuple[str, Raw | None]]]] = []

        def go(trail: list[tuple[str, Raw | None]], cost: int) -> None:
            here = trail[-1][0]
            if here == end:
                found.append((cost, trail))
                return
            for link in self.links:
                if here in link["between"]:
                    other = next(n for n in link["between"] if n != here)
                    if other not in [n for n, _ in trail]:
                        go([*trail, (other, link)], cost + link.get("cost", 1))

        go([(start, None)], 0)
        least = min((cost for cost, _ in found), default=0)
        return [trail for cost, trail in found if cost == least]

    # -- rows --------------------------------------------------------------------------------

    def people(self) -> Iterator[tuple[str, str, str, str]]:
        """(name, address, segment, true group) of everybody who is somewhere; of a whole network
        and of unknown hosts one address for all that every table treats alike."""
        tables = [self.registry(), *self.known().values()]
        told: set[tuple[object, ...]] = set()
        for address in self.telling_addresses():
            for name, segment, group in self.standing(address):
                if name is not None and str(address) in self.own_addresses(name):
                    yield name, str(address), segment, group
                    continue
                alike = (
                    name, segment, group, address.version,
                    *(self.tag(held, str(address)) for held in tables),
                )  # fmt: skip
                if alike not in told:
                    told.add(alike)
                    yield name or f"unknown at {address}", str(address), segment, group

    def own_addresses(self, name: str) -> set[str]:
        """The single addresses at which an endpoint is."""
        return {
            str(ip_address(a))
            for b in self.beings
            if b.name == name
            for a, _ in self.places(b)
            if "/" not in a
        }

    def telling_addresses(self) -> list[Address]:
        """Addresses, of which one is in each stretch that anything tells from its neighbours."""
        every = [b[0] for held in (self.registry(), *self.known().values()) for b in held]
        every += [ip_network(a) for b in self.beings for a, _ in self.places(b)]
        every += [ip_network(a) for n in self.nodes for a in _listed(n.get("address", []))]
        every += [ip_network(p) for s in self.segments for p in s["prefixes"]]
        every += map(ip_network, HOSTLESS)
        firsts = {(n.version, int(n.network_address)) for n in every}
        firsts |= {(n.version, int(n.broadcast_address) + 1) for n in every}
        widths = {4: 32, 6: 128}
        return [
            IPv4Address(number) if version == 4 else IPv6Address(number)
            for version, number in sorted(firsts)
            if number < 1 << widths[version]
        ]

    def standing(self, address: Address) -> list[tuple[str | None, str, str]]:
        """(name or None, segment, true group) of whoever stands at an address.

        That is who has it, else the narrowest networks that are at home there, else unknown hosts
        of a segment with a tag.
        """
        segment = self.segment(str(address))
        if segment is None or any(address in ip_network(p) for p in HOSTLESS):
            return []
        bound = self.tag(self.registry(), str(address))
        nodes = [ip_address(a) for n in self.nodes for a in _listed(n.get("address", []))]
        places = [(b, a) for b in self.beings for a, _ in self.places(b)]
        having = {
            b.name: b for b, a in places if "/" not in a and ip_address(a) == address
        }  # fmt: skip
        if not having and address in nodes:
            return []
        if not having:
            homes = {
                (b.name, a): (ip_network(a).prefixlen, b)
                for b, a in places
                if "/" in a and address in ip_network(a) and self.home(a) == segment
            }
            narrowest = max((length for length, _ in homes.values()), default=0)
            having = {b.name: b for length, b in homes.values() if length == narrowest}
        if having:
            return [(b.name, segment, b.group or bound) for b in having.values()]
        tagged = any("tag" in s for s in self.segments if s["segment"] == segment)
        return [(None, segment, bound)] if tagged else []

    def home(self, network: str) -> str | None:
        """The segment on which a whole network is at home."""
        whole = ip_network(network)
        homes = [
            (ip_network(p).prefixlen, s["segment"])
            for s in self.segments
            for p in s["prefixes"]
            if ip_network(p).version == whole.version and whole.subnet_of(ip_network(p))  # type: ignore[arg-type]
        ]
        return max(homes)[1] if homes else None

    def rows(self) -> dict[tuple[object, ...], Row]:
        """(source segment, group, destination segment, group, nodes of the path) → what happens."""
        node_of = {s["segment"]: s["node"] for s in self.segments}
        known = self.known()
        rows: dict[tuple[object, ...], list[Row]] = {}
        people = list(self.people())
        for a, a_address, a_segment, a_group in people:
            for b, b_address, b_segment, b_group in people:
                versions = ip_address(a_address).version, ip_address(b_address).version
                many = a == b and a.startswith("unknown at ")
                if versions[0] != versions[1] or (not many and (a == b or a_address == b_address)):
                    continue
                ends = a_segment, a_group, b_segment, b_group
                if a_segment == b_segment:
                    ways: list[list[tuple[str, Raw | None]]] = [[(node_of[a_segment], None)]]
                else:
                    ways = self.paths(node_of[a_segment], node_of[b_segment])
                if not ways:
                    unconnected = Row("unconnected", None, [], False, False)
                    rows.setdefault((*ends, (), ()), []).append(unconnected)
                back = ways
                if a_segment != b_segment:
                    back = self.paths(node_of[b_segment], node_of[a_segment])
                for way in ways:
                    here = a_address, a_segment, a_group
                    there = b_address, b_segment, b_group
                    row = self.walk(way, known, here, there)
                    row.one_way = any(self.drops(way, other, known, here, there) for other in back)
                    names = tuple(n for n, _ in way)
                    links = tuple(
                        str(k.get("name") or "--".join(k["between"]))
                        for _, k in way
                        if k is not None
                    )
                    rows.setdefault((*ends, names, links), []).append(row)
        return {key: self.weakest(found, key[-2]) for key, found in rows.items()}

    @staticmethod
    def weakest(found: list[Row], path: Any) -> Row:
        """One row for several: the weakest result, the worst effect."""
        order = ("unenforced", "observed", "enforced", "unconnected")

        def strength(row: Row) -> tuple[int, int, int]:
            result = order.index(row.result)
            effect = 0 if row.leak else 1 if row.gone else 2 if row.one_way else 3
            return result, -path.index(row.at) if row.at else 0, effect if result == 0 else 0

        weak = min(found, key=strength)
        return Row(
            weak.result, weak.at, weak.why, any(r.leak for r in found), any(r.gone for r in found),
            any(r.answers for r in found), any(r.one_way for r in found),
            [r.why for r in found if strength(r) == strength(weak)],
        )  # fmt: skip

    def drops(
        self,
        out: list[tuple[str, Raw | None]],
        back: list[tuple[str, Raw | None]],
        known: dict[str, list[Bound]],
        source: tuple[str, str, str],
        destination: tuple[str, str, str],
    ) -> bool:
        """Whether the answer to a packet that is allowed and arrives is dropped on a way back."""
        nodes = {n["node"]: n for n in self.nodes}
        crossed = {
            state
            for name, _ in out
            for n, p in enumerate(nodes[name].get("points", ()))
            if p.get("stateful", True) and p.get("mode") != "off"
            for state in (f"{name} {n}", f"shared {p.get('shares_state', (name, n))}")
        }
        self._packets = self._packets or self._kinds()
        there = self.judgements(out, known, source, destination)
        here = [
            cell
            for cell in self.judgements(back, known, destination, source)
            if not (cell[2] and crossed & set(cell[3]))
        ]
        version = ip_address(source[0]).version
        should = self.allows((source[2], destination[2]))
        for number, packet in enumerate(self._packets):
            asked = packet[1] in PORTED or (packet[0], packet[1], packet[2]) in (
                (4, 1, 8),
                (6, 58, 128),
            )
            if packet[0] != version or not asked or not should[number]:
                continue
            arrives = all(
                self.allows(what)[number]
                or (stateless and self.answers((what[1], what[0]))[number])
                for what, stateless, *_ in there
            )
            returns = all(
                what == "allow"
                if isinstance(what, str)
                else self.answers(what)[number]
                or (stateless and self.allows((what[1], what[0]))[number])
                for what, stateless, *_ in here
            )
            if arrives and not returns:
                return True
        return False

    def judgements(
        self,
        way: list[tuple[str, Raw | None]],
        known: dict[str, list[Bound]],
        source: tuple[str, str, str],
        destination: tuple[str, str, str],
    ) -> list[tuple[Any, bool, bool, tuple[str, ...]]]:
        """Of each enforcing point that judges: what it goes by, whether it lets answers pass,
        whether it keeps state, and the names of the flows that it knows."""
        found: list[tuple[Any, bool, bool, tuple[str, ...]]] = []
        nodes = {n["node"]: n for n in self.nodes}
        frame = "untagged"
        if nodes[way[0][0]].get("marks"):
            frame = self.tag(known[way[0][0]], source[0])
        for hop, (name, link) in enumerate(way):
            lost = hop > 0 and link is not None and not link.get("carries", True)
            if lost or (hop > 1 and not nodes[way[hop - 1][0]].get("carries", False)):
                frame = "untagged"
            for number, point in enumerate(nodes[name].get("points", ())):
                if point.get("mode", "enforce") != "enforce":
                    continue
                if self.unjudged(point, source[1], destination[1]) is not None:
                    continue
                cell = self.sees(
                    point, frame if hop else "untagged", known[name], source[0], destination[0]
                )
                held = self.in_scope(point, *cell)
                stateful = point.get("stateful", True)
                names: tuple[str, ...] = (f"{name} {number}",)
                if "shares_state" in point:
                    names = (*names, f"shared {point['shares_state']}")
                what = cell if held else point.get("outside", "allow")
                found.append((what, held and not stateful, stateful, names))
        return found

    def sees(
        self, point: Raw, frame: str, held: list[Bound], source: str, destination: str
    ) -> tuple[str, str]:
        """The tags that a point sees."""
        bound = self.tag(held, source)
        pair = (frame, bound) if point.get("if_differ") != "bindings" else (bound, frame)
        seen = pair[0] if pair[0] != "untagged" else pair[1]
        if point.get("match", {}).get("source") == "address":
            seen = bound
        return seen, self.tag(held, destination)

    def walk(
        self,
        way: list[tuple[str, Raw | None]],
        known: dict[str, list[Bound]],
        source: tuple[str, str, str],
        destination: tuple[str, str, str],
    ) -> Row:
        """One packet's way: what each point sees and does."""
        nodes = {n["node"]: n for n in self.nodes}
        frame = "untagged"
        if nodes[way[0][0]].get("marks"):
            frame = self.tag(known[way[0][0]], source[0])
        why: list[tuple[str | None, str]] = []
        cells: list[Judged] = []
        enforced = observed = None
        met = False
        for hop, (name, link) in enumerate(way):
            if hop > 0 and link is not None and not link.get("carries", True):
                frame = "untagged"
            if hop > 1 and not nodes[way[hop - 1][0]].get("carries", False):
                frame = "untagged"
            for point in nodes[name].get("points", ()):
                if point.get("mode") == "off":
                    continue
                met = True
                reason = self.unjudged(point, source[1], destination[1])
                if reason is None:
                    arriving = frame if hop else "untagged"
                    seen, there = self.sees(point, arriving, known[name], source[0], destination[0])
                    held = self.in_scope(point, seen, there)
                    reason = self.fault(seen, source[2], there, destination[2], held)
                    if point.get("mode", "enforce") == "enforce":
                        what = (seen, there) if held else point.get("outside", "allow")
                        cells.append((what, held and not point.get("stateful", True)))
                if reason is not None:
                    why.append((name, reason))
                elif point.get("mode", "enforce") == "enforce":
                    enforced = enforced or name
                else:
                    observed = observed or name
        if not met:
            why.append((None, "no-point"))
        leak, gone, answers = self.effect(source, destination, cells)
        if enforced or observed:
            result = "enforced" if enforced else "observed"
            return Row(result, enforced or observed, [], leak, gone, answers)
        return Row("unenforced", None, why, leak, gone, answers)

    @staticmethod
    def unjudged(point: Raw, source: str, destination: str) -> str | None:
        """Why a point does not judge between two segments."""
        if source == destination and not point.get("inside", False):
            return "inside"
        for key, segment in (("from", source), ("toward", destination)):
            if point.get(key, "*") != "*" and segment not in point[key]:
                return "direction"
        return None

    def in_scope(self, point: Raw, source: str, destination: str) -> bool:
        """Whether a point's list holds a cell."""
        scope = point.get("scope", "all")
        if scope == "all":
            return True
        ends = (("sources", source), ("destinations", destination))
        return all(
            any(group in self.stack.members(w) for w in scope.get(key, ["*"]))
            for key, group in ends
        )

    @staticmethod
    def fault(seen: str, source: str, there: str, destination: str, held: bool) -> str | None:
        """What a judging point gets wrong first."""
        if seen != source:
            return "source-unknown" if seen == "untagged" else "source-wrong"
        if there != destination:
            return "destination-unknown" if there == "untagged" else "destination-wrong"
        return None if held else "no-cell"

    def effect(
        self,
        source: tuple[str, str, str],
        destination: tuple[str, str, str],
        cells: list[Judged],
    ) -> tuple[bool, bool, bool]:
        """Whether some packet leaks, is dropped though allowed, passes as an answer alone."""
        self._packets = self._packets or self._kinds()
        version = ip_address(source[0]).version
        leak = gone = answers = False
        should = self.allows((source[2], destination[2]))
        opposite = self.answers((destination[2], source[2]))
        judged = [(self.allows(cell), stateless, cell) for cell, stateless in cells]
        for number, packet in enumerate(self._packets):
            if packet[0] != version:
                continue
            passes, opens = True, True
            for said, stateless, cell in judged:
                back = stateless and self.answers((cell[1], cell[0]))[number]
                passes &= said[number] or back
                opens &= said[number]
            answer = passes and not opens and opposite[number]
            answers |= answer and not should[number]
            leak |= passes and not should[number] and not answer
            gone |= should[number] and not passes
        return leak, gone, answers

    def _kinds(self) -> list[Packet]:
        """A packet of every kind, of every pair of ports both ways."""
        packets = self.stack.packets()
        ports: dict[tuple[int, int], set[int]] = {}
        for family, protocol, source, destination in packets:
            ports.setdefault((family, protocol), set()).update((source, destination))
        more = [
            (f, p, a, b)
            for (f, p), ends in ports.items()
            if p in PORTED
            for a in ends
            for b in ends
        ]
        echoes = [(4, 1, 8, 0), (4, 1, 0, 0), (6, 58, 128, 0), (6, 58, 129, 0)]
        return list(dict.fromkeys([*packets, *more, *echoes]))

    def answers(self, cell: tuple[str, str]) -> list[bool]:
        """For each packet, whether a cell allows the packet that it would answer."""
        if cell not in self._answered:
            self._answered[cell] = [
                self.stack.decide(*cell, exchanged(packet), "action")[0] == "allow"
                for packet in self._packets
            ]
        return self._answered[cell]

    def allows(self, cell: tuple[str, str] | str) -> list[bool]:
        """What a cell, or what is outside, says of a packet of every kind."""
        if isinstance(cell, str):
            return [cell == "allow"] * len(self._packets)
        if cell not in self._said:
            self._said[cell] = [
                self.stack.decide(*cell, packet, "action")[0] == "allow" for packet in self._packets
            ]
        return self._said[cell]
