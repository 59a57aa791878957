"""Values one character away from more: held against trying every one-character change by hand."""

from __future__ import annotations

import json
import string
from collections.abc import Callable, Iterator
from pathlib import Path

import jsonschema

import oaktag as package
from conftest import Ran
from sizes import scaled

Run = Callable[..., Ran]
SCHEMA = Path(package.__file__).parent / "schemas/attributes-typos.json"
#: Who says what of whom: values that are almost those that rules ask for.
SAID = (
    ("tab-1", "model", "SC-2O0"), ("tab-2", "model", "SC-20"), ("tab-3", "purpose", "printings"),
    ("tab-4", "purpose", "makingg"), ("tab-5", "firmware", "3"), ("tab-6", "purpose", "display"),
    ("srv-1", "serves", "loan"), ("srv-2", "serves", "cores"), ("srv-3", "serves", "cora"),
)  # fmt: skip


LETTERS = string.ascii_letters + string.digits + "-+.,_~é"


def _edits(text: str, letters: str = LETTERS) -> Iterator[str]:
    for n in range(len(text) + 1):
        yield text[:n] + text[n + 1 :]
        for letter in letters:
            yield text[:n] + letter + text[n:]
            yield text[:n] + letter + text[n + 1 :]


def test_every_value_that_one_character_makes_more_of_is_said(shipped: Path, oaktag: Run) -> None:
    everybody = package.Workspace.load(shipped).members().endpoints
    kinds = {"tab": "device", "srv": "server"}
    people = {
        kind: [e["endpoint"] for e in everybody if e["kind"] == kind] for kind in kinds.values()
    }
    who = {name: people[kinds[name[:3]]][int(name[4:]) * 3] for name, *_ in SAID}
    for name, attribute, value in SAID:
        ran = oaktag("-C", shipped, "correct", who[name], attribute, value, "--write", "--anyway")
        assert ran.status == 0, ran
    said = oaktag("-C", shipped, "attributes", "--typos", "--json").json
    jsonschema.validate(said, json.loads(SCHEMA.read_text()))
    told = {(r["attribute"], r["value"], n, r["is"]) for r in said["typos"] for n in r["endpoints"]}
    workspace = package.Workspace.load(shipped)
    group = {e["endpoint"]: e["group"] for e in workspace.members().endpoints}
    rules = {
        "SC-200",
        "SC-210",
        "printing",
        "making",
        "sorting",
        "loans",
        "core",
        "search",
        "office",
    }
    found = set()
    for name, attribute, value in SAID:
        hits = {e for e in _edits(value) if e in rules or (attribute == "firmware" and e.isdigit())}
        for instead in sorted(hits - {value}):
            there = workspace.correct(who[name], attribute, instead)
            for row in there.endpoints:
                more = _gains(workspace, group[row["endpoint"]], row["is"])
                if row["endpoint"] == who[name] and more:
                    found.add((attribute, value, who[name], row["is"]))
    # Whatever was made by hand is found, and what is said of others is true of them.
    mine = {t for t in told if (t[0], t[1]) in {(a, v) for _, a, v in SAID}}
    assert found and found <= mine, (found, mine)
    rows = said["typos"]
    for row in rows[:: max(len(rows) // scaled(40), 1)]:
        assert row["instead"] in set(_edits(row["value"])), row
        if row["attribute"] == "id":
            continue  # no correction can say that somebody is another
        moved = workspace.correct(row["endpoints"][0], row["attribute"], row["instead"]).endpoints
        assert (row["endpoints"][0], row["is"]) in {(m["endpoint"], m["is"]) for m in moved}, row
        gains = _gains(workspace, row["was"], row["is"])
        assert {(g["direction"], g["other"]) for g in row["gains"]} == gains, row
    assert (
        "of which one changed character gives more"
        in oaktag("-C", shipped, "attributes", "--typos").out
    )


def _gains(workspace: package.Workspace, was: str, now: str) -> set[tuple[str, str]]:
    """To and from whom a group may more than another, cell by cell."""
    model = workspace.model
    index, form = model.groups.index, model.matrix.action_form
    a, b = index[was], index[now]
    found = set()
    for other, n in index.items():
        for way, one, two in (("to", (a, n), (b, n)), ("from", (n, a), (n, b))):
            if model.matrix.forms[form[two]] & ~model.matrix.forms[form[one]]:
                found.add((way, other))
    return found


def test_a_sound_inventory_has_none(sample: Path, oaktag: Run) -> None:
    ran = oaktag("-C", sample, "attributes", "--typos", "--json")
    for row in ran.json["typos"]:
        assert row["gains"] and row["value"] != row["instead"]


def test_what_no_longer_fits_counts_as_well(tmp_path: Path, oaktag: Run) -> None:
    """An error that leaves an ``unless``, or an earlier rule, gives more; and letters are any."""
    files = {
        "oaktag.yaml": "workspace: w\nlayers: [m.csv]\nsources: [{file: s.csv, kind: device, id: name}]\n",
        "groups.yaml": "groups: [{id: ada, tag: 310}, {id: bo, tag: 320}, {id: north-desk, tag: 330}]\n",
        "assignments.yaml": "rules:\n  - {give: bo, when: {status: retired}}\n"
        "  - {give: ada, when: {model: X-1}, unless: {owner: blé}}\n"
        "  - {give: '{site}-desk', when: {role: desk}}\n",
        "permissions.yaml": "permissions:\n  all: [{allow: any}]\n",
        "m.csv": "source,destination,permission\nada,*,all\nnorth-desk,*,all\n",
        "s.csv": "name,status,model,owner,site,role\na,retired,X-1,,,\nb,,X-1,blé,,\nc,,,ble,,\nd,,X-1,ble,,\ne,,,,nort,desk\n",
    }
    for name, text in files.items():
        (tmp_path / name).write_text(text, encoding="utf-8")
    workspace = package.Workspace.load(tmp_path)
    told = {
        (r["attribute"], r["value"], e, r["is"])
        for r in workspace.typos().typos
        for e in r["endpoints"]
    }
    meant = set()
    now = {e["endpoint"]: e["group"] for e in workspace.members().endpoints}
    cells = ("status", "model", "owner", "site", "role")
    for row in files["s.csv"].splitlines()[1:]:
        name, *values = row.split(",")
        for attribute, value in zip(cells, values, strict=True):
            for instead in set(_edits(value, "ehéX1-")) - {value, ""} if value else ():
                fresh = [
                    v if c != attribute else instead for c, v in zip(cells, values, strict=True)
                ]
                text = files["s.csv"].replace(row, ",".join([name, *(f'"{v}"' for v in fresh)]))
                (tmp_path / "s.csv").write_text(text, encoding="utf-8")
                then = {
                    e["endpoint"]: e["group"]
                    for e in package.Workspace.load(tmp_path).members().endpoints
                }
                if then[name] != now[name] and _gains(workspace, now[name], then[name]):
                    meant.add((attribute, value, name, then[name]))
            (tmp_path / "s.csv").write_text(files["s.csv"], encoding="utf-8")
    assert {t for t in told if t[0] in cells} == meant
    assert {("status", "retired", "a", "ada"), ("owner", "blé", "b", "ada"), ("site", "nort", "e", "north-desk")} <= meant  # fmt: skip
