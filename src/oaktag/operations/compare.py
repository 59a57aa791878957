"""``compare``: exactly what differs between two versions, and what enforcing would change."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import date
from typing import ClassVar, NamedTuple

import numpy as np

from oaktag.core.comparison import CellChange, compare, renamed
from oaktag.core.groups import STAR
from oaktag.core.lines import Line
from oaktag.core.service_text import set_words
from oaktag.errors import UsageError
from oaktag.operations.expect import expect
from oaktag.operations.gains import people, together
from oaktag.operations.guards import Asked, guards
from oaktag.operations.json_parts import Document
from oaktag.operations.list_change import lists
from oaktag.operations.members import moves
from oaktag.operations.model import Model
from oaktag.operations.network_change import network
from oaktag.operations.result import ABSENT, Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Comparison(Result):
    """Who gains and who loses between two versions; then what differs, from the guards to the
    lists and the network."""

    affected: Row
    gained: list[Row]
    lost: list[Row]
    new: list[Row]
    gone: list[Row]
    same_access: list[Row]
    guards: list[Row]
    renamed: list[Row]
    cells: list[Row]
    endpoints: list[Row]
    expectations: list[Row]
    points: list[Row]
    network: list[Row]
    not_followed: str
    lines: list[Row] = field(default=ABSENT)
    command: ClassVar[str] = "compare"
    table: ClassVar[str] = "gained"


def versions(was: Model, now: Model, *, deep: bool = True) -> Comparison:
    """What changes from one version to another: guards, cells, endpoints, expectations, what the
    network does, and, if ``deep``, the lists with their contents."""
    was, now = together(was, now)
    return Comparison(
        **people(was, now),
        guards=guards(was, now),
        renamed=[
            {"was": old, "is": new, "tag": now.groups.tag(now.groups.index[new])}
            for old, new in renamed(was.groups, now.groups).items()
        ],
        cells=_cells(was, now),
        endpoints=moves(now, was),
        expectations=_expectations(was, now),
        points=lists(was, now) if deep else [],
        **network(was, now, count=deep),
    )


class Changes(NamedTuple):
    """What changes in cells, in who is in which group, and in lists."""

    cells: list[Document]
    endpoints: list[Document]
    points: list[Document]


def changes(was: Model, now: Model) -> Changes:
    """What changes in the files' own words, not in what the network then does."""
    was, now = together(was, now)
    return Changes(_cells(was, now), moves(now, was), lists(was, now))


def if_enforced(model: Model, where: str | None = None) -> Comparison:
    """What would change if observed lines were enforced, all or those that ``where`` selects, and
    ``observed_default`` with all of them.

    Raises:
        UsageError: the selection cannot be read, or selects no observed line.
    """
    lines = model.lines
    chosen = {n for n in selected(model, where) if lines[n].mode == "observe"}
    policy = model.files.policy
    watched = policy.observed_default if where is None else None
    if not chosen and watched in (None, policy.default):
        told = "selects no observed line" if where else "there is no observed line"
        raise UsageError(f"{where or ''!r} {told}" if where else told)
    fresh = policy._replace(
        lines=tuple(
            line._replace(mode="enforce") if n in chosen else line for n, line in enumerate(lines)
        ),
        default=watched or policy.default,
    )
    after = Model(model.files._replace(policy=fresh), model.today, model)
    places = [lines[n].location for n in sorted(chosen)]
    held = versions(model, after)
    return replace(held, lines=[{"file": p.file, "line": p.line} for p in places])


def _cells(was: Model, now: Model) -> list[Document]:
    """The cells that differ, with how many are in each group (as untagged: in none), in the version
    with more of them."""
    changes = compare(was.matrix, now.matrix)
    old = {is_: was_ for was_, is_ in renamed(was.groups, now.groups).items()}
    given = [m.assignment.group for m in ((now, was) if changes else ())]
    people = [np.bincount(g.clip(0), minlength=len(now.groups) + len(was.groups)) for g in given]

    def members(name: str) -> int:
        ids = name, old.get(name, name)
        return max(
            int(c[m.groups.index[word]])
            for c, m, word in zip(people, (now, was), ids, strict=True)
            if word in m.groups.index
        )

    return [_cell(now, change, members) for change in changes]


def _cell(now: Model, change: CellChange, members: Callable[[str], int]) -> Document:
    return {
        "source": change.source,
        "destination": change.destination,
        "opened": set_words(now.atoms, change.opened),
        "closed": set_words(now.atoms, change.closed),
        "opened_text": now.text(change.opened) if change.opened else "",
        "closed_text": now.text(change.closed) if change.closed else "",
        "source_members": members(change.source),
        "destination_members": members(change.destination),
    }


def _expectations(was: Model, now: Model) -> list[Document]:
    """Expectations that held and no longer do, or the other way; told apart by what they ask."""

    asked = Asked(was.groups, now.groups)

    def held(model: Model, version: int) -> dict[str, Document]:
        said = expect(model)
        every = zip(
            (*model.files.expectations, *model.files.keep_open),
            (*said["expectations"], *said["keep_open"]),
            strict=True,
        )
        return {asked.key(one, version): row for one, row in every}

    before, after = held(was, 0), held(now, 1)
    rows: list[Document] = []
    for key in dict.fromkeys([*after, *before]):
        old, new = (side[key]["holds"] if key in side else None for side in (before, after))
        if old != new:
            row = after.get(key) or before[key]
            rows.append(
                {
                    "file": row["file"], "line": row["line"], "from": row["from"], "to": row["to"],
                    "asks": row["asks"], "was": old, "is": new,
                }
            )  # fmt: skip
    return rows


# -- which lines ---------------------------------------------------------------------------------

_FIELDS = ("source", "destination", "permission", "mode", "way", "owner", "note", "layer", "line")


def selected(model: Model, where: str | None) -> list[int]:
    """The numbers of the lines that ``where`` selects: ``owner=reading services, mode=observe``;
    a value may be a glob, ``a|b`` is either, and all conditions must hold. As an end ``*`` is the
    word that stands in the line.

    Raises:
        UsageError: it cannot be read, or names no column.
    """
    from fnmatch import fnmatchcase

    if where is None:
        return list(range(len(model.lines)))

    def alike(name: str, held: str, value: str) -> bool:
        if value == STAR and name in ("source", "destination"):
            return held == STAR
        return fnmatchcase(held, value)

    conditions: list[tuple[str, list[str]]] = []
    for part in where.split(","):
        name, equals, value = (p.strip() for p in part.partition("="))
        if not equals or name not in _FIELDS:
            raise UsageError(
                f"{part.strip()!r} is no condition on lines; write e.g. owner=network desk, with "
                f"one of {', '.join(_FIELDS)}"
            )
        conditions.append((name, value.split("|")))
    return [
        n
        for n, line in enumerate(model.lines)
        if all(
            any(alike(name, said(model, line, name), value.strip()) for value in values)
            for name, values in conditions
        )
    ]


def said(model: Model, line: Line, name: str) -> str:
    """What a line says in a column, as it is understood: an empty mode is ``enforce``."""
    policy = model.files.policy
    match name:
        case "permission":
            return policy.permissions[line.permission].name
        case "layer":
            return re.sub(r".*/", "", policy.layers[line.layer])
        case "line":
            return str(line.location.line)
        case "expires":
            return "" if line.expires is None else str(date.fromordinal(line.expires))
        case _:
            return str(getattr(line, name))
