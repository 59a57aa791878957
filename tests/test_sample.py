"""The sample that ships: each command says what is true of it; the mended one has nothing to find."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from pathlib import Path

import jsonschema

import oaktag as package
from conftest import Ran
from test_commands import _schema

Run = Callable[..., Ran]

#: Arguments → exit status, and what a person must find in the output.
TABLE = [
    (["check"], 0, ["OT203", "people.ldif:385", "known more surely", "OT204", "cellar", "7 warnings"]),
    (["groups"], 0, ["e-books          610", "18 groups; 6 endpoints in none"]),
    (["members"], 0, ["5 users", "207 endpoints, 6 in no group"]),
    (["members", "volunteers"], 0, ["member_of: volunteers", "16 endpoints, 16 of them"]),
    (["members", "--unassigned"], 0, ["tablets, but for model, known too unsurely"]),
    (["members", "--uncertain"], 0, ["02:00:5e:30:00:13  untagged  tablets", "1 endpoint moved"]),
    (["members", "--when", "session.medium=radio, kind=user"], 0, ["jens", "elin", "4 endpoints"]),
    (["members", "--withheld"], 0, ["its address is leased and no session is known"]),
    (["attributes", "--like", "desk-"], 0, ["desk-bookmobile", "member_of"]),
    (["explain", "zoe"], 0, ["Zoë Nook", "reading-services", "10.20.40.12"]),
    (["explain", "print-2"], 0, ["core-services", "inventory/corrections.csv"]),
    (["explain", "10.20.2.140"], 0, ["of 02:00:5e:20:00:03", "patrons"]),
    (["explain", "203.0.113.129"], 0, ["203.0.113.128/28", "e-books"]),
    (["explain", "203.0.113.7"], 0, ["203.0.113.0/24", "internet"]),
    (["bindings", "--at", "colmere-access"], 0, ["session"]),
    (["matrix"], 0, ["e-books", "19 e-books"]),
    (["decide", "ada", "lend-e-books", "https"], 0, ["allow", "librarians → e-books"]),
    (["review"], 0, ["OT301", "OT302", "OT306", "6 warnings"]),
    (["expect"], 1, ["11 of 14 hold"]),
    (["reach"], 1, ["hall-edge does not know", "no point on the path"]),
    (["reach", "--by", "point"], 1, ["no point on the path   120      0", "hall-edge                2     83"]),
    (["reach", "--by", "cell", "--to", "catalogue"], 1, ["wall-displays  catalogue     2"]),
    (["reach", "--by", "endpoint", "--to", "catalogue"], 1, ["leak from", "break to"]),
    (["reach", "--by", "segment"], 1, ["ashgrove-desks   ashgrove-desks"]),
    (["compile"], 0, ["county-exit", "hall-edge"]),
    (["prove"], 0, ["2 of 2 equal"]),
]  # fmt: skip


def test_every_command_on_what_ships(oaktag: Run, shipped: Path) -> None:
    for arguments, status, told in TABLE:
        ran = oaktag("-C", shipped, *arguments)
        assert ran.status == status, (arguments, ran)
        assert [t for t in told if t not in ran.out] == [], (arguments, ran.out)
        assert all(len(line) <= 100 for line in ran.out.splitlines()), ran.out
        document = oaktag("-C", shipped, *arguments, "--json").json
        jsonschema.validate(document, _schema(document["command"]))


def test_a_failed_expectation_says_which_way_the_packet_went(oaktag: Run, shipped: Path) -> None:
    """Nobody knows the tags of ashgrove-public: what is denied passes, what is allowed is dropped."""
    rows = oaktag("-C", shipped, "expect", "--json").json["expectations"]
    wrong = [r["counterexample"] for r in rows if not r["holds"]][1:]
    assert [(e["action"], e["text"].rpartition(" is ")[2]) for e in wrong] == [
        ("allow", "let through, though denied"),
        ("deny", "dropped, though allowed"),
    ]


def test_its_size_is_as_told(shipped: Path) -> None:
    model = package.Workspace.load(shipped).model
    endpoints = model.files.endpoints
    kinds = Counter(str(endpoints.value(row, "kind")[0]) for row in range(len(endpoints)))
    assert kinds == {"user": 60, "device": 120, "server": 25, "network": 2}
    sessions = model.files.inventory.sessions
    assert (len(sessions), {s.address.family for s in sessions}) == (40, {4, 6})
    assert sum(model.assignment.group[s.endpoint] < 0 for s in sessions) == 2
    assert (len(model.groups) - 1, len(model.network.segments)) == (18, 16)


def test_nothing_is_found_on_what_is_mended(oaktag: Run, shipped_mended: Path) -> None:
    for command in ("check", "review"):
        ran = oaktag("-C", shipped_mended, command, "--fail-on", "note")
        assert (ran.status, ran.out) == (0, "nothing found\n")
    assert oaktag("-C", shipped_mended, "expect").status == 0
    reach = oaktag("-C", shipped_mended, "reach", "--json")
    assert (reach.status, set(reach.json["summary"]["effects"])) == (0, {"exact"})
    assert reach.json["unplaced"] == []
