"""Findings about the matrix: what is said is true, and each kind of planted mistake is found."""

from __future__ import annotations

import copy
from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import oaktag
from conftest import Ran
from oaktag.testing.slow import Stack
from oaktag.testing.strategies import stacks
from sizes import scaled
from test_commands import _schema
from test_matrix import CELLS, _load

Run = Callable[..., Ran]


def _without(stack: Stack, layer: int, row: int) -> Stack:
    other = copy.deepcopy(stack)
    other.layers[layer][row]["mode"] = "off"
    return other


def _table(stack: Stack) -> dict[tuple[object, ...], tuple[str, str]]:
    return {
        (s, d, p): (stack.decide(s, d, p, "action")[0], stack.decide(s, d, p, "would")[0])
        for s, d in CELLS
        for p in stack.packets()
    }


@settings(max_examples=scaled(12))
@given(stack=stacks(most_lines=3), data=st.data())
def test_what_changes_nothing(stack: Stack, data: st.DataObject, tmp_path: Path) -> None:
    """A line is said to change nothing if and only if it is reached and all is the same without."""
    found = _load(stack, tmp_path).review()["findings"]
    codes = {(f["file"], f["line"]): f["code"] for f in found if f["code"] in ("OT301", "OT304")}
    applied = [
        (layer, number)
        for layer, rows in enumerate(stack.layers)
        for number in range(len(rows))
        if any(at == number + 2 for s, d in CELLS for at, _ in stack.lines(layer, s, d))
    ]
    if applied:
        layer, number = data.draw(st.sampled_from(applied))
        code = codes.get((f"matrix/{layer + 1}0.csv", number + 2))
        same = _table(_without(stack, layer, number)) == _table(stack)
        assert same == (code is not None), (code, layer, number)


@given(stack=stacks())
def test_contradictions_are_true(stack: Stack, tmp_path: Path) -> None:
    """The example's packet: each of the two lines alone decides it, one to allow, one to deny."""
    for found in _load(stack, tmp_path).review()["findings"]:
        if found["code"] != "OT303":
            continue
        example = found["example"]
        packet = tuple(example["packet"].values())
        answers = set()
        for place in (found, *example["by"]):
            alone = copy.deepcopy(stack)
            layer = int(place["file"][7]) - 1
            rows = [
                row if (n, at) == (layer, place["line"] - 2) else {**row, "mode": "off"}
                for n, held in enumerate(alone.layers)
                for at, row in enumerate(held)
            ]
            alone.layers = [[r for r in rows if r["mode"] != "off"]]
            alone.layers[0][0]["mode"] = "enforce"
            answers.add(
                alone.decide(example["source"], example["destination"], packet, "action")[:2]
            )
        assert {a for a, _ in answers} == {"allow", "deny"}
        assert all(line is not None for _, line in answers)


READING, SHARED = "matrix/20-reading.csv", "matrix/10-shared.csv"
PLANTED = [
    (READING, "\n", "\npatrons,catalogue,no-web,enforce,to,,,\n",
     {("OT302", READING, 8), ("OT303", READING, 8), ("OT304", READING, 8)}),
    (SHARED, "\n", "\nprinters,core-services,names,enforce,to,,,\n", {("OT304", SHARED, 2)}),
    (READING, "county-office,archive,read-scans", "archive,county-office,read-scans", {("OT305", READING, 24)}),
    (READING, "librarians,archive,read-scans", "archive,librarians,read-scans", {("OT305", READING, 26)}),
    (READING, "2027-12-31", "2026-12-31", {("OT309", READING, 16)}),
    (READING, "2027-12-31", "2027-01-20", {("OT310", READING, 16)}),
    ("permissions.yaml", "permissions:\n", "permissions:\n  idle:\n    - allow: ssh\n", {("OT307", "permissions.yaml", 7)}),
    ("permissions.yaml", "services:\n", "services:\n  idle: 99/tcp\n", {("OT307", "permissions.yaml", 2)}),
    ("permissions.yaml", "services:\n", "services:\n  loans-all: [8440-8450/tcp]\n",
     {("OT307", "permissions.yaml", 2), ("OT308", "permissions.yaml", 3)}),
    ("groups.yaml", "sets:\n", "sets:\n  nobodys: [kiosks]\n", {("OT307", "groups.yaml", 26)}),
    ("groups.yaml", "sets:\n", "  - {id: spare, tag: 900}\nsets:\n", {("OT307", "groups.yaml", 25)}),
    ("permissions.yaml", "      - allow: [icmp4/3/4, icmp6/2]  # how large packets may be\n", "", {("OT306", READING, 12)}),
]  # fmt: skip


@pytest.mark.parametrize(("name", "old", "new", "expected"), PLANTED)
def test_each_planted_mistake_is_found_and_nothing_else(
    oaktag: Run, shipped_mended: Path, name: str, old: str, new: str,
    expected: set[tuple[str, str, int]],
) -> None:  # fmt: skip
    path = shipped_mended / name
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new, 1))
    more = {"no-web": "deny: https", "names": "allow: domain"}
    for permission, entry in more.items():
        if f",{permission}," in new:
            with (shipped_mended / "permissions.yaml").open("a") as file:
                file.write(f"  {permission}:\n    - {entry}\n")
    if "read-scans" in new:  # what is meant is written down
        with (shipped_mended / "expectations.yaml").open("a") as file:
            file.write(f"- {{from: {new.split(',')[1]}, to: archive, allowed: [https]}}\n")
    ran = oaktag("--today", "2027-01-05", "-C", shipped_mended, "review", "--json")
    jsonschema.validate(ran.json, _schema("review"))
    assert {(f["code"], f["file"], f["line"]) for f in ran.json["findings"]} == expected


_FOUR = ["a", "b", "c", "d"]
_SETS = {"ab": ["a", "b"], "cd": ["c", "d"], "just-a": ["a"], "just-b": ["b"], "just-c": ["c"],
         "just-d": ["d"]}  # fmt: skip
_SAYS = {"onward": [{"pass": "any"}], "web": [{"allow": "https"}], "none": [{"deny": "any"}],
         "ssh": [{"allow": "ssh"}]}  # fmt: skip


@pytest.mark.parametrize(
    ("layers", "order", "code", "told"),
    [
        # What is passed on is undecided in the next layer, and only there.
        ([["a b onward"], ["a b web"]], "specific-first", "OT301", []),
        ([["a b onward"], ["a b none"], ["a b web"]], "specific-first", "OT301", ["a b 3:2"]),
        ([["a b web"], ["a b web"]], "specific-first", "OT301", ["a b 2:2"]),
        # itself is a group with itself, and as narrow as its source.
        ([["ab itself none", "a a web"]], "specific-first", "OT301", []),
        ([["ab itself none", "a a web"]], "broad-first", "OT301", ["a a 1:3"]),
        ([["b itself none", "b b web"]], "specific-first", "OT301", ["b b 1:3"]),
        # Lines of one width contradict, in their first cell, the first that says otherwise.
        ([["ab b web", "a b web", "a b none"]], "broad-first", "OT303", ["a b 1:4 1:3"]),
        ([["just-a just-c none", "just-b just-d none", "just-b just-d none", "ab cd web"]],
         "specific-first", "OT303", ["a c 1:5 1:2"]),
        ([["a b web"], ["a b none"]], "specific-first", "OT303", []),
        # What routers tell a sender is denied: the first cell of the line.
        ([["c a web", "d b web", "a c ssh", "ab cd none"]], "specific-first", "OT306",
         ["a c 1:5 1:5"]),
        ([["c a web", "ab cd none", "a c none"]], "specific-first", "OT306", ["a c 1:4 1:4"]),
        ([["ab cd none", "c d web"]], "specific-first", "OT306", []),
    ],
)  # fmt: skip
def test_small_matrices(layers: list[list[str]], order: str, code: str, told: list[str]) -> None:
    """Worked out by hand: a code's cells, its lines as layer:line, and what its example is by."""
    workspace = oaktag.Workspace.from_objects(
        [{"id": name, "tag": 100 + n} for n, name in enumerate(_FOUR)],
        _SAYS, {f"{n}": [line.split() for line in held] for n, held in enumerate(layers, 1)},
        sets=_SETS, config={"order": order},
    )  # fmt: skip
    said = []
    for found in workspace.review().findings:
        if found["code"] == code:
            places = [(found["file"], found["line"])]
            if code != "OT301":
                places += [(p["file"], p["line"]) for p in found["example"]["by"][:1]]
            ends = found["example"]["source"], found["example"]["destination"]
            said.append(" ".join([*ends, *(f"{f[7:-4]}:{n}" for f, n in places)]))
    assert said == told


def test_every_line_that_hides_another_is_named(tmp_path: Path, oaktag: Run) -> None:
    """A line of a set is hidden in one cell by one line, in another by another, and the way back by a
    third; what it was to decide is told when it is set."""
    files = {
        "oaktag.yaml": "workspace: w\nlayers: [m.csv]\n",
        "groups.yaml": "groups: [{id: ada, tag: 310}, {id: bo, tag: 320}, {id: cy, tag: 330}]\nsets: {both: [ada, bo]}\n",
        "permissions.yaml": "permissions:\n  all: [{allow: any}]\n  nothing: [{deny: any}]\n",
        "m.csv": "source,destination,permission,mode,way\nada,cy,all,,\nbo,cy,nothing,,\ncy,ada,all,,\ncy,bo,all,,\nboth,cy,nothing,,both\n",
    }
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    found = oaktag("-C", tmp_path, "review", "--json").json["findings"]
    (shadowed,) = (f for f in found if f["code"] == "OT301")
    assert shadowed["line"] == 6
    assert (
        "m.csv:2, m.csv:3, m.csv:4 and 1 more decide all of its packets first"
        in shadowed["message"]
    )
    (tmp_path / "m.csv").write_text("source,destination,permission,mode,way\nada,cy,all,,\n")
    ran = oaktag("-C", tmp_path, "set", "ada", "*", "nothing", "--way", "both")
    assert ran.status == 0 and "this line does not decide everything that it speaks of" in ran.out
    said = oaktag("-C", tmp_path, "set", "ada", "*", "nothing", "--way", "both", "--json").json
    assert [(r["file"], r["line"], r["action"], r["otherwise"], r["packets"], r["source"], r["destination"], r["cells"])
            for r in said["overruled"]] == [("m.csv", 2, "allow", True, ["any"], "ada", "cy", 1)]  # fmt: skip


def test_swapped_lines_of_everybody(tmp_path: Path, oaktag: Run) -> None:
    """Servers that may reach everybody's web, and everybody who may reach the people's; the other way
    round, of anything, or of mixed groups it is none."""
    files = {
        "oaktag.yaml": "workspace: w\nlayers: [m.csv]\nsources:\n  - {file: s.csv, kind: server, id: name}\n  - {file: p.csv, kind: user, id: name}\n",
        "groups.yaml": "groups: [{id: shop, tag: 310}, {id: staff, tag: 320}, {id: both, tag: 330}]\n",
        "assignments.yaml": "rules: [{give: both, when: {mixed: 'x'}}, {give: shop, when: {kind: server}}, {give: staff, when: {kind: user}}]\n",
        "permissions.yaml": "permissions:\n  web: [{allow: https}]\n  all: [{allow: any}]\n",
        "s.csv": "name,mixed\ns1,\ns2,x\n", "p.csv": "name,mixed\np1,\np2,x\n",
    }  # fmt: skip
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    for row, swapped in (
        ("shop,*,web", True), ("*,staff,web", True), ("*,shop,web", False), ("staff,*,web", False),
        ("shop,*,all", False), ("both,*,web", False), ("*,both,web", False), ("shop,staff,web", True),
    ):  # fmt: skip
        (tmp_path / "m.csv").write_text(f"source,destination,permission\n{row}\n")
        found = oaktag("-C", tmp_path, "review", "--json").json["findings"]
        assert any(f["code"] == "OT305" for f in found) == swapped, row
