"""Small pieces that the documents of several commands share."""

from __future__ import annotations

from typing import Any

from oaktag.core.lines import Line
from oaktag.core.matrix import Matrix, Piece
from oaktag.core.packets import Atoms, Box, Packet, Region

Document = dict[str, Any]


def document(command: str, **fields: Any) -> Document:
    """The head that every document has, and its fields."""
    return {"command": command, "schema": 1, **fields}


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


def boxes_json(regions: list[Region]) -> list[dict[str, Any]]:
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


def boxes_of(regions: list[Region]) -> list[Box]:
    """Regions as boxes again."""
    return [
        Box(f, p, s, d)
        for r in regions
        for f in ((0,) if len(r.families) == 2 else r.families)
        for p in r.protocols
        for s in r.sources
        for d in r.destinations
    ]


def clipped(atoms: Atoms, mask: int, asked: list[Box]) -> list[Region]:
    """The packets of some atoms that are also in the boxes asked of."""
    regions = boxes_of(atoms.regions(mask))
    fine = Atoms([*regions, *asked])
    return fine.regions(fine.mask(regions) & fine.mask(asked))
