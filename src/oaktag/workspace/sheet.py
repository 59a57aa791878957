"""The matrix as a sheet for office programs, and such a sheet read back.

Two forms. *Lines*: a row for each line of the matrix, with a column ``do`` in which ``remove``
takes the line out, and a column ``was`` that says what the line was, so that what changed in
between is seen. *Grid*: sources down, destinations across, in each cell what it allows; a
permission's name written into a cell is a line.

What cells are in files of each kind, ``workbook`` keeps; days and separators, ``office_forms``.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Mapping
from datetime import date
from hashlib import blake2b
from typing import NamedTuple

from oaktag.errors import UsageError, WorkspaceError
from oaktag.located import Location
from oaktag.workspace.csvfile import CsvFile, parse_csv
from oaktag.workspace.matrix_file import COLUMNS
from oaktag.workspace.office_forms import read_day
from oaktag.workspace.textfile import Problems
from oaktag.workspace.workbook import plain, rows_in

PLACE, MARKS = ("file", "line"), ("do", "was")
LINES = (*PLACE, *COLUMNS, *MARKS)
#: The first cell of a grid.
CORNER = "from, to"
REMOVE = "remove"


class SheetRow(NamedTuple):
    """A row of lines: where its line was, its cells, and whether it is to go; ``was`` is "" of a
    new one, ``number`` the row's own line in the sheet."""

    number: int
    file: str
    line: int | None
    cells: dict[str, str]
    remove: bool
    was: str


def mark(cells: Mapping[str, str]) -> str:
    """What a line was, as eight digits."""
    told = "\x1f".join(cells.get(name, "") for name in COLUMNS)
    return blake2b(told.encode(), digest_size=4).hexdigest()


def read_sheet(name: str, data: bytes) -> CsvFile:
    """A sheet that an office program wrote, of any kind.

    Raises:
        UsageError: it is no sheet, or no text in UTF-8.
        WorkspaceError: with all that is wrong with it.
    """
    problems = Problems()
    rows = rows_in(name, data)
    if rows is not None:
        file = _as_csv(name, rows, problems)
    else:
        try:
            text = data.decode("utf-8-sig")
        except UnicodeDecodeError as error:
            line = data.count(b"\n", 0, error.start) + 1
            raise UsageError(
                f"{name}:{line}: this is no UTF-8; save the sheet as CSV in UTF-8"
            ) from None
        file = parse_csv(name, text, problems)
    if file is None or problems.count:
        raise WorkspaceError(tuple(problems.all))
    return file


def _as_csv(name: str, rows: list[list[str]], problems: Problems) -> CsvFile | None:
    """Rows as a CSV file has them; each at the line of its own number."""
    width = max((len(row) for row in rows), default=0)
    while width and not any(len(row) >= width and row[width - 1] for row in rows):
        width -= 1
    held = io.StringIO()
    full = [[*row, *[""] * width][:width] for row in rows]
    kept = [number for number, row in enumerate(full, 1) if any(row)]
    csv.writer(held, lineterminator="\n").writerows(full[number - 1] for number in kept)
    file = parse_csv(name, held.getvalue(), problems, ",")
    if file is not None:
        file.lines = kept[1:]
    return file


def rows_of(file: CsvFile) -> list[SheetRow]:
    """The rows of a sheet of lines.

    Raises:
        WorkspaceError: with every cell that cannot be read.
    """
    problems = Problems()
    if missing := [c for c in (*COLUMNS[:3], *MARKS) if c not in file.header]:
        told = f"of a sheet of lines the columns {', '.join(missing)} are missing"
        problems.form(Location(file.name, 1), told, "a sheet that oaktag matrix --out wrote")
        raise WorkspaceError(tuple(problems.all))
    found: list[SheetRow] = []
    for row, number in zip(file.rows, file.lines, strict=True):
        held = {k: plain(v).strip() for k, v in zip(file.header, row, strict=True)}
        if not any(held.values()):
            continue
        place, line = Location(file.name, number), held.get("line", "")
        if line and not re.fullmatch(r"[1-9]\d{0,8}", line):
            problems.form(place, f"{line!r} is no number of a line", "as it was, or empty")
            continue
        if held["do"].lower() not in ("", REMOVE):
            problems.form(place, f"{held['do']!r} is nothing to do", f"{REMOVE}, or empty")
            continue
        cells = {c: held.get(c, "") for c in COLUMNS}
        if cells["expires"]:
            day, why = read_day(cells["expires"])
            if day is None:
                problems.form(place, why, "a day as YYYY-MM-DD")
                continue
            cells["expires"] = date.fromordinal(day).isoformat()
        number_of = int(line) if line else None
        gone = held["do"].lower() == REMOVE
        found.append(
            SheetRow(number, held.get("file", ""), number_of, cells, gone, held["was"].lower())
        )
    if problems.count:
        raise WorkspaceError(tuple(problems.all))
    return found
