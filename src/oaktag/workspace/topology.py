"""Topologies as the data that tools of networks exchange: RFC 8345 (networks, nodes, links) with
RFC 8346 (prefixes of nodes, metrics of links), in JSON (RFC 7951).

Kept here: links there go one way, here both, so two that face each other are one; a prefix of one
node alone is a segment of it, one of several lies between them. What the standard has no word for,
who enforces and who feeds whom, is not written, and asked of nobody.
"""

from __future__ import annotations

import ipaddress
import json
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from oaktag.core.addresses import span_text
from oaktag.core.network import Network
from oaktag.errors import UsageError
from oaktag.near import perhaps

NETWORKS, L3 = "ietf-network:networks", "ietf-l3-unicast-topology"
TOPOLOGY = "ietf-network-topology"
#: A cost that the standard does not tell.
USUAL = 1


class TopoLink(NamedTuple):
    """Two nodes joined, with the cost."""

    a: str
    b: str
    cost: int


@dataclass(slots=True)
class Topology:
    """Nodes with the prefixes at each, links, and what is to be said of them."""

    nodes: dict[str, list[str]] = field(default_factory=dict)
    links: list[TopoLink] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def topology_text(network: Network, name: str) -> str:
    """A network as RFC 8345 data; the same bytes for the same network."""
    prefixes: dict[str, list[str]] = {node: [] for node in network.nodes}
    for segment in network.segments.values():
        prefixes[segment.node] += [span_text(p.family, p.start, p.end) for p in segment.prefixes]
    points: dict[str, list[dict[str, Any]]] = {node: [] for node in network.nodes}
    links: list[dict[str, Any]] = []
    for link in network.links:
        ends = [(n, f"{n}-{len(points[n]) + 1}") for n in (link.a, link.b)]
        for node, point in ends:
            points[node].append({"tp-id": point})
        for (a, at), (b, to) in (ends, ends[::-1]):
            links.append(
                {
                    "link-id": f"{at}>{to}",
                    "source": {"source-node": a, "source-tp": at},
                    "destination": {"dest-node": b, "dest-tp": to},
                    f"{L3}:l3-link-attributes": {"name": link.name, "metric1": str(link.cost)},
                }
            )
    document = {
        NETWORKS: {
            "network": [
                {
                    "network-id": name,
                    "network-types": {f"{L3}:l3-unicast-topology": {}},
                    "node": [
                        {
                            "node-id": node,
                            f"{L3}:l3-node-attributes": {
                                "name": node, "prefix": [{"prefix": p} for p in _whole(held)],
                            },
                            f"{TOPOLOGY}:termination-point": points[node],
                        }
                        for node, held in prefixes.items()
                    ],
                    f"{TOPOLOGY}:link": links,
                }
            ]
        }
    }  # fmt: skip
    return json.dumps(document, indent=2, ensure_ascii=False) + "\n"


def _whole(prefixes: list[str]) -> list[str]:
    """Prefixes with their length, one address too."""
    return [str(ipaddress.ip_network(p)) for p in prefixes]


def read_topology(name: str, data: bytes, wanted: str | None = None) -> Topology:
    """A network of RFC 8345 data.

    Args:
        name: the file's, for messages.
        data: its bytes.
        wanted: the id of the network, where there are several.

    Raises:
        UsageError: it is no such data, or there is no such network; with all that is wrong.
    """
    try:
        document = json.loads(data.decode("utf-8-sig"))
    except UnicodeDecodeError:
        raise UsageError(f"{name} is no UTF-8") from None
    except json.JSONDecodeError as error:
        raise UsageError(f"{name}:{error.lineno}:{error.colno}: {error.msg}") from None
    except RecursionError:
        raise UsageError(f"{name} is nested too deep") from None
    held = _at(document, NETWORKS)
    networks = [n for n in _list(_at(held, "network")) if isinstance(n, dict)]
    if not networks:
        raise UsageError(f"{name} holds no {NETWORKS} (RFC 8345)")
    return _Reader(name).read(_chosen(name, networks, wanted))


def _chosen(name: str, networks: list[dict[str, Any]], wanted: str | None) -> dict[str, Any]:
    ids = [str(n.get("network-id")) for n in networks]
    if wanted is not None:
        if wanted not in ids:
            raise UsageError(f"{name} has no network {wanted!r}; {perhaps(wanted, ids)}")
        return networks[ids.index(wanted)]
    layer = [n for n in networks if any("l3-unicast" in t for t in _at(n, "network-types") or {})]
    some = networks if len(networks) == 1 else layer
    if len(some) != 1:
        raise UsageError(f"{name} has several networks; say which with --network: {', '.join(ids)}")
    return some[0]


class _Reader:
    def __init__(self, name: str) -> None:
        self.name = name
        self.faults: list[str] = []
        self.made = Topology()
        self.called: dict[str, str] = {}

    def read(self, network: Mapping[str, Any]) -> Topology:
        self._nodes(_list(_any(network, "node")))
        self._links(_list(_any(network, "link")))
        if self.faults:
            raise UsageError("\n".join(self.faults))
        self._between()
        return self.made

    def _nodes(self, nodes: list[Any]) -> None:
        for number, node in enumerate(nodes, 1):
            told = node.get("node-id") if isinstance(node, dict) else None
            if not isinstance(told, str) or not told:
                self.faults.append(f"{self.name}: node {number} has no node-id")
                continue
            called = _called(told)
            if called in self.made.nodes:
                self.faults.append(f"{self.name}: two nodes would be called {called} ({told})")
                continue
            if called != told:
                self.made.notes.append(f"the node {told} is called {called} here")
            self.called[told] = called
            self.made.nodes[called] = []
            for item in _list(_any(_any(node, "l3-node-attributes"), "prefix")):
                text = item.get("prefix") if isinstance(item, dict) else None
                try:
                    prefix = str(ipaddress.ip_network(str(text)))
                    if prefix not in self.made.nodes[called]:
                        self.made.nodes[called].append(prefix)
                except ValueError:
                    self.faults.append(
                        f"{self.name}: {told} has the prefix {text!r}, which is none"
                    )

    def _links(self, links: list[Any]) -> None:
        ways: dict[tuple[str, str], list[int]] = {}
        for number, link in enumerate(links, 1):
            told = link.get("link-id", number) if isinstance(link, dict) else number
            ends = (
                _at(_any(link, "source"), "source-node"),
                _at(_any(link, "destination"), "dest-node"),
            )
            unknown = [str(e) for e in ends if not isinstance(e, str) or e not in self.called]
            if unknown:
                what = "leads nowhere" if None in ends else f"names no node of it: {unknown[0]}"
                self.faults.append(f"{self.name}: the link {told} {what}")
                continue
            cost = _at(_any(link, "l3-link-attributes"), "metric1")
            a, b = (self.called[str(e)] for e in ends)
            if a == b:
                self.faults.append(f"{self.name}: the link {told} leads from {a} to itself")
                continue
            good = cost is None or re.fullmatch(r"[0-9]{1,9}", str(cost))
            if not good:
                self.faults.append(f"{self.name}: the link {told} has the metric {cost!r}")
                continue
            ways.setdefault((a, b), []).append(max(1, int(cost)) if cost is not None else USUAL)
        for (a, b), there in ways.items():
            if (b, a) in ways and list(ways).index((b, a)) < list(ways).index((a, b)):
                continue
            back = ways.get((b, a), [])
            if len(back) != len(there):
                self.made.notes.append(f"between {a} and {b} links go one way; here they go both")
            for number in range(max(len(there), len(back))):
                costs = {held[number] for held in (there, back) if number < len(held)}
                if len(costs) > 1:
                    self.made.notes.append(
                        f"the link {a} – {b} costs {min(costs)} one way and {max(costs)} the "
                        f"other; here it costs {max(costs)} both ways"
                    )
                self.made.links.append(TopoLink(a, b, max(costs)))

    def _between(self) -> None:
        """Prefixes of several nodes lie between them, and are no segment of one."""
        at: dict[str, list[str]] = {}
        for node, prefixes in self.made.nodes.items():
            for prefix in prefixes:
                at.setdefault(prefix, []).append(node)
        for prefix, nodes in at.items():
            if len(nodes) > 1:
                self.made.notes.append(
                    f"{prefix} is at {', '.join(nodes)}: it lies between them, and is no segment"
                )
                for node in nodes:
                    self.made.nodes[node].remove(prefix)


def _called(told: str) -> str:
    """A node's id as a name of ``network.yaml``."""
    name = re.sub(r"[^a-z0-9]+", "-", told.lower()).strip("-")
    return name if name[:1].isalpha() else f"n-{name}"


def _at(held: Any, key: str) -> Any:
    return held.get(key) if isinstance(held, dict) else None


def _any(held: Any, key: str) -> Any:
    """A field whose name may have its module before it."""
    if not isinstance(held, dict):
        return None
    return next((v for k, v in held.items() if k.rsplit(":", 1)[-1] == key), None)


def _list(held: Any) -> list[Any]:
    return held if isinstance(held, list) else []
