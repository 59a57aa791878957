"""Access for one endpoint alone: it fares exactly as before, and may just this more; what is left
over is found, and goes again."""

from __future__ import annotations

import csv
import io
import json
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import jsonschema
import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

import oaktag as package
from conftest import Ran
from oaktag.testing.slow import Stack
from oaktag.testing.strategies import SERVICES, stacks, write_stack
from sizes import scaled
from test_commands import _schema
from test_corners import build

Run = Callable[..., Ran]
WORDS = ("untagged", "ada", "bo", "cy", "di")
UNTIL = "2031-01-31"


def peopled(stack: Stack, folder: Path) -> package.Workspace:
    """The stack with two endpoints in each group, and numbers to issue."""
    shutil.rmtree(folder, ignore_errors=True)
    write_stack(stack, folder)
    for layer in (folder / "matrix").iterdir():  # a column for the date that a grant ends at
        lines = layer.read_text().splitlines()
        if "expires" not in lines[0]:
            layer.write_text(
                "\n".join([f"{lines[0]},expires", *(f"{n}," for n in lines[1:])]) + "\n"
            )
    config = json.loads((folder / "oaktag.yaml").read_text())
    config["tags"] = {"issue": "2000-2009"}
    config["sources"] = [{"file": "s.csv", "kind": "server", "id": "name"}]
    config["accepted"] = [{"reach": "leak", "from": "ada", "why": "old", "until": UNTIL}]
    (folder / "oaktag.yaml").write_text(json.dumps(config))
    rows = [f"{g}-{n},{g}" for g in WORDS[1:] for n in (1, 2)]
    (folder / "s.csv").write_text("\n".join(["name,group", *rows]) + "\n")
    rules = [{"give": g, "when": {"group": g}} for g in WORDS[1:]]
    (folder / "assignments.yaml").write_text(json.dumps({"rules": rules}))
    return package.Workspace.load(folder)


def where(workspace: package.Workspace, name: str) -> str:
    """The group that an endpoint is in."""
    said = workspace.explain(name)["endpoint"]
    return str(said["group"])


def reread(stack: Stack, folder: Path) -> Stack:
    """The stack as its files say now, groups and sets too."""

    def held(name: str) -> Any:
        return yaml.load((folder / name).read_text(), Loader=yaml.BaseLoader)

    layers = [
        [dict(row) for row in csv.DictReader(io.StringIO(text.read_text()))]
        for text in sorted((folder / "matrix").iterdir())
    ]
    groups = {
        g["id"]: (int(g["tag"].removeprefix("issued ")), g.get("traits", {}))
        for g in held("groups.yaml")["groups"]
    }
    permissions = {
        n: p if isinstance(p, dict) else {"entries": p}
        for n, p in held("permissions.yaml")["permissions"].items()
    }
    return Stack(
        groups, held("groups.yaml")["sets"], permissions, layers, stack.default,
        stack.observed_default, stack.order, stack.services,
    )  # fmt: skip


def texts(folder: Path) -> dict[str, str]:
    return {str(p.relative_to(folder)): p.read_text() for p in folder.rglob("*") if p.is_file()}


@settings(max_examples=scaled(25))
@given(stack=stacks(), service=st.sampled_from(SERVICES), old=st.sampled_from(WORDS[1:]),
       other=st.sampled_from(WORDS))  # fmt: skip
def test_it_fares_as_before_and_may_just_this_more(
    stack: Stack, service: str, old: str, other: str, tmp_path: Path
) -> None:
    folder = tmp_path / "w"
    workspace = peopled(stack, folder)
    before = texts(folder)
    try:
        made = workspace.grant(
            f"{old}-1", other, service, {"expires": UNTIL}, only=True, write=True
        )
    except package.UsageError as error:
        told = str(error)
        kept_apart = any(r["destination"] == "itself" for rows in stack.layers for r in rows)
        passes = "pass" in json.dumps(stack.permissions) or stack.order != "specific-first"
        assert ("parted exactly" in told and kept_apart) or ("no single" in told and passes), told
        assert texts(folder) == before
        return
    if made["already"]:
        assert texts(folder) == before
        return
    assert made["alone"]["fares_as"] == old and made["written"]
    assert {(c["source"], c["destination"]) for c in made["cells"]} == {(f"{old}-{old}-1", other)}
    after = reread(stack, folder)
    new = made["alone"]["group"]
    like = {**{w: w for w in WORDS}, new: old}
    for s in like:
        for d in like:
            for answer in ("action", "would"):
                for packet in stack.packets():
                    was = stack.decide(like[s], like[d], packet, answer)[0]
                    if (s, d) == (new, other) and stack.matches(service, packet):
                        was = "allow"
                    if answer == "action" or (s, d) != (new, other):
                        assert after.decide(s, d, packet, answer)[0] == was, (s, d, packet)
    again = package.Workspace.load(folder)
    assert where(again, f"{old}-1") == new
    assert where(again, f"{old}-2") == old
    assert [b.source.word for b in again.model.files.borne if b.source][1:] == (
        [new] if old == "ada" else []
    )
    later = package.Workspace.load(folder, today=package_day(UNTIL))
    assert where(later, f"{old}-1") == old
    left = [f for f in later.check()["findings"] if f["code"] == "OT217"]
    assert len(left) == 1 and f"oaktag unpin {old}-1" in left[0]["hint"]
    later.unpin(f"{old}-1", write=True, anyway=True)
    gone = texts(folder)
    assert gone.pop("oaktag.yaml") != before.pop("oaktag.yaml"), "the number is retired"
    assert "retired: [2000]" in (folder / "oaktag.yaml").read_text()
    for name in ("permissions.yaml", "assignments.yaml"):
        gone.pop(name), before.pop(name)  # a permission stays for others; pins: [] is new
    assert gone == before


def package_day(text: str) -> Any:
    from datetime import date, timedelta

    return date.fromisoformat(text) + timedelta(days=1)


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (["bram", "loans-db", "ssh", "--only"], "--until"),
        (["bram", "loans-db", "ssh", "--only", "--until", "2020-01-01"], "is over"),
        (["librarians", "loans-db", "ssh", "--only", "--until", UNTIL], "is no group, set|is no endpoint"),
        (["dirk", "loans-db", "ssh", "--only", "--until", UNTIL], "oaktag pin dirk --to GROUP"),
        (["ivo", "loans-db", "ssh", "--only", "--until", UNTIL], "pinned already (assignments.yaml:2"),
        (["dirk", "loans-db", "ssh"], "assign it first: oaktag pin dirk --to GROUP"),
    ],
)  # fmt: skip
def test_what_cannot_be(oaktag: Run, arguments: list[str], told: str, shipped: Path) -> None:
    before = texts(shipped)
    ran = oaktag("-C", shipped, "grant", *arguments, "--write")
    assert ran.status == 2 and len(ran.err.splitlines()) == 1
    assert any(t in ran.err for t in told.split("|")), ran.err
    assert texts(shipped) == before


def test_one_librarian_for_a_while(oaktag: Run, shipped: Path) -> None:
    """The sample: lists and lab decide for her as for all others, and one service more."""
    said = oaktag("-C", shipped, "grant", "bram", "loans-db", "ssh", "--only", "--until", UNTIL)
    told = " ".join(said.out.split())
    assert "fares exactly as librarians in all of its 39 cells, proved" in told
    assert "librarians-bram (1)  loans-db (3)  ssh\n" in said.out and "not written" in said.out
    ran = oaktag("-C", shipped, "grant", "bram", "loans-db", "ssh", "--only", "--until", UNTIL,
                 "--note", "moves the old loans", "--write", "--json")  # fmt: skip
    jsonschema.validate(ran.json, _schema("grant"))
    assert [e["endpoint"] for e in ran.json["endpoints"]] == []
    asked = oaktag("-C", shipped, "decide", "bram", "loans-db", "ssh", "--json").json
    assert (asked["action"], asked["source"]["group"]) == ("allow", "librarians-bram")
    others = oaktag("-C", shipped, "decide", "ada", "loans-db", "ssh", "--json").json
    assert (others["action"], others["source"]["group"]) == ("deny", "librarians")
    assert oaktag("-C", shipped, "compile").status == 0, "lists are proved with it"
    assert oaktag("-C", shipped, "groups", "--number", "--json").json["files"] == []


@pytest.mark.parametrize("order", ["specific-first", "broad-first", "as-listed"])
@pytest.mark.parametrize(
    "line", ["a,itself,nothing", "front,itself,nothing", "a,a,nothing,,both", "*,itself,nothing",
             "front,back,web,,both", "a,front,web,observe,both"],
)  # fmt: skip
def test_members_kept_apart_are_so_after_the_split(line: str, order: str, tmp_path: Path) -> None:
    """A group that is kept to itself in every way that a line can say: never refused, and no line
    is there twice."""
    lines = f"a,c,nothing,,,,,\n{line}{',' * (7 - line.count(','))}\n"
    csv_ = "name,ip,role\na-1,10.1.0.1,a\na-2,10.1.0.2,a\nb-1,10.2.0.1,b\nc-1,10.3.0.1,c\n"
    config = {"tags": {"issue": "2000-2009"}, "order": order, "default": "allow"}
    folder = build(tmp_path, lines, servers_csv=csv_, config=config)
    workspace = package.Workspace.load(folder)
    hidden = [f for f in workspace.review()["findings"] if f["code"] == "OT301"]
    made = workspace.grant("a-1", "c", "2222/tcp", {"expires": UNTIL}, only=True, write=True)
    assert made["alone"] and made["written"]
    after = package.Workspace.load(folder)
    for s, d in (("a-1", "a-2"), ("a-2", "a-1"), ("a-1", "a-1"), ("a-1", "b"), ("b", "a-1")):
        for service in ("443/tcp", "22/tcp"):
            was, now = (w.decide(s, d, service) for w in (workspace, after))
            assert (was["action"], was["would"]) == (now["action"], now["would"]), (s, d, service)
    still = [f for f in after.review()["findings"] if f["code"] == "OT301"]
    assert len(still) == len(hidden), still
