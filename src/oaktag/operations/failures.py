"""``reach --failures``: each single failure, and what leaks or breaks then."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import ClassVar

from oaktag.core.failures import Loss, losses
from oaktag.core.reach import Flow
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Failures(Result):
    """What each single failure does, the worst first."""

    failures: list[Row]
    opens_most: Row | None
    command: ClassVar[str] = "reach failures"
    shown_by: ClassVar[str] = "failures"
    table: ClassVar[str] = "failures"


def failures(model: Model, progress: Callable[[str], None] | None = None) -> Failures:
    """Every link, node, feed and enforcing point, the worst loss first (what cuts off before what
    leaks before what breaks); and the point whose loss opens most."""
    found = list(losses(model.state, model.ends, progress))
    found.sort(key=lambda loss: (-loss.cut_off, -loss.leaks, -loss.breaks, -loss.one_way))
    points = [loss for loss in found if loss.lost.kind == "point" and loss.leaks]
    points.sort(key=lambda loss: -loss.leaks)
    return Failures(
        failures=[_row(model, loss) for loss in found],
        opens_most=_row(model, points[0]) if points else None,
    )


def _row(model: Model, loss: Loss) -> Document:
    return {
        "kind": loss.lost.kind,
        "name": loss.lost.name,
        "leaks": loss.leaks,
        "breaks": loss.breaks,
        "one_way": loss.one_way,
        "cut_off": loss.cut_off,
        "example": told(model, loss.example) if loss.example else "",
    }


def told(model: Model, flow: Flow) -> str:
    """A row in one phrase."""
    names = model.groups.all
    ends = [f"{names[group].id} in {segment}" for segment, group in (flow.source, flow.destination)]
    return f"{ends[0]} → {ends[1]}: {'cut off' if flow.cut_off else flow.effect}"
