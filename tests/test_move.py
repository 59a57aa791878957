"""A line at another place: what was said of each place is what a move there does, and nothing of the
file changes but the order of its rows."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest

import oaktag as package
from conftest import Ran
from oaktag.workspace.csv_edits import with_moved
from test_corners import build

Run = Callable[..., Ran]
SCHEMA = Path(package.__file__).parent / "schemas/move.json"
LINES = [
    "a,b,web,,,,,\n", "*,b,nothing,,,,,\n", 'front,b,web,,,,,"a note,\nof two lines"\n',
    "a,back,shell,,both,,,\n", "*,*,nothing,,,,,\n", "b,c,web,,,,,\n", "a,*,shell,,,,,\n",
]  # fmt: skip


@pytest.mark.parametrize("seed", range(4))
def test_what_is_said_of_each_place_is_what_a_move_there_does(
    seed: int, tmp_path: Path, oaktag: Run
) -> None:
    rng = random.Random(seed)
    lines = rng.sample(LINES, len(LINES))
    build(tmp_path, "".join(lines), config={"order": "as-listed"})
    file = tmp_path / "matrix/0.csv"
    text = file.read_text()
    workspace = package.Workspace.load(tmp_path)
    starts = [line.location.line for line in workspace.model.lines]
    moved = starts[rng.randrange(len(starts))]
    said = oaktag("-C", tmp_path, "move", f"0.csv:{moved}", "--json").json
    jsonschema.validate(said, json.loads(SCHEMA.read_text()))
    others = [n for n in starts if n != moved]
    told: dict[int | None, list[list[str]]] = {}
    for row in said["places"]:
        ends = [*others, None]
        first, last = (ends.index(row[k]) for k in ("first_before", "last_before"))
        told |= dict.fromkeys(ends[first : last + 1], row["cells"])
    assert set(told) == {*others, None}
    assert sum(row["here"] for row in said["places"]) == 1
    for place, cells in told.items():
        words = ("before", str(place)) if place else ("last",)
        ran = oaktag(
            "-C", tmp_path, "move", f"0.csv:{moved}", *words, "--write", "--anyway", "--json"
        )
        assert ran.status == 0, ran
        assert [[c["source"], c["destination"]] for c in ran.json["cells"]] == cells, place
        now = file.read_text()
        assert sorted(_rows(now)) == sorted(_rows(text)) and len(now) == len(text)
        file.write_text(text)
    assert any(told.values()), "some place changes something"


def _rows(text: str) -> list[str]:
    return text.replace(",\nof", ",¶of").splitlines()


def test_a_step_and_its_way_back_leave_the_bytes(tmp_path: Path, oaktag: Run) -> None:
    build(tmp_path, "".join(LINES))
    file = tmp_path / "matrix/0.csv"
    for text in (
        file.read_text(),
        file.read_text().rstrip("\n"),
        file.read_text().replace("\n", "\r\n"),
    ):
        file.write_bytes(text.encode())
        assert oaktag("-C", tmp_path, "move", "matrix/0.csv:3", "down", "--write").status == 0
        assert file.read_bytes() != text.encode()
        now = package.Workspace.load(tmp_path).model.lines
        there = now[2].location.line
        assert oaktag("-C", tmp_path, "move", f"0.csv:{there}", "up", "--write").status == 0
        assert file.read_bytes() == text.encode()


def test_a_last_row_without_an_end_gets_one_where_it_goes() -> None:
    assert with_moved("h\na\nb", 3, 2) == "h\nb\na"[:4] + "a\n"
    assert with_moved("h\na\nb", 2, None) == "h\nb\na\n"
    assert with_moved("h\r\na\r\nb\r\n", 2, None) == "h\r\nb\r\na\r\n"


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("0.csv:2", "up"), "is the first of its file"),
        (("0.csv:9", "down"), "is the last of its file"),
        (("0.csv:1", "down"), "no line of the matrix begins in line 1"),
        (("0.csv:5", "down"), "no line of the matrix begins in line 5"),
        (("1.csv:2", "down"), "can be meant"),
        (("2", "down"), "write FILE:LINE"),
        (("0.csv:2", "before"), "need the number of another line"),
        (("0.csv:2", "after", "99"), "no line of the matrix begins in line 99"),
    ],
)
def test_what_cannot_be_moved_is_said(
    words: tuple[str, ...], told: str, tmp_path: Path, oaktag: Run
) -> None:
    build(tmp_path, "".join(LINES))
    text = (tmp_path / "matrix/0.csv").read_text()
    ran = oaktag("-C", tmp_path, "move", *words, "--write")
    assert ran.status == 2 and told in ran.err, ran
    assert (tmp_path / "matrix/0.csv").read_text() == text
