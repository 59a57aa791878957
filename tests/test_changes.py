"""Changes by hand keep the files' form; what would break the workspace changes nothing."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st

import oaktag as package
from conftest import Ran
from oaktag.located import Location
from oaktag.workspace.yaml_edits import quoted, with_pins, without_pin
from test_commands import _schema

Run = Callable[..., Ran]


def _texts(folder: Path) -> dict[str, str]:
    return {
        str(p.relative_to(folder)): p.read_text() for p in sorted(folder.rglob("*")) if p.is_file()
    }


def test_pin_and_unpin_are_each_others_way_back(oaktag: Run, sample: Path) -> None:
    before = _texts(sample)
    shown = oaktag("-C", sample, "pin", "ada", "--to", "kiosks", "--note", "a, b: c")
    assert '+  - {endpoint: ada, group: kiosks, note: "a, b: c"}' in shown.out
    assert "not written" in shown.out and _texts(sample) == before
    ran = oaktag(
        "-C", sample, "pin", "--write", "ada", "--to", "kiosks", "--until", "2027-01-31", "--json"
    )
    jsonschema.validate(ran.json, _schema("pin"))
    said = oaktag("-C", sample, "explain", "ada", "--json").json["endpoint"]
    assert (said["group"], said["by"]["kind"], said["by"]["line"]) == ("kiosks", "pin", 3)
    assert oaktag("-C", sample, "unpin", "--write", "ada").status == 0
    assert _texts(sample) == before
    for who in ("10.20.3.0/24", "2001:db8:20:3::/64"):
        assert oaktag("-C", sample, "pin", "--write", who, "--to", "patrons").status == 0
    found = oaktag("-C", sample, "bindings", "10.20.3.9", "2001:db8:20:3::9", "--json").json[
        "found"
    ]
    assert [(f["group"], f["binding"]["source"]) for f in found] == [("patrons", "pinned")] * 2
    for who in ("2001:db8:20:3::/64", "10.20.3.0/24"):
        jsonschema.validate(
            oaktag("-C", sample, "unpin", "--write", who, "--json").json, _schema("unpin")
        )
    assert _texts(sample) == before


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ("", "pins:\n  - {endpoint: e, group: g}\n"),
        ("rules: []\n", "pins:\n  - {endpoint: e, group: g}\n\nrules: []\n"),
        ("pins: []\nrules: []\n", "pins:\n  - {endpoint: e, group: g}\nrules: []\n"),
        ("pins:\nrules: []\n", "pins:\n  - {endpoint: e, group: g}\nrules: []\n"),
        ("# a\npins:   # b\n- endpoint: x\n  group: y  # c\n# d\n",
         "# a\npins:   # b\n- endpoint: x\n  group: y  # c\n- {endpoint: e, group: g}\n# d\n"),
        ("pins: [{endpoint: x, group: y}]  # z\n",
         "pins: [{endpoint: x, group: y}, {endpoint: e, group: g}]  # z\n"),
        ("pins:\n  - {endpoint: x, group: y}", "pins:\n  - {endpoint: x, group: y}\n  - {endpoint: e, group: g}\n"),
    ],
)  # fmt: skip
def test_a_pin_finds_its_place(before: str, after: str) -> None:
    assert with_pins(before, [{"endpoint": "e", "group": "g"}]) == after


@pytest.mark.parametrize(
    ("before", "line", "column", "after"),
    [
        ("pins:\n  - {endpoint: x, group: y}  # z\nrules: []\n", 2, 5, "pins: []\nrules: []\n"),
        ("pins:\n  # a: b\n  - {endpoint: x, group: y}\n", 3, 5, "pins: []\n  # a: b\n"),
        ("pins:\n  - endpoint: x\n    group: y\n  # kept\n  - {endpoint: e, group: g}\n", 2, 5,
         "pins:\n  # kept\n  - {endpoint: e, group: g}\n"),
        ("pins: [{endpoint: x, group: y}, {endpoint: e, group: g}]\n", 1, 8, "pins: [{endpoint: e, group: g}]\n"),
        ("pins: [{endpoint: x, group: y}, {endpoint: e, group: g}]\n", 1, 33, "pins: [{endpoint: x, group: y}]\n"),
        ("pins:\n- endpoint: x\n  note: |\n    why\n  group: y\n- endpoint: e\n  group: g\n  note: |\n\n    so\n\n# z\n",
         6, 3, "pins:\n- endpoint: x\n  note: |\n    why\n  group: y\n\n# z\n"),
        ("pins:\n-\n  prefix: [10.0.0.0/8]\n  group: y\n- prefix: 10.0.0.0/9\n  group: g\n", 3, 12,
         "pins:\n- prefix: 10.0.0.0/9\n  group: g\n"),
    ],
)  # fmt: skip
def test_a_pin_leaves_nothing_behind(before: str, line: int, column: int, after: str) -> None:
    """Just the pin at the place goes, whatever stands on the same line, or after it."""
    assert without_pin(before, Location("", line, column)) == after


@given(text=st.text(min_size=1, max_size=20).filter(lambda t: t.strip() == t and t.isprintable()))
def test_quoted_text_reads_as_itself(text: str, tmp_path: Path) -> None:
    import yaml

    assert str(yaml.load(f"[{quoted(text)}]", Loader=yaml.BaseLoader)[0]) == text


def test_rename_in_all_files_or_none(oaktag: Run, sample: Path) -> None:
    """Every answer is the same under the new name; going back gives the same bytes."""
    before = _texts(sample)
    network = sample / "network.yaml"
    network.write_text(
        network.read_text()
        .replace("scope: all", "scope: {destinations: [hall, patrons], sources: ['*']}")
        .replace("to: hall-edge}", "to: hall-edge, only: {groups: [patrons, in-library]}}", 1)
        .replace("[10.20.3.0/24]}", "[10.20.3.0/24], tag: patrons}")
    )
    changed = _texts(sample)
    reach = oaktag("-C", sample, "reach", "--json").out
    for old, new in (("patrons", "visitors"), ("hall", "the-hall")):
        ran = oaktag("-C", sample, "rename", "--write", old, new, "--json")
        jsonschema.validate(ran.json, _schema("rename"))
        assert ran.json["written"] and len(ran.json["files"]) >= 3
    assert not any("patrons" in t for n, t in _texts(sample).items() if n.endswith(".yaml"))
    assert oaktag("-C", sample, "reach", "--json").out == reach.replace("patrons", "visitors")
    assert "Patrons" in (sample / "groups.yaml").read_text()
    for old, new in (("patrons", "visitors"), ("hall", "the-hall")):
        assert oaktag("-C", sample, "rename", "--write", new, old).status == 0
    assert _texts(sample) == changed != before
    (sample / "matrix/20-reading.csv").chmod(0o400)
    assert oaktag("-C", sample, "rename", "--write", "kiosks", "points").status == 2
    assert _texts(sample) == changed


def test_who_moved_since_a_revision_or_a_folder(oaktag: Run, sample: Path, mended: Path) -> None:
    git = ["git", "-C", str(sample), "-c", "user.name=a", "-c", "user.email=a@b.c"]
    for words in (["init", "-q"], ["add", "-A"], ["commit", "-qm", "first"]):
        subprocess.run([*git, *words], check=True, capture_output=True)
    oaktag("-C", sample, "pin", "--write", "ada", "--to", "kiosks")
    people = sample / "inventory/people.csv"
    people.write_text(people.read_text() + "zoe,Zoe Ash,librarian,central,10.20.1.15,reserved\n")
    ran = oaktag("-C", sample, "members", "--against", "HEAD", "--json")
    jsonschema.validate(ran.json, _schema("members"))
    assert ran.json["moved"] == [
        {"endpoint": "ada", "was": "librarians", "is": "kiosks"},
        {"endpoint": "zoe", "was": None, "is": "librarians"},
    ]
    moved = package.Workspace.load(mended).moved_since(sample)["moved"]
    assert {m["endpoint"]: m["is"] for m in moved} == {
        "ada": "librarians", "02:00:5e:10:00:13": "return-sorters", "zoe": None,
    }  # fmt: skip


def test_severities_and_accepted_findings(oaktag: Run, sample: Path) -> None:
    """The workspace weighs: off, error (which stops compile), and accepted through a day."""
    config = sample / "oaktag.yaml"
    text = config.read_text()
    weights = (
        "severities: {OT204: off, OT302: error, OT203: note}\n"
        "accepted:\n  - {code: OT301, file: matrix/20-reading.csv, match: kiosks, why: soon, until: 2026-12-31}\n"
    )
    config.write_text(text + weights)
    found = oaktag("-C", sample, "check", "--json").json["findings"]
    assert [(f["code"], f["severity"]) for f in found] == [("OT203", "note")]
    ran = oaktag("--today", "2026-12-31", "-C", sample, "review", "--json")
    assert ran.status == 1
    assert [f["code"] for f in ran.json["findings"]] == ["OT302", "OT302", "OT301", "OT306"]
    assert [f["line"] for f in ran.json["accepted"]] == [8]
    assert (
        "1 accepted in oaktag.yaml" in oaktag("--today", "2026-12-31", "-C", sample, "review").out
    )
    later = oaktag("--today", "2027-01-01", "-C", sample, "review", "--json").json
    assert (len(later["findings"]), later["accepted"]) == (5, [])
    stopped = oaktag("-C", sample, "compile")
    assert stopped.status == 2 and stopped.err.count("OT302") == 2
    assert not (sample / "lists").exists()
    config.write_text(text + weights.replace("OT204: off", "OT999: off"))
    assert "there is no finding 'OT999'" in oaktag("-C", sample, "check", "--json").out


def test_explain_is_the_other_commands_in_one(oaktag: Run, sample: Path) -> None:
    """What it says of an endpoint agrees with members, bindings and decide."""
    for who in (
        "kiosks",
        "ada",
        "02-00-5E-20-00-01",
        "10.20.200.21",
        "2001:db8:20:2::/64",
        "hall",
        "320",
    ):
        said = oaktag("-C", sample, "explain", who, "--json").json
        jsonschema.validate(said, _schema("explain"))
    said = oaktag("-C", sample, "explain", "ada", "--json").json
    listed = {e["endpoint"]: e for e in oaktag("-C", sample, "members", "--json").json["endpoints"]}
    assert said["endpoint"] == listed["ada"]
    assert {a["attribute"]: a["source"] for a in said["attributes"]}[
        "role"
    ] == "inventory/people.csv"
    for known in said["bindings"]:
        at = [] if known["at"] == "registry" else ["--at", known["at"]]
        found = oaktag("-C", sample, "bindings", *at, known["address"], "--json").json["found"][0]
        assert found["binding"] == {k: v for k, v in known.items() if k not in ("at", "address")}
    for cell in said["policies"][0]["as_source"]:
        asked = oaktag("-C", sample, "cell", "ada", cell["destination"], "--json").json
        assert asked["allows"] == cell["allows"]
    assert json.dumps(said).count("hall-edge") == 2
