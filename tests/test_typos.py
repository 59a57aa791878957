"""Values one character away from more: held against trying every one-character change by hand."""

from __future__ import annotations

import csv
import json
import string
from collections.abc import Callable, Iterator
from pathlib import Path

import jsonschema

import oaktag as package
from conftest import Ran

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
    _correct(shipped, [(who[name], attribute, value) for name, attribute, value in SAID])
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
    tried = [
        (who[name], attribute, value, instead)
        for name, attribute, value in SAID
        for instead in sorted(
            {e for e in _edits(value) if e in rules or (attribute == "firmware" and e.isdigit())}
            - {value}
        )
    ]
    found = {
        (attribute, value, name, now)
        for (name, attribute, value, _), now in _assigned(shipped, tried)
        if _gains(workspace, group[name], now)
    }
    # Whatever was made by hand is found, and what is said of others is true of them.
    mine = {t for t in told if (t[0], t[1]) in {(a, v) for _, a, v in SAID}}
    assert found and found <= mine, (found, mine)
    rows = [row for row in said["typos"] if row["attribute"] != "id"]  # no correction makes another
    there = [(r["endpoints"][0], r["attribute"], r["value"], r["instead"]) for r in rows]
    for row, (_, now) in zip(rows, _assigned(shipped, there), strict=True):
        assert row["instead"] in set(_edits(row["value"])) and now == row["is"], row
        gains = _gains(workspace, row["was"], row["is"])
        assert {(g["direction"], g["other"]) for g in row["gains"]} == gains, row
    assert (
        "of which one changed character gives more"
        in oaktag("-C", shipped, "attributes", "--typos").out
    )


def _correct(folder: Path, some: list[tuple[str, str, str]]) -> None:
    with (folder / "inventory/corrections.csv").open("a", encoding="utf-8", newline="") as file:
        csv.writer(file).writerows([*one, "", ""] for one in some)


#: An endpoint, an attribute, its value, and another value.
Tried = tuple[str, str, str, str]


def _assigned(folder: Path, some: list[Tried]) -> list[tuple[Tried, str]]:
    """The group of each endpoint with that one value otherwise, as many at once as are different
    endpoints."""
    path = folder / "inventory/corrections.csv"
    before, found = path.read_text(encoding="utf-8"), dict[Tried, str]()
    while left := [one for one in some if one not in found]:
        now = {one[0]: one for one in reversed(left)}
        _correct(folder, [(name, attribute, to) for name, attribute, _, to in now.values()])
        members = package.Workspace.load(folder).members().endpoints
        group = {e["endpoint"]: e["group"] or "untagged" for e in members}
        found |= {one: group[name] for name, one in now.items()}
        path.write_text(before, encoding="utf-8")
    return [(one, found[one]) for one in some]


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
