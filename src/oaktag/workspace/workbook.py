"""Sheets of office programs as files: CSV (RFC 4180), OOXML (ECMA-376) and OpenDocument (ISO/IEC
26300), written and read as rows of text.

Kept here: every cell is text, so that nothing is a formula and no number loses digits; the same
rows give the same bytes; of what is read, a formula and an error are refused with their row, a day
is YYYY-MM-DD and a whole number has no point.
"""

from __future__ import annotations

import csv
import io
import re
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from datetime import date, datetime, time
from pathlib import Path
from typing import Any

from oaktag.errors import NotPossibleHere, UsageError
from oaktag.letters import named

KINDS = (".csv", ".xlsx", ".ods")
#: How a formula begins, behind any quotes that are there already.
_FORMULA = re.compile(r"'*[=+\-@\t\r]")
#: What no XML holds (XML 1.0, section 2.2).
_NO_XML = re.compile("[^\t\n\r\x20-\x7e\xa0-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
#: What a book may hold, unpacked; so wide is a column at most.
LARGEST, WIDEST = 1 << 28, 60
_MOMENT = (1980, 1, 1, 0, 0, 0)

Rows = Sequence[Sequence[str]]


def kind_of(path: Path) -> str:
    """The kind of a sheet, by the ending of its name.

    Raises:
        UsageError: it is none.
    """
    kind = path.suffix.lower()
    if kind not in KINDS:
        raise UsageError(f"{path.name!r} ends in none of {', '.join(KINDS)}")
    return kind


def harmless(cell: str) -> str:
    """A cell that no office program takes for a formula."""
    return f"'{cell}" if _FORMULA.match(cell) else cell


def plain(cell: str) -> str:
    """The same read back."""
    return cell[1:] if cell[:1] == "'" and _FORMULA.match(cell) else cell


def written(
    path: Path,
    header: Sequence[str],
    rows: Rows,
    choices: Mapping[str, Sequence[str]] | None = None,
) -> bytes:
    """A sheet as bytes, of the kind that the file's name says.

    Args:
        path: the file that it will be.
        header: the heads of the columns.
        rows: the rows, each as long as the header.
        choices: column → what may stand in it, offered by programs that can.

    Raises:
        UsageError: a cell holds what such a file cannot.
        NotPossibleHere: the package for it is not installed.
    """
    kind = kind_of(path)
    cells = [[harmless(cell) for cell in row] for row in (header, *rows)]
    if kind == ".csv":
        held = io.StringIO()
        csv.writer(held, lineterminator="\n").writerows(cells)
        return held.getvalue().encode()
    for number, row in enumerate(cells, 1):
        for head, cell in zip(header, row, strict=True):
            if found := _NO_XML.search(cell):
                raise UsageError(
                    f"row {number}, {head}: {named(found[0])} stands there, which no {kind} file "
                    "holds; write a .csv"
                )
    made = _ooxml(cells, choices or {}) if kind == ".xlsx" else _open_document(cells)
    return _same(made)


def _widths(cells: Rows) -> Iterator[int]:
    for column in zip(*cells, strict=True):
        yield min(WIDEST, max(8, *(max(map(len, c.split("\n"))) + 2 for c in column)))


def _ooxml(cells: Rows, choices: Mapping[str, Sequence[str]]) -> bytes:
    openpyxl = _package("openpyxl")
    from openpyxl.styles import Alignment, Font
    from openpyxl.utils import get_column_letter
    from openpyxl.worksheet.datavalidation import DataValidation

    book = openpyxl.Workbook()
    sheet = book.active
    for number, row in enumerate(cells, 1):
        for column, text in enumerate(row, 1):
            cell = sheet.cell(number, column)
            if text:
                cell.value, cell.data_type = text, "s"
            cell.number_format = "@"
            cell.alignment = Alignment(vertical="top", wrap_text=len(text) > WIDEST)
            if number == 1 or (column == 1 and cells[0][0] == "from, to"):
                cell.font = Font(bold=True)
    last = get_column_letter(len(cells[0]))
    for column, width in enumerate(_widths(cells), 1):
        sheet.column_dimensions[get_column_letter(column)].width = width
    for head, words in choices.items():
        at = get_column_letter(cells[0].index(head) + 1)
        offer = DataValidation(type="list", formula1=f'"{",".join(words)}"', allow_blank=True)
        offer.add(f"{at}2:{at}{len(cells) + 500}")
        sheet.add_data_validation(offer)
    sheet.freeze_panes = "B2"
    sheet.auto_filter.ref = f"A1:{last}{len(cells)}"
    held = io.BytesIO()
    book.save(held)
    return held.getvalue()


def _open_document(cells: Rows) -> bytes:
    _package("odf")
    from odf.element import Element
    from odf.opendocument import OpenDocumentSpreadsheet
    from odf.style import Style, TableColumnProperties, TextProperties
    from odf.table import Table, TableCell, TableColumn, TableRow
    from odf.teletype import addTextToElement
    from odf.text import P

    Element.namespaces.clear()  # else it names those of every document of this process
    book = OpenDocumentSpreadsheet()
    head = Style(name="head", family="table-cell")
    head.addElement(TextProperties(fontweight="bold"))
    book.styles.addElement(head)
    sheet = Table(name="sheet")
    for number, width in enumerate(_widths(cells)):
        style = Style(name=f"column{number}", family="table-column")
        style.addElement(TableColumnProperties(columnwidth=f"{width * 0.2:.1f}cm"))
        book.automaticstyles.addElement(style)
        sheet.addElement(TableColumn(stylename=style))
    for number, row in enumerate(cells):
        line = TableRow()
        for text in row:
            cell = TableCell(valuetype="string", **({} if number else {"stylename": head}))
            for part in text.split("\n"):
                paragraph = P()
                addTextToElement(paragraph, part)
                cell.addElement(paragraph)
            line.addElement(cell)
        sheet.addElement(line)
    book.spreadsheet.addElement(sheet)
    held = io.BytesIO()
    book.save(held)
    return held.getvalue()


def _same(data: bytes) -> bytes:
    """A packed file without the moment at which it was made."""
    held = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(held, "w") as new:
        for entry in old.infolist():
            part = old.read(entry)
            if entry.filename == "docProps/core.xml":
                part = re.sub(rb"(<dcterms:(\w+)[^>]*>)[^<]*", rb"\g<1>1980-01-01T00:00:00Z", part)
            made = zipfile.ZipInfo(entry.filename, _MOMENT)
            made.compress_type = entry.compress_type
            new.writestr(made, part)
    return held.getvalue()


def rows_in(name: str, data: bytes) -> list[list[str]] | None:
    """The rows of a packed sheet, the first of its book; None where the data are no such file.

    Raises:
        UsageError: it is broken, too large, or holds a formula or an error.
        NotPossibleHere: the package for it is not installed.
    """
    if data[:4] != b"PK\x03\x04":
        return None
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as book:
            names = set(book.namelist())
            if sum(entry.file_size for entry in book.infolist()) > LARGEST:
                raise UsageError(f"{name} holds more than {LARGEST >> 20} MiB, unpacked")
        if "content.xml" in names:
            return list(_from_open_document(name, data))
        return list(_from_ooxml(name, data))
    except (UsageError, NotPossibleHere):
        raise
    except Exception as error:  # what packages raise for broken files is of many kinds
        raise UsageError(f"{name} cannot be read as a sheet: {error}") from None


def _from_ooxml(name: str, data: bytes) -> Iterator[list[str]]:
    book = _package("openpyxl").load_workbook(io.BytesIO(data))
    for row in book.worksheets[0].iter_rows():
        for cell in row:
            if cell.data_type == "f":
                raise UsageError(f"{name}: {cell.coordinate} holds a formula; put in what it says")
            if cell.data_type == "e":
                raise UsageError(f"{name}: {cell.coordinate} holds an error, {cell.value}")
        yield [_text(cell.value) for cell in row]


def _from_open_document(name: str, data: bytes) -> Iterator[list[str]]:
    _package("odf")
    from odf.opendocument import load
    from odf.table import CoveredTableCell, Table, TableCell, TableRow
    from odf.teletype import extractText

    book = load(io.BytesIO(data))
    sheet = book.spreadsheet.getElementsByType(Table)[0]
    number = 0
    for line in sheet.getElementsByType(TableRow):
        cells: list[str] = []
        for cell in line.childNodes:
            if cell.qname not in (TableCell().qname, CoveredTableCell().qname):
                continue
            if cell.getAttribute("formula"):
                raise UsageError(f"{name}: row {number + 1} holds a formula; put in what it says")
            day = cell.getAttribute("datevalue")
            text = "\n".join(extractText(p) for p in cell.childNodes)
            if day:
                text = day.removesuffix("T00:00:00")
            elif cell.getAttribute("valuetype") in ("float", "percentage", "currency"):
                text = _text(float(cell.getAttribute("value")))
            many = int(cell.getAttribute("numbercolumnsrepeated") or 1)
            cells += [text] * (many if text else min(many, 1000))
        many = int(line.getAttribute("numberrowsrepeated") or 1)
        number += many
        yield cells
        if any(cells):
            yield from [cells] * (min(many, LARGEST) - 1)
        elif many > 1 and many < 1000:  # empty rows before others count as rows
            yield from [cells] * (many - 1)


def _text(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, datetime):
        return value.date().isoformat() if value.time() == time() else value.isoformat(" ")
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return str(value)


def _package(name: str) -> Any:
    import importlib

    try:
        return importlib.import_module(name)
    except ImportError:
        told = {"odf": "odfpy"}.get(name, name)
        raise NotPossibleHere(
            f"such sheets need {told}, which is not installed: pip install 'oaktag[sheets]', or "
            "take a .csv"
        ) from None
