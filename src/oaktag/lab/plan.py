"""What a lab is to be: plain data by names, which goes to the keeper as JSON, and probes.

Two plans can be held against each other; the keeper makes of the one network the other.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any, NamedTuple, TypeVar

REGISTRY = "registry"
#: A binding as it travels: prefix, tag, source, since.
Row = tuple[str, int, str, int | None]


@dataclass(slots=True)
class LabNode:
    """A node: a namespace that forwards. ``routes`` lead to prefixes, over links; ``learns`` are
    the bindings that it learns itself; ``grounds`` are the prefixes of its own segments."""

    addresses: list[str]
    marks: bool
    carries: bool
    relays: bool
    routes: dict[str, str] = field(default_factory=dict)
    learns: list[Row] = field(default_factory=list)
    grounds: list[str] = field(default_factory=list)


@dataclass(slots=True)
class LabHost:
    """Somebody: a namespace behind a node; addresses with the length of all their bits."""

    name: str
    node: str
    addresses: list[str]


@dataclass(slots=True)
class LabLink:
    """A link between two nodes; tags cross it or do not."""

    a: str
    b: str
    carries: bool


@dataclass(slots=True)
class LabFeed:
    """A feed from a node, or the registry, to a node, and what it may bring: inside some prefixes,
    of some tags; None: all."""

    sender: str
    receiver: str
    prefixes: list[str] | None = None
    tags: list[int] | None = None


@dataclass(slots=True)
class LabPoint:
    """A point: its node, its list as text, and the destinations' tags that have cells in it."""

    node: str
    text: str
    tags: list[int] = field(default_factory=list)


@dataclass(slots=True)
class LabPlan:
    """A whole lab. ``registry`` are the bindings that the registry holds; ``order`` names the
    sources of bindings, the strongest first."""

    nodes: dict[str, LabNode] = field(default_factory=dict)
    hosts: dict[str, LabHost] = field(default_factory=dict)
    links: dict[str, LabLink] = field(default_factory=dict)
    feeds: dict[str, LabFeed] = field(default_factory=dict)
    points: dict[str, LabPoint] = field(default_factory=dict)
    registry: list[Row] = field(default_factory=list)
    order: list[str] = field(default_factory=list)

    def dumps(self) -> str:
        """The plan as JSON text."""
        return json.dumps(asdict(self))

    @classmethod
    def loads(cls, text: str) -> LabPlan:
        """The plan from JSON text."""
        data: dict[str, Any] = json.loads(text)
        kinds = {
            "nodes": LabNode, "hosts": LabHost, "links": LabLink, "feeds": LabFeed,
            "points": LabPoint,
        }  # fmt: skip
        made = {k: {n: kind(**row) for n, row in data[k].items()} for k, kind in kinds.items()}
        registry = rows(data["registry"])
        for node in made["nodes"].values():
            node.learns = rows(node.learns)
        return cls(**made, registry=registry, order=data["order"])


def rows(held: list[Any]) -> list[Row]:
    """Bindings as they come out of JSON."""
    return [(prefix, tag, source, since) for prefix, tag, source, since in held]


Thing = TypeVar("Thing")


class Turned(NamedTuple):
    """Names of things that are gone, that have come, and that are others by now."""

    gone: list[str]
    come: list[str]
    other: list[str]


def turned(was: Mapping[str, Thing], now: Mapping[str, Thing]) -> Turned:
    """How the things of one kind differ in two plans."""
    return Turned(
        [n for n in was if n not in now],
        [n for n in now if n not in was],
        [n for n in now if n in was and was[n] != now[n]],
    )


@dataclass(frozen=True, slots=True)
class Probe:
    """One packet to send between two addresses, of hosts or nodes by name: ``tcp``, ``udp`` or
    ``icmp``; ``source_port`` 0: any."""

    source: str
    source_address: str
    destination: str
    destination_address: str
    protocol: str
    port: int
    source_port: int = 0
