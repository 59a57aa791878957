"""The matrix as a daily tool: questions from both ends, comparison, changes of lines, each checked
by deciding packets with a slow reader of the rules on the versions before and after."""

from __future__ import annotations

import csv
import io
import json
import re
import shutil
import subprocess
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import oaktag as package
from conftest import Ran
from oaktag.testing.slow import Packet, Stack
from oaktag.testing.strategies import SERVICES, stacks, write_stack
from oaktag.workspace.csv_edits import with_cells, with_line, without_line
from oaktag.workspace.folder import Folder
from oaktag.workspace.revision import version
from oaktag.workspace.yaml_edits import with_permission
from sizes import scaled
from test_commands import _schema
from test_matrix import CELLS, WORDS, _load, _sample
from words import words_hold

Run = Callable[..., Ran]


def _decided(stack: Stack, s: str, d: str, packet: Packet, answer: str = "action") -> bool:
    return stack.decide(s, d, packet, answer)[0] == "allow"


@settings(max_examples=scaled(50))
@given(was=stacks(), now=stacks(), data=st.data())
def test_comparison_is_what_deciding_both_says(
    was: Stack, now: Stack, data: st.DataObject, tmp_path: Path
) -> None:
    old, new = tmp_path / "old", tmp_path / "new"
    for folder in (old, new):
        shutil.rmtree(folder, ignore_errors=True)
    write_stack(was, old)
    workspace = _load(now, new)
    document = workspace.compare(old)
    changed = {(c["source"], c["destination"]): c for c in document["cells"]}
    model = package.Workspace.load(old).model
    packets = _sample(was, data, 6) + _sample(now, data, 6)
    for s, d in CELLS:
        opened = [p for p in packets if _decided(now, s, d, p) and not _decided(was, s, d, p)]
        closed = [p for p in packets if _decided(was, s, d, p) and not _decided(now, s, d, p)]
        if opened or closed:
            assert (s, d) in changed
        cell = changed.get((s, d), {"opened": [], "closed": []})
        for packet in packets:
            assert words_hold(cell["opened"], packet) == (packet in opened), (cell, packet)
            assert words_hold(cell["closed"], packet) == (packet in closed), (cell, packet)
    whole = package.Workspace.load(new).compare(new)
    assert (whole["cells"], whole["endpoints"], whole["points"]) == ([], [], [])
    assert model.groups.index.keys() == workspace.model.groups.index.keys()


@settings(max_examples=scaled(60))
@given(stack=stacks(), data=st.data())
def test_what_enforcing_would_change(stack: Stack, data: st.DataObject, tmp_path: Path) -> None:
    """Enforcing all observed lines (and the observed default) makes ``action`` what ``would`` is."""
    workspace = _load(stack, tmp_path)
    try:
        document = workspace.if_enforced()
    except package.UsageError:
        assert all(line.mode != "observe" for line in workspace.model.lines)
        return
    changed = {(c["source"], c["destination"]) for c in document["cells"]}
    for s, d in data.draw(st.lists(st.sampled_from(CELLS), max_size=5, unique=True)):
        for packet in _sample(stack, data, 8):
            if _decided(stack, s, d, packet) != _decided(stack, s, d, packet, "would"):
                assert (s, d) in changed
    painted = workspace.model.matrix
    differ = {
        (workspace.model.groups.all[i].id, workspace.model.groups.all[j].id)
        for i in range(len(WORDS)) for j in range(len(WORDS))
        if painted.action_form[i, j] != painted.would_form[i, j]
    }  # fmt: skip
    assert changed == differ


@settings(max_examples=scaled(80))
@given(stack=stacks(), data=st.data(), service=st.sampled_from(SERVICES), grants=st.booleans())
def test_grant_and_revoke_change_just_what_is_asked(
    stack: Stack, data: st.DataObject, service: str, grants: bool, tmp_path: Path
) -> None:
    shutil.rmtree(tmp_path / "w", ignore_errors=True)
    workspace = _load(stack, tmp_path / "w")
    words = st.sampled_from((*WORDS, "front", "odd", "stores"))
    s, d = data.draw(words), data.draw(words)
    cells = {(a, b) for a in stack.members(s) for b in stack.members(d)}
    action = "allow" if grants else "deny"
    packets = stack.packets()
    asked = {p for p in packets if stack.matches(service, p)}
    try:
        made = workspace.grant(s, d, service, action=action, write=True)  # type: ignore[arg-type]
    except package.UsageError as error:
        assert "no single line" in str(error)
        # Only an earlier layer's ``pass`` can keep a line of the first layers from deciding.
        assert (
            any("pass" in json.dumps(p) for p in stack.permissions.values())
            or stack.order != "specific-first"
            or len(cells) > 1  # and exact lines come before those of sets
        ), stack
        return
    after = _reread(stack, tmp_path / "w")
    if made["already"]:
        assert not made["files"]
    for cell in cells:
        wanted = {p: (grants if p in asked else _decided(stack, *cell, p)) for p in packets}
        assert {p: _decided(after, *cell, p) for p in packets} == wanted
    for other in data.draw(st.lists(st.sampled_from(CELLS), max_size=4)):
        if other not in cells:
            for packet in _sample(stack, data, 6):
                assert _decided(after, *other, packet) == _decided(stack, *other, packet)


def _reread(stack: Stack, folder: Path) -> Stack:
    """The stack as its files say now."""
    layers = []
    for number in range(1, len(stack.layers) + 1):
        rows = csv.DictReader(io.StringIO((folder / f"matrix/{number}0.csv").read_text()))
        layers.append([dict(row) for row in rows])
    import yaml

    held = yaml.load((folder / "permissions.yaml").read_text(), Loader=yaml.BaseLoader)
    permissions = {
        n: p if isinstance(p, dict) else {"entries": p} for n, p in held["permissions"].items()
    }
    return Stack(
        stack.groups, stack.sets, permissions, layers, stack.default, stack.observed_default,
        stack.order, stack.services,
    )  # fmt: skip


@given(stack=stacks(), data=st.data(), service=st.sampled_from(SERVICES))
def test_callers_and_callees(
    stack: Stack, data: st.DataObject, service: str, tmp_path: Path
) -> None:
    workspace = _load(stack, tmp_path)
    end = data.draw(st.sampled_from(WORDS))
    asked = [p for p in stack.packets() if stack.matches(service, p)]
    some = workspace.callers("front", service)["callers"]
    told = {(r["group"], of) for r in some for of in r["of"]}
    assert not asked or told == {
        (g, of)
        for g in WORDS
        for of in ("ada", "bo")
        if any(_decided(stack, g, of, p) or _decided(stack, g, of, p, "would") for p in asked)
    }
    found = {r["group"]: r for r in workspace.callers(end, service)["callers"]}
    reached = {r["group"]: r for r in workspace.callees(end, service)["callees"]}
    for other in WORDS:
        for rows, cell in ((found, (other, end)), (reached, (end, other))):
            allowed = [p for p in asked if _decided(stack, *cell, p)]
            assert not allowed or other in rows
            if other in rows and rows[other]["all"]:
                assert len(allowed) == len(asked)


def test_versions_in_git(oaktag: Run, shipped: Path, shipped_mended: Path) -> None:
    git = ["git", "-C", str(shipped), "-c", "user.name=a", "-c", "user.email=a@b.c"]
    for words in (["init", "-q"], ["add", "-A"], ["commit", "-qm", "first"]):
        subprocess.run([*git, *words], check=True, capture_output=True)
    assert "0 cells opened, 0 closed" in oaktag("-C", shipped, "compare").out
    refused = oaktag("-C", shipped, "revoke", "patrons", "catalogue", "https", "--write")
    assert (
        refused.status == 2 and "expectations.yaml:7" in refused.err and "--anyway" in refused.err
    )
    assert oaktag("-C", shipped, "compare", "--fail-on", "any").status == 0
    assert oaktag("-C", shipped, "grant", "tablets", "archive", "https", "--write").status == 0
    ran = oaktag("-C", shipped, "compare", "--json", "--fail-on", "opened")
    assert ran.status == 1
    jsonschema.validate(ran.json, _schema("compare"))
    assert [
        (c["source"], c["destination"], c["opened"], c["closed"]) for c in ran.json["cells"]
    ] == [("tablets", "archive", ["443/tcp"], [])]
    assert {p["point"] for p in ran.json["points"]} == {"hall-edge", "county-exit"}
    assert "tablets    a" in oaktag("-C", shipped, "matrix", "--only", "changed").out
    subprocess.run([*git, "commit", "-qam", "second"], check=True, capture_output=True)
    assert "tablets    a" not in oaktag("-C", shipped, "matrix", "--only", "changed").out
    past = "matrix", "--only", "changed", "--since", "HEAD~1"
    assert "tablets    a" in oaktag("-C", shipped, *past).out
    subprocess.run([*git, "reset", "-q", "--soft", "HEAD~1"], check=True, capture_output=True)
    assert oaktag("-C", shipped, "compare", "--fail-on", "closed").status == 0
    assert oaktag("-C", shipped, "revoke", "tablets", "archive", "https", "--write").status == 0
    assert "0 cells opened" in oaktag("-C", shipped, "compare").out
    summary = oaktag("-C", shipped, "compare", str(shipped), str(shipped_mended), "--summary").out
    assert "| dirk | untagged | patrons |" in summary and "FAILS, now holds" in summary


def test_a_revision_is_what_was_committed_and_nothing_else(
    oaktag: Run, sample: Path, tmp_path: Path
) -> None:
    """In a folder deep in a repository, whose attributes would hide files and whose links lead away; a
    folder of a branch's name does not stand for it."""
    top = tmp_path / "repository"
    folder = top / "sites/quillmere"
    folder.parent.mkdir(parents=True)
    sample.rename(folder)
    (top / ".gitattributes").write_text("*.csv export-ignore\n*.yaml export-subst\n")
    (folder / "secret").symlink_to("/proc/self/environ")
    (top / "elsewhere.txt").write_text("not of the workspace\n")
    git = ["git", "-C", str(top), "-c", "user.name=a", "-c", "user.email=a@b.c"]
    for words in (["init", "-q", "-b", "main"], ["add", "-A"], ["commit", "-qm", "first"]):
        subprocess.run([*git, *words], check=True, capture_output=True)
    people = folder / "inventory/people.csv"
    before = people.read_text()
    people.write_text(before.replace("librarian", "patron", 1))
    ran = oaktag("-C", folder, "compare", "--json", "--fail-on", "any")
    assert ran.status == 1 and len(ran.json["endpoints"]) == 1, ran
    held = version(folder, "main")
    assert isinstance(held, Folder) and held.text("inventory/people.csv") == before
    for p in (p for p in folder.rglob("*") if p.is_file()):
        name = p.relative_to(folder).as_posix()
        assert held.has(name) == (not p.is_symlink()), name
    shutil.copytree(folder, folder / "main")
    assert len(oaktag("-C", folder, "compare", "main", "--json").json["endpoints"]) == 1
    for word in ("./main", "main/", str(folder / "main")):
        assert oaktag("-C", folder, "compare", word, "--json").json["endpoints"] == []
    shutil.rmtree(folder / "main/matrix")
    for word, told in (
        ("other", "knows no revision"), ("./other", "no folder"), ("--help;x", "No such option"),
        ("main^{tree}", "knows no revision"), ("", "no revision"),
    ):  # fmt: skip
        ran = oaktag("-C", folder, "compare", word)
        assert ran.status == 2 and told in ran.err, (word, ran)
    (folder / "other").mkdir()
    assert "written ./other" in oaktag("-C", folder, "compare", "other").err


def test_lines_keep_their_form() -> None:
    text = 'source,destination,permission,note\r\na,b,p,"x, ""y"""\r\n c ,d,q,"two\nlines"\r\ne,f,r,\r\n'
    assert with_cells(text, 2, {"permission": "z"}) == text.replace("a,b,p,", "a,b,z,")
    assert with_cells(text, 3, {"note": "k,l"}) == text.replace('"two\nlines"', '"k,l"')
    assert without_line(text, 3) == text.replace(' c ,d,q,"two\nlines"\r\n', "")
    more = {"source": "g", "destination": "h", "permission": "s"}
    assert with_line(text, more) == text + "g,h,s,\r\n"
    assert with_line(text, more, 5) == text.replace("e,f", "g,h,s,\r\ne,f")
    bare = "source,destination,permission\na,b,p"
    assert with_line(bare, more | {"mode": "enforce"}) == f"{bare}\ng,h,s\n"
    with pytest.raises(package.UsageError, match=r"m\.csv has no column 'expires'"):
        with_line(bare, more | {"expires": "2027-01-01"}, file="m.csv")
    with pytest.raises(package.UsageError, match="no column 'owner'"):
        with_cells(text, 2, {"owner": "z"})
    yaml = "permissions:\n  all:  # everything\n    - allow: any\n# end\n"
    assert with_permission(yaml, "n", "deny", ["ssh"]) == yaml.replace(
        "# end", "  n:\n    - deny: ssh\n# end"
    )


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (["set", "--write", "a", "b"], "SRC, DST and PERMISSION"),
        (["set", "--write", "kiosks", "catalogue", "printt"], "perhaps print"),
        (["set", "--write", "kiosk", "catalogue", "print"], "perhaps kiosks"),
        (["set", "--write", "--where", "owner=nobody", "--mode", "off"], "no line is like"),
        (["set", "--write", "--where", "owner"], "is no condition on lines|say what to change"),
        (["set", "--write", "--where", "owner=network desk"], "say what to change"),
        (["grant", "in-librar", "catalogue", "ssh"], "perhaps in-library"),
        (["grant", "kiosks", "catalogue", "shh"], "no service known"),
        (["compare", "HEAD~3"], "no revision"),
        (["compare", "--where", "mode=enforce"], "selects no observed line"),
        (["callers", "catalog"], "perhaps catalogue"),
        (["matrix", "--figure", "m.gif"], "neither .png nor .svg"),
        (["around", "nobody"], "nobody"),
    ],
)
def test_wrong_use_of_daily_commands(
    oaktag: Run, sample: Path, arguments: list[str], told: str
) -> None:
    before = {p: p.read_bytes() for p in sample.rglob("*") if p.is_file()}
    ran = oaktag("-C", sample, *arguments)
    assert ran.status == 2 and any(t in ran.err for t in told.split("|")), ran
    assert {p: p.read_bytes() for p in sample.rglob("*") if p.is_file()} == before


def test_figures_are_pictures_and_always_the_same(oaktag: Run, shipped: Path) -> None:
    for arguments in (["matrix"], ["around", "hall"]):
        for name in ("a.png", "b.png", "a.svg", "b.svg"):
            assert oaktag("-C", shipped, *arguments, "--figure", name).status == 0
        for kind, head in (("png", b"\x89PNG"), ("svg", b"<?xml")):
            one, two = ((shipped / f"{n}.{kind}").read_bytes() for n in "ab")
            assert one == two and one.startswith(head)
        assert "core-services" in (shipped / "a.svg").read_text()
    # A box is full only where a cell allows everything; it is a part where it allows something.
    oaktag("-C", shipped, "matrix", "--figure", "a.svg")
    said = oaktag("-C", shipped, "matrix", "--json").json
    share = {form["form"]: form["share"] for form in said["forms"]}
    size = {side: {b[0]: len(b) for b in said[side]} for side in ("rows", "columns")}
    held = Counter[str]()
    for cell in said["cells"]:
        kind = {0: "none", 1: "full"}.get(share[cell["form"]], "part")
        held[kind] += size["rows"].get(cell["source"], 0) * size["columns"].get(
            cell["destination"], 0
        )
    drawn = (shipped / "a.svg").read_text()
    assert drawn.count("fill: #bccad3") == held["part"] > 0
    assert drawn.count("fill: #3b4f5c") == held["full"] > 0
    for name in ("a.svg", "b.svg"):
        assert oaktag("-C", shipped, "reach", "--figure", name).status == 1
    drawn = (shipped / "a.svg").read_text()
    assert drawn == (shipped / "b.svg").read_text()
    told = [
        "83 flows break, 122 leak: 120 of them",
        "a feed from ashgrove-access would mend it",
        "provider",
    ]
    assert all(word in drawn for word in told)
    places = re.findall(r"<!-- (\S+) -->\s*<g[^>]*translate\((\S+) ", drawn)
    across = {name: float(x) for name, x in places}
    assert across["ashgrove-access"] < across["carrier"] == across["central-core"]
    assert across["carrier"] < across["hall-edge"] == across["provider"]  # what lies outside
    written = re.findall(r"<!-- (.*?) -->", drawn)
    assert (
        written.count("tags lost") == 6
        and written.count("! leaks: no point on some paths from here") == 5
    )


def test_boxes_of_a_comparison_read_as_services(shipped: Path) -> None:
    """What is said to open is what the parser takes for the same packets."""
    from oaktag.core.services import parse_service

    document = package.Workspace.load(shipped).if_enforced()
    for cell in document["cells"]:
        for word in cell["opened"]:
            head, _, rest = word.partition("/")
            for part in head.split(","):
                assert parse_service(f"{part}/{rest}" if rest else part)


def test_verify_is_the_four_in_one(oaktag: Run, shipped: Path, shipped_mended: Path) -> None:
    """One exit status, and JUnit that a parser of its own reads as the expectations stand."""
    from xml.etree import ElementTree

    for folder, status in ((shipped, 1), (shipped_mended, 0)):
        ran = oaktag("-C", folder, "verify", "--json", "--junit", "said.xml")
        assert ran.status == status
        jsonschema.validate(ran.json, _schema("verify"))
        singly = {
            name: oaktag("-C", folder, name).status
            for name in ("check", "review", "expect", "reach")
        }
        assert {p["part"]: int(not p["well"]) for p in ran.json["parts"]} == singly
        rows = oaktag("-C", folder, "expect", "--json", "--junit", "again.xml").json
        suite = ElementTree.parse(folder / "said.xml").getroot()
        assert (folder / "said.xml").read_bytes() == (folder / "again.xml").read_bytes()
        failed = [c.get("line") for c in suite if c.find("failure") is not None]
        every = [*rows["expectations"], *rows["keep_open"]]
        assert failed == [str(r["line"]) for r in every if not r["holds"]]
        assert suite.get("tests") == str(len(every)) and suite.get("failures") == str(len(failed))
    assert oaktag("-C", shipped, "verify", "--fail-on", "warning").status == 1
    config = shipped_mended / "groups.yaml"
    config.write_text(config.read_text().replace("tag: 320", "tag: 310"))
    ran = oaktag("-C", shipped_mended, "verify")
    assert ran.status == 1 and "OT100 groups.yaml:4" in ran.out
