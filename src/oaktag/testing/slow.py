"""A slow reader of the rules: one packet at a time, straight from the words in the files.

It shares no code with the core and is written to be obviously right: read it beside
``semantics.md``. Property tests hold the core against it.
"""

from __future__ import annotations

import fnmatch
import ipaddress
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

Raw = dict[str, Any]
Packet = tuple[int, int, int, int]

PORTS = {
    "https": [("tcp", 443)], "http": [("tcp", 80)], "ssh": [("tcp", 22)], "ntp": [("udp", 123)],
    "domain": [("tcp", 53), ("udp", 53)], "telnet": [("tcp", 23)],
}  # fmt: skip
NUMBERS = {"tcp": 6, "udp": 17, "sctp": 132}
ECHO = {4: 8, 6: 128}
#: The ports of a packet that has been cut off before them.
CUT_SHORT = (-1, -1)


@dataclass(slots=True)
class Stack:
    """A workspace's words, as they would stand in its files.

    ``groups`` maps a name to its tag and traits; ``permissions`` a name to its entries and
    ``otherwise``; each layer is a list of rows with the columns of a matrix file.
    """

    groups: dict[str, tuple[int, dict[str, str]]]
    sets: dict[str, Any]
    permissions: dict[str, Raw]
    layers: list[list[dict[str, str]]]
    default: str = "deny"
    observed_default: str | None = None
    order: str = "specific-first"
    services: dict[str, list[str]] = field(default_factory=dict)
    expectations: list[Raw] = field(default_factory=list)
    _every: list[Packet] = field(default_factory=list)

    def members(self, word: str) -> set[str]:
        """The groups that a word of a line stands for."""
        if word == "*":
            return {"untagged", *self.groups}
        if word == "untagged" or word in self.groups:
            return {word}
        found: set[str] = set()
        held = self.sets[word]
        for part in held if isinstance(held, list) else [held]:
            if isinstance(part, str):
                found |= self.members(part)
            else:
                found |= {
                    name
                    for name, (_, traits) in self.groups.items()
                    if all(
                        traits.get(k) in (v if isinstance(v, list) else [v])
                        for k, v in part["traits"].items()
                    )
                }
        return found

    def matches(self, service: str, packet: Packet) -> bool:
        """Whether a packet belongs to a service."""
        family, protocol, source, destination = packet
        if service == "any":
            return True
        if service in self.services:
            return any(self.matches(s, packet) for s in self.services[service])
        if service in PORTS:
            return (protocol, destination) in [(NUMBERS[t], p) for t, p in PORTS[service]]
        if service == "icmp":
            return protocol == {4: 1, 6: 58}[family]
        if service == "icmp/echo-request":
            return protocol == {4: 1, 6: 58}[family] and source == ECHO[family]
        head, *rest = service.split("/")
        if head == "proto":
            return protocol == int(rest[0])
        if head in ("icmp4", "icmp6"):
            if (family, protocol) != {"icmp4": (4, 1), "icmp6": (6, 58)}[head]:
                return False
            return [source, destination][: len(rest)] == [int(r) for r in rest]
        low, _, high = head.partition("-")
        return protocol == NUMBERS[rest[0]] and int(low) <= destination <= int(high or low)

    def entries(self, name: str) -> Iterator[tuple[str, Raw]]:
        """The entries of a permission as (action, entry), with what closes it."""
        for entry in self.permissions[name]["entries"]:
            yield next(a for a in ("allow", "deny", "pass") if a in entry), entry
        if self.permissions[name].get("otherwise"):
            yield self.permissions[name]["otherwise"], {}

    def entry_matches(self, action: str, entry: Raw, packet: Packet) -> bool:
        """Whether an entry speaks of a packet; of one whose ports cannot be read (they are
        ``CUT_SHORT``) only if it speaks of every packet of its protocol."""
        if action not in entry:
            return True  # what closes a permission speaks of everything
        if packet[2:] == CUT_SHORT:
            self._every = self._every or list(self._corners())
            alike = [p for p in self._every if p[:2] == packet[:2]]
            return all(self.entry_matches(action, entry, p) for p in alike)
        wanted = entry[action] if isinstance(entry[action], list) else [entry[action]]
        if not any(self.matches(s, packet) for s in wanted):
            return False
        ports = entry.get("from_ports")
        if ports is None:
            return True
        low, _, high = str(ports).partition("-")
        return int(low) <= packet[2] <= int(high or low)

    def lines(self, layer: int, source: str, destination: str) -> list[tuple[int, dict[str, str]]]:
        """(line number, row) of all that apply to a cell in one layer, in order."""
        found = []
        for number, row in enumerate(self.layers[layer]):
            if row["mode"] == "off":
                continue
            ways = [(row["source"], row["destination"], 0)]
            if row["way"] == "both" and row["destination"] not in ("itself", row["source"]):
                ways.append((row["destination"], row["source"], 1))
            for a, b, mirrored in ways:
                if source not in self.members(a):
                    continue
                if source != destination if b == "itself" else destination not in self.members(b):
                    continue
                ranks = self.rank(a if b == "itself" else b), self.rank(a)
                if self.order == "broad-first":
                    ranks = -ranks[0], -ranks[1]
                if self.order == "as-listed":
                    ranks = 0, 0
                found.append(((*ranks, number, mirrored), number + 2, row))
        return [(line, row) for _, line, row in sorted(found, key=lambda f: f[0])]

    def rank(self, word: str) -> int:
        """0 for a group, 1 for a set, 2 for everybody."""
        if word == "*":
            return 2
        return 0 if word == "untagged" or word in self.groups else 1

    def decide(
        self, source: str, destination: str, packet: Packet, answer: str
    ) -> tuple[str, tuple[int, int] | None, list[tuple[int, int, int]]]:
        """(allow or deny, (layer, line) that says so, every (layer, line, entry) reached)."""
        reached: list[tuple[int, int, int]] = []
        for layer in range(len(self.layers)):
            passed = False
            for line, row in self.lines(layer, source, destination):
                if row["mode"] == "observe" and answer == "action":
                    continue
                for number, (action, entry) in enumerate(self.entries(row["permission"])):
                    if not self.entry_matches(action, entry, packet):
                        continue
                    reached.append((layer, line, number))
                    if action == "pass":
                        passed = True
                        break
                    return action, (layer, line), reached
                if passed:
                    break
        if answer == "would" and self.observed_default:
            return self.observed_default, None, reached
        return self.default, None, reached

    def packets(self) -> list[Packet]:
        """One packet of every kind: no entry and no expectation tells those left out from it."""
        spoken = [pair for p in self.permissions.values() for pair in self._spoken(p)]
        asked = [
            word
            for e in self.expectations
            for word in (e["allowed"] if isinstance(e.get("allowed"), list) else [e.get("service")])
            if word
        ]
        kinds: dict[tuple[int, ...], Packet] = {}
        for packet in self._corners():
            told = [self.entry_matches(a, e, packet) for a, e in spoken]
            told += [self.matches(word, packet) for word in asked]
            kinds.setdefault((packet[0], *told), packet)
        return list(kinds.values())

    def _corners(self) -> Iterator[Packet]:
        """Packets on both sides of every end that some word names."""
        spoken = [pair for p in self.permissions.values() for pair in self._spoken(p)]
        words = [w for action, entry in spoken for w in _list(entry[action])]
        words += [w for parts in self.services.values() for w in parts]
        words += [w for e in self.expectations for w in _list(e.get("allowed", e.get("service")))]
        senders = {0, 65535}
        for permission in self.permissions.values():
            for entry in permission["entries"]:
                for number in str(entry.get("from_ports", 0)).split("-"):
                    senders |= _around(number, 65535)
        ports, kinds, protocols = {0, 65535}, {0, 8, 128, 255}, {0, 1, 6, 17, 58, 132, 255}
        for named in PORTS.values():
            ports |= {p + k for _, p in named for k in (-1, 0, 1)}
        for word in words:
            head, *rest = word.split("/")
            if head == "proto":
                protocols |= _around(rest[0], 255)
            elif head in ("icmp4", "icmp6"):
                kinds |= {k for r in rest for k in _around(r, 255)}
            elif head[0].isdigit():
                ports |= {p for number in head.split("-") for p in _around(number, 65535)}
        for family in (4, 6):
            for protocol in sorted(protocols):
                axes: tuple[set[int], set[int]] = ({0}, {0})
                if protocol in NUMBERS.values():
                    axes = senders, ports
                elif protocol == {4: 1, 6: 58}[family]:
                    axes = kinds, kinds
                for source in sorted(axes[0]):
                    for destination in sorted(axes[1]):
                        yield family, protocol, source, destination

    @staticmethod
    def _spoken(permission: Raw) -> Iterator[tuple[str, Raw]]:
        for entry in permission["entries"]:
            yield next(a for a in ("allow", "deny", "pass") if a in entry), entry


def _list(held: Any) -> list[str]:
    return held if isinstance(held, list) else [held]


def _around(number: str, top: int) -> set[int]:
    return {n for n in (int(number) - 1, int(number), int(number) + 1) if 0 <= n <= top}


def attribute_matches(condition: Any, value: list[str]) -> bool:
    """Whether a condition of an assignment rule, as YAML gives it, holds for a value."""
    if isinstance(condition, list):
        return any(attribute_matches(c, value) for c in condition)
    if isinstance(condition, dict):
        if "within" in condition:
            held = condition["within"]
            wide = [_network(p) for p in (held if isinstance(held, list) else [held])]
            found = [_network(v) for v in value]
            return any(
                f.version == w.version and f.subnet_of(w)  # type: ignore[arg-type]
                for f in found
                for w in wide
            )
        return any(all(_compare(sign, v, n) for sign, n in condition.items()) for v in value)
    if isinstance(condition, int | float):
        return any(_number(v) == float(condition) for v in value)
    if any(c in condition for c in "*?["):
        return any(fnmatch.fnmatchcase(v, condition) for v in value)
    return condition in value


def _network(text: str) -> ipaddress.IPv4Network | ipaddress.IPv6Network:
    """A prefix; an IPv4-mapped IPv6 one is the IPv4 one."""
    found = ipaddress.ip_network(text)
    if isinstance(found, ipaddress.IPv6Network) and found.prefixlen >= 96:
        mapped = found.network_address.ipv4_mapped
        if mapped is not None:
            return ipaddress.ip_network(f"{mapped}/{found.prefixlen - 96}")
    return found


def _compare(sign: str, value: str, limit: float) -> bool:
    number = _number(value)
    if number is None:
        return False
    if sign == ">=":
        return number >= limit
    if sign == ">":
        return number > limit
    return number <= limit if sign == "<=" else number < limit


def _number(text: str) -> float | None:
    try:
        return float(text)
    except ValueError:
        return None
