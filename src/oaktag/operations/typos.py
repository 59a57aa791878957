"""``attributes --typos``: values of which one changed character gives somebody more."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from itertools import islice
from typing import ClassVar

import numpy as np

from oaktag.core.assignment import Assignment
from oaktag.core.near_misses import Miss, near_misses
from oaktag.operations.group_life import differences
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row

#: So many endpoints of a value are named.
NAMED = 6
#: So many values, and endpoints that have them, are tried.
MOST_MISSES, MOST_ROWS = 5_000, 100_000


@dataclass(frozen=True, eq=False, repr=False)
class Typos(Result):
    """Values that are one character away from another group, and what that one may do more."""

    typos: list[Row]
    more: bool
    command: ClassVar[str] = "attributes typos"
    shown_by: ClassVar[str] = "typos"
    table: ClassVar[str] = "typos"


def typos(model: Model) -> Typos:
    """Values of which one changed character puts endpoints into a group that may do more; of at
    most so many values and endpoints."""
    endpoints, now = model.files.endpoints, model.assignment
    values = {name: c.values.elements[0] for name, c in endpoints.columns.items()}
    names = [group.id for group in model.groups.all]
    misses = list(islice(near_misses(now.rules, values, names), MOST_MISSES + 1))
    asked: dict[str, set[str]] = {}
    for miss in misses[:MOST_MISSES]:
        asked.setdefault(miss.attribute, set()).add(miss.element)
    held = {name: endpoints.holding(name, some) for name, some in asked.items()}
    rows: list[int] = []
    of: list[Miss] = []
    left = len(misses) > MOST_MISSES
    for miss in misses[:MOST_MISSES]:
        # Who is pinned stays where he is.
        here = held[miss.attribute][miss.element]
        mine = here[now.pin[here] < 0].tolist()
        if len(rows) + len(mine) > MOST_ROWS:
            left = True
            break
        rows += mine
        of += [miss] * len(mine)
    there = np.array(rows, dtype=np.int64)
    then = Assignment(endpoints.with_instead(there, of), now.rules, (), model.groups.index)
    moved: dict[tuple[Miss, int, int], list[str]] = {}
    both = zip(
        of, now.group[there].clip(0).tolist(), then.group.clip(0).tolist(), rows, strict=True
    )
    for miss, was, is_, row in both:
        if was != is_:
            moved.setdefault((miss, was, is_), []).append(endpoints.ids[row])
    gains: dict[tuple[int, int], list[Row]] = {}
    ids = [g.id for g in model.groups.all]
    found = []
    for (miss, was, is_), names in moved.items():
        if (was, is_) not in gains:
            pair = Counter({(ids[was], ids[is_]): 1})
            gains[was, is_] = [r for r in differences(model, model, pair) if r["opened"]]
        if gains[was, is_]:
            keys = ("direction", "other", "opened", "opened_text")
            found.append(
                {
                    "attribute": miss.attribute, "value": miss.element, "instead": miss.instead,
                    "was": ids[was], "is": ids[is_], "count": len(names),
                    "endpoints": names[:NAMED],
                    "gains": [{k: r[k] for k in keys} for r in gains[was, is_]],
                }
            )  # fmt: skip
    return Typos(typos=found, more=left)
