"""The matrix as a sheet for office programs, and such a sheet read back.

Two forms. *Lines*: a row for each line of the matrix, with a column ``do`` in which ``remove``
takes the line out, and a column ``was`` that says what the line was, so that what changed in
between is seen. *Grid*: sources down, destinations across, in each cell what it allows; a
permission's name written into a cell is a line.

What is kept here: a cell never begins with a letter by which an office program takes it for a
formula; commas, semicolons and tabulators part cells, as programs like; days may be written as
YYYY-MM-DD or D.M.YYYY, and with slashes only where one number cannot be a month.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Mapping, Sequence
from datetime import date
from hashlib import blake2b
from typing import NamedTuple

from oaktag.errors import UsageError, WorkspaceError
from oaktag.located import Location
from oaktag.workspace.csvfile import CsvFile, parse_csv
from oaktag.workspace.matrix_file import COLUMNS
from oaktag.workspace.textfile import Problems
from oaktag.workspace.times import parse_day

PLACE, MARKS = ("file", "line"), ("do", "was")
LINES = (*PLACE, *COLUMNS, *MARKS)
#: The first cell of a grid.
CORNER = "from, to"
REMOVE = "remove"
#: How a formula begins, behind any quotes that are there already.
_FORMULA = re.compile(r"'*[=+\-@\t\r]")
_SLASHES = re.compile(r"(\d{1,2})/(\d{1,2})/(\d{4})")
_DOTS = re.compile(r"(\d{1,2})\.(\d{1,2})\.(\d{4})")


class SheetRow(NamedTuple):
    """A row of lines: where its line was, its cells, and whether it is to go; ``was`` is "" of a
    new one, ``number`` the row's own line in the sheet."""

    number: int
    file: str
    line: int | None
    cells: dict[str, str]
    remove: bool
    was: str


def harmless(cell: str) -> str:
    """A cell that no office program takes for a formula."""
    return f"'{cell}" if _FORMULA.match(cell) else cell


def plain(cell: str) -> str:
    """The same read back."""
    return cell[1:] if cell[:1] == "'" and _FORMULA.match(cell) else cell


def mark(cells: Mapping[str, str]) -> str:
    """What a line was, as eight digits."""
    told = "\x1f".join(cells.get(name, "") for name in COLUMNS)
    return blake2b(told.encode(), digest_size=4).hexdigest()


def text_of(header: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    """A sheet as CSV."""
    held = io.StringIO()
    writer = csv.writer(held, lineterminator="\n")
    writer.writerow([harmless(cell) for cell in header])
    writer.writerows([harmless(cell) for cell in row] for row in rows)
    return held.getvalue()


def read_sheet(name: str, data: bytes) -> CsvFile:
    """A sheet that an office program wrote.

    Raises:
        WorkspaceError: with all that is wrong with it.
    """
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise UsageError(
            f"{name}:{line}: this is no UTF-8; save the sheet as CSV in UTF-8"
        ) from None
    first = text.split("\n", 1)[0]
    separator = max(",;\t", key=lambda c: (first.count(c), c == ","))
    problems = Problems()
    file = parse_csv(name, text, problems, separator)
    if file is None or problems.count:
        raise WorkspaceError(tuple(problems.all))
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
        if (day := _day(cells["expires"])) is None:
            told = f"{cells['expires']!r} may be one day or another, or is none"
            problems.form(place, told, "a day as YYYY-MM-DD")
            continue
        cells["expires"] = day
        number_of = int(line) if line else None
        gone = held["do"].lower() == REMOVE
        found.append(
            SheetRow(number, held.get("file", ""), number_of, cells, gone, held["was"].lower())
        )
    if problems.count:
        raise WorkspaceError(tuple(problems.all))
    return found


def _day(text: str) -> str | None:
    """A day as an office program writes it, in the one form; None where it is none, or two."""
    if not text or parse_day(text) is not None:
        return text
    if match := _DOTS.fullmatch(text):
        day, month, year = map(int, match.groups())
    elif match := _SLASHES.fullmatch(text):
        one, two, year = map(int, match.groups())
        if one <= 12 and two <= 12 and one != two:
            return None
        day, month = (one, two) if one > 12 else (two, one)
    else:
        return None
    try:
        return date(year, month, day).isoformat()
    except ValueError:
        return None
