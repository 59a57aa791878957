"""``members``: who is in which group, and why; who nearly is."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from copy import copy
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import ClassVar

import numpy as np

from oaktag.core.addresses import parse_prefix
from oaktag.core.assignment import (
    AnyOf,
    Assignment,
    Compare,
    Condition,
    Equals,
    Glob,
    Rule,
    Test,
    Within,
)
from oaktag.core.comparison import renamed
from oaktag.errors import UsageError
from oaktag.located import Location
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.result import ABSENT, Result, Row
from oaktag.workspace.assignments_file import NUMBER


@dataclass(frozen=True, eq=False, repr=False)
class Members(Result):
    """Endpoints with their group and why, and every group in numbers; or who moved, what a rule
    takes and loses, who has no standing binding."""

    endpoints: list[Row] = field(default=ABSENT)
    groups: list[Row] = field(default=ABSENT)
    moved: list[Row] = field(default=ABSENT)
    affected: Row = field(default=ABSENT)
    gained: list[Row] = field(default=ABSENT)
    lost: list[Row] = field(default=ABSENT)
    new: list[Row] = field(default=ABSENT)
    gone: list[Row] = field(default=ABSENT)
    same_access: list[Row] = field(default=ABSENT)
    takes: list[Row] = field(default=ABSENT)
    loses: list[Row] = field(default=ABSENT)
    withheld: list[Row] = field(default=ABSENT)
    command: ClassVar[str] = "members"

    @property
    def table(self) -> str:  # type: ignore[override]
        """The rows that this answer has."""
        names = ("endpoints", "moved", "takes", "withheld")
        return next(n for n in names if getattr(self, n) is not ABSENT)


def members(
    model: Model,
    group: str | None = None,
    *,
    unassigned: bool = False,
    when: str | None = None,
    confidence: float = 0.0,
) -> Members:
    """Endpoints with their group and the reason, and each group in numbers.

    Args:
        model: the workspace.
        group: only members of this group or set.
        unassigned: only endpoints that no pin and no rule assigned.
        when: only those whom these conditions would take, as ``site=ashgrove, model=SC-*``.
        confidence: with ``when``, attributes known with less count as missing.

    Raises:
        UsageError: an unknown group, or conditions that cannot be read.
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
    if when is not None:
        place = Location("--when")
        rule = Rule(0, parse_conditions(when), (), place, min_confidence=confidence)
        taken = model.assignment.matches(rule, np.arange(len(given)))
        rows = [r for r in rows if taken[r]]
    return Members(
        endpoints=[endpoint_json(model, row) for row in rows],
        groups=[_summary(model, index) for index in range(1, len(model.groups))],
    )


def _summary(model: Model, group: int) -> Document:
    """One group in numbers: members, bindings, kinds, sites."""
    endpoints = model.files.endpoints
    rows = np.flatnonzero(model.assignment.group == group).tolist()
    tag = model.groups.tag(group)
    return {
        **model.group_json(group),
        "members": len(rows),
        "bindings": int((model.registry.in_force.tags == tag).sum()),
        "kinds": dict(Counter(endpoints.kind(r) for r in rows)),
        "sites": sorted({s for r in rows for s in endpoints.value(r, "site")}),
    }


def parse_conditions(text: str) -> tuple[Condition, ...]:
    """Conditions as they are written in a command: ``site=ashgrove, model=SC-200|SC-210, size>=4``.

    Raises:
        UsageError: a part is no condition.
    """
    found: list[Condition] = []
    for part in text.split(","):
        match = re.fullmatch(r"\s*([^=<>]+?)\s*(>=|<=|=|>|<)\s*(.+?)\s*", part)
        if match is None:
            raise UsageError(f"{part.strip()!r} is no condition; as in site=ashgrove, size>=4")
        attribute, sign, value = match.groups()
        tests = [_test(sign, word.strip()) for word in value.split("|")]
        test = tests[0] if len(tests) == 1 else AnyOf(tuple(tests))
        found.append(Condition(attribute, test, value))
    return tuple(found)


def _test(sign: str, value: str) -> Test:
    if sign != "=":
        if not NUMBER.fullmatch(value):
            raise UsageError(f"{value!r} is no number to compare with {sign}")
        return Compare(((sign, Decimal(value)),))
    if NUMBER.fullmatch(value):  # as in a rule: what has leading zeros is text
        return Equals(Decimal(value))
    if "/" in value:
        try:
            return Within((parse_prefix(value),))
        except ValueError:
            pass
    return Glob(value) if re.search(r"[*?\[]", value) else Equals(value)


def uncertain(model: Model) -> Members:
    """Who would change group if every attribute were certain."""
    endpoints = model.files.endpoints
    sure = copy(endpoints)
    sure.columns = {
        name: replace(column, confidence=np.ones_like(column.confidence))
        for name, column in endpoints.columns.items()
    }
    now = model.assignment
    then = Assignment(sure, now.rules, now.pins, model.groups.index)
    return Members(
        moved=[
            _moved(model, row, int(now.group[row]), int(then.group[row]))
            for row in np.flatnonzero(now.group != then.group).tolist()
        ],
    )


def moves(model: Model, other: Model) -> list[Document]:
    """Who moved since another version of the workspace, who came and who went; whose group has
    another id now, and the same tag, has not moved."""
    if model.same_people(other):
        return []
    new = renamed(other.groups, model.groups)
    was, now = _groups_of(other), _groups_of(model)
    return [
        {"endpoint": name, "was": was.get(name), "is": now.get(name)}
        for name in {**now, **was}
        if new.get(was.get(name, ""), was.get(name)) != now.get(name)
    ]


def _groups_of(model: Model) -> dict[str, str]:
    """Endpoint → its group."""
    names = [g.id for g in model.groups.all]
    groups = model.assignment.group.clip(0).tolist()
    return {name: names[g] for name, g in zip(model.files.endpoints.ids, groups, strict=True)}


def _moved(model: Model, row: int, was: int, now: int) -> Document:
    names = model.groups.all
    return {
        "endpoint": model.files.endpoints.ids[row],
        "was": names[max(was, 0)].id,
        "is": names[max(now, 0)].id,
    }


def by_rule(model: Model, line: int) -> Members:
    """What the rule in a line of ``assignments.yaml`` takes, and what it loses to earlier ones.

    Raises:
        UsageError: no rule stands in the line.
    """
    assignment = model.assignment
    lines = [r.location.line for r in assignment.rules]
    if line not in lines:
        listed = ", ".join(map(str, lines)) or "none at all"
        raise UsageError(f"no rule stands in line {line} of assignments.yaml; there are {listed}")
    number = lines.index(line)
    matched = assignment.rows_of(number).tolist()
    takes = [r for r in matched if assignment.rule[r] == number]
    loses = [r for r in matched if assignment.rule[r] != number]
    return Members(
        takes=[endpoint_json(model, r) for r in takes],
        loses=[endpoint_json(model, r) for r in loses],
    )


def withheld(model: Model) -> Members:
    """Members without a standing binding, and why."""
    bound = {b.who for b in model.registry_bindings if b.source in ("inventory", "session")}
    assumed = {p.endpoint: p for p in model.places if p.by == "assumed"}
    rows: list[Document] = []
    for row in np.flatnonzero(model.assignment.group >= 0).tolist():
        said = endpoint_json(model, row)
        if said["endpoint"] in bound:
            continue
        if not said["addresses"]:
            why = "it has no address"
        elif row in assumed:
            segment = model.network.segment_of(assumed[row].address)
            where = f" in {segment}" if segment else ""
            why = f"its address is {said['stability']} and no session is known{where}"
        else:
            why = "its address belongs to a newer session of another"
        rows.append({**said, "why": why})
    return Members(withheld=rows)


def endpoint_json(model: Model, row: int) -> Document:
    """One endpoint: its group, the reason, what else would have taken it, what nearly did."""
    assignment, endpoints = model.assignment, model.files.endpoints
    group = max(int(assignment.group[row]), 0)
    return {
        "endpoint": endpoints.ids[row],
        "kind": endpoints.kind(row),
        **model.group_json(group),
        "by": reason_json(model, row),
        "also": [_rule(model, n, row) for n in assignment.also(row)],
        "near": [
            {**_rule(model, miss.rule, row), "attribute": miss.attribute, "unsure": miss.unsure}
            for miss in assignment.near(row)
        ],
        "addresses": list(endpoints.value(row, "address")),
        "sessions": model.sessions_of.get(row, []),
        "stability": endpoints.stability(row),
    }


def reason_json(model: Model, row: int) -> Document | None:
    """The pin, or the rule with its conditions, that puts an endpoint into its group."""
    assignment = model.assignment
    if assignment.pin[row] >= 0:
        place = assignment.pins[assignment.pin[row]].location
        return {"kind": "pin", "file": place.file, "line": place.line, "conditions": []}
    if assignment.rule[row] >= 0:
        place = assignment.rules[assignment.rule[row]].location
        held = [f"{c.attribute}: {c.text}" for c in assignment.held(row)]
        return {"kind": "rule", "file": place.file, "line": place.line, "conditions": held}
    return None


def _rule(model: Model, number: int, row: int) -> Document:
    rule = model.assignment.rules[number]
    if rule.template:
        known = all(model.files.endpoints.value(row, a) for a in rule.named)
        group = model.assignment.given(rule, row) if known else rule.template
    else:
        group = model.groups.all[rule.give].id
    return {"file": rule.location.file, "line": rule.location.line, "group": group}
