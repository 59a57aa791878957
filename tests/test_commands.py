"""Whole commands on the sample: what they print, their JSON against its schema, exit status."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from importlib.resources import files
from pathlib import Path
from typing import Any

import jsonschema
import pytest
import yaml

import oaktag as package
from conftest import Ran
from oaktag.core.packets import Packet
from oaktag.demo.sample import sample_texts

Run = Callable[..., Ran]


def _schema(name: str) -> dict[str, Any]:
    text = (files("oaktag") / "schemas" / f"{name}.json").read_text(encoding="utf-8")
    schema: dict[str, Any] = json.loads(text)
    return schema


#: Arguments → exit status, and what a person must find in the output.
TABLE = [
    (["check"], 0, ["OT203", "02:00:5e:10:00:13", "return-sorters", "OT204", "reading-room"]),
    (["check", "--fail-on", "warning"], 1, ["2 warnings found"]),
    (["check", "--codes"], 0, ["OT301", "a line that no packet reaches"]),
    (["groups"], 0, ["wall-displays   2001  0x7d1  issued", "1 endpoint in none"]),
    (["members", "kiosks"], 0, ["SC-200, SC-210", "5 endpoints, 5 of them in a group"]),
    (["members"], 0, ["patrons          320       10         2  10 devices", "1 in no group"]),
    (["members", "--all"], 0, ["nothing assigns it", "40 endpoints, 39 of them"]),
    (["members", "--when", "site=ashgrove, model=WD-*|SC-*"], 0, ["4 endpoints, 4 of them"]),
    (["members", "--when", "firmware>=5, address=10.20.2.0/24"], 0, ["3 endpoints"]),
    (["members", "--uncertain"], 0, ["0 endpoints moved"]),
    (["members", "--rule", "13"], 0, ["loses", "ivo", "takes 6, loses 1"]),
    (["members", "--withheld"], 0, ["its address is leased", "12 members without"]),
    (["attributes"], 0, ["firmware          13       4", "inventory/devices.csv"]),
    (["attributes", "role"], 0, ["librarian-lead", "3 values"]),
    (["attributes", "--like", "sc-2"], 0, ["SC-210", "2 values"]),
    (["explain", "0200.5E10.0013"], 0, ["nothing assigns it", "nearly return-sorters"]),
    (
        ["explain", "10.20.2.103"],
        0,
        ["of 02:00:5e:20:00:03", "central-access", "domain, ipp, ntp, icmp"],
    ),
    (["explain", "10.20.200.0/24"], 0, ["6 bindings of the registry inside it", "catalogue-1"]),
    (["explain", "0x136"], 0, ["librarians: tag 310, 0x136", "front-desks, in-library"]),
    (["explain", "hall"], 0, ["hall is a set of catalogue"]),
    (["explain", "ivo"], 0, ["by the pin in assignments.yaml:2", "would have given librarians"]),
    (["members", "--unassigned"], 0, ["return-sorters, but for purpose"]),
    (["bindings"], 0, ["10.20.201.11/32", "loans-1", "46 bindings known at registry"]),
    (["bindings", "--at", "carrier"], 0, ["0 bindings known at carrier", "no feed brings carrier"]),
    (["bindings", "10.20.2.31", "10.20.3.9"], 0, ["kiosks", "no binding"]),
    (["matrix"], 0, ["*>.", "5432/tcp from ports 1024-65535"]),
    (["matrix", "--from", "front-desks", "--to", "hall"], 0, ["librarians", "kiosks"]),
    (
        ["cell", "kiosks", "catalogue"],
        0,
        ["matrix/10-shared.csv:5", "-  allow https", "allows:       any"],
    ),
    (
        ["decide", "patrons", "loans-1", "8443/tcp"],
        0,
        ["deny", "matrix/10-shared.csv:11", "nothing"],
    ),
    (
        ["decide", "ivo", "10.20.201.11", "ssh"],
        0,
        ["allow", "network-desk → loans-db", "administer"],
    ),
    (["decide", "320", "0x140", "https"], 0, ["allow", "would deny"]),
    (
        ["review"],
        0,
        ["OT301", "kiosks → catalogue", "OT302", "allow: 53/udp", "OT306", "5 warnings"],
    ),
    (["expect"], 1, ["FAILS  kiosks", "is allowed", "let through, though", "7 of 9 hold"]),
    (
        ["reach"],
        1,
        ["183 exact, 11 leak, 29 break", "hall-edge does not know", "no point on the path"],
    ),
    (
        ["reach", "--from", "wall-displays", "--to", "catalogue", "--flows"],
        1,
        ["leak https; break", "pictures"],
    ),
    (["compile"], 0, ["hall-edge", "enforce", "yes", "lists/keys.csv"]),
    (["prove"], 0, ["equal, for all packets", "1 of 1 equal"]),
]


def test_every_command_on_the_sample(oaktag: Run, sample: Path) -> None:
    """On its first part, which is worked out by hand; that bytes stay the same, transcripts show."""
    for arguments, status, told in TABLE:
        ran = oaktag("-C", sample, *arguments)
        assert (ran.status, ran.err) == (status, ""), (arguments, ran)
        assert [t for t in told if t not in ran.out] == [], (arguments, ran.out)
        assert all(len(line) <= 100 for line in ran.out.splitlines()), ran.out
        document = oaktag("-C", sample, *arguments, "--json")
        assert document.status == status
        jsonschema.validate(document.json, _schema(document.json["command"]))


def test_nothing_is_found_on_the_mended_sample(oaktag: Run, mended: Path) -> None:
    for command in ("check", "review"):
        ran = oaktag("-C", mended, command, "--fail-on", "note")
        assert (ran.status, ran.out) == (0, "nothing found\n")
    assert oaktag("-C", mended, "expect").status == 0
    reach = oaktag("-C", mended, "reach", "--json")
    assert (reach.status, reach.json["summary"]["effects"]) == (0, {"exact": 223})


def test_packets_of_reach_are_what_the_matrix_and_the_point_say(sample: Path) -> None:
    """Each leak is denied by the cell of the true groups, each break allowed by it."""
    workspace = package.Workspace.load(sample)
    model = workspace.model
    shown = [(f, p) for f in workspace.reach()["flows"] for p in f["packets"]]
    assert {p["effect"] for _, p in shown} == {"leak", "break"}
    for flow, box in shown:
        cell = tuple(model.groups.index[flow[e]["group"]] for e in ("source", "destination"))
        spans = (box["protocols"], box["source_ports"], box["destination_ports"])
        packet = Packet(box["family"], *(ranges[0][0] for ranges in spans))
        form = model.matrix.forms[int(model.matrix.action_form[cell])]
        allowed = bool(form >> model.atoms.atom(packet) & 1)
        assert allowed == (box["effect"] == "break")
    example = oaktag_reach(workspace)
    assert example == ["hall-edge", "source-unknown", "leak"]


def oaktag_reach(workspace: package.Workspace) -> list[str]:
    """Why the display in Ashgrove reaches the catalogue's web page."""
    flows = workspace.reach("02:00:5e:10:00:24", "catalogue")["flows"]
    assert len(flows) == 1
    reason = flows[0]["reasons"][0]
    return [reason["node"], reason["why"], flows[0]["effect"]]


def test_batch_keeps_rows_and_says_each_fault(oaktag: Run, sample: Path) -> None:
    head = "note,source,destination,family,protocol,source_port,destination_port\n"
    good = '"a, b",patrons,loans-1,4,tcp,50000,8443\n,kiosks,core-services,6,icmp,128,0\n'
    ran = oaktag("-C", sample, "decide", "--batch", "-", stdin=head + good)
    assert ran.out.splitlines()[1:] == [
        '"a, b",patrons,loans-1,4,tcp,50000,8443,deny,deny,matrix/10-shared.csv,11',
        ",kiosks,core-services,6,icmp,128,0,allow,allow,matrix/10-shared.csv,3",
    ]
    bad = ",patron,loans-1,4,tcp,1,2\n,patrons,loans-1,5,tcp,1,2\n,patrons,loans-1,4,tcp,1,70000\nx,y\n"
    ran = oaktag("-C", sample, "decide", "--batch", "-", stdin=head + good + bad)
    assert (ran.status, ran.out) == (2, "")
    assert [line.split(":")[1] for line in ran.err.splitlines()[:4]] == ["4", "5", "6", "7"]
    assert "perhaps patrons" in ran.err and "4 faults" in ran.err
    for odd, told in (("line", "is what this command writes"), ("source", "stands twice")):
        ran = oaktag("-C", sample, "decide", "--batch", "-", stdin=head.replace("note", odd) + good)
        assert (ran.status, ran.out) == (2, "") and told in ran.err, ran


@pytest.mark.parametrize(
    ("arguments", "status", "told"),
    [
        (["decide", "patron", "loans-db", "ssh"], 2, "perhaps patrons"),
        (["describe", "in-library"], 2, "is a set; ask for one of its groups"),
        (["decide", "patrons", "loans-db", "80,443"], 2, "without its protocol"),
        (["decide", "patrons", "loans-db", "icmp4/3", "--family", "6"], 2, "no packets of IPv6"),
        (["decide", "patrons"], 2, "SRC, DST and SERVICE"),
        (["decide", "--batch", "nowhere.csv"], 2, "cannot be read"),
        (["bindings", "--at", "hall-egde"], 2, "perhaps hall-edge"),
        (["bindings", "10.20.1"], 2, "no address"),
        (["members", "librarian"], 2, "perhaps librarians"),
        (["members", "--rule", "3"], 2, "there are 5, 7, 9"),
        (["members", "--when", "site"], 2, "is no condition"),
        (["members", "kiosks", "--withheld"], 2, "one question at a time"),
        (["members", "--against", "HEAD~99"], 2, "is no revision"),
        (["attributes", "modle"], 2, "perhaps model"),
        (["explain", "catalog"], 2, "perhaps catalogue"),
        (["explain", "hall-edge"], 2, "a node, no endpoint, address or tag; oaktag bindings --at"),
        (["explain", "hall-edge"], 2, "oaktag explain 10.20.200.1 what is known of its address"),
        (["explain", "hall-servers"], 2, "a segment, no endpoint, address or tag; oaktag reach"),
        (["explain", "10.20.200.1/24"], 2, "host bits"),
        (
            ["pin", "--write", "ivo", "--to", "kiosks"],
            2,
            "is pinned to network-desk already (assignments.yaml:",
        ),
        (["pin", "--write", "nobody", "--to", "kiosks"], 2, "is no group, set"),
        (["pin", "--write", "ada", "--to", "hall"], 2, "a pin gives one group"),
        (["pin", "--write", "ada", "--to", "kiosks", "--until", "June"], 2, "as in 2027-01-31"),
        (["unpin", "--write", "ada"], 2, "is not pinned"),
        (["rename", "--write", "patrons", "kiosks"], 2, "is there already"),
        (["rename", "--write", "patrons", "points"], 2, "a word of Oak Tag's own"),
        (["rename", "--write", "patron", "guests"], 2, "perhaps patrons"),
        (["compile", "--point", "hall"], 2, "there are hall-edge"),
        (["chekc"], 2, "perhaps check"),
        (["new", "."], 2, "not empty"),
        (["--today", "soon", "check"], 2, "is no day"),
        (["prove", "nowhere"], 1, "nowhere/hall-edge.nft is missing"),
    ],
)
def test_wrong_usage_is_one_clear_message(
    oaktag: Run, sample: Path, arguments: list[str], status: int, told: str
) -> None:
    ran = oaktag("-C", sample, *arguments)
    assert ran.status == status and told in ran.err + ran.out, ran
    assert "Traceback" not in ran.err


def test_prove_shows_the_packet_of_a_changed_list(oaktag: Run, sample: Path) -> None:
    oaktag("-C", sample, "compile", "--out", "held")
    held = sample / "held/hall-edge.nft"
    held.write_text(held.read_text().replace("tcp dport 443 accept", "tcp dport 443-444 accept"))
    ran = oaktag("-C", sample, "prove", "held", "--json")
    assert ran.status == 1
    found = ran.json["points"][0]["counterexample"]
    assert found["packet"]["destination_port"] == 444
    assert (found["listed"]["action"], found["matrix"]["action"]) == ("allow", "deny")


def test_numbers_are_written_and_all_else_is_kept(oaktag: Run, sample: Path) -> None:
    """Issued numbers: lowest free, not retired; comments and order stay to the byte."""
    path = sample / "groups.yaml"
    before = path.read_text()
    text = before.replace("{id: catalogue, tag: 510,", "{id: catalogue,  # the old one\n     ")
    text = text.replace("tag: issued 2001, ", "").replace(
        "sets:", "  # more to come\n  - id: makers\n    title: Makers\n\nsets:"
    )
    path.write_text(text)
    ran = oaktag("-C", sample, "groups", "--json")
    shown = {g["group"]: g["tag"] for g in ran.json["groups"]}
    assert (shown["wall-displays"], shown["catalogue"], shown["makers"]) == (2001, 2002, 2003)
    refused = oaktag("-C", sample, "compile")
    assert refused.status == 2 and "oaktag groups --number" in refused.err
    tried = oaktag("-C", sample, "groups", "--number")
    assert path.read_text() == text and "+    tag: issued 2003" in tried.out
    assert oaktag("-C", sample, "groups", "--number", "--write").status == 0
    after = path.read_text()
    for group, tag in (("wall-displays", 2001), ("catalogue", 2002)):
        after = after.replace(f"{{id: {group}, tag: issued {tag},", f"{{id: {group},")
    assert after.replace("id: makers\n    tag: issued 2003\n", "id: makers\n") == text
    assert oaktag("-C", sample, "groups", "--number", "--write", "--json").json["numbers"] == {}
    config = sample / "oaktag.yaml"
    config.write_text(config.read_text().replace("issue: 2000-2999", "issue: 2000-2003"))
    path.write_text(path.read_text().replace("sets:", "  - {id: last-one}\nsets:"))
    ran = oaktag("-C", sample, "groups", "--number", "--write")
    assert ran.status == 2 and "no free number for last-one" in ran.err


def test_files_of_the_sample_fit_their_schemas(sample: Path, oaktag: Run, tmp_path: Path) -> None:
    assert oaktag("-C", tmp_path, "new", "empty").status == 0
    for folder in (sample, tmp_path / "empty"):
        for path in sorted(folder.glob("*.yaml")):
            content = yaml.safe_load(path.read_text())
            jsonschema.validate(json.loads(json.dumps(content, default=str)), _schema(path.name))
        assert oaktag("-C", folder, "check").status == 0
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({"groups": [{"id": "a", "tagg": 1}]}, _schema("groups.yaml"))


def test_time_moves_lines_and_pins(oaktag: Run, sample: Path) -> None:
    """A line counts through its last day, a pin through its ``until``."""
    asked = ("decide", "patrons", "core-services", "ipp", "--json")
    for day, action in (("2027-12-31", "allow"), ("2028-01-01", "deny")):
        assert oaktag("--today", day, "-C", sample, *asked).json["action"] == action
    for day, group in (("2027-06-30", "network-desk"), ("2027-07-01", "librarians")):
        ran = oaktag("--today", day, "-C", sample, "members", group, "--json").json
        held = [e for e in ran["endpoints"] if e["endpoint"] == "ivo"]
        assert len(held) == 1
        assert [a["line"] for a in held[0]["also"]] == ([13] if group == "network-desk" else [])


def test_the_public_face(sample: Path) -> None:
    """The names that others may rely on, and documents as DataFrames."""
    assert len(package.__all__) <= 30
    assert all(getattr(package, name) is not None for name in package.__all__)
    workspace = package.Workspace.load(sample)
    frame = workspace.frame(workspace.members())
    assert len(frame) == 40 and set(frame["group"]) == {
        "untagged", *(g.id for g in workspace.model.groups.all[1:]),
    }  # fmt: skip
    assert workspace.frame(workspace.check())["code"].tolist() == ["OT203", "OT204"]
    with pytest.raises(package.UsageError, match="no workspace"):
        package.Workspace.load(sample / "matrix")


def test_help_names_every_command(oaktag: Run) -> None:
    ran = oaktag("--help")
    assert ran.status == 0
    for name in ("new", "decide", "prove", "lab"):
        assert f"\n  {name}" in ran.out
        assert oaktag(name, "--help").status == 0


def test_demo_walks_without_a_lab_and_touches_nothing_changed(oaktag: Run, tmp_path: Path) -> None:
    ran = oaktag("-C", tmp_path, "demo", "--no-lab")
    assert ran.status == 0
    for told in ("$ oaktag -C quillmere expect", "What is wrong in the sample", "nothing found"):
        assert told in ran.out
    assert oaktag("-C", tmp_path, "demo", "--no-lab").status == 0
    shown = oaktag("-C", tmp_path, "demo", "--no-lab", "--json").json
    jsonschema.validate(shown, _schema("demo"))
    assert {f["command"] for f in shown["found"]} == {"check", "review", "expect", "reach"}
    (tmp_path / "quillmere/groups.yaml").write_text("groups: []\n")
    ran = oaktag("-C", tmp_path, "demo", "--no-lab")
    assert ran.status == 2 and "was changed" in ran.err
    shutil.rmtree(tmp_path / "quillmere")
    assert set(sample_texts()) >= set(sample_texts(mended=True)) and sample_texts() != sample_texts(
        mended=True
    )
