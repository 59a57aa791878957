"""``members``: who is in which group, and why; who nearly is."""

from __future__ import annotations

from collections.abc import Sequence

from oaktag.errors import UsageError
from oaktag.operations.documents import Document, document
from oaktag.operations.model import Model


def members(model: Model, group: str | None = None, *, unassigned: bool = False) -> Document:
    """Endpoints with their group and the reason.

    Args:
        model: the workspace.
        group: only members of this group or set.
        unassigned: only endpoints that no pin and no rule assigned.

    Raises:
        UsageError: an unknown group.
    """
    given = model.assignment.group
    rows: Sequence[int] = range(len(given))
    if group is not None:
        end = model.end(group)
        if end.kind not in ("group", "set"):
            raise UsageError(f"{group!r} is no group or set")
        wanted = set(end.groups)
        rows = [r for r in rows if int(given[r]) in wanted]
    if unassigned:
        rows = [r for r in rows if given[r] < 0]
    return document("members", endpoints=[endpoint_json(model, row) for row in rows])


def endpoint_json(model: Model, row: int) -> Document:
    """One endpoint: its group, the reason, what else would have taken it, what nearly did."""
    assignment, endpoints = model.assignment, model.files.endpoints
    group = max(int(assignment.group[row]), 0)
    by: Document | None = None
    if assignment.pin[row] >= 0:
        place = assignment.pins[assignment.pin[row]].location
        by = {"kind": "pin", "file": place.file, "line": place.line, "conditions": []}
    elif assignment.rule[row] >= 0:
        place = assignment.rules[assignment.rule[row]].location
        held = [f"{c.attribute}: {c.text}" for c in assignment.held(row)]
        by = {"kind": "rule", "file": place.file, "line": place.line, "conditions": held}
    return {
        "endpoint": endpoints.ids[row],
        "kind": endpoints.kind(row),
        **model.group_json(group),
        "by": by,
        "also": [_rule(model, n) for n in assignment.also(row)],
        "near": [
            {**_rule(model, miss.rule), "attribute": miss.attribute, "unsure": miss.unsure}
            for miss in assignment.near(row)
        ],
        "addresses": list(endpoints.value(row, "address")),
        "stability": endpoints.stability(row),
    }


def _rule(model: Model, number: int) -> Document:
    rule = model.assignment.rules[number]
    return {
        "file": rule.location.file,
        "line": rule.location.line,
        "group": model.groups.all[rule.give].id,
    }
