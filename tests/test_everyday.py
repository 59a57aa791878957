"""What a day with it brings: changes of files, findings and texts, each on the smallest workspace
that tells a right answer from a wrong one, worked out by hand."""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import jsonschema
import pytest

import oaktag as package
from conftest import Ran
from test_commands import _schema
from test_corners import HEAD, build

Run = Callable[..., Ran]


def codes(folder: Path, command: str = "check", **load: Any) -> list[tuple[str, str, int]]:
    workspace = package.Workspace.load(folder, **load)
    found = getattr(workspace, command)()["findings"]
    return [(f["code"], f["file"], f["line"]) for f in found]


# -- changes ---------------------------------------------------------------------------------


def test_a_name_is_changed_where_it_is_a_name(oaktag: Run, tmp_path: Path) -> None:
    """Notes, longer names, attributes and keys that look alike stay; and every name goes."""
    lines = (
        'a,b,web,enforce,to,,a,"a, of old"\n" a ","a",web,,,,"so ""a"" it is",a\n'
        'b,front,web,,,,"two\nlines, a",\naa,c,web,,,,,\n'
    )
    groups = (
        "groups:\n  - {id: a, tag: 101, title: a, traits: {id: a, kind: a}}  # a\n"
        "  - {id: 'b', tag: 102}\n  - {id: c, tag: 103}\n  - {id: aa, tag: 104}\n"
        'sets:\n  front: [a, "a", aa, {traits: {kind: a}}]\n  back:\n    - a\n    - b\n'
    )
    rules = (
        'pins:\n  - {endpoint: a-1, group: "a", note: a}\n'
        "rules:\n  - {give: b, when: {role: a, group: a, give: a}}\n"
    )
    folder = build(tmp_path, lines, groups_yaml=groups, assignments_yaml=rules, expectations_yaml="- {from: a, to: c, allowed: none}\n")  # fmt: skip
    before = {p: p.read_text() for p in folder.rglob("*") if p.is_file()}
    assert oaktag("-C", folder, "rename", "a", "zz", "--write").status == 0
    assert (folder / "matrix/0.csv").read_text() == HEAD + (
        'zz,b,web,enforce,to,,a,"a, of old"\n"zz","zz",web,,,,"so ""a"" it is",a\n'
        'b,front,web,,,,"two\nlines, a",\naa,c,web,,,,,\n'
    )
    assert (folder / "groups.yaml").read_text() == (
        "groups:\n  - {id: zz, tag: 101, title: a, traits: {id: a, kind: a}}  # a\n"
        "  - {id: 'b', tag: 102}\n  - {id: c, tag: 103}\n  - {id: aa, tag: 104}\n"
        'sets:\n  front: [zz, "zz", aa, {traits: {kind: a}}]\n  back:\n    - zz\n    - b\n'
    )
    assert (folder / "assignments.yaml").read_text() == rules.replace('group: "a"', 'group: "zz"')
    assert "from: zz" in (folder / "expectations.yaml").read_text()
    assert oaktag("-C", folder, "rename", "zz", "a", "--write").status == 0
    changed = {p.name for p, text in before.items() if p.read_text() != text}
    assert changed == {"0.csv"}, "all but the blanks inside quotes"


def test_a_name_that_rules_make_of_attributes_is_kept(oaktag: Run, tmp_path: Path) -> None:
    rules = "rules:\n  - {give: '{role}', when: {kind: server}}\n"
    folder = build(tmp_path, assignments_yaml=rules)
    ran = oaktag("-C", folder, "rename", "b", "bo", "--write")
    assert ran.status == 2 and "b-1 would change group" in ran.err
    assert "assignments.yaml:2:5 makes the name 'b' of attributes" in ran.err
    taken = "- {from: b-1, to: c, allowed: none}\n"
    (folder / "expectations.yaml").write_text(taken)
    (folder / "assignments.yaml").write_text("rules: []\n")
    ran = oaktag("-C", folder, "rename", "b", "b-1", "--write")
    assert ran.status == 2 and "means something else at expectations.yaml:1:10" in ran.err


def test_many_lines_at_once(oaktag: Run, tmp_path: Path) -> None:
    """A star as an end is the word; what a cell says already stays as it is written."""
    lines = "*,a,web,,,,x,\na,b,web,,,,x,\nb,*,web,observe,,,x,\n"
    folder = build(tmp_path, lines)
    text = HEAD + lines
    assert (
        oaktag("-C", folder, "set", "--where", "source=*", "--mode", "observe").out.count("\n+")
        == 1 + 1
    )
    assert (
        oaktag("-C", folder, "set", "--where", "owner=*", "--mode", "enforce", "--write").status
        == 0
    )
    assert (folder / "matrix/0.csv").read_text() == text.replace("observe", "enforce")


def test_a_line_that_another_hides(oaktag: Run, tmp_path: Path) -> None:
    folder = build(tmp_path, "a,b,nothing,,,,,\n---\n", config={"order": "as-listed"})
    ran = oaktag("-C", folder, "set", "a", "b", "web", "--layer", "1.csv")
    assert "no decision changes: matrix/0.csv:2 decides all its packets first" in ran.out
    jsonschema.validate(
        oaktag("-C", folder, "set", "a", "b", "web", "--layer", "1.csv", "--json").json,
        _schema("set"),
    )


def test_numbers_are_not_given_twice(oaktag: Run, tmp_path: Path) -> None:
    groups = "groups:\n  - {id: a, tag: issued 2003}\n  - {id: b, tag: 0x66}\n  - id: c\n"
    folder = build(
        tmp_path, groups_yaml=groups, config={"tags": {"issue": "2000-2005"}},
        assignments_yaml="rules: []\n",
    )  # fmt: skip
    ran = oaktag("-C", folder, "groups", "--number", "--write", "--json")
    jsonschema.validate(ran.json, _schema("groups-number"))
    assert ran.json["numbers"] == {"c": 2004}
    assert '"issued_to": 2004' in (folder / "oaktag.yaml").read_text().replace(
        "issued_to: 2004", '"issued_to": 2004'
    )
    gone = (folder / "groups.yaml").read_text().replace("    tag: issued 2004\n", "")
    (folder / "groups.yaml").write_text(gone.replace("id: c", "id: d"))
    again = oaktag("-C", folder, "groups", "--json").json["groups"]
    assert [(g["group"], g["tag"]) for g in again] == [("a", 2003), ("b", 102), ("d", 2005)]
    (folder / "groups.yaml").write_text(groups + "  - id: d\n  - id: e\n  - id: f\n")
    again = oaktag("-C", folder, "groups", "--json").json["groups"]
    assert [g["tag"] for g in again] == [2003, 102, 2005, 2000, 2001, 2002]
    (folder / "groups.yaml").write_text(groups.replace("0x66", "0x7d1"))
    assert "b has the number 2001, which is inside the range" in oaktag("-C", folder, "check").out
    (folder / "groups.yaml").write_text(groups.replace("0x66", "0x1ffff"))
    assert "the tag of b is '0x1ffff'" in oaktag("-C", folder, "check").err


# -- findings --------------------------------------------------------------------------------


def test_a_line_is_idle_as_a_whole(tmp_path: Path) -> None:
    """Of one that is its own mirror each half alone changes nothing, both together do."""
    sets = {"one": ["a", "b"], "two": ["b", "a"]}
    groups = {"groups": [{"id": n, "tag": 100 + i} for i, n in enumerate("abc", 1)], "sets": sets}
    folder = build(
        tmp_path, "one,two,web,,both,,,\na,c,web,,,,,\n*,c,web,,,,,\n", groups_yaml=groups
    )
    found = [c for c in codes(folder, "review") if c[0] in ("OT301", "OT304")]
    assert found == [("OT304", "matrix/0.csv", 3)]
    (folder / "matrix/0.csv").write_text(HEAD + "one,two,web,,both,,,\none,one,web,,,,,\n")
    found = [c for c in codes(folder, "review") if c[0] in ("OT301", "OT304")]
    assert found == [("OT304", "matrix/0.csv", 2), ("OT301", "matrix/0.csv", 3)]


NETWORK: dict[str, Any] = {
    "nodes": [{"node": "n", "address": "10.9.0.1", "group": "c", "point": {"inside": True}}],
    "segments": [{"segment": "s", "node": "n", "prefixes": ["10.1.0.0/16", "10.2.0.0/16", "10.3.0.0/16"]}],
    "feeds": [{"from": "registry", "to": "n"}],
}  # fmt: skip


def test_a_point_that_watches_does_judge(oaktag: Run, tmp_path: Path) -> None:
    """Isolation that a point only watches is no isolation that nobody judges."""
    csv = "name,ip,role\na-1,10.1.0.1,a\na-2,10.1.0.2,a\n"
    rules = {"rules": [{"give": "a", "when": {"role": "a"}}]}
    for mode, inside, wrong in (("observe", True, 0), ("enforce", False, 1), ("enforce", True, 0)):
        point = {"mode": mode, "inside": inside}
        net = {**NETWORK, "nodes": [{"node": "n", "point": point}]}
        folder = build(
            tmp_path, "a,itself,nothing,,,,,\n", net, servers_csv=csv, assignments_yaml=rules
        )
        assert sum(c[0] == "OT311" for c in codes(folder, "review")) == wrong, (mode, inside)
    # Nor is a line of packets that the members, all of IPv4, do not send.
    for words, wrong in (("icmp6/128", 0), ("icmp4/8", 1)):
        permissions = {"permissions": {"ping": [{"deny": words}], "nothing": [{"deny": "ssh"}]}}
        folder = build(
            tmp_path, "a,itself,ping,,,,,\na,itself,nothing,,,,,\n", {**NETWORK, "nodes": [{"node": "n"}, {"node": "m", "point": {}}]}, servers_csv=csv, assignments_yaml=rules,
            permissions_yaml=permissions, config={"default": "allow"},
        )  # fmt: skip
        assert sum(c[0] == "OT311" for c in codes(folder, "review")) == 1 + wrong, words
    (folder / "permissions.yaml").unlink()
    net["nodes"][0]["point"] = {"mode": "observe", "inside": True}
    build(tmp_path, "a,itself,nothing,,,,,\n", net, servers_csv=csv, assignments_yaml=rules)
    said = " ".join(oaktag("-C", folder, "reach").out.split())
    assert "n only watches" in said and "do not agree" not in said and "mode: enforce" in said
    assert "the point n is in observe" in oaktag("-C", folder, "verify").out


def test_pins_that_end_clash_or_stand_for_members(tmp_path: Path) -> None:
    pins = (
        "pins:\n  - {prefix: 10.3.0.0/24, group: c, at: n}\n  - {prefix: 10.3.0.0/24, group: a, at: n}\n"
        "  - {endpoint: a-1, group: a, until: 2027-01-31}\n"
        "  - {prefix: 10.2.0.0/24, group: b, until: 2027-01-31}\n"
        "rules: []\n"
    )
    folder = build(tmp_path, "", NETWORK, assignments_yaml=pins)
    from datetime import date

    def at(day: str) -> set[tuple[str, str, int]]:
        wanted = ("OT201", "OT211", "OT215", "OT216")
        return {c for c in codes(folder, today=date.fromisoformat(day)) if c[0] in wanted}

    clash = ("OT211", "assignments.yaml", 3)
    assert at("2026-06-01") == {clash}
    soon = {("OT216", "assignments.yaml", 4), ("OT216", "assignments.yaml", 5)}
    assert at("2027-01-31") == {clash, *soon}
    over = {("OT215", "assignments.yaml", 4), ("OT215", "assignments.yaml", 5)}
    assert at("2027-02-01") == {clash, *over, ("OT201", "groups.yaml", 1)}, "b is empty then"


def test_who_is_withheld_whatever_the_name(oaktag: Run, tmp_path: Path) -> None:
    """A device called like a node, or like a segment with a default tag."""
    net = {**NETWORK, "segments": [{**NETWORK["segments"][0], "tag": "a"}]}
    folder = build(
        tmp_path, "", net, d_csv="name,ip,role\nn,10.1.0.7,a\ns,10.1.0.8,b\n",
        config={"sources": [{"file": "d.csv", "kind": "device", "id": "name", "address": "ip"}]},
    )  # fmt: skip
    held = oaktag("-C", folder, "members", "--withheld", "--json").json["withheld"]
    assert [w["endpoint"] for w in held] == ["n", "s"]


# -- questions -------------------------------------------------------------------------------


def test_an_address_its_endpoint_and_what_is_bound(oaktag: Run, tmp_path: Path) -> None:
    """Somebody without a standing binding: asked by the address untagged, by the name in a group."""
    folder = build(
        tmp_path, "a,b,web,,,,,\nuntagged,b,shell,,,,,\n", NETWORK,
        d_csv="name,ip,role\nphone,10.1.0.7,a\nx,10.2.0.1,b\n",
        config={"sources": [{"file": "d.csv", "kind": "device", "id": "name", "address": "ip"}]},
    )  # fmt: skip
    asked = oaktag("-C", folder, "decide", "10.1.0.7", "b", "https", "--json").json
    jsonschema.validate(asked, _schema("decide"))
    assert (asked["source"]["group"], asked["action"]) == ("untagged", "deny")
    (told,) = asked["addressed"]
    assert told["endpoints"] == [{"endpoint": "phone", "group": "a", "tag": 101}]
    assert told["bound"]["group"] == "untagged"
    said = oaktag("-C", folder, "explain", "10.1.0.7", "--json").json
    jsonschema.validate(said, _schema("explain"))
    assert said["addressed"][0]["text"] == told["text"]
    assert {p["group"]: [c["allows"] for c in p["as_source"]] for p in said["policies"]} == {
        "a": ["443/tcp"]
    }
    assert oaktag("-C", folder, "decide", "phone", "b", "https", "--json").json["addressed"] == []
    text = " ".join(oaktag("-C", folder, "decide", "10.1.0.7", "b", "https").out.split())
    assert "phone (a) is at 10.1.0.7, and the registry binds 10.1.0.7 as untagged" in text
    wide = oaktag("-C", folder, "explain", "10.0.0.0/8", "--json").json["policies"]
    assert {p["group"] for p in wide} == {"a", "b", "c"}, "endpoints there, and the node"


def test_sentences_rest_on_the_lines_that_say_them(oaktag: Run, tmp_path: Path) -> None:
    """A line that denies one service is not what denies all the rest."""
    permissions = {
        "permissions": {"no-telnet": [{"deny": "23/tcp"}], "web": [{"allow": "443/tcp"}]}
    }
    folder = build(
        tmp_path, "a,b,no-telnet,,,,,\na,c,no-telnet,,,,,\na,c,web,,,,,\n", permissions_yaml=permissions
    )  # fmt: skip
    said = {
        s["text"]: s["lines"]
        for s in oaktag("-C", folder, "describe", "a", "--json").json["sentences"]
    }
    assert said["a may not reach b at all."] == [{"file": None, "line": None}]
    assert said["a may reach c for 443/tcp."] == [{"file": "matrix/0.csv", "line": 4}]


def test_around_where_all_is_allowed_by_default(oaktag: Run, tmp_path: Path) -> None:
    folder = build(tmp_path, "a,b,nothing,,,,,\n", config={"default": "allow"})
    said = oaktag("-C", folder, "around", "b", "--json").json
    jsonschema.validate(said, _schema("around"))
    assert said["comes_in"] == [] and said["by_default"]["comes_in"] == ["c", "untagged"]
    assert said["by_default"]["passes_inside"] == ["b"]
    text = oaktag("-C", folder, "around", "b").out
    assert (
        "anything from c, untagged, by the default (allow)" in text and "nothing comes" not in text
    )


def test_one_type_of_icmp_is_not_all_of_it(oaktag: Run, tmp_path: Path) -> None:
    permissions = {
        "permissions": {
            "ping": [{"allow": "icmp4/8/0"}],
            "gre": [{"allow": ["proto/47", "icmp4/0/0"]}],
        }
    }
    now, was = tmp_path / "now", tmp_path / "was"
    build(now, "a,b,ping,,,,,\nb,a,gre,,,,,\n", permissions_yaml=permissions)
    build(was, "", permissions_yaml=permissions)
    cells = package.Workspace.load(now).compare(was, now)["cells"]
    assert [c["opened"] for c in cells] == [["icmp4/8/0"], ["icmp4/0/0", "proto/47"]]


# -- versions --------------------------------------------------------------------------------


def test_enforcing_what_is_observed_changes_lists(tmp_path: Path) -> None:
    folder = build(tmp_path, "a,b,web,observe,,,,\n", NETWORK)
    said = package.Workspace.load(folder).if_enforced()
    assert [p["point"] for p in said["points"]] == ["n"]
    (entry,) = said["points"][0]["entries"]
    assert entry["cells"] == [["a", "b"]] and any("443/tcp" in t for t in entry["come"])
    jsonschema.validate(said.as_json(), _schema("compare"))


def test_a_workspace_deep_in_a_repository(oaktag: Run, tmp_path: Path) -> None:
    folder = build(tmp_path / "sites/north", "a,b,web,,,,,\n", NETWORK)
    for words in (
        ["init", "-q"],
        ["add", "."],
        ["-c", "user.name=x", "-c", "user.email=x@y.example", "commit", "-qm", "x"],
    ):
        subprocess.run(["git", "-C", tmp_path, *words], check=True)
    layer = folder / "matrix/0.csv"
    layer.write_text(layer.read_text() + "b,a,web,,,,,\n")
    for said in (
        oaktag("-C", folder, "compare", "--json").json,
        oaktag("-C", folder, "compare", "HEAD", "./", "--json").json,
    ):
        assert [(c["source"], c["destination"], c["opened"]) for c in said["cells"]] == [
            ("b", "a", ["443/tcp"])
        ]
        assert [p["point"] for p in said["points"]] == ["n"]


def test_lists_of_points_that_are_gone(oaktag: Run, tmp_path: Path) -> None:
    folder = build(tmp_path, "a,b,web,,,,,\n", NETWORK)
    assert oaktag("-C", folder, "compile").status == 0 and oaktag("-C", folder, "prove").status == 0
    (folder / "lists/old-gate.nft").write_text((folder / "lists/n.nft").read_text())
    ran = oaktag("-C", folder, "prove")
    assert ran.status == 1 and "old-gate: there is no such point in network.yaml" in ran.out
    jsonschema.validate(oaktag("-C", folder, "prove", "--json").json, _schema("prove"))


def test_verify_at_the_level_that_is_asked(oaktag: Run, tmp_path: Path) -> None:
    """A warning is well or fails, as --fail-on says, in text, JSON and exit status alike."""
    everything = "a,b,all,,both,,,\na,c,all,,both,,,\nb,c,all,,both,,,\n*,untagged,all,,both,,,\n"
    folder = build(tmp_path, everything)
    for level, status in (("error", 0), ("warning", 1), ("note", 1), ("never", 0)):
        extra = "  - {give: c, when: {role: nobody}}\n"
        (folder / "assignments.yaml").write_text(
            "rules:\n  - {give: a, when: {role: a}}\n  - {give: b, when: {role: b}}\n"
            "  - {give: c, when: {role: c}}\n" + extra
        )
        ran = oaktag("-C", folder, "verify", "--fail-on", level)
        assert ran.status == status, ran
        assert ("FAILS  check" in ran.out) == bool(status)
        told = oaktag("-C", folder, "verify", "--fail-on", level, "--json")
        jsonschema.validate(told.json, _schema("verify"))
        assert told.status == status and told.json["parts"][0]["well"] == (not status)
    assert "no expectation is written down" in ran.out and "network.yaml has no segment" in ran.out


def test_sets_nodes_segments_and_sites_are_ends(oaktag: Run, tmp_path: Path) -> None:
    """Where all cells agree so does the answer; where not it is mixed, with each cell."""
    net = {**NETWORK, "nodes": [{**NETWORK["nodes"][0], "site": "mill"}]}
    folder = build(tmp_path, "front,c,web,,,,,\na,b,shell,,,,,\n", net)

    def asked(*words: str) -> dict[str, Any]:
        said: dict[str, Any] = oaktag("-C", folder, *words, "--json").json
        jsonschema.validate(said, _schema(words[0]))
        return said

    one = asked("decide", "front", "c", "https")
    assert (one["action"], one["line"]["line"], one["source"]) == (
        "allow",
        2,
        {"group": "front", "tag": None},
    )
    two = asked("decide", "front", "back", "https")
    assert two["action"] == "mixed" and [c["action"] for c in two["cells"]] == [
        "deny",
        "allow",
        "deny",
        "allow",
    ]
    node = asked("decide", "n", "a", "https")
    assert node["source"]["group"] == "c", "the group of its own address"
    cells = asked("cell", "front", "back")["alike"]
    assert [c["pairs"] for c in cells] == [[["a", "b"]], [["a", "c"], ["b", "c"]], [["b", "b"]]]
    assert [c["allows"] for c in cells] == ["22/tcp", "443/tcp", "none"]
    whole = asked("reach")["flows"]
    for words in (["--from", "s"], ["--to", "mill"], ["--from", "a-1", "--to", "s"]):
        some = asked("reach", *words)["flows"]
        assert some == [f for f in whole if "a-1" not in words or f["source"]["group"] == "a"]
    hops = asked("trace", "n", "a-1", "https")
    assert hops["paths"][0]["from"]["endpoint"] == "n"
    assert (
        "is a set; ask for one of its groups: a, b" in oaktag("-C", folder, "describe", "front").err
    )


FAULTS: tuple[tuple[str, dict[str, Any], dict[str, Any], str], ...] = (
    ("OT411", {"feeds": []}, {}, "feed it: {from: registry, to: n}"),
    ("OT412", {"nodes": [{"node": "n", "marks": True}], "feeds": [{"from": "registry", "to": "n", "only": {"groups": ["b"]}}]},
     {}, "a-1"),
    ("OT413", {}, {"d_csv": "name,ip,role\nphone,10.1.0.7,a\n", "kind": "device"}, "let n learn sessions"),
    ("OT414", {"nodes": [{"node": "n", "point": {"from": ["empty"]}}]}, {}, "nobody is where its from says"),
    ("OT414", {"nodes": [{"node": "n", "point": {"scope": {"destinations": ["untagged"]}}}]}, {},
     "nobody is where its scope: destinations says"),
)  # fmt: skip


@pytest.mark.parametrize(("code", "changed", "more", "told"), FAULTS, ids=lambda v: str(v)[:12])
def test_what_is_forgotten_at_first(
    code: str, changed: dict[str, Any], more: dict[str, Any], told: str, oaktag: Run, tmp_path: Path
) -> None:
    """Said by check, before reach puzzles; and gone when it is mended."""
    empty = {"segment": "empty", "node": "n", "prefixes": ["10.8.0.0/16"]}
    net = {**NETWORK, "segments": [*NETWORK["segments"], empty]}
    kind = more.get("kind", "server")
    sources = [{"file": "d.csv", "kind": kind, "id": "name", "address": "ip"}]
    files: dict[str, Any] = {"d_csv": "name,ip,role\na-1,10.1.0.1,a\nb-1,10.2.0.1,b\n"} | {
        k: v for k, v in more.items() if k != "kind"
    }
    folder = build(tmp_path, "", {**net, **changed}, config={"sources": sources}, **files)
    said = oaktag("-C", folder, "check", "--json").json["findings"]
    mine = [f for f in said if f["code"] == code]
    assert len(mine) == 1 and told in mine[0]["message"] + mine[0]["hint"], said
    good = {**net, "nodes": [{**NETWORK["nodes"][0], "learns": ["session"]}]}
    build(tmp_path, "", good, config={"sources": sources}, **files)
    codes_ = {f["code"] for f in oaktag("-C", folder, "check", "--json").json["findings"]}
    assert not codes_ & {"OT411", "OT412", "OT413", "OT414"}


def test_a_grant_takes_a_permission_that_does_just_this(oaktag: Run, tmp_path: Path) -> None:
    """Not one that records as well, or answers; nor one that says something of other packets."""
    plain = {"web": [{"allow": "https"}]}
    folder = build(tmp_path, "", permissions_yaml={"permissions": {
        "watched": [{"allow": "ssh", "log": "notice"}], "closed": {"entries": [{"allow": "ssh"}], "otherwise": "deny"},
        **plain}})  # fmt: skip
    assert "+a,c,web" in oaktag("-C", folder, "grant", "a", "c", "https").out
    made = oaktag("-C", folder, "grant", "a", "c", "ssh").out
    assert "+a,c,only-ssh" in made and "only-ssh: [{allow: ssh}]" in made, made


def test_of_several_pins_of_a_prefix_one_is_named(oaktag: Run, tmp_path: Path) -> None:
    folder = build(tmp_path, assignments_yaml={"pins": [
        {"prefix": "10.1.0.0/28", "group": "a"}, {"prefix": "10.1.0.0/28", "group": "b", "at": "n"}]},
        network=NETWORK)  # fmt: skip
    ran = oaktag("-C", folder, "unpin", "10.1.0.0/28")
    assert ran.status == 2 and "(--at registry)" in ran.err and "(--at n)" in ran.err, ran
    for at, gone, left in (("registry", "a", "b"), ("n", "b", "a")):
        diff = oaktag("-C", folder, "unpin", "10.1.0.0/28", "--at", at, "--json").json["diff"]
        after = next(line for line in diff.splitlines() if line.startswith("+{"))
        assert f'"group": "{left}"' in after and f'"group": "{gone}"' not in after, diff


def test_a_sample_is_not_put_where_something_is(oaktag: Run, tmp_path: Path) -> None:
    (tmp_path / "file").write_text("mine\n")
    (tmp_path / "empty").mkdir()
    (tmp_path / "full").mkdir()
    (tmp_path / "full/mine").write_text("mine\n")
    for name in ("file", "full"):
        ran = oaktag("new", tmp_path / name, "--sample")
        assert ran.status == 2 and "is there already and not empty" in ran.err, ran
    assert oaktag("new", tmp_path / "empty", "--sample").status == 0
    assert (tmp_path / "file").read_text() == (tmp_path / "full/mine").read_text() == "mine\n"


def test_nothing_that_is_said_is_left_out(oaktag: Run, tmp_path: Path) -> None:
    """A layer without the column for a day, a mode or an owner is no reason to forget it."""
    layer = "source,destination,permission\na,b,web\n"
    folder = build(tmp_path, matrix__0_csv=layer)
    for words in (
        ["grant", "a", "c", "ssh", "--until", "2030-01-31"],
        ["set", "a", "c", "web", "--mode", "observe"],
        ["set", "b", "c", "web", "--owner", "me"],
        ["grant", "a-1", "c", "ssh", "--only", "--until", "2030-01-31"],
    ):
        ran = oaktag("-C", folder, *words, "--write")
        assert ran.status == 2 and ("no column" in ran.err or "needs a number" in ran.err), ran
    assert (folder / "matrix/0.csv").read_text() == layer
    assert oaktag("-C", folder, "set", "a", "c", "web", "--write").status == 0
    assert (folder / "matrix/0.csv").read_text() == layer + "a,c,web\n"
