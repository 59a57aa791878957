"""Inventories in every form: CSV as exports have it, JSON Lines, LDIF; sessions; corrections."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import oaktag as package
from conftest import Ran

Run = Callable[..., Ran]


def _workspace(folder: Path, sources: list[dict[str, Any]], files: dict[str, str | bytes],
               rules: str = "rules: []\n", groups: tuple[str, ...] = (), **config: Any) -> Path:  # fmt: skip
    folder.mkdir(exist_ok=True)
    held = {"workspace": "x", "tags": {"issue": "2000-2009"}, "layers": [], "sources": sources}
    (folder / "oaktag.yaml").write_text(json.dumps({**held, **config}))
    listed = [{"id": g, "tag": n + 1} for n, g in enumerate(groups)]
    (folder / "groups.yaml").write_text(json.dumps({"groups": listed}))
    (folder / "permissions.yaml").write_text("permissions: {}\n")
    (folder / "assignments.yaml").write_text(rules)
    for name, text in files.items():
        data = text.encode() if isinstance(text, str) else text
        (folder / name).write_bytes(data)
    return folder


def _facts(folder: Path, who: str) -> dict[str, list[str]]:
    said = package.Workspace.load(folder).explain(f"endpoint:{who}")
    return {a["attribute"]: a["value"] for a in said["attributes"]}


def _faults(folder: Path) -> list[str]:
    with pytest.raises(package.WorkspaceError) as caught:
        package.Workspace.load(folder)
    return [str(p) for p in caught.value.problems]


def test_csv_as_exports_have_it(tmp_path: Path) -> None:
    """Other separators and encodings, quoted line breaks, a byte-order mark, mapped columns."""
    text = 'Host Name;Anschluß;"Note"\nhäuschen;10.1.0.1;"two\nlines, ""quoted"""\nzwei;;x\n'
    source = {"file": "a.csv", "kind": "server", "id": "Host Name", "address": "Anschluß",
              "separator": "semicolon", "encoding": "latin-1", "columns": {"Note": "note"}}  # fmt: skip
    folder = _workspace(tmp_path / "w", [source], {"a.csv": text.encode("latin-1")})
    facts = _facts(folder, "häuschen")
    assert (facts["address"], facts["note"]) == (["10.1.0.1"], ['two\nlines, "quoted"'])
    said = package.Workspace.load(folder).members()["endpoints"]
    assert [e["endpoint"] for e in said] == ["häuschen", "zwei"]
    finding = package.Workspace.load(folder).check()["findings"][-1]
    assert (finding["file"], finding["line"]) == ("a.csv", 4)
    tabs = {**source, "separator": "tab", "encoding": "utf-8"}
    _workspace(folder, [tabs], {"a.csv": "\ufeff" + text.replace(";", "\t")})
    assert _facts(folder, "zwei")["note"] == ["x"]
    _workspace(folder, [{**tabs, "separator": "semicolon"}], {"a.csv": text.encode("latin-1")})
    assert _faults(folder) == [
        "a.csv:1:18: the byte 0xdf is not UTF-8 (save the file as UTF-8, or say encoding: in its source)"
    ]
    _workspace(folder, [{**tabs, "separator": ":"}], {"a.csv": text})
    assert "separator is ':'" in _faults(folder)[0]


@pytest.mark.parametrize(
    ("row", "told"),
    [
        ("a,10.1.0.1,x", "a.csv:2: the row has 3 cells"),
        ('a,"10.1.0.1', "a.csv:2: this row is not CSV"),
        ("a," + "9" * (2 << 20), "a.csv:2: this row is not CSV: a cell is larger than 1 MiB"),
        ("a,10.1.0.1\na,10.1.0.2", "a.csv:3:1: 'a' is in this file twice (first in line 2)"),
        (",10.1.0.1", "a.csv:2:1: the endpoint has no id"),
        ("a,10.1.0.1;10.1.1/24", "a.csv:2:3: '10.1.1/24' is no address or prefix"),
    ],
)
def test_rows_that_are_none(row: str, told: str, tmp_path: Path) -> None:
    source = {"file": "a.csv", "kind": "server", "id": "name", "address": "ip"}
    folder = _workspace(tmp_path / "w", [source], {"a.csv": f"name,ip\n{row}\n"})
    faults = _faults(folder)
    assert len(faults) == 1 and faults[0].startswith(told), faults


def test_json_lines_with_confidence(tmp_path: Path) -> None:
    rows = [
        {"mac": "m1", "ip": ["10.1.0.1", "2001:db8::1"], "model": {"value": "SC-2", "confidence": 0.7},
         "size": 4.0, "on": True, "none": None},
        {"mac": "m2", "model": "SC-2", "roles": ["till", "print"]},
    ]  # fmt: skip
    text = "\n\n".join(json.dumps(r) for r in rows) + "\n"
    source = {"file": "d.jsonl", "kind": "device", "id": "mac", "address": "ip"}
    rules = (
        "rules:\n  - {give: sure, when: {model: SC-2}, min_confidence: 0.8}\n"
        '  - {give: big, when: {size: 4, "on": "true"}}\n'
    )
    folder = _workspace(tmp_path / "w", [source], {"d.jsonl": text}, rules, ("sure", "big"))
    workspace = package.Workspace.load(folder)
    said = {e["endpoint"]: e for e in workspace.members()["endpoints"]}
    assert (said["m1"]["group"], said["m2"]["group"]) == ("big", "sure")
    assert said["m1"]["addresses"] == ["10.1.0.1", "2001:db8::1"]
    listed = {a["attribute"]: a for a in workspace.attributes()["attributes"]}
    assert (listed["model"]["endpoints"], listed["model"]["unsure"]) == (2, 1)
    assert "none" not in {a["attribute"] for a in workspace.explain("m1")["attributes"]}
    from oaktag.operations.members import uncertain

    assert uncertain(workspace.model)["moved"] == [{"endpoint": "m1", "was": "big", "is": "sure"}]


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ('{"mac": "a", "mac": "b"}', "the key 'mac' stands twice"),
        ('["a"]', "this line holds no object"),
        ('{"mac": "a"', "d.jsonl:1:12: this is not JSON"),
        ('{"mac": "a", "x": {"y": 1}}', "x is an object"),
        ('{"mac": "a", "x": [["b"]]}', "x holds something nested"),
        ('{"mac": "a", "x": {"value": 1, "confidence": 2}}', "the confidence of x is 2"),
        ("[" * 100_000, "d.jsonl:1: this is nested too deep"),
        ('{"mac": "a", "x": {"value": 1, "confidence": true}}', "the confidence of x is True"),
    ],
)
def test_lines_that_are_no_endpoint(line: str, told: str, tmp_path: Path) -> None:
    source = {"file": "d.jsonl", "kind": "device", "id": "mac"}
    folder = _workspace(tmp_path / "w", [source], {"d.jsonl": line + "\n"})
    faults = _faults(folder)
    assert len(faults) == 1 and told in faults[0] and faults[0].startswith("d.jsonl:1"), faults


LDIF = """\
version: 1
# people of the county
dn: uid=ada,ou=people,dc=quillmere,dc=example
objectClass: person
uid: ada
cn;lang-en: Ada Fenn
description: folded o
 ver two lines
room: R 1
room: R 2
jpegPhoto:: /9j/4AAQ

dn: UID = bo , ou=people,dc=quillmere,dc=example
uid: bo
cn:: {name}

dn: cn=desk,ou=groups,dc=quillmere,dc=example
cn: desk
member: uid=ADA, ou=people,dc=quillmere,dc=example

dn: cn=all staff,ou=groups,dc=quillmere,dc=example
cn: all staff
uniqueMember: cn=desk,ou=groups,dc=quillmere,dc=example
uniqueMember: cn=county,ou=groups,dc=quillmere,dc=example
memberUid: bo

dn: cn=county,ou=groups,dc=quillmere,dc=example
cn: county
member: cn=all staff,ou=groups,dc=quillmere,dc=example

dn: uid=gone,ou=people,dc=quillmere,dc=example
uid: gone

dn: uid=gone,ou=people,dc=quillmere,dc=example
changetype: delete

dn: uid=bo,ou=people,dc=quillmere,dc=example
changetype: modify
add: room
room: R 3
room: R 4
-
delete: room
room: R 3
-
replace: title
title: Clerk
-

dn: uid=bo,ou=people,dc=quillmere,dc=example
changetype: modrdn
newrdn: uid=boris
deleteoldrdn: 1
""".format(name=base64.b64encode("Bö Marsh".encode()).decode())
PEOPLE = {"file": "p.ldif", "kind": "user", "id": "uid", "columns": {"cn": "name"}}


def test_ldif_with_changes_and_nested_groups(tmp_path: Path) -> None:
    rules = 'rules:\n  - {give: staff, when: {member_of: "all *"}}\n'
    folder = _workspace(tmp_path / "w", [PEOPLE], {"p.ldif": LDIF}, rules, ("staff",))
    said = {
        e["endpoint"]: e["group"] for e in package.Workspace.load(folder).members()["endpoints"]
    }
    assert said == {"ada": "staff", "boris": "untagged"}  # memberUid names bo, who is boris now
    ada, boris = _facts(folder, "ada"), _facts(folder, "boris")
    assert ada["description"] == ["folded over two lines"] and ada["room"] == ["R 1", "R 2"]
    assert ada["member_of"] == ["all staff", "county", "desk"]
    assert (boris["name"], boris["room"], boris["title"]) == (["Bö Marsh"], ["R 4"], ["Clerk"])
    kept = LDIF.split("\ndn: uid=gone")[0]
    _workspace(folder, [PEOPLE], {"p.ldif": kept}, rules, ("staff",))
    said = {
        e["endpoint"]: e["group"] for e in package.Workspace.load(folder).members()["endpoints"]
    }
    assert said == {"ada": "staff", "bo": "staff"}
    _workspace(folder, [PEOPLE], {"p.ldif": LDIF.replace("\n", "\r\n")}, rules, ("staff",))
    assert _facts(folder, "ada")["description"] == ["folded over two lines"]


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("uid: ada\n", "uid:< file:///etc/passwd\n", ":5: the value of uid is given by URL"),
        ("uid: ada\n", "uid:: YWR%\n", ":5: the value of uid is not base64"),
        ("uid: ada\n", "uid ada\n", ":5: 'uid ada' is no attribute with its value"),
        ("version: 1", "version: 2", ":1: this is LDIF version 2"),
        ("dn: uid=ada", "cn: uid=ada", ":3: the record does not begin with its name"),
        ("changetype: delete", "changetype: burn", "changetype 'burn' is not known"),
        ("dn: uid=gone,ou=people,dc=quillmere,dc=example\nchangetype", "dn: uid=no\nchangetype",
         "delete of 'uid=no', which is not there"),
        ("dn: uid=gone,ou=people,dc=quillmere,dc=example\nuid", "dn: uid=ada,ou=people,dc=quillmere,dc=example\nuid",
         "is there twice (first in line 3)"),
        ("add: room\nroom: R 3", "add: room\nrom: R 3", "a value of rom, not of room"),
        ("deleteoldrdn: 1\n", "deleteold", "the file ends in the middle of a line"),
        ("newrdn: uid=boris\n", "", "a new name is missing"),
        ("dn: uid=gone", "-\n\ndn: uid=gone", "a '-' without a record"),
        ("uid: gone\n", "uid: gone\n-\n", "a '-' in a record of add"),
        ("uid: ada\n", "uid:: wé==\n", ":5: the value of uid is not base64"),
    ],
)  # fmt: skip
def test_ldif_that_is_none(old: str, new: str, told: str, tmp_path: Path) -> None:
    assert old in LDIF
    folder = _workspace(tmp_path / "w", [PEOPLE], {"p.ldif": LDIF.replace(old, new, 1)})
    faults = _faults(folder)
    assert any(told in f and f.startswith("p.ldif:") for f in faults), faults


@given(cut=st.integers(1, len(LDIF) - 1))
def test_ldif_cut_short_anywhere(cut: int, tmp_path: Path) -> None:
    """A part of a file is read as whole only where it ends with a line."""
    folder = _workspace(tmp_path / "w", [PEOPLE], {"p.ldif": LDIF[:cut]})
    try:
        package.Workspace.load(folder)
    except package.WorkspaceError as error:
        assert all(p.location.line >= 1 or "no column" in p.message for p in error.problems)
    else:
        assert LDIF[cut - 1] == "\n"


SEEN = "endpoint,address,since,port\n"
NET = """\
nodes:
  - {node: n, learns: [session]}
  - {node: far}
segments:
  - {segment: s, node: n, prefixes: [10.1.0.0/24]}
  - {segment: t, node: far, prefixes: [10.2.0.0/24]}
links:
  - {between: [n, far]}
"""


def _sessions(folder: Path, rows: str) -> package.Workspace:
    source = {
        "file": "a.csv",
        "kind": "device",
        "id": "name",
        "address": "ip",
        "stability": "keeps",
    }
    listed = "name,ip,keeps,use\na,10.1.0.1,leased,x\nb,10.1.0.2,leased,x\nc,10.1.0.3,fixed,x\nd,10.1.0.4,,\n"
    rules = (
        'rules:\n  - {give: lab, when: {session.port: "lab-*"}}\n  - {give: gx, when: {use: x}}\n'
    )
    _workspace(folder, [source], {"a.csv": listed, "s.csv": SEEN + rows, "network.yaml": NET}, rules,
               ("gx", "lab"), sessions="s.csv")  # fmt: skip
    return package.Workspace.load(folder)


def test_sessions_own_addresses_by_time(tmp_path: Path) -> None:
    """The newest owns an address; unassigned ones end others; assumed ones are ended by any."""
    rows = (
        "a,10.2.0.9,2026-11-25T08:00:00Z,\n"
        "b,10.2.0.9,2026-11-25T07:00:00Z,\n"
        "d,10.1.0.2,2026-11-24,\n"
        "c,10.2.0.8,2026-11-25T08:00:00+01:00,lab-7\n"
        "who,10.2.0.7,2026-11-25,\n"
    )
    workspace = _sessions(tmp_path / "w", rows)
    where = {
        name: [(p["address"], p["by"]) for p in workspace.explain(name)["places"]]
        for name in "abcd"
    }
    assert where == {
        "a": [("10.2.0.9/32", "session")],
        "b": [],  # its session is over, and its inventory address is d's now
        "c": [("10.1.0.3/32", "inventory"), ("10.2.0.8/32", "session")],
        "d": [("10.1.0.2/32", "session")],
    }
    held = {
        b["prefix"]: (b["group"], b["source"], b["since"]) for b in workspace.bindings()["bindings"]
    }
    assert held == {
        "10.1.0.3/32": ("lab", "inventory", None),
        "10.2.0.8/32": ("lab", "session", "2026-11-25T07:00:00+00:00"),
        "10.2.0.9/32": ("gx", "session", "2026-11-25T08:00:00+00:00"),
    }
    assert workspace.bindings("n")["bindings"] == []  # sessions beyond are not of its segments
    codes = [(f["code"], f["line"]) for f in workspace.check()["findings"] if f["file"] == "s.csv"]
    assert codes == [("OT214", 6)]
    from oaktag.operations.members import withheld

    assert [(w["endpoint"], w["why"][:25]) for w in withheld(workspace.model)["withheld"]] == [
        ("b", "its address belongs to a ")
    ]


def test_an_assumed_session_is_learned_where_it_is(tmp_path: Path) -> None:
    workspace = _sessions(tmp_path / "w", "")
    learned = [(b["prefix"], b["source"]) for b in workspace.bindings("n")["bindings"]]
    assert learned == [("10.1.0.1/32", "session"), ("10.1.0.2/32", "session")]
    assert [b["prefix"] for b in workspace.bindings()["bindings"]] == ["10.1.0.3/32"]
    moved = _sessions(tmp_path / "w", "a,10.1.0.50,2026-11-25,\nb,10.1.0.50,2026-11-25,\n")
    learned = [(b["prefix"], b["who"]) for b in moved.bindings("n")["bindings"]]
    assert learned == [("10.1.0.1/32", "a"), ("10.1.0.50/32", "b")]  # equal times: the later row


@pytest.mark.parametrize(
    ("row", "told"),
    [
        ("a,10.1.0.0/24,2026-11-25,", "s.csv:2:3: '10.1.0.0/24' is a prefix"),
        ("a,10.1.0,2026-11-25,", "s.csv:2:3: '10.1.0' is no address"),
        ("a,10.1.0.1,yesterday,", "s.csv:2:12: 'yesterday' is no time"),
        (",10.1.0.1,2026-11-25,", "s.csv:2:1: the session has no endpoint"),
    ],
)
def test_sessions_that_are_none(row: str, told: str, tmp_path: Path) -> None:
    with pytest.raises(package.WorkspaceError, match=told.replace(".", r"\.")):
        _sessions(tmp_path / "w", row + "\n")


def test_groups_made_of_attributes(oaktag: Run, tmp_path: Path) -> None:
    """``give`` with attributes: the first of a list, no match without, lost where no group is."""
    rows = "name,site,role\na,ash;oak,desk\nb,oak,desk\nc,,desk\nd,elm,desk\n"
    source = {"file": "a.csv", "kind": "server", "id": "name"}
    rules = 'rules:\n  - {give: "{site}-{role}", when: {role: desk}}\n  - {give: rest, when: {kind: server}}\n'
    folder = _workspace(
        tmp_path / "w", [source], {"a.csv": rows}, rules, ("ash-desk", "oak-desk", "rest")
    )
    workspace = package.Workspace.load(folder)
    said = {e["endpoint"]: e for e in workspace.members()["endpoints"]}
    groups = {n: e["group"] for n, e in said.items()}
    assert groups == {"a": "ash-desk", "b": "oak-desk", "c": "rest", "d": "untagged"}
    assert (said["d"]["by"], said["d"]["also"], said["d"]["near"]) == (None, [], [])
    assert said["a"]["also"] == [{"file": "assignments.yaml", "line": 3, "group": "rest"}]
    found = [f for f in workspace.check()["findings"] if f["code"] == "OT212"]
    assert [(f["line"], "elm-desk" in f["message"]) for f in found] == [(2, True)]
    assert (
        "elm-desk; to have it: - {id: elm-desk, tag: issued 2000}"
        in oaktag("-C", folder, "groups").out
    )
    for bad in ('"{}"', '"a-{site"', '"{site}-}"'):
        _workspace(folder, [source], {"a.csv": rows}, f"rules:\n  - {{give: {bad}}}\n", ())
        assert "is no name made of attributes" in _faults(folder)[0]


def test_answers_that_no_spreadsheet_runs(oaktag: Run, sample: Path) -> None:
    """A cell that would be a formula goes out as text; all else as it came in."""
    head = "source,destination,family,protocol,source_port,destination_port,note\n"
    notes = ["=1+1", "@x", "+a", "-3.5", 'a "b", c\nd', "plain"]
    quoted = ['"' + n.replace('"', '""') + '"' for n in notes]
    asked = head + "".join(f"patrons,catalogue,4,tcp,50000,443,{n}\n" for n in quoted)
    ran = oaktag("-C", sample, "decide", "--batch", "-", stdin=asked)
    import csv
    import io

    rows = list(csv.DictReader(io.StringIO(ran.out)))
    assert [r["note"] for r in rows] == ["'=1+1", "'@x", "'+a", *notes[3:]]
    assert {r["action"] for r in rows} == {"allow"}
