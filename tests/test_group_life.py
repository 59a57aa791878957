"""Groups that are joined or go: every place that named them, who then fares how, and the files' form."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import jsonschema
import pytest
import yaml

import oaktag as package
from conftest import Ran
from oaktag.core.groups import Numbering
from oaktag.workspace.yaml_words import without_items, without_keys
from test_corners import build

Run = Callable[..., Ran]
SCHEMAS = Path(package.__file__).parent / "schemas"


def _texts(folder: Path) -> dict[str, str]:
    return {p.name: p.read_text() for p in folder.rglob("*") if p.suffix in (".yaml", ".csv")}


def _reads(workspace: package.Workspace) -> Callable[[str, str], str]:
    """What a source may do to a destination, asked one by one."""
    return lambda s, d: str(workspace.cell(s, d).boxes)


@pytest.mark.parametrize(("old", "heir"), [("tablets", "patrons"), ("volunteers", "librarians")])
def test_who_is_joined_to_a_group_fares_as_it_did(
    old: str, heir: str, shipped: Path, oaktag: Run
) -> None:
    was, before = package.Workspace.load(shipped), _texts(shipped)
    groups = [g["group"] for g in was.groups().groups if g["group"] != old]
    cells = {(a, b): _reads(was)(a, b) for a in (heir, old) for b in groups}
    told = was.merge(old, heir)
    jsonschema.validate(told.as_json(), json.loads((SCHEMAS / "merge.json").read_text()))
    assert not told.written and _texts(shipped) == before
    ran = oaktag("-C", shipped, "merge", old, heir, "--write", "--anyway")
    assert ran.status == 0, ran
    now = package.Workspace.load(shipped)
    assert old not in [g["group"] for g in now.groups().groups]
    moved = {r["endpoint"] for r in told.endpoints}
    assert moved == {e["endpoint"] for e in was.members(old).endpoints} != set()
    assert moved <= {e["endpoint"] for e in now.members(heir).endpoints}
    # The heir fares as before; what those who move gain and lose is what tells the two apart.
    differs = set()
    for b in groups:
        assert _reads(now)(heir, b) == cells[heir, b], b
        if b != heir and cells[old, b] != cells[heir, b]:
            differs.add(b)
    assert {r["other"] for r in told.fares if r["direction"] == "to"} - {heir} == differs
    assert all(r["was"] == old and r["is"] == heir for r in told.fares)
    # Only attributes of people and things may be called so too.
    left = {p["file"] for p in now.find(old).places if p["why"] == "as it is"}
    assert not [f for f in left if not f.startswith("inventory/") and f != "assignments.yaml"], left


def test_lines_can_be_kept_for_the_heir(shipped: Path) -> None:
    workspace = package.Workspace.load(shipped)
    told = workspace.merge("makerspace", "volunteers", lines=True)
    assert workspace.decide("makerspace", "internet", "https").action == "allow"
    assert "+volunteers,internet,browse" in told.diff and "-makerspace,internet" in told.diff
    assert not [r for r in told.fares if r["other"] == "internet" and r["closed"]]
    assert [r for r in workspace.merge("makerspace", "printers").fares if r["other"] == "internet"]


def test_who_loses_a_group_is_where_later_rules_put_them(shipped: Path, oaktag: Run) -> None:
    was = package.Workspace.load(shipped)
    people = {
        e["endpoint"]: [a["group"] for a in e["also"]] for e in was.members("makerspace").endpoints
    }
    ran = oaktag("-C", shipped, "retire", "makerspace", "--write", "--json")
    assert ran.status == 0, ran
    jsonschema.validate(ran.json, json.loads((SCHEMAS / "retire.json").read_text()))
    now = package.Workspace.load(shipped)
    for row in ran.json["endpoints"]:
        held = now.explain(row["endpoint"]).endpoint.get("group")
        others = [g for g in people[row["endpoint"]] if g != "makerspace"]
        assert held == row["is"] == (others[0] if others else "untagged"), row
    assert {r["endpoint"] for r in ran.json["endpoints"]} == set(people)
    assert "makerspace" not in repr(yaml.safe_load((shipped / "groups.yaml").read_text())["sets"])


def test_an_issued_number_is_never_given_again(shipped: Path, oaktag: Run) -> None:
    held = yaml.safe_load((shipped / "groups.yaml").read_text())["groups"]
    issued = next(g for g in held if str(g.get("tag", "")).startswith("issued"))
    number = int(issued["tag"].split()[1])
    assert oaktag("-C", shipped, "retire", issued["id"], "--write", "--anyway").status == 0
    assert number in yaml.safe_load((shipped / "oaktag.yaml").read_text())["tags"]["retired"]
    assert oaktag("-C", shipped, "check").status in (0, 1)
    text = (shipped / "groups.yaml").read_text()
    (shipped / "groups.yaml").write_text(text.replace("groups:\n", "groups:\n  - {id: fresh}\n", 1))
    assert oaktag("-C", shipped, "groups", "--number", "--write").status == 0
    fresh = yaml.safe_load((shipped / "groups.yaml").read_text())["groups"]
    assert next(g["tag"] for g in fresh if g["id"] == "fresh") != f"issued {number}"


def test_what_cannot_be_is_said_and_nothing_is_written(shipped: Path, oaktag: Run) -> None:
    before = _texts(shipped)
    for words, told in (
        (("merge", "kiosks", "kiosks"), "cannot be joined to itself"),
        (("merge", "kiosks", "front-desks"), "is no group of groups.yaml"),
        (("retire", "untagged"), "is no group"),
        (("retire", "kiosx"), "perhaps kiosks"),
    ):
        ran = oaktag("-C", shipped, *words, "--write")
        assert ran.status == 2 and told in ran.err, ran
    # An expectation that no longer holds stops it, unless that is meant.
    ran = oaktag("-C", shipped, "merge", "return-sorters", "wall-displays", "--write")
    assert ran.status == 2 and "--anyway writes" in ran.err, ran
    assert _texts(shipped) == before


FORMS = [
    "- {from: a, to: b}  # one\n- {from: b, to: a}\n# end\n- {from: c, to: c}\n",
    "- from: a\n  to: b\n  # about it\n- from: c\n  to: b\n",
    "[{from: a, to: b}, {from: c, to: d}]\n",
    "- {from: a, to: b}\n",
    "- {from: c, to: d}\n- {to: a, from: a}\n",
]


@pytest.mark.parametrize("text", FORMS)
def test_items_that_name_a_word_go_and_the_others_stay_as_they_are(text: str) -> None:
    left = without_items(text, ("*/from", "*/to"), "a")
    held = [i for i in yaml.safe_load(text) if "a" not in i.values()]
    assert (yaml.safe_load(left) or []) == held, left
    assert all(comment in left for comment in ("# end", "# about it") if comment in text and held)


@pytest.mark.parametrize(
    "text",
    [
        "segments:\n  - {segment: s, tag: a, prefixes: [x]}\n  - {segment: t, tag: b}\n",
        "segments:\n  - segment: s\n    tag: a  # theirs\n    prefixes: [x]\n  - tag: a\n    segment: t\n",
        "segments:\n- {tag: a, segment: s}\n- {segment: t, tag: a}\n",
        "segments: [{segment: a, tag: a}]\n",
    ],
)  # fmt: skip
def test_keys_that_name_a_word_go(text: str) -> None:
    def less(item: dict[str, Any]) -> dict[str, Any]:
        return {k: v for k, v in item.items() if (k, v) != ("tag", "a")}

    left = without_keys(text, ("segments/*/tag",), "a")
    meant = {"segments": [less(i) for i in yaml.safe_load(text)["segments"]]}
    assert yaml.safe_load(left) == meant, left


@pytest.mark.parametrize(
    ("old", "when"),
    [
        ("kiosks", "model=SC-200"),
        ("kiosks", "site=ashgrove"),
        ("catalogue", "kind=server, serves=search"),
    ],
)
def test_a_group_is_parted_in_two_that_fare_alike(
    old: str, when: str, shipped: Path, oaktag: Run
) -> None:
    was = package.Workspace.load(shipped)
    groups = [g["group"] for g in was.groups().groups]
    meant = {e["endpoint"] for e in was.members(when=when).endpoints}
    mine = {e["endpoint"] for e in was.members(old).endpoints}
    cells = {
        (a, b): _reads(was)(a, b)
        for a, b in [(old, g) for g in groups] + [(g, old) for g in groups]
    }
    ran = oaktag("-C", shipped, "split", old, "fresh", "--when", when, "--write", "--json")
    assert ran.status == 0, ran
    jsonschema.validate(ran.json, json.loads((SCHEMAS / "split.json").read_text()))
    now = package.Workspace.load(shipped)
    assert {e["endpoint"] for e in now.members("fresh").endpoints} == meant & mine != set()
    assert {e["endpoint"] for e in now.members(old).endpoints} == mine - meant != set()
    assert {r["endpoint"] for r in ran.json["endpoints"]} == meant & mine
    # Leaks and breaks that the old group had are not told as new ones.
    assert ran.json["network"] == [] and ran.json["cells"] == []
    for (a, b), held in cells.items():
        for one in {a, "fresh" if a == old else a}:
            for two in {b, "fresh" if b == old else b}:
                assert _reads(now)(one, two) == held, (one, two)
    # And joined again: who is where, and what they may, is as it was.
    assert oaktag("-C", shipped, "merge", "fresh", old, "--write").status == 0
    again = package.Workspace.load(shipped)
    assert {e["endpoint"] for e in again.members(old).endpoints} == mine
    assert all(_reads(again)(a, b) == held for (a, b), held in cells.items())


def test_a_group_that_cannot_be_parted_so_says_why(shipped: Path, oaktag: Run) -> None:
    before = _texts(shipped)
    for words, told in (
        (("kiosks", "fresh", "--when", "site=nowhere"), "takes nobody of kiosks"),
        (("kiosks", "fresh", "--when", "kind=device"), "takes everybody of kiosks"),
        (("kiosks", "patrons", "--when", "site=ashgrove"), "is there already"),
        (("kiosks", "Fresh", "--when", "site=ashgrove"), "cannot be a name"),
        (("kiosks", "fresh", "--when", "model=SC-200, firmware>=5"), "has a condition on"),
        (("kiosks", "fresh", "--when", "ashgrove"), "is no condition"),
    ):
        ran = oaktag("-C", shipped, "split", *words, "--write")
        assert ran.status == 2 and told in ran.err, ran
    assert _texts(shipped) == before


def test_an_attribute_is_corrected_replaced_and_left_again(shipped: Path, oaktag: Run) -> None:
    who, before = "02:00:5e:10:00:21", _texts(shipped)
    words = ("correct", who, "model", "PW-3", "--by", "gus", "--why", "the label, read", "--write")
    ran = oaktag("-C", shipped, *words, "--json")
    assert ran.status == 0, ran
    jsonschema.validate(ran.json, json.loads((SCHEMAS / "correct.json").read_text()))
    held = package.Workspace.load(shipped).explain(who)
    said = {a["attribute"]: a["value"] for a in held.attributes}
    assert said["model"] == ["PW-3"] and held.endpoint.get("group") != "wall-displays"
    assert [(r["endpoint"], r["was"]) for r in ran.json["endpoints"]] == [(who, "wall-displays")]
    once = _texts(shipped)
    assert oaktag("-C", shipped, "correct", who, "model", "WD-9;PW-3", "--write").status == 0
    again = _texts(shipped)
    assert len(again["corrections.csv"].splitlines()) == len(once["corrections.csv"].splitlines())
    assert oaktag("-C", shipped, "correct", who, "model", "--undo", "--write").status == 0
    assert _texts(shipped) == before
    for bad, told in (
        (("nobody", "model", "x"), "perhaps bodo"),
        ((who, "modle", "x"), "perhaps model"),
        ((who, "model", "--undo"), "is not corrected in"),
        ((who, "model"), "say the value"),
        ((who, "address", "10.0.0.1/8"), "cannot be the address"),
    ):
        ran = oaktag("-C", shipped, "correct", *bad, "--write")
        assert ran.status == 2 and told in ran.err, ran
    assert _texts(shipped) == before


def test_a_workspace_without_corrections_gets_its_file(shipped: Path, oaktag: Run) -> None:
    text = (shipped / "oaktag.yaml").read_text()
    (shipped / "oaktag.yaml").write_text(re.sub(r"corrections:.*\n", "", text))
    (shipped / "inventory/corrections.csv").unlink()
    assert oaktag("-C", shipped, "correct", "ada", "member_of", "", "--write").status == 0
    assert package.Workspace.load(shipped).explain("ada").endpoint.get("group") == "untagged"
    rows = (shipped / "inventory/corrections.csv").read_text().splitlines()
    assert rows == ["endpoint,attribute,value,who,why", "ada,member_of,,,"]


@pytest.mark.parametrize(
    "words",
    [
        "merge tablets patrons", "retire makerspace", "split kiosks fresh --when model=SC-200",
        "pin ada --to kiosks", "rename kiosks desks", "correct ada site elsewhere",
        "grant bram loans-db 2222/tcp --only --until 2031-01-31", "grant kiosks loans-db 22/tcp",
        "move 20-reading.csv:4 last", "set tablets archive search-only",
    ],
)  # fmt: skip
def test_lines_end_as_they_did(words: str, shipped: Path, oaktag: Run) -> None:
    """In files with the line ends of another system there are no others after a change."""
    kinds = (".yaml", ".csv")
    files = [p for p in shipped.rglob("*") if p.suffix in kinds and p.parent.name != "observed"]
    for path in files:
        path.write_bytes(path.read_bytes().replace(b"\n", b"\r\n"))
    before = {p: p.read_bytes() for p in files}
    ran = oaktag("-C", shipped, *words.split(), "--write", "--anyway")
    assert ran.status == 0, ran
    assert any(p.read_bytes() != held for p, held in before.items())
    for path in files:
        held = path.read_bytes()
        assert held.count(b"\n") == held.count(b"\r\n"), (path, words)


SERVERS = "name,ip,role\na-1,10.1.0.1,a\nb-1,10.2.0.1,b\nb-2,10.2.0.2,b\nc-1,10.3.0.1,c\n"


def test_lines_of_both_ways_are_copied_as_such(oaktag: Run, tmp_path: Path) -> None:
    """Where the group that is parted is the source, and where it is the destination."""
    lines = "a,b,web,,both,,,\nb,c,shell,,both,,,\n"
    folder = build(tmp_path, lines, servers_csv=SERVERS, config={"tags": {"issue": "2000-2009"}})
    ran = oaktag("-C", folder, "split", "b", "half", "--when", "id=b-1", "--write")
    assert ran.status == 0 and "nobody gains and nobody loses" in ran.out, ran
    held = (folder / "matrix/0.csv").read_text().splitlines()[1:]
    assert held == [
        "a,b,web,,both,,,",
        "a,half,web,,both,,,",
        "b,c,shell,,both,,,",
        "half,c,shell,,both,,,",
    ]
    assert oaktag("-C", folder, "decide", "half", "a", "https").status == 0


def test_without_a_range_no_number_is_issued(oaktag: Run, tmp_path: Path) -> None:
    """Whoever needs one is told what to write; nor is one given beyond a range that was narrowed."""
    folder = build(tmp_path, "a,b,web,,,,,\n", servers_csv=SERVERS)
    before = {p: p.read_text() for p in folder.rglob("*.*")}
    for words in (
        ["split", "b", "half", "--when", "id=b-1"],
        ["grant", "b-1", "c", "ssh", "--only", "--until", "2030-01-31"],
        ["groups", "--number"],
    ):
        if words[0] == "groups":
            groups = json.loads((folder / "groups.yaml").read_text())
            (folder / "groups.yaml").write_text(
                json.dumps({**groups, "groups": [*groups["groups"], {"id": "d"}]})
            )
        ran = oaktag("-C", folder, *words, "--write")
        assert ran.status == 2 and "tags: {issue: 2000-2999}" in ran.err, ran
    assert all(p.read_text() == text for p, text in before.items() if p.name != "groups.yaml")
    assert Numbering(2000, 2002, frozenset({2001}), 2009).issue([2000], 5) == [2002]
    assert Numbering(2000, 2009, frozenset(), 2002).issue([], 3) == [2003, 2004, 2005]
