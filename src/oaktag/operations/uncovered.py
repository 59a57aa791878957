"""``expect --uncovered``: cells that no expectation speaks of, and packets allowed that none asks
for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from oaktag.core.expectations import Claim
from oaktag.core.service_text import set_words
from oaktag.core.slack import slack
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Uncovered(Result):
    """What expectations and ``keep_open`` leave open, as rectangles of cells."""

    cells: int
    spoken: int
    loose: int
    uncovered: list[Row]
    command: ClassVar[str] = "expect uncovered"
    shown_by: ClassVar[str] = "uncovered"
    table: ClassVar[str] = "uncovered"


def uncovered(model: Model) -> Uncovered:
    """What no expectation speaks of, cells with most packets first."""
    every = (*model.files.expectations, *model.files.keep_open)
    found = slack(
        model.matrix,
        (
            (
                Claim(e.kind, model.atoms.mask(e.boxes), e.enforced),
                model.groups_of(e.source), model.groups_of(e.destination),
            )
            for e in every
        ),
    )  # fmt: skip
    ids = [g.id for g in model.groups.all]
    full = model.atoms.full
    rows = sorted(
        found.rows,
        key=lambda r: (r.mask != full, r.spoken, -len(r.sources) * len(r.destinations)),
    )
    told = {
        mask: (set_words(model.atoms, mask), model.text(mask)) for mask in {r.mask for r in rows}
    }
    return Uncovered(
        cells=found.cells,
        spoken=found.spoken,
        loose=found.loose,
        uncovered=[
            {
                "sources": [ids[s] for s in row.sources],
                "destinations": [ids[d] for d in row.destinations],
                "allowed": told[row.mask][0],
                "allowed_text": told[row.mask][1],
                "spoken": row.spoken,
            }
            for row in rows
        ],
    )
