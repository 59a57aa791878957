"""A comparison says first what a version does to its own guards."""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Ran, first_part

Run = Callable[..., Ran]

MORE = """
severities: {OT203: error}
accepted:
  - {code: OT204, why: being moved, until: 2031-01-31}
  - {reach: leak, cause: no-point, at: [a*], service: 80/tcp, why: ordered, until: 2031-01-31}
"""
LESS = [
    ("expectations.yaml", "- {from: patrons, to: loans-db, allowed: none}\n", "",
     "expectation", "taken away"),
    ("expectations.yaml", "allowed: [https], exactly: true", "allowed: [https]",
     "expectation", "taken away"),
    ("groups.yaml", "front-desks: [librarians, kiosks]", "front-desks: [librarians]",
     "expectation", "no longer about kiosks"),
    ("permissions.yaml", "loans-api: [8443/tcp, 8444/tcp]", "loans-api: [8443/tcp]",
     "expectation", "its service is another"),
    ("oaktag.yaml", "OT203: error", "OT203: warning", "severity", "was error, is warning"),
    ("oaktag.yaml", "OT203: error", "OT201: error", "severity", "was error, is warning"),
    ("oaktag.yaml", "  - {from: network-desk, to: core-services, service: ssh}", "  []",
     "keep_open", "taken away"),
    ("oaktag.yaml", "  - {code: OT204, why: being moved, until: 2031-01-31}\n", "",
     "accepted", "taken away"),
    ("oaktag.yaml", "until: 2031-01-31}\n  - {reach", "until: 2032-01-31}\n  - {reach",
     "accepted", "borne anew"),
    ("oaktag.yaml", "at: [a*], ", "", "accepted", "borne anew"),
]  # fmt: skip
SAME = [
    ("expectations.yaml", "- {from: patrons", "\n# a note\n- {from: patrons"),
    (
        "groups.yaml",
        "front-desks: [librarians, kiosks]",
        "front-desks: [kiosks, librarians, patrons]",
    ),
    ("oaktag.yaml", "OT203: error", "OT203: error, OT205: error"),
]


def guarded(folder: Path) -> Path:
    first_part(folder)
    config = folder / "oaktag.yaml"
    config.write_text(config.read_text() + MORE)
    asked = folder / "expectations.yaml"
    asked.write_text(
        asked.read_text() + "- {from: front-desks, to: loans-db, allowed: [loans-api]}\n"
    )
    return folder


@pytest.mark.parametrize(("file", "old", "new", "guard", "told"), LESS)
def test_what_guards_less_is_said_first(
    oaktag: Run, tmp_path: Path, file: str, old: str, new: str, guard: str, told: str
) -> None:
    was, now = guarded(tmp_path / "was"), guarded(tmp_path / "now")
    text = (now / file).read_text()
    assert old in text
    (now / file).write_text(text.replace(old, new, 1))
    ran = oaktag("-C", now, "compare", was, "--fail-on", "guards", "--json")
    rows = ran.json["guards"]
    assert ran.status == 1 and any(g["guard"] == guard and told in g["told"] for g in rows), ran
    assert all(g["line"] > 0 for g in rows)
    for words in ([], ["--summary"]):
        said = oaktag("-C", now, "compare", was, *words)
        (first, *_) = said.out.splitlines()
        assert said.status == 0 and ("weaker" in first or first.startswith("- **")), said
    if (guard == "severity" and "OT201" not in new) or (guard, new) == ("expectation", ""):
        assert oaktag("-C", was, "compare", now, "--json").json["guards"] == []


@pytest.mark.parametrize(("file", "old", "new"), SAME)
def test_what_guards_as_before_or_more(
    oaktag: Run, tmp_path: Path, file: str, old: str, new: str
) -> None:
    was, now = guarded(tmp_path / "was"), guarded(tmp_path / "now")
    text = (now / file).read_text()
    assert old in text
    (now / file).write_text(text.replace(old, new, 1))
    assert oaktag("-C", now, "compare", was, "--fail-on", "guards").status == 0


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ({"a": 700}, {"a": 701, "b": 700}),  # a is still there, with another number: b is new
        ({"a": 700, "b": 701}, {"b": 700}),  # b was there already: a is gone
        ({"a": 700}, {"b": 701}),
    ],
)
def test_a_number_that_is_handed_over_renames_nobody(
    oaktag: Run, tmp_path: Path, before: dict[str, int], after: dict[str, int]
) -> None:
    folders = guarded(tmp_path / "was"), guarded(tmp_path / "now")
    for folder, groups in zip(folders, (before, after), strict=True):
        more = "".join(f"  - {{id: {name}, tag: {tag}}}\n" for name, tag in groups.items())
        path = folder / "groups.yaml"
        path.write_text(path.read_text().replace("groups:\n", f"groups:\n{more}", 1))
    assert oaktag("-C", folders[1], "compare", folders[0], "--json").json["renamed"] == []


def test_a_group_that_is_gone_is_asked_about_no_more(oaktag: Run, tmp_path: Path) -> None:
    was, now = guarded(tmp_path / "was"), guarded(tmp_path / "now")
    text = (was / "groups.yaml").read_text()
    more = text.replace("groups:\n", "groups:\n  - {id: fresh, tag: 999}\n", 1)
    (was / "groups.yaml").write_text(more.replace("front-desks: [", "front-desks: [fresh, "))
    assert oaktag("-C", now, "compare", was, "--json").json["guards"] == []
    (now / "groups.yaml").write_text(more)  # there, and out of the set
    told = oaktag("-C", now, "compare", was, "--json").json["guards"]
    assert [g["told"] for g in told] == ["no longer about fresh"]


def test_two_expectations_of_the_same_words(oaktag: Run, tmp_path: Path) -> None:
    was, now = guarded(tmp_path / "was"), guarded(tmp_path / "now")
    asked = was / "expectations.yaml"
    asked.write_text(asked.read_text() + asked.read_text().splitlines()[0] + "\n")
    told = oaktag("-C", now, "compare", was, "--json").json["guards"]
    assert [g["told"] for g in told] == ["taken away"]


def test_verify_says_that_nothing_is_asked(oaktag: Run, tmp_path: Path) -> None:
    folder = first_part(tmp_path / "w")
    assert (
        "of 9 hold" in oaktag("-C", folder, "verify").out
        or "hold" in oaktag("-C", folder, "verify").out
    )
    (folder / "expectations.yaml").unlink()
    config = folder / "oaktag.yaml"
    kept = [
        line
        for line in config.read_text().splitlines()
        if "keep_open" not in line and "from:" not in line
    ]
    config.write_text("\n".join(kept) + "\n")
    assert "no expectation is written down" in oaktag("-C", folder, "verify").out


def test_a_revision_in_a_hook_of_another_repository(
    oaktag: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The folder's own repository counts, whatever the environment names; and no object stands for
    another."""
    folder = first_part(tmp_path / "w")
    git = ["git", "-C", str(folder), "-c", "user.name=a", "-c", "user.email=a@b.c"]
    for words in (["init", "-qb", "main"], ["add", "-A"], ["commit", "-qm", "first"]):
        subprocess.run([*git, *words], check=True, capture_output=True)
    first = subprocess.run(
        [*git, "rev-parse", "main"], capture_output=True, text=True
    ).stdout.strip()
    people = folder / "inventory/people.csv"
    people.write_text(people.read_text().replace("librarian,", "patron,", 1))
    subprocess.run([*git, "commit", "-qam", "moved"], check=True, capture_output=True)
    second = subprocess.run(
        [*git, "rev-parse", "main"], capture_output=True, text=True
    ).stdout.strip()
    assert len(oaktag("-C", folder, "compare", "main~1", "--json").json["endpoints"]) == 1
    subprocess.run([*git, "replace", first, second], check=True, capture_output=True)
    assert len(oaktag("-C", folder, "compare", first, "--json").json["endpoints"]) == 1
    monkeypatch.setenv("GIT_DIR", str(tmp_path / "nowhere"))
    assert len(oaktag("-C", folder, "compare", "main~1", "--json").json["endpoints"]) == 1


def test_what_is_renamed_is_not_gone_and_come(oaktag: Run, tmp_path: Path) -> None:
    """A group by its number, a set by its groups: no cell, no endpoint, no expectation differs; with
    another number, or where the old name is still there, both do."""
    was, now = guarded(tmp_path / "was"), guarded(tmp_path / "now")
    for old, new in (("kiosks", "desks"), ("front-desks", "counters")):
        assert oaktag("-C", now, "rename", "--write", old, new).status == 0
    ran = oaktag("-C", now, "compare", was, "--json", "--fail-on", "guards")
    said = ran.json
    assert ran.status == 0 and said["renamed"] == [{"was": "kiosks", "is": "desks", "tag": 340}]
    assert [said[k] for k in ("guards", "cells", "endpoints", "expectations")] == [[], [], [], []]
    assert (
        "the group kiosks is called desks now (tag 340, 0x154)"
        in oaktag("-C", now, "compare", was).out
    )
    assert oaktag("-C", now, "members", "--against", was, "--json").json["moved"] == []
    text = (now / "groups.yaml").read_text()
    (now / "groups.yaml").write_text(
        text.replace("front-desks", "x").replace("[librarians, desks]", "[librarians]")
    )
    told = oaktag("-C", now, "compare", was, "--json").json["guards"]
    assert [g["told"] for g in told] == ["taken away"], "another set, and another number of groups"
    (now / "groups.yaml").write_text(text.replace("tag: 340", "tag: 341"))
    said = oaktag("-C", now, "compare", was, "--json").json
    assert said["renamed"] == [] and {e["was"] for e in said["endpoints"]} == {"kiosks"}
    assert said["cells"] and said["guards"]
