"""What office programs write is understood, or refused with its place: books of sheets, separators,
days and numbers of a country."""

from __future__ import annotations

import csv
import io
import zipfile
from collections.abc import Callable
from datetime import date, datetime
from pathlib import Path
from typing import Any

import openpyxl
import pandas as pd
import pytest

import oaktag as package
from conftest import Ran

Run = Callable[..., Ran]
NAMES = ("source", "destination", "permission", "mode", "way", "expires", "owner", "note")


def _cells(path: Path) -> list[list[Any]]:
    """The cells of a sheet, as another program reads them."""
    if path.suffix == ".csv":
        return list(csv.reader(io.StringIO(path.read_text(), newline="")))
    engine: Any = "openpyxl" if path.suffix == ".xlsx" else "odf"
    frame = pd.read_excel(path, engine=engine, header=None, dtype=str, keep_default_na=False)
    return [list(row) for row in frame.to_numpy().tolist()]


def _save(path: Path, cells: list[list[Any]]) -> None:
    engine: Any = "openpyxl" if path.suffix == ".xlsx" else "odf"
    pd.DataFrame(cells).to_excel(path, engine=engine, header=False, index=False)


def _lines(folder: Path) -> list[tuple[str, ...]]:
    rows = []
    for path in sorted((folder / "matrix").iterdir()):
        rows += [tuple(r[n] for n in NAMES) for r in csv.DictReader(path.read_text().splitlines())]
    return rows


@pytest.mark.parametrize("kind", ["xlsx", "ods"])
def test_a_book_edited_elsewhere_comes_back(
    kind: str, shipped: Path, tmp_path: Path, oaktag: Run
) -> None:
    """Days and numbers as such programs keep them, rows sorted anew, one added, one to go."""
    layer = shipped / "matrix/30-outside.csv"
    layer.write_text(layer.read_text() + 'tablets,archive,watch,observe,,,,"=cmd, ""x""  two -3"\n')
    sheet = tmp_path / f"sheet.{kind}"
    assert oaktag("-C", shipped, "matrix", "--out", sheet).status == 0
    first = sheet.read_bytes()
    assert (
        oaktag("-C", shipped, "matrix", "--out", sheet).status == 0 and sheet.read_bytes() == first
    )
    assert oaktag("-C", shipped, "matrix", "--in", sheet, "--json").json["files"] == []
    before, cells = _lines(shipped), _cells(sheet)
    at = {name: n for n, name in enumerate(cells[0])}
    meant = [list(line) for line in before]
    cells[3][at["expires"]] = datetime(2031, 12, 31)
    meant[2][5] = "2031-12-31"
    cells[5][at["note"]] = 4711
    meant[4][7] = "4711"
    cells[7][at["do"]] = "remove"
    del meant[6]
    fresh = [""] * len(at)
    for name, text in (
        ("source", "tablets"),
        ("destination", "archive"),
        ("permission", "search-only"),
    ):
        fresh[at[name]] = text
    _save(sheet, [cells[0], *reversed(cells[1:]), [""] * len(at), fresh])
    ran = oaktag("-C", shipped, "matrix", "--in", sheet, "--write", "--anyway")
    assert ran.status == 0, ran
    new = ("tablets", "archive", "search-only", "enforce", "to", "", "", "")
    now = _lines(shipped)
    assert now.count(new) == 1 and [r for r in now if r != new] == [tuple(r) for r in meant]


def test_a_formula_and_an_error_are_refused(shipped: Path, tmp_path: Path, oaktag: Run) -> None:
    sheet = tmp_path / "sheet.xlsx"
    before = _lines(shipped)
    for value, told in (
        ("=HYPERLINK(\"x\")", "L4 holds a formula"), ("#N/A", "L4 holds an error"),
    ):  # fmt: skip
        oaktag("-C", shipped, "matrix", "--out", sheet)
        book = openpyxl.load_workbook(sheet)
        book.worksheets[0]["L4"] = value
        book.save(sheet)
        ran = oaktag("-C", shipped, "matrix", "--in", sheet, "--write")
        assert ran.status == 2 and told in ran.err
    ods = tmp_path / "sheet.ods"
    oaktag("-C", shipped, "matrix", "--out", ods)
    held = io.BytesIO()
    with zipfile.ZipFile(ods) as old, zipfile.ZipFile(held, "w") as new:
        for entry in old.infolist():
            text = old.read(entry).replace(
                b'office:value-type="string"',
                b'office:value-type="string" table:formula="of:=1"',
                20,
            )
            new.writestr(entry, text)
    ods.write_bytes(held.getvalue())
    ran = oaktag("-C", shipped, "matrix", "--in", ods, "--write")
    assert ran.status == 2 and "row 1 holds a formula" in ran.err
    for data in (b"PK\x03\x04", ods.read_bytes()[:900], b"PK\x03\x04" + bytes(500)):
        ods.write_bytes(data)
        ran = oaktag("-C", shipped, "matrix", "--in", ods)
        assert ran.status == 2 and "cannot be read as a sheet" in ran.err
    assert oaktag("-C", shipped, "matrix", "--out", tmp_path / "a.doc").status == 2
    assert _lines(shipped) == before


@pytest.mark.parametrize("kind", ["csv", "xlsx", "ods"])
def test_answers_as_sheets(kind: str, shipped: Path, tmp_path: Path, oaktag: Run) -> None:
    """Row by row what ``--json`` says; and what acts in an office program does not."""
    servers = shipped / "inventory/servers.csv"
    servers.write_text(servers.read_text().replace("catalogue-1,", "=1+1,", 1))
    out = tmp_path / f"sheet.{kind}"
    for words, table, columns in (
        (("members", "--all"), "endpoints", ("endpoint", "kind", "group", "stability")),
        (("bindings",), "bindings", ("prefix", "group", "source", "who")),
        (("callers", "catalogue"), "callers", ("group", "allows")),
        (("callees", "patrons"), "callees", ("group", "allows")),
        (("review",), "findings", ("code", "file", "message", "hint")),
        (("check",), "findings", ("code", "message")),
    ):
        ran = oaktag("-C", shipped, *words, "--out", out, "--json")
        head, *rows = _cells(out)
        at = [head.index(name) for name in columns]
        assert [[row[n].removeprefix("'") for n in at] for row in rows] == [
            [r[c] for c in columns] for r in ran.json[table]
        ], words
    assert "'=1+1" in {cell for row in _sheet(oaktag, shipped, out) for cell in row}


def _sheet(oaktag: Run, folder: Path, out: Path) -> list[list[Any]]:
    assert oaktag("-C", folder, "members", "catalogue", "--out", out).status == 0
    return _cells(out)


def test_layers_with_other_separators_and_days(shipped: Path, oaktag: Run) -> None:
    """A layer saved by an office program says the same, and every change keeps its form."""
    layer = shipped / "matrix/20-reading.csv"
    text = layer.read_text()
    rows = list(csv.reader(text.splitlines()))
    rows[1][5], rows[2][5] = "31.12.2031", "12/31/2031"
    rows[1][7] = "a, b; c"
    held = io.StringIO()
    csv.writer(held, delimiter=";", lineterminator="\r\n").writerows(rows)
    before = package.Workspace.load(shipped).matrix().as_json()["cells"]
    layer.write_text("\ufeff" + held.getvalue(), newline="")
    workspace = package.Workspace.load(shipped)
    assert workspace.matrix().as_json()["cells"] == before
    for day, there in ((date(2031, 12, 31), True), (date(2032, 1, 1), False)):
        lines = package.Workspace.load(shipped, day).cell("librarians", "loans-db").lines
        assert (2 in [n["line"] for n in lines]) == there
    at = ("-C", shipped)
    ran = oaktag(
        *at, "set", "kiosks", "loans-db", "use-loans", "--mode", "observe", "--write", "--anyway"
    )
    assert ran.status == 0, ran
    assert oaktag(*at, "set", "tablets", "archive", "watch", "--write", "--anyway").status == 0
    after = layer.read_bytes().decode().split("\r\n")
    assert after[0] == "\ufeff" + ";".join(rows[0]) and after[1] == held.getvalue().split("\r\n")[1]
    assert after[2].split(";")[3] == "observe" and after[2].split(";")[5] == "12/31/2031"
    assert oaktag(*at, "rename", "patrons", "guests", "--write").status == 0
    assert layer.read_bytes().decode().count("guests;") == held.getvalue().count("patrons;")

    for written, told in (
        ("03/04/2031", "'03/04/2031' may be 2031-03-04 or 2031-04-03"), ("31.02.2031", "is no day"),
    ):  # fmt: skip
        rows[1][5], rows[1][7] = written, ""
        layer.write_text("\n".join(";".join(row) for row in rows[:2]))
        ran = oaktag(*at, "check")
        assert ran.status == 2 and "matrix/20-reading.csv:2:" in ran.err and told in ran.err


def test_an_inventory_with_the_numbers_of_a_country(tmp_path: Path, oaktag: Run) -> None:
    folder = tmp_path / "w"
    assert oaktag("new", folder).status == 0
    (folder / "oaktag.yaml").write_text(
        "workspace: w\nlayers: [matrix/10.csv]\nsessions: s.csv\n"
        "sources:\n  - {file: a.csv, kind: server, id: name, address: ip}\n"
    )
    (folder / "groups.yaml").write_text("groups: [{id: large, tag: 11}, {id: small, tag: 12}]\n")
    (folder / "assignments.yaml").write_text(
        'rules:\n  - {give: large, when: {size: {">=": 2.5}}}\n  - {give: small, when: {kind: server}}\n'
    )
    (folder / "permissions.yaml").write_text("permissions: {web: [{allow: https}]}\n")
    (folder / "matrix").mkdir(exist_ok=True)
    for old in (folder / "matrix").iterdir():
        old.unlink()
    (folder / "matrix/10.csv").write_text("source,destination,permission\n")
    head = "name;ip;size;size.confidence\n"
    (folder / "a.csv").write_text(
        head + "a;10.0.0.1;2,75;0,9\nb;10.0.0.2;1.002,5;\nc;10.0.0.3;2,4;1\n"
    )
    (folder / "s.csv").write_text("endpoint;address;since\na;10.0.9.1;26.11.2026 08:30\n")
    workspace = package.Workspace.load(folder)
    assert {e["endpoint"]: e["group"] for e in workspace.members().endpoints} == {
        "a": "large", "b": "large", "c": "small"
    }  # fmt: skip
    since = [b["since"] for b in workspace.bindings().bindings if b["source"] == "session"]
    assert since == ["2026-11-26T08:30:00+00:00"]
    for cell, told in (
        ("1,500", "a.csv:3: the size '1,500' may be 1500 or 1.500, and a rule compares it"),
        ("1,23457E+11", "a.csv:3:12: '1,23457E+11' is a number whose last digits"),
    ):
        (folder / "a.csv").write_text(head + f"a;10.0.0.1;2;\nb;10.0.0.2;{cell};\n")
        ran = oaktag("-C", folder, "members")
        assert ran.status == 2 and told in ran.err, ran
    # What no rule compares is text, as it is written.
    (folder / "a.csv").write_text("name;ip;size;rooms\na;10.0.0.1;2;1,500\n")
    (room,) = package.Workspace.load(folder).attributes("rooms")["values"]
    assert room["value"] == "1,500"
    (folder / "a.csv").write_text(head + "a;10.0.0.1;2;\n")
    (folder / "s.csv").write_text("endpoint;address;since\na;10.0.9.1;03/04/2026 08:30\n")
    ran = oaktag("-C", folder, "members")
    assert ran.status == 2 and "s.csv:2:12: '03/04/2026' may be 2026-03-04 or 2026-04-03" in ran.err
