"""``attributes --typos``: values of which one changed character gives somebody more."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from oaktag.core.assignment import Assignment
from oaktag.core.near_misses import Miss, near_misses
from oaktag.operations.group_life import fares
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row

#: So many endpoints of a value are named.
NAMED = 6


@dataclass(frozen=True, eq=False, repr=False)
class Typos(Result):
    """Values that are one character away from another group, and what that one may do more."""

    typos: list[Row]
    command: ClassVar[str] = "attributes typos"
    shown_by: ClassVar[str] = "typos"
    table: ClassVar[str] = "typos"


def typos(model: Model) -> Typos:
    """Values of which one changed character puts endpoints into a group that may do more."""
    columns = model.files.endpoints.columns
    values = {name: c.values.elements[0] for name, c in columns.items()}
    rows = [_of(model, miss) for miss in near_misses(model.assignment.rules, values)]
    return Typos(typos=[row for some in rows for row in some])


def _of(model: Model, miss: Miss) -> list[Row]:
    """What a value with one character changed does: for each two groups, if any gains."""
    now, here = model.assignment, model.files.endpoints.holding(miss.attribute, miss.element)
    # Who is pinned stays where he is.
    here = here[now.pin[here] < 0]
    part = model.files.endpoints.with_instead(here, *miss)
    then = Assignment(part, now.rules, (), model.groups.index)
    ids = [g.id for g in model.groups.all]
    rows: list[Row] = []
    pairs = np.stack([now.group[here].clip(0), then.group.clip(0)], axis=1)
    for was, is_ in np.unique(pairs[pairs[:, 0] != pairs[:, 1]], axis=0).tolist():
        mine = np.flatnonzero((pairs == (was, is_)).all(axis=1))
        names = [part.ids[row] for row in mine.tolist()]
        told = [{"endpoint": name, "was": ids[was], "is": ids[is_]} for name in names[:1]]
        gains = [r for r in fares(model, model, told) if r["opened"]]
        if gains:
            rows.append(
                {
                    "attribute": miss.attribute, "value": miss.element, "instead": miss.instead,
                    "was": ids[was], "is": ids[is_], "count": len(names),
                    "endpoints": names[:NAMED],
                    "gains": [
                        {k: r[k] for k in ("direction", "other", "opened", "opened_text")}
                        for r in gains
                    ],
                }
            )  # fmt: skip
    return rows
