"""Inventory files: CSV → columns of endpoints; and corrections by hand."""

from __future__ import annotations

from difflib import get_close_matches
from pathlib import Path

from oaktag.core.addresses import parse_prefix
from oaktag.core.endpoints import KINDS, STABILITIES, Correction, Endpoints, SourceTable, Value
from oaktag.located import Location
from oaktag.workspace.config_file import Config, Source
from oaktag.workspace.csvfile import CsvFile, read_csv
from oaktag.workspace.textfile import Problems

CORRECTION_COLUMNS = ("endpoint", "attribute", "value", "who", "why")
CONFIDENCE = ".confidence"


def read_endpoints(root: Path, config: Config, problems: Problems) -> Endpoints | None:
    """All endpoints of all sources, merged; None where a source could not be read."""
    before = len(problems.all)
    tables = [
        table
        for source in config.sources
        if (table := _read_source(root, source, config, problems)) is not None
    ]
    if len(problems.all) > before:
        return None
    known = {name for table in tables for name in table.ids}
    corrections: list[Correction] = []
    if config.corrections is not None:
        corrections = _read_corrections(root, config.corrections, known, problems)
    return Endpoints(tables, corrections)


def _read_source(
    root: Path, source: Source, config: Config, problems: Problems
) -> SourceTable | None:
    file = read_csv(root, source.file, problems)
    if file is None:
        return None
    names = _attributes(file, source, config)
    if source.id not in file.header:
        return None
    ids = file.cells(source.id)
    first: dict[str, int] = {}
    for row, name in enumerate(ids):
        where = file.place(row, file.header.index(source.id))
        if not name:
            problems.form(where, "the endpoint has no id", f"a value for {source.id}")
        elif name in first:
            problems.clash(
                where, f"{name!r} is in this file twice", f"first in line {file.lines[first[name]]}"
            )
        first.setdefault(name, row)
    table = SourceTable(source.kind, source.file, ids, file.lines, {})
    for column, attribute in names.items():
        cells = file.cells(column)
        if attribute.endswith(CONFIDENCE) and attribute[: -len(CONFIDENCE)] in names.values():
            table.confidences[attribute[: -len(CONFIDENCE)]] = [
                _confidence(file, row, column, cell, problems) for row, cell in enumerate(cells)
            ]
            continue
        values = {cell: _value(cell) for cell in dict.fromkeys(cells)}
        table.columns[attribute] = [values[cell] for cell in cells]
        _check(file, column, attribute, values, problems)
    return table


def _attributes(file: CsvFile, source: Source, config: Config) -> dict[str, str]:
    """Column → attribute, less the column that holds the id."""
    report = config.file
    special = {"address": source.address, "stability": source.stability}
    for key, column in {"id": source.id, **special}.items():
        if column is not None and column not in file.header:
            close = get_close_matches(column, file.header, 3)
            expected = f"perhaps {' or '.join(close)}" if close else ", ".join(file.header)
            report.clash(source.node, f"{file.name} has no column {column!r} for {key}", expected)
    names = {c: source.columns.get(c, c) for c in file.header if c != source.id}
    for column in source.columns:
        if column not in file.header:
            report.clash(source.node, f"{file.name} has no column {column!r}", "see columns")
    for attribute, given in special.items():
        if given in names:
            names[given] = attribute
    taken: dict[str, str] = {}
    for column, attribute in list(names.items()):
        if attribute in ("id", "kind") or attribute in taken:
            other = taken.get(attribute, f"{attribute} of the source")
            report.clash(
                source.node,
                f"the column {column!r} of {file.name} would give {attribute!r} once more",
                f"beside {other}; map it with columns: {{{column}: …}}",
            )
            del names[column]
        taken.setdefault(attribute, column)
    return names


def _value(cell: str) -> Value:
    return tuple(part for item in cell.split(";") if (part := item.strip()))


def _confidence(file: CsvFile, row: int, column: str, cell: str, problems: Problems) -> float:
    if not cell:
        return 1.0
    try:
        share = float(cell)
    except ValueError:
        share = -1.0
    if not 0 <= share <= 1:
        where = file.place(row, file.header.index(column))
        problems.form(where, f"the confidence is {cell!r}", "a number from 0 to 1")
    return share


def _check(
    file: CsvFile, column: str, attribute: str, values: dict[str, Value], problems: Problems
) -> None:
    wrong: dict[str, tuple[str, str]] = {}
    for cell, value in values.items():
        if attribute == "address":
            for text in value:
                try:
                    parse_prefix(text)
                except ValueError as error:
                    wrong[cell] = str(error), "e.g. 10.20.1.15 or 2001:db8:20:1::15"
        if attribute == "stability" and value and value[0] not in STABILITIES:
            wrong[cell] = f"the stability is {cell!r}", f"one of {', '.join(STABILITIES)}"
    if wrong:
        for row, cell in enumerate(file.cells(column)):
            if cell in wrong:
                problems.form(file.place(row, file.header.index(column)), *wrong[cell])


def _read_corrections(
    root: Path, name: str, known: set[str], problems: Problems
) -> list[Correction]:
    file = read_csv(root, name, problems)
    if file is None:
        return []
    missing = [c for c in CORRECTION_COLUMNS[:3] if c not in file.header]
    odd = [c for c in file.header if c not in CORRECTION_COLUMNS]
    for word in (*missing, *odd):
        verb = "is missing" if word in missing else "is not one of a correction"
        problems.form(
            Location(name, 1), f"the column {word!r} {verb}", ",".join(CORRECTION_COLUMNS)
        )
    if missing or odd:
        return []
    found: list[Correction] = []
    columns = {c: file.cells(c) for c in CORRECTION_COLUMNS[:3]}
    for row, line in enumerate(file.lines):
        endpoint, attribute, cell = (columns[c][row] for c in CORRECTION_COLUMNS[:3])
        where = Location(name, line)
        if endpoint not in known:
            close = get_close_matches(endpoint, known, 3)
            problems.clash(
                file.place(row, file.header.index("endpoint")),
                f"no source has an endpoint {endpoint!r}",
                f"perhaps {' or '.join(close)}" if close else "an endpoint of the inventory",
            )
        elif not attribute or attribute == "id":
            problems.form(where, "the correction names no attribute", "any but id")
        elif not _good(attribute, _value(cell)):
            problems.form(where, f"{cell!r} cannot be the {attribute}", "as in the inventory")
        else:
            found.append(Correction(endpoint, attribute, _value(cell), where))
    return found


def _good(attribute: str, value: Value) -> bool:
    if attribute == "address":
        try:
            return all(parse_prefix(text) for text in value)
        except ValueError:
            return False
    words = {"stability": STABILITIES, "kind": KINDS}.get(attribute)
    return words is None or all(v in words for v in value)
