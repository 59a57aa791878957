"""``decide``: allow or deny, and the line that says so."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import ClassVar, Literal

from oaktag.core.matrix import Part
from oaktag.core.packets import Box
from oaktag.core.service_text import parse_asked, regions_text
from oaktag.errors import UsageError
from oaktag.operations.json_parts import (
    Document,
    boxes_json,
    clipped,
    packet_json,
    piece_json,
)
from oaktag.operations.model import Model
from oaktag.operations.result import ABSENT, Result, Row
from oaktag.operations.whose import addressed


@dataclass(frozen=True, eq=False, repr=False)
class Decision(Result):
    """What one cell says about the packets of a service; ``line`` is None for the default, and
    where packets differ the ``action`` is ``mixed`` and ``parts`` has each. Of sets ``cells`` has
    each pair."""

    source: Row
    destination: Row
    service: str
    packet: Row
    action: Literal["allow", "deny", "mixed"]
    would: Literal["allow", "deny", "mixed"]
    line: Row | None
    would_line: Row | None
    permission: str | None
    entry: str | None
    addressed: list[Row]
    parts: list[Row] = field(default=ABSENT)
    cells: list[Row] = field(default=ABSENT)
    command: ClassVar[str] = "decide"

    @property
    def table(self) -> str:  # type: ignore[override]
        """The cells of sets, else the parts of one."""
        return "parts" if self.cells is ABSENT else "cells"


#: So many cells are decided at once.
MOST_PAIRS = 10_000


def decide(
    model: Model,
    source: str,
    destination: str,
    service: str,
    family: int | None = None,
    source_port: int | None = None,
) -> Decision:
    """What one cell says about the packets of a service, or all cells of sets.

    Args:
        model: the workspace.
        source: group, set, tag, endpoint, node or address; so is ``destination``.
        service: in a written form, see ``core.services``.
        family: 4 or 6, to narrow the question.
        source_port: to narrow it likewise.

    Raises:
        UsageError: an unknown name, too many cells, or no packet is asked about.
    """
    asked = _asked(model, service, family, source_port)
    words = source, destination
    sides = [model.some_groups(word) for word in words]
    if len(sides[0]) * len(sides[1]) > MOST_PAIRS:
        raise UsageError(
            f"these are {len(sides[0]) * len(sides[1]):,} cells: oaktag matrix --service {service} "
            "shows as many at once"
        )
    about = addressed(model, *words)
    rows = [_decided(model, (s, d), service, asked) for s in sides[0] for d in sides[1]]
    if len(rows) == 1:
        return replace(rows[0], addressed=about)
    first = rows[0]
    same = {
        name: value if all(getattr(row, name) == value for row in rows) else None
        for name, value in first.as_json().items()
        if name in ("action", "would", "line", "would_line", "permission", "entry")
    }
    ends = [
        model.group_json(side[0]) if len(side) == 1 else {"group": word, "tag": None}
        for word, side in zip(words, sides, strict=True)
    ]
    return Decision(
        source=ends[0],
        destination=ends[1],
        service=service,
        packet=first.packet,
        action=same["action"] or "mixed",
        would=same["would"] or "mixed",
        line=same["line"],
        would_line=same["would_line"],
        permission=same["permission"],
        entry=same["entry"],
        addressed=about,
        cells=[
            {
                "source": row.source, "destination": row.destination, "action": row.action,
                "would": row.would, "line": row.line, "would_line": row.would_line,
                "permission": row.permission, "entry": row.entry,
            }
            for row in rows
        ],
    )  # fmt: skip


def _decided(model: Model, ends: tuple[int, int], service: str, asked: Sequence[Box]) -> Decision:
    """What one cell says."""
    matrix = model.matrix
    parts = matrix.parts(*ends, model.atoms.touched(asked))
    answers = {(p.action.action, p.would.action) for p in parts}
    first = parts[0]
    regions = clipped(model.atoms.regions(first.mask), asked)
    said = piece_json(matrix, first.action)
    mixed = len(answers) > 1
    return Decision(
        source=model.group_json(ends[0]),
        destination=model.group_json(ends[1]),
        service=service,
        packet=packet_json(regions[0].first()),
        action="mixed" if mixed else first.action.action,
        would="mixed" if mixed else first.would.action,
        line=None if mixed else said["line"],
        would_line=None if mixed else piece_json(matrix, first.would)["line"],
        permission=None if mixed else said["permission"],
        entry=None if mixed else said["entry"],
        addressed=[],
        parts=[row for part in parts for row in _part(model, part, asked)]
        if len(parts) > 1
        else ABSENT,
    )


def _asked(model: Model, service: str, family: int | None, source_port: int | None) -> list[Box]:
    boxes = list(parse_asked(service, model.files.permissions.services))
    if family is not None:
        boxes = [b._replace(family=family) for b in boxes if b.family in (0, family)]
        if not boxes:
            raise UsageError(f"{service} has no packets of IPv{family}")
    if source_port is not None:
        boxes = [
            b._replace(sources=(source_port, source_port))
            for b in boxes
            if b.sources[0] <= source_port <= b.sources[1]
        ]
    if not boxes or not model.atoms.touched(boxes):
        raise UsageError(f"{service} has no packet from port {source_port}")
    return boxes


def _part(model: Model, part: Part, asked: Sequence[Box]) -> list[Document]:
    would = piece_json(model.matrix, part.would)
    regions = clipped(model.atoms.regions(part.mask), asked)
    services = regions_text(regions, model.named)
    rows = [{**box, "services": services} for box in boxes_json(regions)]
    for row in rows:
        row.update(
            action=part.action.action,
            would=part.would.action,
            **piece_json(model.matrix, part.action),
            would_line=would["line"],
        )
    return rows
