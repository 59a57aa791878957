"""``matrix --out``, ``matrix --in``: the matrix as a sheet for office programs, and what was edited
in it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Literal

from oaktag.core.lines import Line
from oaktag.errors import UsageError, WorkspaceError
from oaktag.operations.change import Change, made
from oaktag.operations.lines import home_of
from oaktag.operations.model import Model
from oaktag.workspace import csv_edits, edits
from oaktag.workspace.csvfile import CsvFile
from oaktag.workspace.matrix_file import COLUMNS, MODES, WAYS
from oaktag.workspace.sheet import CORNER, LINES, REMOVE, SheetRow, mark, read_sheet, rows_of
from oaktag.workspace.workbook import written

Form = Literal["lines", "grid"]


def sheet(model: Model, file: Path, form: Form = "lines") -> bytes:
    """The matrix as a sheet: its lines, or a grid of what cells allow; the file's name says of what
    kind.

    Raises:
        UsageError: it is no such name, or a cell holds what such a file cannot.
        NotPossibleHere: the package for it is not installed.
    """
    if form == "grid":
        ids, matrix = [g.id for g in model.groups.all], model.matrix
        texts: dict[int, str] = {}
        rows = []
        for source, grid in zip(ids, matrix.action_form.tolist(), strict=True):
            for number in set(grid) - texts.keys():
                texts[number] = model.text(matrix.forms[number]) if matrix.forms[number] else ""
            rows.append([source, *(texts[number] for number in grid)])
        return written(file, [CORNER, *ids], rows)
    return written(
        file,
        LINES,
        [
            [name, str(line), *(cells[c] for c in COLUMNS), "", mark(cells)]
            for (name, line), cells in _written(model).items()
        ],
        {"mode": [m for m in MODES if m], "way": [w for w in WAYS if w], "do": [REMOVE]},
    )


def sheet_in(model: Model, name: str, data: bytes, *, write: bool, anyway: bool = False) -> Change:
    """Bring the edits of a sheet back: lines that were changed, removed and added; or permissions
    that were written into a grid.

    Lines that are not in the sheet stay as they are.

    Args:
        model: the workspace.
        name: the sheet's, for messages.
        data: its bytes.
        write: write the change; else it is only shown.
        anyway: also where an expectation fails then.

    Raises:
        UsageError: lines were changed meanwhile, or rows say nothing that can be done; with all
            of them.
        WorkspaceError: it cannot be read.
    """
    file = read_sheet(name, data)
    changed = _by_grid(model, file) if file.header[0] == CORNER else _by_lines(model, file)
    told = made(model, "matrix", changed, write=write, anyway=anyway)
    return replace(told, command="matrix in")


def _written(model: Model) -> dict[tuple[str, int], dict[str, str]]:
    """What stands in each line of the matrix, as it is written, by file and line."""
    held = {n: csv_edits.cells_of(model.files.folder.text(n)) for n in model.files.config.layers}
    places = [(line.location.file, line.location.line) for line in model.lines]
    return {(f, n): {c: held[f][n].get(c, "") for c in COLUMNS} for f, n in places}


def _by_lines(model: Model, file: CsvFile) -> dict[str, str]:
    """The files that a sheet of lines makes."""
    faults: list[str] = []
    by_file: dict[str, list[tuple[int, SheetRow, dict[str, str]]]] = {}
    fresh: list[SheetRow] = []
    places: dict[str, list[tuple[str, int]]] = {}
    now = _written(model)
    for key, cells in now.items():
        places.setdefault(mark(cells), []).append(key)
    taken: set[tuple[str, int]] = set()
    for row in rows_of(file):
        where = f"{file.name}:{row.number}"
        if not row.was:
            if row.remove:
                faults.append(f"{where}: a new row cannot be removed")
            elif not all(row.cells[c] for c in COLUMNS[:3]):
                faults.append(f"{where}: a new line needs {', '.join(COLUMNS[:3])}")
            else:
                fresh.append(row)
            continue
        held = [key for key in places.get(row.was, ()) if row.file in ("", key[0])]
        exact = [key for key in held if key == (row.file, row.line)]
        found = next((key for key in (exact or held) if key not in taken), None)
        if found is None:
            if row.was != mark(row.cells) or row.remove:
                there = now.get((row.file, row.line or 0))
                told = ",".join(there.values()) if there else "nothing"
                faults.append(
                    f"{where}: {row.file}:{row.line} was changed since the sheet was written; now "
                    f"there is {told}"
                )
            continue
        taken.add(found)
        if row.remove or row.cells != now[found]:
            by_file.setdefault(found[0], []).append((found[1], row, now[found]))
    fresh_by = [(row, _layer(model, row, file.name, faults)) for row in fresh]
    if faults:
        raise UsageError("nothing was changed:\n" + "\n".join(faults))
    changed: dict[str, str] = {}
    for name, some in by_file.items():
        text = model.files.folder.text(name)
        for number, row, before in sorted(some, key=lambda e: -e[0]):
            if row.remove:
                text = csv_edits.without_line(text, number)
            else:
                fields = {c: v for c, v in row.cells.items() if v != before[c]}
                text = csv_edits.with_cells(text, number, fields)
        changed[name] = text
    for row, name in fresh_by:
        text = changed.get(name, model.files.folder.text(name))
        fields = {**row.cells, "mode": row.cells["mode"] or "enforce"}
        fields["way"] = fields["way"] or "to"
        changed[name] = csv_edits.with_line(text, fields, file=name)
    return changed


def _layer(model: Model, row: SheetRow, sheet_name: str, faults: list[str]) -> str:
    """The file of a new line."""
    layers = model.files.config.layers
    if not row.file:
        return home_of(model, row.cells["source"], row.cells["destination"])
    found = [n for n in layers if row.file in (n, n.split("/")[-1])]
    if len(found) != 1:
        faults.append(f"{sheet_name}:{row.number}: {row.file!r} is none of {', '.join(layers)}")
        return layers[0]
    return found[0]


def _by_grid(model: Model, file: CsvFile) -> dict[str, str]:
    """The files that permissions make which were written into a grid."""
    faults: list[str] = []
    permissions = {p.name for p in model.files.policy.permissions}
    index, matrix = model.groups.index, model.matrix
    held: dict[tuple[str, str], list[Line]] = {}
    for line in model.lines:
        held.setdefault((line.source, line.destination), []).append(line)
    changed: dict[str, str] = {}
    edited: list[tuple[str, str, str, str]] = []
    for row, number in zip(file.rows, file.lines, strict=True):
        for destination, cell in zip(file.header[1:], row[1:], strict=True):
            source, where = row[0], f"{file.name}:{number}"
            if source not in index or destination not in index:
                faults.append(f"{where}: {source} → {destination} is no cell of two groups")
                continue
            form = matrix.forms[matrix.form(index[source], index[destination])]
            if cell == harmless_text(model, form):
                continue
            every = held.get((source, destination), [])
            # Lines that are off or expired stay, but for the only one there is.
            places = [line for line in every if line.counts(model.today)] or every[:1]
            if cell not in permissions:
                faults.append(f"{where}: {source} → {destination}: {cell!r} is no permission")
            elif len(places) > 1:
                told = ", ".join(str(line.location) for line in places)
                faults.append(f"{where}: several lines speak of {source} → {destination}: {told}")
            elif places and places[0].way == "both":
                faults.append(
                    f"{where}: {places[0].location} speaks of {destination} → {source} too (way: "
                    "both); part it into two lines first"
                )
            elif places:
                name, at = places[0].location.file, places[0].location.line
                text = changed.get(name, model.files.folder.text(name))
                fields = {"permission": cell}
                if places[0].mode != "enforce":
                    fields["mode"] = "enforce"
                if not places[0].counts(model.today) and places[0].expires is not None:
                    fields["expires"] = ""
                changed[name] = csv_edits.with_cells(text, at, fields)
                edited.append((where, source, destination, cell))
            else:
                name = home_of(model, source, destination)
                text = changed.get(name, model.files.folder.text(name))
                fields = {"source": source, "destination": destination, "permission": cell,
                          "mode": "enforce", "way": "to"}  # fmt: skip
                changed[name] = csv_edits.with_line(text, fields, file=name)
                edited.append((where, source, destination, cell))
    if not faults and changed:
        faults += _not_come_to(model, changed, edited)
    if faults:
        raise UsageError("nothing was changed:\n" + "\n".join(faults[:40]))
    return changed


def _not_come_to(
    model: Model, changed: dict[str, str], edited: list[tuple[str, str, str, str]]
) -> Iterator[str]:
    """Of each edited cell that would not come to what was written: why."""
    try:
        then = Model(edits.try_out(model.files, changed), model.today, model)
    except WorkspaceError as error:
        raise edits.checked(error) from None
    index, matrix = then.groups.index, then.matrix
    number = {p.name: n for n, p in enumerate(then.files.policy.permissions)}
    for where, source, destination, name in edited:
        effect = matrix.effects[number[name]]
        for piece in matrix.pieces(index[source], index[destination], "action"):
            meant = effect.denies if piece.action == "allow" else effect.allows
            if piece.mask & meant:
                line = then.lines[matrix.rows[piece.row].line].location if piece.row >= 0 else None
                verb = "allows" if piece.action == "allow" else "denies"
                yield (
                    f"{where}: {source} → {destination} would not come to {name}: "
                    f"{line or 'the default'} {verb} {then.text(piece.mask & meant)} first"
                )
                break


def harmless_text(model: Model, form: int) -> str:
    """What stands in a cell of a grid."""
    return model.text(form) if form else ""
