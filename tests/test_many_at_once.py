"""Many pinned at once, conditions saved as a rule, a group's number changed: what comes of it is what
was said, in any form that the files have, and taking it back gives the same bytes."""

from __future__ import annotations

import random
import re
from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest

import oaktag as package
from conftest import Ran
from sizes import scaled
from test_commands import _schema

Run = Callable[..., Ran]


def _groups(folder: Path) -> dict[str, str]:
    return {e["endpoint"]: e["group"] for e in package.Workspace.load(folder).members().endpoints}


def _forms(text: str) -> list[str]:
    """``assignments.yaml`` as it is, without pins, and with its pins in one line."""
    bare = re.sub(r"(?ms)^pins:.*?(?=^rules:)", "", text)
    return [text, bare, "pins: [{endpoint: ada, group: librarians}]\n" + bare]


@pytest.mark.parametrize("form", range(3))
def test_all_whom_a_list_and_conditions_name_are_pinned(
    form: int, shipped: Path, oaktag: Run
) -> None:
    path = shipped / "assignments.yaml"
    path.write_text(_forms(path.read_text())[form])
    before = _groups(shipped)
    when = "site=ashgrove, model=SC-*"
    meant = [e["endpoint"] for e in package.Workspace.load(shipped).members(when=when).endpoints]
    (shipped / "list.txt").write_text("# by hand\nbram\n\n10.20.3.200 # a prefix\nbram\n")
    ran = oaktag("-C", shipped, "pin", "cora", "--list", "list.txt", "--when", when, "--to", "volunteers",
                 "--note", "for the day", "--until", "2031-01-31", "--write", "--anyway", "--json")  # fmt: skip
    assert ran.status == 0, ran
    jsonschema.validate(ran.json, _schema("pin"))
    names = {"cora", "bram", *meant}
    assert len(meant) > 2 and _groups(shipped) == before | dict.fromkeys(names, "volunteers")
    assert path.read_text().count("2031-01-31") == len(names) + 1
    # Once more: they are pinned there, and nothing changes; one at a time out again.
    again = oaktag("-C", shipped, "pin", "cora", *meant, "--to", "volunteers", "--json")
    assert again.status == 0 and again.json["files"] == []
    for name in (*names, "10.20.3.200") if form == 0 else ():
        assert oaktag("-C", shipped, "unpin", name, "--write", "--anyway").status == 0
    assert form or _groups(shipped) == before


def test_faults_of_a_list_are_told_together(shipped: Path, oaktag: Run) -> None:
    (shipped / "list.txt").write_text("bramm\n10.20.3.200/24\nivo\nada\n")
    before = (shipped / "assignments.yaml").read_text()
    ran = oaktag(
        "-C", shipped, "pin", "--list", "list.txt", "--to", "kiosks", "--write", "--anyway"
    )
    assert ran.status == 2 and (shipped / "assignments.yaml").read_text() == before
    for told in (
        "perhaps bram",
        "host bits",
        "ivo is pinned to network-desk already (assignments.yaml:",
    ):
        assert told in ran.err, ran.err
    for words, told in (
        (["--to", "kiosks"], "name somebody"), (["--list", "no.txt", "--to", "kiosks"], "cannot be read"),
        (["ada", "--to", "people"], "is no group"), (["--when", "site=nowhere", "--to", "kiosks"], "takes nobody"),
    ):  # fmt: skip
        ran = oaktag("-C", shipped, "pin", *words)
        assert ran.status == 2 and told in ran.err, ran


@pytest.mark.parametrize("seed", range(scaled(6)))
def test_a_rule_takes_whom_earlier_rules_leave(seed: int, shipped: Path, oaktag: Run) -> None:
    """At any place: of those whom the conditions take, it takes who is neither pinned nor taken by a
    rule above; and what is told of each rule is what it then takes."""
    rng = random.Random(seed)
    workspace = package.Workspace.load(shipped)
    rules = [r.location.line for r in workspace.model.files.assignments.rules]
    at = rng.choice([*range(len(rules)), None])
    when = rng.choice(
        ["site=ashgrove", "kind=user", "kind=device, site=brindle|colmere", "kind=server"]
    )
    of = {
        e["endpoint"]: e["by"]
        for e in package.Workspace.load(shipped).members(when=when).endpoints
    }  # fmt: skip
    above = set(rules if at is None else rules[:at])
    mine = {
        who
        for who, by in of.items()
        if by is None or (by["kind"] == "rule" and by["line"] not in above)
    }
    place = [] if at is None else ["--before", str(rules[at])]
    words = ("-C", shipped, "members", "--when", when, "--save", "makerspace", *place)
    before = _groups(shipped)
    ran = oaktag(*words, "--write", "--anyway", "--json")
    assert ran.status == 0, ran
    jsonschema.validate(ran.json, _schema("members-save"))
    now = package.Workspace.load(shipped)
    assert _groups(shipped) == before | dict.fromkeys(mine, "makerspace")
    told = {(r["kind"], r["line"]): r["takes"] for r in ran.json["rules"]}
    taken = {(e["by"]["kind"], e["by"]["line"] if e["by"]["kind"] == "rule" else None)
             for e in now.members(when=when).endpoints if e["by"]}  # fmt: skip
    assert {k for k, n in told.items() if n} == taken
    (new,) = (r for r in ran.json["rules"] if r["new"])
    assert new["takes"] == len(mine) and new["took"] == 0 and sum(told.values()) == len(of)
    assert sum(r["took"] for r in ran.json["rules"]) == sum(by is not None for by in of.values())


def test_what_is_no_rule_is_refused(shipped: Path, oaktag: Run) -> None:
    for words, told in (
        (["--save", "kiosks"], "--save makes a rule of --when"),
        (["--when", "site=ashgrove", "--save", "kiosk"], "perhaps kiosks"),
        (["--when", "site=ashgrove", "--save", "people"], "is no group"),
        (["--when", "site=nowhere", "--save", "kiosks"], "takes nobody"),
        (["--when", "site=ashgrove", "--save", "kiosks", "--before", "1"], "no rule of assignments.yaml"),
        (["--when", "site=ashgrove", "--write"], "go with --save"),
    ):  # fmt: skip
        ran = oaktag("-C", shipped, "members", *words)
        assert ran.status == 2 and told in ran.err, ran


@pytest.mark.parametrize(
    ("group", "tag"), [("patrons", "0x201"), ("wall-displays", None), ("wall-displays", "701")]
)
def test_a_group_gets_another_number(
    group: str, tag: str | None, shipped_mended: Path, oaktag: Run
) -> None:
    """Who asks by the number asks the same; an issued one is retired; no decision changes."""
    folder, at = shipped_mended, ("-C", shipped_mended)
    was = package.Workspace.load(folder)
    old = next(g["tag"] for g in was.groups().groups if g["group"] == group)
    asked = folder / "expectations.yaml"
    text = asked.read_text()
    asked.write_text(text.replace("patrons", str(old), 1) if group == "patrons" else text)
    before = {c: oaktag(*at, *c.split(), "--json").json for c in ("expect", "matrix", "reach")}
    ran = oaktag(*at, "renumber", group, *([tag] if tag else []), "--write", "--json")
    assert ran.status == 0, ran
    jsonschema.validate(ran.json, _schema("renumber"))
    new = ran.json["renumbered"]["is"]
    assert ran.json["renumbered"] == {"group": group, "was": old, "is": new} and new != old
    assert tag is None or new == int(tag, 0)
    now = package.Workspace.load(folder)
    held = {g["group"]: (g["tag"], g["number"]) for g in now.groups().groups}
    assert held[group] == (new, "by hand" if tag else "issued")
    assert (old in now.model.groups.numbering.retired) == (group == "wall-displays")
    for command, answer in before.items():
        after = oaktag(*at, *command.split(), "--json").json
        for row in (*answer.get("sources", ()), *answer.get("destinations", ())):
            row["tag"] = new if row["tag"] == old else row["tag"]
        if command == "expect":
            for row in answer["expectations"]:
                row["from"] = str(new) if row["from"] == str(old) else row["from"]
        assert after == answer, command
    assert oaktag(*at, "compile").status == 0 and oaktag(*at, "prove").status == 0
    for words, told in (([group, "2500"], "inside the range"), ([group, "510"], "has the tag 510"),
                        ([group, "0"], "is no number of a group"), (["people"], "is no group")):  # fmt: skip
        ran = oaktag(*at, "renumber", *words)
        assert ran.status == 2 and told in ran.err, ran
