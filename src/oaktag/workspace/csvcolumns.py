"""A CSV file as dictionary-encoded columns: files of millions of rows, without an object a cell.

A large plain file (no quotes, as many cells in each line as in the header) is cut by pandas, piece
by piece. Any other goes through the strict reader, which also says what is wrong with it.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterator
from typing import NamedTuple

from oaktag.core.arrays import NDArray, np
from oaktag.located import Location
from oaktag.workspace.csvfile import LARGEST, MOST_COLUMNS, CsvFile, column_in, parse_csv
from oaktag.workspace.folder import Folder
from oaktag.workspace.office_forms import separator_of
from oaktag.workspace.textfile import Problems, read_text

#: How many bytes are cut at once.
PIECE = 1 << 24
#: Below so many letters the strict reader is as quick as loading pandas.
SMALL = 1 << 20


class Cells(NamedTuple):
    """One column: which text each row has (``codes`` int64 [rows]), and each text once."""

    codes: NDArray[np.int64]
    texts: list[str]


class CsvColumns(NamedTuple):
    """A CSV file by columns: ``lines`` are where rows start, [rows]; ``place`` finds a cell."""

    name: str
    header: list[str]
    columns: list[Cells]
    lines: NDArray[np.int64]
    place: Callable[[int, int], Location]


def read_columns(
    root: Folder, name: str, problems: Problems, *, separator: str = "", encoding: str = "utf-8"
) -> CsvColumns | None:
    """A CSV file's columns, cells trimmed, with a problem for each row that does not fit the
    header."""
    text = read_text(root, name, problems, encoding)
    if text is None:
        return None
    separator = separator or separator_of(text)
    found = _plainly(name, text, separator) if len(text) > SMALL else None
    if found is not None:
        return found
    file = parse_csv(name, text, problems, separator)
    return None if file is None else _strictly(file)


def _strictly(file: CsvFile) -> CsvColumns:
    columns = []
    for number in range(len(file.header)):
        place: dict[str, int] = {}
        codes = [place.setdefault(row[number], len(place)) for row in file.rows]
        columns.append(Cells(np.array(codes, dtype=np.int64), list(place)))
    lines = np.array(file.lines, dtype=np.int64)
    return CsvColumns(file.name, file.header, columns, lines, file.place)


def _plainly(name: str, text: str, separator: str) -> CsvColumns | None:
    """The columns of a plain file; None for any other, or without pandas."""
    try:
        import pandas as pd
    except ImportError:
        return None
    if '"' in text or text.count("\r") != text.count("\r\n") or not separator.isascii():
        return None
    first, _, rest = text.partition("\n")
    header = [cell.strip() for cell in first.split(separator)]
    if not 2 <= len(header) <= MOST_COLUMNS or not all(header) or len(set(header)) < len(header):
        return None
    data = rest.rstrip("\r\n").encode() + b"\n"
    del text, rest
    if data == b"\n":
        return None
    parts: list[list[NDArray[np.object_]]] = [[] for _ in header]
    bare = True
    for piece in _pieces(data):
        letters = np.frombuffer(piece, dtype=np.uint8)
        if not _even(letters, separator, len(header)):
            return None
        bare = bare and _bare(letters)
        table = pd.read_csv(
            io.BytesIO(piece), sep=separator, header=None, names=range(len(header)), dtype=object,
            na_filter=False, quoting=csv.QUOTE_NONE, engine="c", encoding="utf-8", index_col=False,
            skip_blank_lines=False, low_memory=False,
        )  # fmt: skip
        for number, of in enumerate(parts):
            of.append(table[number].to_numpy())
    columns = []
    while parts:
        codes, texts = pd.factorize(np.concatenate(parts.pop(0)))
        if not bare:
            place_of, texts = pd.factorize(np.array([t.strip() for t in texts], dtype=object))
            codes = place_of[codes]
        columns.append(Cells(codes.astype(np.int64), texts.tolist()))

    ends: list[NDArray[np.int64]] = []  # of lines, once somebody asks

    def place(row: int, column: int) -> Location:
        if not ends:
            ends.append(np.flatnonzero(np.frombuffer(data, dtype=np.uint8) == ord("\n")))
        start = int(ends[0][row - 1]) + 1 if row else 0
        line = data[start : int(ends[0][row])].decode()
        return Location(name, row + 2, column_in(line, column, separator))

    lines = np.arange(len(columns[0].codes)) + 2
    return CsvColumns(name, header, columns, lines, place)


def _pieces(data: bytes) -> Iterator[bytes]:
    """Whole lines, some bytes at a time."""
    start = 0
    while start < len(data):
        end = data.find(b"\n", min(start + PIECE, len(data) - 1)) + 1
        yield data[start:end]
        start = end


def _even(letters: NDArray[np.uint8], separator: str, width: int) -> bool:
    """Whether every line has just so many cells, and none is larger than a cell may be."""
    marks = np.flatnonzero((letters == ord(separator)) | (letters == ord("\n")))
    if len(marks) % width:
        return False
    ends = letters[marks].reshape(-1, width) == ord("\n")
    if not ends[:, -1].all() or ends[:, :-1].any():
        return False
    return int(np.diff(marks, prepend=-1).max()) <= LARGEST


def _bare(letters: NDArray[np.uint8]) -> bool:
    """Whether no cell can have space around it: all is visible ASCII, and the ends of lines."""
    seen = (letters > ord(" ")) & (letters < 0x7F)
    return bool((seen | (letters == ord("\n")) | (letters == ord("\r"))).all())
