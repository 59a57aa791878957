"""Edits of CSV text (RFC 4180): rows and cells changed, every other byte kept."""

from __future__ import annotations

import csv
import io
from collections.abc import Collection, Iterator, Mapping, Sequence

from oaktag.errors import UsageError
from oaktag.workspace.office_forms import separator_of

#: What a line means without such a column.
USUAL = {"mode": "enforce", "way": "to"}


def with_line(
    text: str, fields: Mapping[str, str], before: int | None = None, *, file: str = "the file"
) -> str:
    """A file with one row more, at the end or before the row that starts in a line.

    Raises:
        UsageError: the file has no column for a field, and an empty cell would mean something else.
    """
    lines = _lines(text)
    _, last = next(_rows(lines))
    header = _header(lines)
    for name, value in fields.items():
        if value and name not in header and USUAL.get(name) != value:
            raise UsageError(f"{file} has no column {name!r}; add it to its header first")
    mark = _mark(lines)
    row = mark.join(_csv(fields.get(name, ""), mark) for name in header)
    end = "\r\n" if lines[last - 1].endswith("\r\n") else "\n"
    if before is not None:
        lines.insert(before - 1, row + end)
    else:
        if not lines[-1].endswith("\n"):
            lines[-1] += end
        lines.append(row + end)
    return "".join(lines)


def with_cells(text: str, line: int, fields: Mapping[str, str]) -> str:
    """A file with some cells of the row that starts in a line replaced.

    Raises:
        UsageError: the file has no column for one of them.
    """
    lines = _lines(text)
    header = _header(lines)
    first, last = _row_at(lines, line)
    mark = _mark(lines)
    cells, end = _cells(lines[first:last], mark)
    for name, value in fields.items():
        if name not in header:
            raise UsageError(f"the file has no column {name!r}; add it to its header first")
        cells[header.index(name)] = _csv(value, mark)
    return "".join([*lines[:first], mark.join(cells) + end, *lines[last:]])


def with_copies(text: str, line: int, ends: Sequence[tuple[str, str, bool]]) -> str:
    """A matrix file with copies of the row that starts in a line right behind it, each with its own
    source and destination, and perhaps one way only; all other cells are the same."""
    lines = _lines(text)
    header = _header(lines)
    first, last = _row_at(lines, line)
    mark = _mark(lines)
    cells, end = _cells(lines[first:last], mark)
    if not end:
        end = "\n"
        lines[last - 1] += end
    rows: list[str] = []
    for source, destination, one_way in ends:
        copy = list(cells)
        copy[header.index("source")] = source
        copy[header.index("destination")] = destination
        if one_way and "way" in header and _value(copy[header.index("way")], mark) == "both":
            copy[header.index("way")] = "to"
        rows.append(mark.join(copy) + end)
    return "".join([*lines[:last], *rows, *lines[last:]])


def line_saying(text: str, said: Mapping[str, str]) -> int | None:
    """The line in which the last row starts that says something in some columns."""
    rows = [
        line
        for line, held in cells_of(text).items()
        if line > 1 and all(held.get(name) == value for name, value in said.items())
    ]
    return rows[-1] if rows else None


def cells_of(text: str) -> dict[int, dict[str, str]]:
    """The cells of each row by their columns, trimmed; by the line in which the row starts."""
    lines = _lines(text)
    if not lines:
        return {}
    header = _header(lines)
    found = {}
    mark = _mark(lines)
    for first, last in _rows(lines):
        cells = [cell.strip() for cell in next(csv.reader(lines[first:last], delimiter=mark))]
        found[first + 1] = dict(zip(header, cells, strict=False))
    return found


def without_line(text: str, line: int) -> str:
    """A file without the row that starts in a line."""
    lines = _lines(text)
    first, last = _row_at(lines, line)
    return "".join([*lines[:first], *lines[last:]])


def with_moved(text: str, line: int, before: int | None) -> str:
    """A file in which the row that starts in a line stands before the one that starts in another,
    or, for None, behind all others."""
    lines = _lines(text)
    first, last = _row_at(lines, line)
    row = lines[first:last]
    end = next((x[len(x.rstrip("\r\n")) :] for x in lines if x.endswith(("\n", "\r"))), "\n")
    if not row[-1].endswith(("\n", "\r")):
        row[-1] += end
    at = len(lines) if before is None else _row_at(lines, before)[0]
    head = lines[:at] if at <= first else lines[:first] + lines[last:at]
    tail = lines[at:first] + lines[last:] if at <= first else lines[at:]
    if head and not head[-1].endswith(("\n", "\r")):
        head[-1] += end
    return "".join([*head, *row, *tail])


def with_words(text: str, columns: Collection[str], old: str, new: str) -> str:
    """A file in which cells of some columns that say one word say another; a cell's quotes and
    blanks stay."""
    lines = _lines(text)
    at = [number for number, name in enumerate(_header(lines)) if name in columns]
    mark = _mark(lines)
    result: list[str] = []
    for first, last in _rows(lines):
        result += lines[len(result) : first]  # empty lines
        cells, end = _cells(lines[first:last], mark)
        for number in at:
            if number < len(cells) and _value(cells[number], mark) == old:
                cells[number] = _said(cells[number], new)
        result += [mark.join(cells) + end, *[""] * (last - first - 1)]
    return "".join([*result, *lines[len(result) :]])


def _said(cell: str, new: str) -> str:
    """Another word in a cell, between the same quotes and blanks."""
    bare = cell.strip()
    quote = '"' if bare.startswith('"') else ""
    return cell.replace(bare, f"{quote}{new}{quote}", 1)


def _lines(text: str) -> list[str]:
    return list(io.StringIO(text, newline=""))


def _mark(lines: Sequence[str]) -> str:
    """What parts the cells of a file."""
    return separator_of(lines[0]) if lines else ","


def _rows(lines: list[str]) -> Iterator[tuple[int, int]]:
    """The physical lines of each row that is not empty: first, and one past the last."""
    reader, start = csv.reader(lines, strict=True, delimiter=_mark(lines)), 0
    for cells in reader:
        if cells:
            yield start, reader.line_num
        start = reader.line_num


def _row_at(lines: list[str], line: int) -> tuple[int, int]:
    return next(row for row in _rows(lines) if row[0] == line - 1)


def _header(lines: list[str]) -> list[str]:
    first, last = next(_rows(lines))
    return [name.strip() for name in next(csv.reader(lines[first:last], delimiter=_mark(lines)))]


def _cells(lines: list[str], mark: str) -> tuple[list[str], str]:
    """A row cut at its marks, each cell as it is written, quotes included; and its line end."""
    raw = "".join(lines)
    row = raw.rstrip("\r\n")
    cells, start, quoted = [], 0, False
    for at, letter in enumerate(row):
        if letter == '"' and (quoted or at == start):  # inside an open cell a quote is a letter
            quoted = not quoted
        elif letter == '"' and row[at - 1] == '"' and row[start] == '"':
            quoted = True  # the second of two: a quote inside quotes
        elif letter == mark and not quoted:
            cells.append(row[start:at])
            start = at + 1
    return [*cells, row[start:]], raw[len(row) :]


def _value(cell: str, mark: str) -> str:
    return "".join(next(csv.reader(_lines(cell), delimiter=mark), [])).strip()


def _csv(value: str, mark: str) -> str:
    held = io.StringIO()
    # With a line end of its own, the writer puts quotes about a value that holds one.
    csv.writer(held, lineterminator="\r\n", delimiter=mark).writerow([value, ""])
    return held.getvalue()[: -len("\r\n") - 1]
