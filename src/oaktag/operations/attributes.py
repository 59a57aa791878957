"""``attributes``: which attributes the sources give, how many endpoints have each, their values."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np

from oaktag.errors import UsageError
from oaktag.near import perhaps
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Attributes(Result):
    """Which attributes there are, and values of some."""

    attributes: list[Row]
    held: list[Row] = field(metadata={"name": "values"})
    command: ClassVar[str] = "attributes"

    @property
    def table(self) -> str:  # type: ignore[override]
        """Values where they were asked for, else attributes."""
        return "values" if self.held else "attributes"


def attributes(model: Model, name: str | None = None, like: str | None = None) -> Attributes:
    """All attributes, or the values of one.

    Args:
        model: the workspace.
        name: one attribute.
        like: only values that hold this text, whatever the case.

    Raises:
        UsageError: no source gives the attribute.
    """
    endpoints = model.files.endpoints
    if name is not None and name not in endpoints.columns:
        hint = perhaps(name, endpoints.columns)
        raise UsageError(f"no source gives the attribute {name!r}{hint and f'; {hint}'}")
    rows: list[Document] = []
    values: list[Document] = []
    for attribute, column in endpoints.columns.items():
        if name not in (None, attribute):
            continue
        given = column.codes >= 0
        rows.append(
            {
                "attribute": attribute,
                "endpoints": int(given.sum()),
                "values": len(np.unique(column.codes[given])),
                "unsure": int((column.confidence[given] < 1).sum()),
                "sources": [endpoints.origins[o] for o in np.unique(column.origin[given])],
            }
        )
        if name is not None or like is not None:
            values += _values(model, attribute, like)
    return Attributes(attributes=rows, held=values)


def _values(model: Model, attribute: str, like: str | None) -> list[Document]:
    column = model.files.endpoints.columns[attribute]
    found: dict[str, tuple[int, float]] = {}
    for code in range(len(column.values)):
        here = column.codes == code
        number = int(here.sum())
        least = float(column.confidence[here].min()) if number else 1.0
        for element in column.values[code]:
            before = found.get(element, (0, 1.0))
            found[element] = before[0] + number, min(before[1], least)
    rows = [
        {
            "attribute": attribute, "value": element, "endpoints": number,
            "least_confidence": round(least, 6),
        }
        for element, (number, least) in found.items()
        if number and (like is None or like.casefold() in element.casefold())
    ]  # fmt: skip
    return sorted(rows, key=lambda r: (-int(r["endpoints"]), r["value"]))
