"""``callers`` and ``callees``: who may reach a destination, and what a source may reach."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import ClassVar, Literal

from oaktag.core.matrix import ANSWERS
from oaktag.core.service_text import parse_asked
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.result import ABSENT, Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Callers(Result):
    """Who may reach a destination (``callers``), or what a source may reach (``callees``)."""

    command: str
    service: str
    destination: Row = field(default=ABSENT)
    source: Row = field(default=ABSENT)
    callers: list[Row] = field(default=ABSENT)
    callees: list[Row] = field(default=ABSENT)
    shown_by: ClassVar[str] = "callers"

    @property
    def table(self) -> str:  # type: ignore[override]
        """Of the name of the command."""
        return self.command


def other_ends(
    model: Model,
    command: Literal["callers", "callees"],
    word: str,
    service: str | None = None,
    *,
    endpoints: bool = False,
) -> Callers:
    """Who may reach a destination (``callers``), or what a source may reach (``callees``), for a
    service or for anything.

    Raises:
        UsageError: an unknown name, a set, or no service.
    """
    model, mask = asked_of(model, service)
    asked = model.some_groups(word)
    every = range(len(model.groups))
    if command == "callers":
        pairs, end, here = [(g, d) for g in every for d in asked], 0, "destination"
    else:
        pairs, end, here = [(s, g) for g in every for s in asked], 1, "source"
    rows = _rows(model, pairs, end, mask, endpoints=endpoints)
    about: Document = model.group_json(asked[0])
    if len(asked) > 1:
        about = {"group": word, "tag": None}
        rows = _together(rows)
    else:
        for row in rows:
            row.pop("of")
    if here == "destination":
        return Callers(command, service or "any", destination=about, callers=rows)
    return Callers(command, service or "any", source=about, callees=rows)


def asked_of(model: Model, service: str | None) -> tuple[Model, int]:
    """The packets of a service, in the model cut along them."""
    if service is None:
        return model, model.atoms.full
    boxes = parse_asked(service, model.files.permissions.services)
    finer = model.cut_along(boxes)
    return finer, finer.atoms.mask(boxes)


def _rows(
    model: Model, pairs: Iterable[tuple[int, int]], end: int, mask: int, *, endpoints: bool
) -> list[Document]:
    """The other ends that are allowed any of the packets, with what and by which lines."""
    forms = model.matrix.forms
    people = members_of(model)
    rows: list[Document] = []
    for pair in pairs:
        now, later = (forms[model.matrix.form(*pair, answer)] & mask for answer in ANSWERS)
        if not now | later:
            continue
        group = pair[end]
        row: Document = {
            **model.group_json(group), "of": [model.groups.all[pair[1 - end]].id],
            "members": len(people[group]), "all": now == mask,
            "allows": model.text(now) if now != mask else "all of it",
            "would_allow": model.text(later) if later != mask else "all of it",
            "lines": allowing(model, pair, now),
        }  # fmt: skip
        if mask == model.atoms.full:
            row["allows"], row["would_allow"] = (model.text(m) for m in (now, later))
        if endpoints:
            row["endpoints"] = [model.files.endpoints.ids[r] for r in people[group]]
        rows.append(row)
    return rows


def _together(rows: list[Document]) -> list[Document]:
    """list[Row] of one group with the same content as one, ``of`` all those of the set."""
    alike: dict[tuple[object, ...], Document] = {}
    for row in rows:
        key = row["group"], row["allows"], row["would_allow"]
        known = alike.setdefault(key, row)
        if known is not row:
            known["of"] = [*known["of"], *row["of"]]
            known["lines"] += [line for line in row["lines"] if line not in known["lines"]]
    return list(alike.values())


def members_of(model: Model) -> dict[int, list[int]]:
    """Group → the rows of its members."""
    found: dict[int, list[int]] = {g: [] for g in range(len(model.groups))}
    for row, group in enumerate(model.assignment.group.tolist()):
        found[max(group, 0)].append(row)
    return found


def allowing(model: Model, pair: tuple[int, int], mask: int) -> list[Document]:
    """The lines that allow the packets in a cell, and whether the default allows some."""
    places: dict[tuple[str, int] | None, None] = {}
    for piece in model.matrix.pieces(*pair, "action"):
        if piece.action == "allow" and piece.mask & mask:
            where = None
            if piece.row >= 0:
                location = model.lines[model.matrix.rows[piece.row].line].location
                where = location.file, location.line
            places[where] = None
    return [
        {"file": None, "line": None} if p is None else {"file": p[0], "line": p[1]} for p in places
    ]
