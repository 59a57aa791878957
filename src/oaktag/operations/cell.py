"""``cell``: one cell, its lines, its ordered entries, and what they come to."""

from __future__ import annotations

from oaktag.core.service_text import set_text
from oaktag.operations.documents import Document, boxes_json
from oaktag.operations.model import Model
from oaktag.operations.results import Cell


def cell(model: Model, source: str, destination: str) -> Cell:
    """Everything about one cell.

    Raises:
        UsageError: an unknown name, or a set.
    """
    ends = model.one_group(source), model.one_group(destination)
    matrix, atoms = model.matrix, model.atoms
    lines: list[Document] = []
    entries: list[Document] = []
    reached = {
        (p.row, p.entry) for answer in ("action", "would") for p in matrix.pieces(*ends, answer)
    }
    for number in matrix.rows_of(*ends):
        row = matrix.rows[number]
        line = matrix.policy.lines[row.line]
        permission = matrix.policy.permissions[line.permission]
        place = {"file": line.location.file, "line": line.location.line}
        lines.append(
            {
                **place, "source": row.source, "destination": row.destination,
                "permission": permission.name, "mode": line.mode, "mirrored": row.mirrored,
                "owner": line.owner, "note": line.note,
            }
        )  # fmt: skip
        for step, entry in enumerate(permission.steps):
            decides = (number, step) in reached
            entries.append(
                {
                    **place, "permission": permission.name, "action": entry.action,
                    "services": entry.text, "mode": line.mode, "log": entry.log,
                    "decides": decides or entry.action == "pass",
                }
            )  # fmt: skip
    boxes: list[Document] = []
    by_answer: dict[tuple[str, str], int] = {}
    for part in matrix.parts(*ends):
        key = part.action.action, part.would.action
        by_answer[key] = by_answer.get(key, 0) | part.mask
    for (action, would), mask in sorted(by_answer.items()):
        for box in boxes_json(atoms.regions(mask)):
            boxes.append({**box, "action": action, "would": would})
    policy = model.files.policy
    return Cell(
        source=model.group_json(ends[0]),
        destination=model.group_json(ends[1]),
        lines=lines,
        entries=entries,
        default=policy.default,
        default_decides=(-1, -1) in reached,
        observed_default=policy.observed_default,
        allows=allowed_text(model, matrix.form(*ends)),
        would_allow=allowed_text(model, matrix.form(*ends, "would")),
        boxes=boxes,
    )


def allowed_text(model: Model, form: int) -> str:
    """What a form allows, as services."""
    return set_text(model.atoms, model.matrix.forms[form])
