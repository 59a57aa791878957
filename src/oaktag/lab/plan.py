"""What a lab is to be: plain data that goes to the keeper as JSON, and probes and their results."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, field
from typing import Any


@dataclass(slots=True)
class LabNode:
    """A node: a namespace that forwards.

    ``routes`` are (prefix, link number); ``binds`` are the bindings it learns itself, as
    (prefix, tag, source, since).
    """

    name: str
    addresses: list[str]
    marks: bool
    carries: bool
    routes: list[tuple[str, int]] = field(default_factory=list)
    binds: list[tuple[str, int, str, int | None]] = field(default_factory=list)


@dataclass(slots=True)
class LabHost:
    """An endpoint: a namespace behind its node."""

    name: str
    node: int
    addresses: list[str]


@dataclass(slots=True)
class LabLink:
    """A link between two nodes, by number; tags cross it or do not."""

    a: int
    b: int
    carries: bool


@dataclass(slots=True)
class LabFeed:
    """A feed: from a node, or from the registry (-1), to a node, and what it brings."""

    sender: int
    receiver: int
    brings: list[tuple[str, int, str, int | None]]


@dataclass(slots=True)
class LabPoint:
    """A point: its node, its list as text, and the destinations' tags that have cells in it."""

    name: str
    node: int
    text: str
    tags: list[int] = field(default_factory=list)


@dataclass(slots=True)
class LabPlan:
    """A whole lab."""

    nodes: list[LabNode]
    hosts: list[LabHost]
    links: list[LabLink]
    feeds: list[LabFeed]
    points: list[LabPoint]
    order: list[str]
    listening: list[tuple[int, str, int]]

    def dumps(self) -> str:
        """The plan as JSON text."""
        return json.dumps(asdict(self))

    @classmethod
    def loads(cls, text: str) -> LabPlan:
        """The plan from JSON text."""
        data: dict[str, Any] = json.loads(text)
        kinds = {"nodes": LabNode, "hosts": LabHost, "links": LabLink, "feeds": LabFeed}
        made = {key: [kind(**row) for row in data[key]] for key, kind in kinds.items()}
        points = [LabPoint(**row) for row in data["points"]]
        listening = [(h, p, n) for h, p, n in data["listening"]]
        return cls(**made, points=points, order=data["order"], listening=listening)


@dataclass(frozen=True, slots=True)
class Probe:
    """One packet to send: between two hosts' addresses, ``tcp``, ``udp`` or ``icmp``."""

    source: int
    source_address: str
    destination: int
    destination_address: str
    protocol: str
    port: int
