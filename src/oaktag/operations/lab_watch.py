"""``lab watch`` and ``lab capture``: what opens flows at the points of a lab; tags in frames."""

from __future__ import annotations

from base64 import b64decode
from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path as FilePath
from typing import Any, ClassVar

from oaktag.core.addresses import parse_address
from oaktag.core.matrix import Answer
from oaktag.core.packets import Packet
from oaktag.core.service_text import packet_text
from oaktag.lab.capturing import pcap
from oaktag.lab.handle import Lab
from oaktag.operations.json_parts import Document, packet_json, piece_json
from oaktag.operations.lab import held_by, lab_of
from oaktag.operations.lab_probe import counts_of
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row
from oaktag.workspace.textfile import write_bytes


def watching(
    model: Model, until: float | None = None, *, every: bool = False
) -> Iterator[Document]:
    """Flows that are opened at the points of the lab, one after the other, until a time (of the
    monotonic clock), or without end.

    Each is a document: ``time``, ``point``, ``verdict`` (``allowed``, ``denied``, ``would-deny``),
    ``recorded`` (false for what is allowed by a line that does not log), ``source`` and
    ``destination`` with address, group, tag and whose it is, ``packet``, ``service``, ``line``
    (None for the default), ``permission``, ``entry``; ``would``, what would be decided if observed
    lines were enforced, and ``would_by``, the line, permission and entry of that where it is
    another thing. The first one, once it is listened for them, is empty.

    Args:
        model: the workspace.
        until: when to end; None: never.
        every: also those that are allowed and of which nothing is recorded.

    Raises:
        OakTagError: no lab is up.
    """
    lab = lab_of(model)
    telling: _Telling | None = None
    for event in lab.watch(until):
        if not event:
            yield {}
            continue
        if event["quiet"] and not every:
            continue
        if telling is None or telling.version != event["version"]:
            telling = _Telling(lab, model, event["version"])
        yield telling.told(event)


@dataclass(frozen=True, eq=False, repr=False)
class LabCaptured(Result):
    """Frames on a node's links, and the tags in them."""

    node: str
    frames: list[Row]
    tags: list[Row]
    command: ClassVar[str] = "lab capture"
    shown_by: ClassVar[str] = "lab"
    table: ClassVar[str] = "frames"


@dataclass(frozen=True, eq=False, repr=False)
class LabCounted(Result):
    """What points have counted: by cell, flows at a stateful point and packets at a stateless one;
    and by line and verdict the flows that were watched."""

    counters: list[Row]
    lines: list[Row]
    command: ClassVar[str] = "lab watch"
    shown_by: ClassVar[str] = "lab"
    table: ClassVar[str] = "counters"


def counted(
    model: Model, since: LabCounted | None = None, flows: Iterable[Document] = ()
) -> LabCounted:
    """The counters of all cells in the lab; or what they have counted since they were read.

    Args:
        model: the workspace.
        since: an earlier answer.
        flows: what ``watching`` told meanwhile, every flow of it: counted by line.

    Raises:
        OakTagError: no lab is up.
    """
    lab = lab_of(model)
    held = held_by(lab, model.files.root)[0]
    groups = held.groups
    before = {} if since is None else {
        (c["point"], c["source"], c["destination"]): c["count"] for c in since.counters
    }  # fmt: skip
    rows: list[Row] = []
    for point, cells in counts_of(lab.ask("counters")["cells"]).items():
        for (d, s), packets in sorted(cells.items()):
            key = point, groups.name(s), groups.name(d)
            more = packets - before.get(key, 0)
            if more > 0:
                there = held.network.points.get(point)
                rows.append(dict(zip(("point", "source", "destination"), key, strict=True)))
                stateful = there is None or there.stateful
                rows[-1] |= {"count": more, "of": "flows" if stateful else "packets"}
    return LabCounted(counters=rows, lines=_by_line(flows))


def _by_line(flows: Iterable[Document]) -> list[Row]:
    """The flows that each line decided, by point and verdict, the most first."""
    found: Counter[tuple[str, str, int, str, str]] = Counter()
    for flow in flows:
        line = flow["line"] or {"file": "", "line": 0}
        key = flow["point"], line["file"], line["line"], flow["verdict"], flow["permission"] or ""
        found[key] += 1
    return [
        {
            "point": point,
            "line": {"file": file, "line": line} if file else None,
            "permission": permission or None,
            "verdict": verdict,
            "flows": n,
        }
        for (point, file, line, verdict, permission), n in sorted(
            found.items(), key=lambda one: (-one[1], one[0])
        )
    ]


def capture(
    model: Model, node: str, *, tag: str | None = None, seconds: float = 10.0, count: int = 1000,
    file: FilePath | None = None,
) -> LabCaptured:  # fmt: skip
    """Listen to the frames on a node's links.

    Args:
        model: the workspace.
        node: where.
        tag: only frames with it, by number or group; ``0`` or ``untagged``: without any.
        seconds, count: when to end.
        file: where to keep the frames, as a pcap file.

    Raises:
        OakTagError: no lab is up, or there is no such node.
        UsageError: there is no such group.
    """
    lab = lab_of(model)
    held = held_by(lab, model.files.root)[0]
    wanted = None if tag is None else held.groups.tag(held.one_group(tag))
    said = lab.ask("capture", node=node, seconds=seconds, count=count, tag=wanted)["frames"]
    if file is not None:
        frames = [(moment, b64decode(data)) for moment, *_, data in said]
        write_bytes(file, pcap(frames))
    rows = [
        {
            "time": _time(moment), "link": link, "direction": "out" if out else "in", "tag": number,
            "group": held.groups.name(number), "source": source, "destination": destination,
            "service": packet_text(*packet),
        }
        for moment, link, out, number, packet, source, destination, _ in said
    ]  # fmt: skip
    counted = Counter((r["link"], r["direction"], r["tag"], r["group"]) for r in rows)
    tags = [
        {"link": link, "direction": way, "tag": number, "group": group, "frames": n}
        for (link, way, number, group), n in sorted(counted.items())
    ]
    return LabCaptured(node=node, frames=rows, tags=tags)


def _time(moment: float) -> str:
    return datetime.fromtimestamp(moment, UTC).isoformat(timespec="milliseconds")


class _Telling:
    """Events in the words of the version that the lab is made as."""

    def __init__(self, lab: Lab, model: Model, version: str) -> None:
        self.version = version
        self.model = held_by(lab, model.files.root)[0]
        ids = self.model.files.endpoints.ids
        self._who = {
            (h.family, h.address): ids[h.endpoint] for h in self.model.hosts if h.endpoint >= 0
        }
        self._lines = dict(zip(self.model.keys, self.model.lines, strict=True))

    def told(self, event: dict[str, Any]) -> Document:
        """One event."""
        packet = Packet(*event["packet"])
        decided = self._decided(event, packet)
        return {
            "time": _time(event["time"]),
            "point": event["point"] or event["node"],
            "verdict": event["verdict"],
            "recorded": not event["quiet"],
            "source": self._end(event["source"], event["source_tag"]),
            "destination": self._end(event["destination"], event["destination_tag"]),
            "packet": packet_json(packet),
            "service": packet_text(*packet),
            **decided,
            "would": event["would"],
            "would_by": self._would(event, packet),
        }

    def _end(self, address: str, tag: int) -> Document:
        return {
            "address": address,
            "endpoint": self._who.get(parse_address(address)),
            "group": self.model.groups.name(tag),
            "tag": tag,
        }

    def _decided(self, event: dict[str, Any], packet: Packet) -> Document:
        """The line and entry that decided: of the answer that was recorded."""
        matrix, by_tag = self.model.matrix, self.model.groups.by_tag
        cell = by_tag.get(event["source_tag"]), by_tag.get(event["destination_tag"])
        if cell[0] is not None and cell[1] is not None and event["keys"]:
            atom = self.model.atoms.atom(packet)
            would = event["verdict"] == "would-deny" and self._differs(cell[0], cell[1], atom)
            for piece in matrix.pieces(cell[0], cell[1], "would" if would else "action"):
                if piece.mask >> atom & 1:
                    said = piece_json(matrix, piece)
                    return {k: said[k] for k in ("line", "permission", "entry")}
        line = next((self._lines[k] for k in event["keys"] if k in self._lines), None)
        place = None if line is None else line.location
        return {
            "line": None if place is None else {"file": place.file, "line": place.line},
            "permission": None, "entry": None,
        }  # fmt: skip

    def _would(self, event: dict[str, Any], packet: Packet) -> Document | None:
        """The line and entry that would decide otherwise."""
        by_tag = self.model.groups.by_tag
        source, target = by_tag.get(event["source_tag"]), by_tag.get(event["destination_tag"])
        if event["action"] == event["would"] or source is None or target is None:
            return None
        atom = self.model.atoms.atom(packet)
        answer: Answer = "would" if self._differs(source, target, atom) else "action"
        for piece in self.model.matrix.pieces(source, target, answer):
            if piece.mask >> atom & 1:
                said = piece_json(self.model.matrix, piece)
                return {k: said[k] for k in ("line", "permission", "entry")}
        return None

    def _differs(self, source: int, destination: int, atom: int) -> bool:
        """Whether the two answers differ: else it is the point that only observes."""
        matrix = self.model.matrix
        return any(
            p.mask >> atom & 1 and p.action.action != p.would.action
            for p in matrix.parts(source, destination)
        )
