"""What an inventory file lists, whatever its form: rows, and columns of values.

CSV: ``;`` parts a list, a column ``model.confidence`` is the confidence of ``model``. JSON Lines:
an object a line, a value is text, a number, a list or ``{"value": …, "confidence": …}``.
"""

from __future__ import annotations

import io
import json
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from oaktag.core.arrays import NDArray, np
from oaktag.core.endpoints import Coded, Value, Values, coded
from oaktag.located import Location
from oaktag.workspace.csvcolumns import Cells, read_columns
from oaktag.workspace.folder import Folder
from oaktag.workspace.office_forms import shortened
from oaktag.workspace.textfile import Problems, read_text

CONFIDENCE = ".confidence"


@dataclass(slots=True)
class Listing:
    """Rows of an inventory file.

    ``columns`` maps a name to its values; ``lines`` are physical, int [rows]; ``place`` finds where
    a value stands; ``confidences`` maps a name to float [rows], where some were given.
    """

    name: str
    lines: NDArray[np.int64]
    columns: dict[str, Coded]
    place: Callable[[int, str], Location]
    confidences: dict[str, NDArray[np.float64]] = field(default_factory=dict)


def list_csv(
    root: Folder, name: str, problems: Problems, separator: str, encoding: str
) -> Listing | None:
    """A CSV file as a listing."""
    file = read_columns(root, name, problems, separator=separator, encoding=encoding)
    if file is None:
        return None

    def place(row: int, column: str) -> Location:
        return file.place(row, file.header.index(column))

    listing = Listing(name, file.lines, {}, place)
    for column, cells in zip(file.header, file.columns, strict=True):
        base = column.removesuffix(CONFIDENCE)
        if base != column and base in file.header:
            listing.confidences[base] = _confidences(listing, column, cells, problems)
        else:
            _whole(listing, column, cells, problems)
            listing.columns[column] = _values(cells)
    return listing


def _whole(listing: Listing, column: str, cells: Cells, problems: Problems) -> None:
    """Faults of cells of which an office program made numbers that lack digits."""
    every = "\n".join(cells.texts)
    if "E+" not in every and "E-" not in every:
        return
    wrong = [code for code, text in enumerate(cells.texts) if shortened(text)]
    for row in np.flatnonzero(np.isin(cells.codes, wrong)).tolist():
        said = cells.texts[cells.codes[row]]
        told = f"{said!r} is a number whose last digits an office program left out"
        problems.form(listing.place(row, column), told, "all its digits, in a column of text")


def _values(cells: Cells) -> Coded:
    """The values of a column of cells: an empty one says nothing, ``;`` parts a list."""
    if all(cells.texts) and ";" not in "\n".join(cells.texts):
        return Coded(cells.codes.astype(np.int32), Values(cells.texts))
    few = coded(
        tuple(part for item in text.split(";") if (part := item.strip())) for text in cells.texts
    )
    return Coded(few.codes[cells.codes], few.values)


def _confidences(
    listing: Listing, column: str, cells: Cells, problems: Problems
) -> NDArray[np.float64]:
    shares = np.array([_share(text) for text in cells.texts], dtype=np.float64)[cells.codes]
    for row in np.flatnonzero(np.isnan(shares)).tolist():
        said = cells.texts[cells.codes[row]]
        where = listing.place(row, column)
        problems.form(where, f"the confidence is {said!r}", "a number from 0 to 1")
    return shares


def _share(cell: str) -> float:
    """A confidence; NaN for what is none."""
    try:
        share = float(cell.replace(",", ".")) if cell else 1.0
    except ValueError:
        return float("nan")
    return share if 0 <= share <= 1 else float("nan")


def list_json(root: Folder, name: str, problems: Problems, encoding: str) -> Listing | None:
    """A JSON Lines file as a listing."""
    text = read_text(root, name, problems, encoding)
    if text is None:
        return None
    before = problems.count
    rows: list[dict[str, tuple[Value, float]]] = []
    lines: list[int] = []
    for number, line in enumerate(io.StringIO(text, newline=""), 1):
        if not line.strip():
            continue
        row = _object(line.rstrip("\r\n"), Location(name, number), problems)
        if row is not None:
            rows.append(row)
            lines.append(number)
    if problems.count > before:
        return None
    names = list(dict.fromkeys(key for row in rows for key in row))

    def place(row: int, column: str) -> Location:
        return Location(name, lines[row])

    nothing: tuple[Value, float] = ((), 1.0)
    columns = {n: coded(row.get(n, nothing)[0] for row in rows) for n in names}
    listing = Listing(name, np.array(lines, dtype=np.int64), columns, place)
    for column in names:
        sure = [row.get(column, nothing)[1] for row in rows]
        if any(s < 1 for s in sure):
            listing.confidences[column] = np.array(sure, dtype=np.float64)
    return listing


def _object(
    line: str, where: Location, problems: Problems
) -> dict[str, tuple[Value, float]] | None:
    def pairs(found: list[tuple[str, Any]]) -> dict[str, Any]:
        seen: set[str] = set()
        for key, _ in found:
            if key in seen:
                problems.form(where, f"the key {key!r} stands twice", "each key once")
            seen.add(key)
        return dict(found)

    try:
        held = json.loads(line, object_pairs_hook=pairs)
    except ValueError as error:
        column = getattr(error, "colno", 0)
        place = Location(where.file, where.line, column)
        problems.form(
            place, f"this is not JSON: {getattr(error, 'msg', error)}", "an object a line"
        )
        return None
    except RecursionError:
        problems.form(where, "this is nested too deep", "attributes and their values")
        return None
    if not isinstance(held, dict):
        problems.form(where, "this line holds no object", '{"id": …, "attribute": …}')
        return None
    result: dict[str, tuple[Value, float]] = {}
    for key, value in held.items():
        confidence: Any = 1.0
        if isinstance(value, dict):
            confidence = value.get("confidence", 1.0)
            if set(value) - {"value", "confidence"} or "value" not in value:
                problems.form(where, f"{key} is an object", '{"value": …, "confidence": …}')
                return None
            value = value["value"]
        good = isinstance(confidence, int | float) and not isinstance(confidence, bool)
        if not good or not 0 <= confidence <= 1:
            problems.form(
                where, f"the confidence of {key} is {confidence!r}", "a number from 0 to 1"
            )
            return None
        elements = value if isinstance(value, list) else [value]
        if any(isinstance(e, dict | list) for e in elements):
            problems.form(
                where, f"{key} holds something nested", "text, a number, or a list of them"
            )
            return None
        texts = (_plain(e) for e in elements if e is not None)
        result[key] = tuple(t for t in texts if t), float(confidence)
    return result


def _plain(element: Any) -> str:
    if isinstance(element, bool):
        return "true" if element else "false"
    if isinstance(element, float) and element.is_integer():
        return str(int(element))
    return str(element).strip()
