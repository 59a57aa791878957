"""``matrix``: every cell, those of some sources and destinations, or those that are like that."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import count
from typing import TYPE_CHECKING, ClassVar

import numpy as np
from numpy.typing import NDArray

from oaktag.core import matrix as core
from oaktag.core.comparison import compare
from oaktag.core.matrix import ANSWERS
from oaktag.core.packets import EVERYTHING, Atoms, Box
from oaktag.core.service_text import parse_asked
from oaktag.operations.gains import together
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row
from oaktag.report.words import letters

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, eq=False, repr=False)
class MatrixView(Result):
    """Cells of the matrix, the distinct contents that they share, and groups that are alike."""

    sources: list[Row]
    destinations: list[Row]
    service: str | None
    only: str | None
    forms: list[Row]
    cells: list[Row]
    rows: list[list[str]]
    columns: list[list[str]]
    command: ClassVar[str] = "matrix"
    table: ClassVar[str] = "cells"

    def frame(self) -> pd.DataFrame:
        """One line a cell, with what it allows in words."""
        made = super().frame()
        words = {form["form"]: form["allows"] for form in self.forms}
        for form, text in (("form", "allows"), ("would_form", "would_allow")):
            made[text] = made[form].map(words)
        return made

    def _repr_html_(self) -> str:
        from oaktag.report.matrix_html import matrix_html

        return matrix_html(self.as_json()) or super()._repr_html_()


#: So many different pairs of a port and a transport there are, of TCP and UDP.
PORTS = 2 << 16


def matrix(
    model: Model,
    source: str | None = None,
    destination: str | None = None,
    *,
    service: str | None = None,
    only: str | None = None,
    search: str | None = None,
    against: Model | None = None,
) -> MatrixView:
    """All cells, with the distinct contents that they share.

    Cells of one content have one number in ``forms``; form 0 allows nothing. ``rows`` and
    ``columns`` name the groups that are alike in all that is shown.

    Args:
        model: the workspace.
        source: only these sources.
        destination: only these destinations.
        service: only what cells say about this service.
        only: cells that observed lines would change, that no line speaks of, or that differ from
            ``against``.
        search: cells that a line applies to which has this text in a name, its note or its owner.
        against: another version.

    Raises:
        UsageError: an unknown name or service.
    """
    if only == "changed" and against is not None:
        against, model = together(against, model)
    asked = model.atoms.full
    if service is not None:
        boxes = parse_asked(service, model.files.permissions.services)
        model = model.cut_along(boxes)
        asked = model.atoms.mask(boxes)
    every = tuple(range(len(model.groups)))
    rows = every if source is None else model.groups_of(model.end(source))
    columns = every if destination is None else model.groups_of(model.end(destination))
    painted = [model.matrix.block_of(rows, columns, answer) for answer in ANSWERS]
    shown = np.ones((len(rows), len(columns)), dtype=np.bool_)
    if only is not None or search is not None:
        shown = _shown(model, only, search, against)[np.ix_(rows, columns)]
    masks = [f & asked for f in model.matrix.forms.masks]
    number = numbers(masks, _whole(model) or painted)
    code = codes(number, asked)
    held = {masks[f] for p in painted for f in p[shown].tolist()}
    cells = [[[number.get(masks[f], -1) for f in row] for row in p.tolist()] for p in painted]
    names = [g.id for g in model.groups.all]
    return MatrixView(
        sources=[model.group_json(g) for g in rows],
        destinations=[model.group_json(g) for g in columns],
        service=service,
        only=only,
        forms=[
            {
                "form": n, "code": code[n], "allows": "any" if m == asked else model.text(m),
                "share": round(share(model.atoms, m, asked), 4),
            }
            for m, n in number.items()
            if m in held
        ],
        cells=[
            {
                "source": names[s], "destination": names[d],
                "form": cells[0][i][j], "would_form": cells[1][i][j],
            }
            for i, s in enumerate(rows)
            for j, d in enumerate(columns)
            if shown[i, j]
        ],
        rows=_alike(names, rows, cells, shown),
        columns=_alike(names, columns, [_turned(c) for c in cells], shown.T),
    )  # fmt: skip


def _whole(model: Model) -> list[NDArray[np.int32]]:
    """All cells, by which contents are numbered whatever is asked for; none where these are too
    many."""
    if len(model.groups) ** 2 > core.MOST_CELLS:
        return []
    return [model.matrix.action_form, model.matrix.would_form]


def codes(numbers: Mapping[int, int], everything: int) -> dict[int, str]:
    """The letter of each content, by its number: a dot for nothing, a star for everything, letters
    for the rest, the most used first; past them a number."""
    held, more = iter(letters()), count(1)
    marks = {0: ".", everything: "*"}
    return {n: marks.get(m) or next(held, "") or f"#{next(more)}" for m, n in numbers.items()}


def _shown(
    model: Model, only: str | None, search: str | None, against: Model | None
) -> NDArray[np.bool_]:
    """Which cells are asked for, as [G+1, G+1]."""
    size = model.matrix.square()
    shown = np.ones((size, size), dtype=np.bool_)
    if only == "observed":
        shown &= model.matrix.action_form != model.matrix.would_form
    if only == "default" or search is not None:
        spoken, found = np.zeros_like(shown), np.zeros_like(shown)
        for row in model.matrix.rows:
            block = model.matrix.block(row)
            if block is not None:
                spoken[block] = True
                if search is not None and _says(model, row.line, search):
                    found[block] = True
        shown &= ~spoken if only == "default" else True
        shown &= found if search is not None else True
    if only == "changed" and against is not None:
        changed = np.zeros_like(shown)
        for cell in compare(against.matrix, model.matrix):
            if cell.source in model.groups.index and cell.destination in model.groups.index:
                changed[model.groups.index[cell.source], model.groups.index[cell.destination]] = (
                    True
                )
        shown &= changed
    return shown


def _says(model: Model, line: int, text: str) -> bool:
    held = model.lines[line]
    name = model.files.policy.permissions[held.permission].name
    words = (held.source, held.destination, name, held.owner, held.note)
    return any(text.lower() in word.lower() for word in words)


def numbers(masks: Sequence[int], painted: Sequence[NDArray[np.int32]]) -> dict[int, int]:
    """Distinct contents by how often they stand there, the empty one first."""
    used: dict[int, int] = {}
    for part in painted:
        for form, often in enumerate(np.bincount(part.ravel(), minlength=1).tolist()):
            if often:
                used[masks[form]] = used.get(masks[form], 0) + often
    order = sorted(used, key=lambda m: (m != 0, -used[m]))
    return {mask: n for n, mask in enumerate(order)}


def share(atoms: Atoms, mask: int, asked: int) -> float:
    """How much of what is asked is allowed, 0 to 1, by the logarithm of the number of ports."""
    if mask in (0, asked):
        return float(mask != 0)
    ports = [
        sum(
            high - low + 1
            for r in atoms.regions(m & _ported(atoms))
            for low, high in r.destinations
        )
        for m in (mask, asked)
    ]
    return float(np.log2(2 + ports[0]) / np.log2(2 + max(ports[1], PORTS if ports[1] else 1)))


def _ported(atoms: Atoms) -> int:
    boxes: list[Box] = [EVERYTHING._replace(family=4, protocols=(n, n)) for n in (6, 17)]
    return atoms.touched(boxes)


def _turned(rows: Sequence[Sequence[int]]) -> list[list[int]]:
    return [list(column) for column in zip(*rows, strict=True)]


def _alike(
    names: Sequence[str],
    groups: Sequence[int],
    cells: Sequence[Sequence[Sequence[int]]],
    shown: NDArray[np.bool_],
) -> list[list[str]]:
    """Groups in blocks: those with equal rows (or columns) together, in order of the first."""
    blocks: dict[object, list[str]] = {}
    for i, group in enumerate(groups):
        key = tuple(cells[0][i]), tuple(cells[1][i]), shown[i].tobytes()
        blocks.setdefault(key, []).append(names[group])
    return list(blocks.values())
