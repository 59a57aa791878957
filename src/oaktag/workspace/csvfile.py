"""CSV files (RFC 4180): a header, then rows; cells are trimmed; lines are physical lines.
What parts cells is told by the header, where nobody says it.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

from oaktag.located import Location
from oaktag.workspace.folder import Folder
from oaktag.workspace.office_forms import separator_of
from oaktag.workspace.textfile import Problems, read_text

#: The largest cell, in bytes.
LARGEST = 1 << 20
csv.field_size_limit(LARGEST)
#: The most columns of a file.
MOST_COLUMNS = 1000


@dataclass(slots=True)
class CsvFile:
    """A CSV file read whole: its header, its rows, and the line where each row starts."""

    name: str
    header: list[str]
    rows: list[list[str]]
    lines: list[int]
    physical: list[str]
    separator: str = ","

    def place(self, row: int, column: int) -> Location:
        """Where one cell stands, found by reading its line again."""
        line = self.lines[row]
        return Location(self.name, line, column_in(self.physical[line - 1], column, self.separator))

    def cells(self, name: str) -> list[str]:
        """One column, trimmed."""
        column = self.header.index(name)
        return [row[column] for row in self.rows]


def read_csv(
    root: Folder, name: str, problems: Problems, *, separator: str = "", encoding: str = "utf-8"
) -> CsvFile | None:
    """A CSV file, with a problem for each row that does not fit the header."""
    text = read_text(root, name, problems, encoding)
    return None if text is None else parse_csv(name, text, problems, separator)


def parse_csv(name: str, text: str, problems: Problems, separator: str = "") -> CsvFile | None:
    """The text of a CSV file, as :func:`read_csv` reads one."""
    separator = separator or separator_of(text)
    physical = list(io.StringIO(text, newline=""))
    rows = _rows(name, physical, problems, separator)
    first = next(rows, None)
    if first is None:
        problems.form(Location(name, 1), "the header is missing", "names of columns, first line")
        return None
    header = [cell.strip() for cell in first[1]]
    before = problems.count

    def fault(number: int, message: str, expected: str) -> None:
        where = Location(name, first[0], column_in(physical[first[0] - 1], number, separator))
        problems.form(where, message, expected)

    if len(header) > MOST_COLUMNS:
        told = f"at most {MOST_COLUMNS:,}; leave out what no rule and no layer asks for"
        fault(MOST_COLUMNS, f"the header has {len(header):,} columns", told)
        return None
    seen: set[str] = set()
    for number, word in enumerate(header):
        if not word:
            fault(number, f"column {number + 1} has no name", "a name for each column")
        elif word in seen:
            fault(number, f"the column {word!r} stands twice", "each name once")
        seen.add(word)
    if problems.count > before:
        return None
    file = CsvFile(name, header, [], [], physical, separator)
    mark = {",": "a comma", ";": "a semicolon", "\t": "a tabulator"}.get(separator, separator)
    same: dict[str, str] = {}  # equal cells are one text: files of millions of rows repeat much
    for line, cells in rows:
        if len(cells) != len(header):
            problems.form(
                Location(name, line),
                f"the row has {len(cells)} cells, the header {len(header)}",
                f"a cell for each column; put one that holds {mark} in quotes",
            )
            continue
        trimmed = [cell.strip() for cell in cells]
        file.rows.append([same.setdefault(cell, cell) for cell in trimmed])
        file.lines.append(line)
    return file


def _rows(
    name: str, physical: list[str], problems: Problems, separator: str
) -> Iterator[tuple[int, list[str]]]:
    reader = csv.reader(physical, strict=True, delimiter=separator)
    line = 1
    while True:
        try:
            cells = next(reader)
        except StopIteration:
            return
        except csv.Error as error:
            said = "a cell is larger than 1 MiB" if "field limit" in str(error) else str(error)
            problems.form(Location(name, line), f"this row is not CSV: {said}", "see the quotes")
            return
        if cells:
            yield line, cells
        line = reader.line_num + 1


def column_in(line: str, number: int, separator: str) -> int:
    """Where the cell of that number starts, from 1."""
    starts = _starts(line, separator)
    return starts[number] if number < len(starts) else len(line) + 1


@lru_cache(maxsize=2)
def _starts(line: str, separator: str) -> tuple[int, ...]:
    """Where each cell of a line starts, from 1; kept, for a line may have many faults."""
    starts, quoted, at = [1], False, 0
    for match in re.finditer(f'["{re.escape(separator)}]', line):
        at = match.start()
        if line[at] == '"':
            quoted = not quoted
        elif not quoted:
            starts.append(at + 2)
    return tuple(starts)
