"""The matrix as a sheet, edited as an office program would, and brought back."""

from __future__ import annotations

import csv
import io
import json
import random
from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest

import oaktag as package
from conftest import Ran
from oaktag.workspace.workbook import harmless, plain
from sizes import scaled

Run = Callable[..., Ran]
SCHEMA = Path(package.__file__).parent / "schemas/matrix-in.json"
NAMES = ("source", "destination", "permission", "mode", "way", "expires", "owner", "note")


def _rows(path: Path) -> list[dict[str, str]]:
    return list(csv.DictReader(path.read_text().splitlines()))


def _save(path: Path, rows: list[dict[str, str]], *, separator: str = ",", lead: str = "") -> None:
    held = io.StringIO()
    writer = csv.DictWriter(held, list(rows[0]), delimiter=separator, lineterminator="\r\n")
    writer.writeheader()
    writer.writerows(rows)
    path.write_text(lead + held.getvalue(), newline="")


def _matrix(folder: Path) -> list[dict[str, str]]:
    """All lines as they stand in the files, layer by layer."""
    return [row for p in sorted((folder / "matrix").iterdir()) for row in _rows(p)]


@pytest.mark.parametrize("seed", range(scaled(5)))
def test_what_is_edited_in_a_sheet_stands_in_the_files(
    seed: int, shipped: Path, tmp_path: Path, oaktag: Run
) -> None:
    rng, sheet = random.Random(seed), tmp_path / "sheet.csv"
    assert oaktag("-C", shipped, "matrix", "--out", sheet).status == 0
    assert oaktag("-C", shipped, "matrix", "--in", sheet, "--json").json["files"] == []
    rows, before = _rows(sheet), _matrix(shipped)
    assert [{k: plain(r[k]) for k in NAMES} for r in rows] == before
    meant = [dict(r) for r in before]
    gone = set()
    for n in rng.sample(range(len(rows)), 9):
        kind = rng.choice(("note", "mode", "permission", "remove", "expires"))
        value = {"note": "=cmd|' /c x'!A0, \"said\"", "mode": "observe", "permission": "administer",
                 "expires": "31.12.2031", "remove": ""}[kind]  # fmt: skip
        if kind == "remove":
            rows[n]["do"] = "Remove"
            gone.add(n)
        else:
            rows[n][kind] = harmless(value) if kind == "note" else value
            meant[n][kind] = "2031-12-31" if kind == "expires" else value
    fresh = dict.fromkeys(rows[0], "") | {
        "source": "tablets", "destination": "archive", "permission": "search-only", "note": "ours",
    }  # fmt: skip
    rng.shuffle(rows)
    _save(sheet, [*rows, fresh], separator=rng.choice(",;\t"), lead=rng.choice(("", "\ufeff")))
    ran = oaktag("-C", shipped, "matrix", "--in", sheet, "--write", "--anyway", "--json")
    assert ran.status == 0, ran
    jsonschema.validate(ran.json, json.loads(SCHEMA.read_text()))
    new = {k: fresh[k] for k in NAMES} | {"mode": "enforce", "way": "to"}
    left = [r for n, r in enumerate(meant) if n not in gone]
    now = _matrix(shipped)
    assert [r for r in now if r != new] == left and now.count(new) == 1
    assert oaktag("-C", shipped, "check", "--json").status in (0, 1)


def test_what_changed_meanwhile_is_plain_and_nothing_is_written(
    shipped: Path, tmp_path: Path, oaktag: Run
) -> None:
    sheet, file = tmp_path / "sheet.csv", shipped / "matrix/20-reading.csv"
    oaktag("-C", shipped, "matrix", "--out", sheet)
    rows = _rows(sheet)
    mine = [n for n, r in enumerate(rows) if r["file"].endswith("20-reading.csv")]
    text = file.read_text().splitlines(keepends=True)
    # A line above, one changed, one gone; the sheet changes the first, the second and a third.
    text[2] = text[2].replace("enforce", "observe")
    file.write_text("".join([text[0], "tablets,archive,search-only,,,,,\n", *text[1:3], *text[4:]]))
    for n in (0, 1, 3):
        rows[mine[n]]["note"] = "edited"
    _save(sheet, rows)
    before = file.read_text()
    ran = oaktag("-C", shipped, "matrix", "--in", sheet, "--write")
    assert ran.status == 2 and file.read_text() == before
    assert f"sheet.csv:{mine[1] + 2}: matrix/20-reading.csv:3 was changed since" in ran.err
    assert ran.err.count("was changed since") == 1, ran.err
    rows[mine[1]]["note"] = ""
    _save(sheet, rows)
    assert oaktag("-C", shipped, "matrix", "--in", sheet, "--write").status == 0
    noted = [r["permission"] for r in _rows(file) if r["note"] == "edited"]
    assert noted == [rows[mine[n]]["permission"] for n in (0, 3)]


def test_permissions_that_are_written_into_a_grid_are_lines(
    shipped: Path, tmp_path: Path, oaktag: Run
) -> None:
    grid = tmp_path / "grid.csv"
    assert oaktag("-C", shipped, "matrix", "--out", grid, "--form", "grid").status == 0
    assert oaktag("-C", shipped, "matrix", "--in", grid, "--json").json["files"] == []
    rows = list(csv.reader(grid.read_text().splitlines()))
    at = {name: n for n, name in enumerate(rows[0])}
    by = {row[0]: row for row in rows}
    by["tablets"][at["archive"]] = "search-only"
    by["kiosks"][at["catalogue"]] = "administer"
    grid.write_text("\n".join(",".join(f'"{c}"' for c in row) for row in rows) + "\n")
    ran = oaktag("-C", shipped, "matrix", "--in", grid, "--write", "--anyway")
    assert ran.status == 0, ran
    workspace = package.Workspace.load(shipped)
    assert workspace.decide("tablets", "archive", "https").action == "allow"
    lines = [
        r for r in _matrix(shipped) if (r["source"], r["destination"]) == ("kiosks", "catalogue")
    ]
    assert [r["permission"] for r in lines] == ["administer"]
    by["patrons"][at["archive"]] = "nonsense"
    grid.write_text("\n".join(",".join(f'"{c}"' for c in row) for row in rows) + "\n")
    ran = oaktag("-C", shipped, "matrix", "--in", grid)
    assert ran.status == 2 and "patrons → archive: 'nonsense' is no permission" in ran.err


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ({"expires": "01/02/2027"}, "may be 2027-01-02 or 2027-02-01"),
        ({"expires": "31.02.2027"}, "is no day"),
        ({"expires": "46387"}, "is no day"),
        ({"do": "delete"}, "is nothing to do"),
        ({"line": "4.5"}, "is no number of a line"),
        ({"was": "", "permission": ""}, "a new line needs"),
        ({"was": "", "do": "remove"}, "a new row cannot be removed"),
        ({"was": "", "file": "matrix/9.csv"}, "is none of"),
        ({"permission": "nonsense"}, "nonsense"),
        ({"mode": "maybe"}, "maybe"),
    ],
)
def test_what_cannot_be_understood_is_said_with_its_line(
    change: dict[str, str], told: str, shipped: Path, tmp_path: Path, oaktag: Run
) -> None:
    sheet = tmp_path / "sheet.csv"
    oaktag("-C", shipped, "matrix", "--out", sheet)
    rows, before = _rows(sheet), _matrix(shipped)
    rows[4] |= change
    _save(sheet, rows)
    ran = oaktag("-C", shipped, "matrix", "--in", sheet, "--write")
    assert ran.status == 2 and told in ran.err, ran
    assert ("sheet.csv:6" in ran.err) or "matrix/" in ran.err
    assert _matrix(shipped) == before


def test_unambiguous_days_and_broken_sheets(shipped: Path, tmp_path: Path, oaktag: Run) -> None:
    sheet = tmp_path / "sheet.csv"
    oaktag("-C", shipped, "matrix", "--out", sheet)
    rows = _rows(sheet)
    for n, day in enumerate(("12/31/2031", "31/12/2031", "5/5/2031", "1.2.2031", "2031-02-01")):
        rows[n]["expires"] = day
    _save(sheet, rows)
    assert oaktag("-C", shipped, "matrix", "--in", sheet, "--write", "--anyway").status == 0
    days = [r["expires"] for r in _matrix(shipped)[:5]]
    assert days == ["2031-12-31", "2031-12-31", "2031-05-05", "2031-02-01", "2031-02-01"]
    for data, told in (
        (b"", "the header is missing"),
        (b"file,line\n1,2\n", "the columns source, destination, permission, do, was are missing"),
        (b"\xff\xfe\x00", "save the sheet as CSV in UTF-8"),
        (b"a,b\n1\n", "the row has 1 cells"),
    ):
        sheet.write_bytes(data)
        ran = oaktag("-C", shipped, "matrix", "--in", sheet)
        assert ran.status == 2 and told in ran.err, ran
    assert oaktag("-C", shipped, "matrix", "--in", tmp_path / "none.csv").status == 2
    assert oaktag("-C", shipped, "matrix", "--write").status == 2


def test_no_cell_is_a_formula() -> None:
    for cell in ("=1+1", "+1", "-1", "@x", "\t=1", "'=1", "", "plain", "'quoted'"):
        assert harmless(cell)[:1] not in set("=+-@\t\r") and plain(harmless(cell)) == cell


def test_an_edited_cell_of_a_grid_comes_to_what_was_written_or_is_refused(
    tmp_path: Path, oaktag: Run
) -> None:
    """Over lines that are off, expired, observed, of both ways, mirrored, or that a broader one of an
    earlier layer hides."""
    files = {
        "oaktag.yaml": "workspace: w\nlayers: [a.csv, b.csv]\n",
        "groups.yaml": "groups: [{id: ada, tag: 310}, {id: bo, tag: 320}, {id: cy, tag: 330}]\nsets: {both: [ada, cy]}\n",
        "permissions.yaml": "permissions:\n  all: [{allow: any}]\n  web: [{allow: https}]\n  nothing: [{deny: any}]\n",
        "a.csv": "source,destination,permission,mode,way,expires\ncy,both,nothing,enforce,to,\n",
        "b.csv": "source,destination,permission,mode,way,expires\nada,bo,all,off,,\nbo,ada,all,,,2020-01-01\n"
        "ada,cy,all,observe,,\nbo,cy,web,,both,\nada,ada,web,,,2099-01-01\n",
    }
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    for source, destination, told in (
        ("ada", "bo", "ada,bo,all,enforce,,"), ("bo", "ada", "bo,ada,all,,,"),
        ("ada", "cy", "ada,cy,all,enforce,,"), ("ada", "ada", "ada,ada,all,,,2099-01-01"),
        ("bo", "cy", "part it into two lines"), ("cy", "bo", "cy,bo,all,enforce,to,"),
        ("cy", "ada", "would not come to all"), ("bo", "bo", "bo,bo,all,enforce,to,"),
    ):  # fmt: skip
        grid = package.Workspace.load(tmp_path)
        model = grid.model
        path = tmp_path / "grid.csv"
        grid.sheet(path, "grid")
        cells = list(csv.reader(path.read_text().splitlines()))
        row = next(r for r in cells if r[0] == source)
        row[cells[0].index(destination)] = "all"
        with path.open("w", newline="") as file:
            csv.writer(file).writerows(cells)
        ran = oaktag("-C", tmp_path, "matrix", "--in", path, "--write")
        if "," not in told:
            assert ran.status == 2 and told in ran.err, ran
        else:
            assert ran.status == 0, ran
            assert told in [
                *(tmp_path / "b.csv").read_text().splitlines(),
                *(tmp_path / "a.csv").read_text().splitlines(),
            ], ran
            index = model.groups.index
            then = package.Workspace.load(tmp_path).model.matrix
            assert then.forms[then.form(index[source], index[destination])] == then.atoms.full, (
                source,
                destination,
            )
        for name, text in files.items():
            (tmp_path / name).write_text(text)
