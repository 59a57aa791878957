"""``cell``: one cell, its lines, its ordered entries, and what they come to."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import ClassVar

from oaktag.core.lines import Action
from oaktag.errors import UsageError
from oaktag.operations.json_parts import Document, boxes_json
from oaktag.operations.model import Model
from oaktag.operations.result import ABSENT, Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Cell(Result):
    """One cell: its lines in order, their entries, and what they come to as disjoint boxes. Of sets
    ``alike`` has the cells of the same lines together, with their ``pairs``."""

    source: Row
    destination: Row
    lines: list[Row]
    entries: list[Row]
    default: Action
    default_decides: bool
    observed_default: Action | None
    allows: str
    would_allow: str
    boxes: list[Row]
    alike: list[Row] = field(default=ABSENT)
    command: ClassVar[str] = "cell"
    table: ClassVar[str] = "boxes"


#: So many cells are told at once.
MOST_PAIRS = 10_000
#: What a cell of several says at its head.
HEAD = ("command", "schema", "source", "destination", "default", "observed_default")


def cell(model: Model, source: str, destination: str) -> Cell:
    """Everything about one cell; of sets about all of theirs, those of the same lines together.

    Raises:
        UsageError: an unknown name, or too many cells.
    """
    words = source, destination
    sides = [model.some_groups(word) for word in words]
    count = len(sides[0]) * len(sides[1])
    if count == 1:
        return _cell(model, (sides[0][0], sides[1][0]))
    if count > MOST_PAIRS:
        raise UsageError(f"these are {count:,} cells; oaktag matrix shows as many at once")
    alike: dict[tuple[object, ...], list[tuple[int, int]]] = {}
    for s in sides[0]:
        for d in sides[1]:
            lines = tuple(model.matrix.rows_of(s, d))
            forms = (model.matrix.form(s, d), model.matrix.form(s, d, "would"))
            alike.setdefault((lines, *forms), []).append((s, d))
    names = [group.id for group in model.groups.all]
    held = [
        {
            "pairs": [[names[s], names[d]] for s, d in pairs],
            **{k: v for k, v in _cell(model, pairs[0]).as_json().items() if k not in HEAD},
        }
        for pairs in alike.values()
    ]
    first = _cell(model, (sides[0][0], sides[1][0]))
    ends = [
        model.group_json(side[0]) if len(side) == 1 else {"group": word, "tag": None}
        for word, side in zip(words, sides, strict=True)
    ]
    return replace(
        first, source=ends[0], destination=ends[1], alike=held, lines=[], entries=[], boxes=[],
        allows="", would_allow="",
    )  # fmt: skip


def _cell(model: Model, ends: tuple[int, int]) -> Cell:
    """Everything about one cell."""
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
    return model.text(model.matrix.forms[form])
