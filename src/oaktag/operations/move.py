"""``move``: a line of the matrix at another place of its file, and what each place would change."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Literal

from oaktag.core.comparison import compare
from oaktag.core.lines import Line
from oaktag.core.matrix import Matrix
from oaktag.errors import UsageError
from oaktag.operations.change import Change, made
from oaktag.operations.model import Model
from oaktag.operations.result import Row
from oaktag.workspace.csv_edits import with_moved

Where = Literal["up", "down", "first", "last", "before", "after"]
#: Of so many lines of a file it is told what each place would change.
MOST_PLACES = 400


def move(
    model: Model, line: str, where: Where | None, other: str | None = None, *, write: bool,
    anyway: bool = False,
) -> Change:  # fmt: skip
    """Put a line at another place of its file.

    Args:
        model: the workspace.
        line: the line, as ``matrix/20-reading.csv:4`` or ``20-reading.csv:4``.
        where: one place up or down, first or last of its file, before or after ``other``; None to
            be told what each place would change.
        other: another line of the same file, or its number.
        write: write it; else it is only shown.
        anyway: also where an expectation fails then.

    Raises:
        UsageError: no such line, or no such place.
    """
    mine = _line(model, line)
    file = mine.location.file
    held = [n for n in model.lines if n.location.file == file]
    at = held.index(mine)
    if where is None:
        return replace(made(model, "move", {}, write=False), places=_places(model, held, at))
    places = {"up": at - 1, "down": at + 1, "first": 0, "last": len(held) - 1}
    if where in ("before", "after"):
        there = held.index(_line(model, other or "", file))
        # Without the line itself, those behind it stand one place further up.
        place = there - (there > at) + (where == "after")
    else:
        place = places[where]
    if not 0 <= place < len(held):
        raise UsageError(f"{mine.location} is the {'first' if place < 0 else 'last'} of its file")
    rest = held[:at] + held[at + 1 :]
    before = rest[place].location.line if place < len(rest) else None
    text = with_moved(model.files.folder.text(file), mine.location.line, before)
    shown = made(model, "move", {file: text}, write=write, anyway=anyway)
    return replace(shown, places=[])


def _line(model: Model, said: str, file: str | None = None) -> Line:
    """The line that is meant, of any layer or of one file.

    Raises:
        UsageError: there is none.
    """
    match = re.fullmatch(r"(?:(.+):)?(\d+)", said)
    if match is None or (match[1] is None and file is None):
        raise UsageError(f"{said!r} is no line; write FILE:LINE, as in matrix/20-reading.csv:4")
    names = [n for n in model.files.config.layers if match[1] in (n, n.split("/")[-1])]
    name = file if match[1] is None else names[0] if len(names) == 1 else None
    if name is None or (file is not None and name != file):
        there = f"another line of {file}" if file else ", ".join(model.files.config.layers)
        raise UsageError(f"{said!r} is in no such file; {there} can be meant")
    number = int(match[2])
    found = next((n for n in model.lines if n.location[:2] == (name, number)), None)
    if found is None:
        raise UsageError(f"no line of the matrix begins in line {number} of {name}")
    return found


def _places(model: Model, held: list[Line], at: int) -> list[Row]:
    """Of each place in a file how many cells differ if the line stands there; places next to each
    other of which the same is to be said as one."""
    if len(held) > MOST_PLACES:
        raise UsageError(
            f"{held[at].location.file} has {len(held)} lines, too many to try each place; say where"
        )
    policy, everyone = model.files.policy, model.lines
    first = everyone.index(held[0])
    rest = held[:at] + held[at + 1 :]
    rows: list[Row] = []
    for place in range(len(held)):
        order = [*rest[:place], held[at], *rest[place:]]
        lines = (*everyone[:first], *order, *everyone[first + len(held) :])
        then = Matrix(model.groups, policy._replace(lines=lines), model.atoms, model.today)
        cells = compare(model.matrix, then)
        seen = {"cells": [[c.source, c.destination] for c in cells]}
        ends = order[place + 1].location.line if place + 1 < len(order) else None
        if rows and rows[-1]["cells"] == seen["cells"]:
            rows[-1]["last_before"] = ends
        else:
            rows.append({"first_before": ends, "last_before": ends, **seen, "here": False})
        rows[-1]["here"] = rows[-1]["here"] or place == at
    return rows
