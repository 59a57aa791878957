"""What nodes report against what is intended: each difference is told, with what it does."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import jsonschema
import pytest

import oaktag as package
from conftest import Ran
from networks import random_net, write_net
from sizes import scaled
from test_commands import _schema

Run = Callable[..., Ran]


def _reports(workspace: package.Workspace, folder: Path) -> dict[str, dict[str, Any]]:
    """What every node would report if all were as intended, lists as files beside."""
    lists = {p["point"]: p for p in workspace.compile(folder / "compiled")["points"]}
    reports: dict[str, dict[str, Any]] = {}
    model = workspace.model
    for node in model.network.nodes.values():
        held = workspace.bindings(node.name)["bindings"]
        reports[node.name] = {
            "form": 1, "node": node.name, "at": "2026-11-25T08:00:00Z",
            "bindings": [{k: b[k] for k in ("prefix", "tag", "source")} for b in held],
            "points": [
                {"point": p.id, "mode": p.mode, "sha256": lists[p.id]["sha256"]}
                for p in node.points
            ],
            "feeds": [
                {"feed": f.name, "state": "up"}
                for f in model.network.feeds if f.receiver == node.name
            ],
            "groups": {str(g.tag): g.id for g in model.groups.all[1:]},
        }  # fmt: skip
    return reports


def _write(reports: dict[str, dict[str, Any]], folder: Path) -> Path:
    folder.mkdir(exist_ok=True)
    for name, report in reports.items():
        (folder / f"{name}.json").write_text(json.dumps(report))
    return folder


@pytest.fixture
def reports(shipped_mended: Path) -> dict[str, dict[str, Any]]:
    return _reports(package.Workspace.load(shipped_mended), shipped_mended)


def test_what_is_as_intended_does_not_drift(
    oaktag: Run, shipped_mended: Path, reports: dict[str, dict[str, Any]]
) -> None:
    _write(reports, shipped_mended / "observed")
    ran = oaktag("-C", shipped_mended, "drift")
    assert (ran.status, ran.out) == (0, "all that is reported is as intended\n")
    said = oaktag("-C", shipped_mended, "reach", "--observed", "observed", "--json")
    intended = oaktag("-C", shipped_mended, "reach", "--json")
    assert (said.status, said.json["summary"]) == (0, intended.json["summary"])


def _lose(held: list[dict[str, Any]], prefix: str) -> None:
    held[:] = [b for b in held if not b["prefix"].startswith(prefix)]


CASES: list[tuple[str, Callable[[dict[str, Any]], object], str, str, str | None]] = [
    ("hall-edge", lambda r: _lose(r["bindings"], "10.20.1.11/"), "missing", "10.20.1.11/32", None),
    ("hall-edge", lambda r: r["bindings"].append({"prefix": "10.20.5.9/32", "tag": 310, "source": "session"}), "extra", "10.20.5.9/32", None),
    ("hall-edge", lambda r: [b.update(tag=340) for b in r["bindings"] if b["prefix"] == "10.20.2.101/32"], "wrong tag", "10.20.2.101/32", None),
    ("hall-edge", lambda r: _lose(r["bindings"], "10.20.201."), "missing", "10.20.201.11/32", "breaks"),
    ("hall-edge", lambda r: [b.update(tag=310) for b in r["bindings"] if b["tag"] == 2001], "wrong tag", "10.20.12.41/32", "leaks"),
    ("hall-edge", lambda r: r["points"][0].update(mode="observe"), "other mode", "hall-edge", "leaks"),
    ("county-exit", lambda r: r["points"][0].update(sha256="0" * 64), "other list", "county-exit", None),
    ("hall-edge", lambda r: r["feeds"][0].update(state="down"), "feed down", "registry>hall-edge", None),
    ("carrier", lambda r: r["groups"].update({"310": "readers"}), "named differently", "310", None),
]  # fmt: skip


@pytest.mark.parametrize(("node", "change", "what", "about", "does"), CASES)
def test_each_drift_is_told(
    oaktag: Run, shipped_mended: Path, reports: dict[str, dict[str, Any]],
    node: str, change: Callable[[dict[str, Any]], object], what: str, about: str, does: str | None,
) -> None:  # fmt: skip
    change(reports[node])
    _write({node: reports[node]}, shipped_mended / "observed")
    ran = oaktag("-C", shipped_mended, "drift", "--json")
    assert ran.status == 1
    jsonschema.validate(ran.json, _schema("drift"))
    (row,) = ran.json["drift"]
    assert row["node"] == node
    assert {d["what"] for d in row["differences"]} == {what}
    assert about in {d["about"] for d in row["differences"]}
    if does is not None:
        assert row[does] > 0 and row["example"]
        reach = oaktag("-C", shipped_mended, "reach", "--observed", "observed", "--json").json
        effects = reach["summary"]["effects"]
        assert (effects.get("leak", 0), effects.get("break", 0)) >= (row["leaks"], 0)
        assert effects.get({"leaks": "leak", "breaks": "break"}[does], 0) >= row[does]
    told = oaktag("-C", shipped_mended, "drift").out
    assert f"   {what}" in told and "no report from" in told


def test_a_list_that_is_held_is_what_acts(
    oaktag: Run, shipped_mended: Path, reports: dict[str, dict[str, Any]]
) -> None:
    """The text of an older list beside the report: reach acts by it, not by what was compiled."""
    older = (shipped_mended / "compiled/hall-edge.nft").read_text()
    with_more = shipped_mended / "matrix/20-reading.csv"
    before = with_more.read_text()
    with_more.write_text(before + "tablets,archive,read-scans,enforce,to,,,\n")
    folder = _write({"hall-edge": reports["hall-edge"]}, shipped_mended / "observed")
    (folder / "held.nft").write_text(older)
    report = json.loads((folder / "hall-edge.json").read_text())
    report["points"] = [{"point": "hall-edge", "list": "held.nft"}]
    (folder / "hall-edge.json").write_text(json.dumps(report))
    reach = oaktag(
        "-C", shipped_mended, "reach", "--observed", "observed", "--to", "archive", "--json"
    ).json
    wrong = {(f["source"]["group"], f["effect"]) for f in reach["flows"] if f["effect"] != "exact"}
    assert wrong == {("tablets", "break")}
    (row,) = oaktag("-C", shipped_mended, "drift", "--json").json["drift"]
    assert [d["what"] for d in row["differences"]] == ["other list"] and row["breaks"] > 0


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("{", "this is not JSON"), ("[]", "this is no report"), ("\xff", "not UTF-8"),
        ('{"form": 1, "node": "hall-egde"}', "there is no node"),
        ('{"form": 1, "node": "hall-edge", "colour": 1}', "no key 'colour'"),
        ('{"form": 1, "node": "hall-edge", "bindings": [{"prefix": "10.0.0.1/8", "tag": 1}]}', "host bits"),
        ('{"form": 1, "node": "hall-edge", "bindings": [{"prefix": "10.0.0.1", "tag": "x"}]}', "no tag"),
        ('{"form": 1, "node": "hall-edge", "points": [{"point": "hall-edge", "list": "no.nft"}]}', "cannot be read"),
        ('{"form": 1, "node": "hall-edge", "feeds": [{"feed": "a"}]}', "a feed without"),
        ('{"form": 1, "node": "hall-edge", "groups": []}', "no table"),
        ('{"form": 1, "node": "hall-edge", "node": "hall-edge"}', "the key 'node' stands 2 times"),
        ('{"form": 1, "node": "hall-edge", "groups": {"1": "a", "1": "b"}}', "the key '1' stands 2 times"),
        ('{"form": 1, "node": "hall-edge", "groups": {"1": 2}}', "no table"),
        ('{"form": 1, "node": "hall-edge", "groups": {"111111": "a"}}', "no table"),
        ('{"form": 1, "node": "hall-edge", "feeds": [{"feed": "a", "state": "up", "x": 1}]}', "no key 'x'"),
        ('{"form": 1, "node": "hall-edge", "points": [{"point": "hall-edge", "colour": 1}]}', "no key 'colour'"),
        ('{"form": 1, "node": "hall-edge", "points": [{"point": "hall-edge", "sha256": "AB"}]}', "the sha256"),
        ('{"form": 1, "node": "hall-edge", "bindings": [{"prefix": "10.0.0.1", "tag": true}]}', "no tag"),
        ('{"form": 1, "node": "hall-edge", "bindings": [{"prefix": "10.0.0.1", "tag": 1e5}]}', "no tag"),
        ('{"form": 1, "node": "hall-edge", "counters": [{"point": "x", "source": 1, "destination": 2, "packets": -1}]}', "a counter without"),
        ('{"form": 1, "node": "hall-edge", "at": "yesterday"}', "at is 'yesterday'"),
        ('{"form": 1, "node": "hall-edge", "at": ' + "[" * 100_000, "nested too deep"),
        ('{"form": 1, "node": ' + "9" * 5000 + "}", "beyond measure"),
    ],
)  # fmt: skip
def test_reports_that_are_none(oaktag: Run, shipped_mended: Path, text: str, told: str) -> None:
    folder = shipped_mended / "observed"
    folder.mkdir()
    (folder / "x.json").write_bytes(text.encode("latin-1"))
    for command in (["drift"], ["reach", "--observed", "observed"])[: 2 - (len(text) > 200)]:
        ran = oaktag("-C", shipped_mended, *command)
        assert ran.status == 2 and told in ran.err and "Traceback" not in ran.err, ran
    assert oaktag("-C", shipped_mended, "drift", "nowhere").status == 2


def test_a_hash_that_is_not_of_its_list(
    oaktag: Run, shipped_mended: Path, reports: dict[str, dict[str, Any]]
) -> None:
    folder = shipped_mended / "observed"
    point = reports["hall-edge"]["points"][0]
    point["list"] = "hall-edge.nft"
    _write(reports, folder)
    text = (shipped_mended / "compiled/hall-edge.nft").read_bytes()
    (folder / "hall-edge.nft").write_bytes(text)
    assert oaktag("-C", shipped_mended, "drift").status == 0
    (folder / "hall-edge.nft").write_bytes(text + b"\n")
    ran = oaktag("-C", shipped_mended, "drift")
    assert ran.status == 2 and "the sha256 of hall-edge is not that of 'hall-edge.nft'" in ran.err


@pytest.mark.parametrize("seed", range(scaled(10)))
def test_a_network_that_reports_what_is_intended_fares_as_intended(
    seed: int, tmp_path: Path, oaktag: Run
) -> None:
    """Random networks, each node telling its bindings and each point the text of its list: reach
    over the reports is reach over the files, row by row, stateless points too. Then one node has
    forgotten all that it knew."""
    net = random_net(seed)
    for node in net.nodes:
        node["points"] = [p for p in node["points"] if p.get("mode") != "off"][:1]
    workspace = write_net(net, tmp_path)
    reports = _reports(workspace, tmp_path)
    folder = tmp_path / "observed"
    for node in net.nodes:
        for point, held in zip(node["points"], reports[node["node"]]["points"], strict=True):
            name = f"{node['node']}.nft"
            held.pop("sha256")
            held["list"] = name
            text = (tmp_path / "compiled" / f"{node['node']}.{point['name']}.nft").read_text()
            folder.mkdir(exist_ok=True)
            (folder / name).write_text(text)
    down = {f["name"] for f in net.feeds if f.get("state") == "down"}
    for report in reports.values():
        report["feeds"] = [f for f in report["feeds"] if f["feed"] not in down]
    _write(reports, folder)
    intended = workspace.reach()
    observed = workspace.reach(observed=folder)
    assert observed["summary"]["effects"] == intended["summary"]["effects"]
    key = ("source", "destination", "path", "links", "result", "at", "reasons", "effect")
    for told, meant in zip(observed["flows"], intended["flows"], strict=True):
        assert [told[k] for k in key] == [meant[k] for k in key]
        assert told["packets_text"] == meant["packets_text"]
    ran = oaktag("-C", tmp_path, "drift")
    assert (ran.status, ran.out) == (0, "all that is reported is as intended\n")
    node = next(n for n in net.nodes if n["points"])
    reports[node["node"]]["bindings"] = []
    _write(reports, folder)
    forgot = workspace.reach(observed=folder)["summary"]["effects"]
    if workspace.bindings(node["node"])["bindings"]:
        (row,) = oaktag("-C", tmp_path, "drift", "--json").json["drift"]
        assert row["node"] == node["node"]
        assert {d["what"] for d in row["differences"]} == {"missing"}
        worse = sum(forgot.get(e, 0) for e in ("leak", "break"))
        before = sum(intended["summary"]["effects"].get(e, 0) for e in ("leak", "break"))
        assert (row["leaks"] + row["breaks"] > 0) or worse <= before
