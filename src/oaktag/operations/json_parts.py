"""Small pieces that the documents of several commands share."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from oaktag.core.lines import Line
from oaktag.core.matrix import Matrix, Piece
from oaktag.core.packets import Atoms, Box, Packet, Region, boxes_of

Document = dict[str, Any]


def line_json(line: Line | None) -> dict[str, Any] | None:
    """Where a line stands; None for the default."""
    if line is None:
        return None
    return {"file": line.location.file, "line": line.location.line}


def packet_json(packet: Packet) -> dict[str, int]:
    """One packet."""
    return {
        "family": packet.family,
        "protocol": packet.protocol,
        "source_port": packet.source_port,
        "destination_port": packet.destination_port,
    }


def boxes_json(regions: Sequence[Region]) -> list[dict[str, Any]]:
    """Regions as boxes of one family each."""
    return [
        {
            "family": family,
            "protocols": [list(r) for r in region.protocols],
            "source_ports": [list(r) for r in region.sources],
            "destination_ports": [list(r) for r in region.destinations],
        }
        for region in regions
        for family in region.families
    ]


def piece_line(matrix: Matrix, piece: Piece) -> Line | None:
    """The line that decides a piece; None for the default."""
    return None if piece.row < 0 else matrix.policy.lines[matrix.rows[piece.row].line]


def piece_json(matrix: Matrix, piece: Piece) -> dict[str, Any]:
    """Who decides a piece: line, permission, entry."""
    line = piece_line(matrix, piece)
    if line is None:
        return {"line": None, "permission": None, "entry": None}
    permission = matrix.policy.permissions[line.permission]
    step = permission.steps[piece.entry]
    text = (
        f"otherwise: {step.action}" if step.text == "otherwise" else f"{step.action}: {step.text}"
    )
    return {"line": line_json(line), "permission": permission.name, "entry": text}


def clipped(regions: Sequence[Region], asked: Sequence[Box]) -> list[Region]:
    """The packets of some regions that are also in the boxes asked of."""
    boxes = [box for region in regions for box in boxes_of(region)]
    fine = Atoms([*boxes, *asked])
    return fine.regions(fine.mask(boxes) & fine.mask(asked))
