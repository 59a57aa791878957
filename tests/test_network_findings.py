"""Findings about the network: each planted on what is sound, found, and true."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest
from hypothesis import given, settings

import oaktag as package
from conftest import Ran
from oaktag.testing.slow_reach import Net
from test_commands import _schema
from test_reach import nets, write_net

Run = Callable[..., Ran]

PLANTED = [
    ("network.yaml", "carrier, carries: false}", "carrier, carries: false, marks: true}", {"OT401"}),
    ("network.yaml", "  - {from: registry, to: hall-edge}", "  - {from: registry, to: hall-edge, only: {groups: [internet, hall]}}", {"OT402"}),
    ("network.yaml", "segments:\n", "  - {node: spare, point: {}}\n\nsegments:\n", {"OT403"}),
    ("assignments.yaml", "pins:\n", "pins:\n  - {prefix: 10.20.1.11, group: kiosks, at: hall-edge}\n", {"OT404"}),
    ("network.yaml", "feeds:\n", "  - {between: [central-core, provider], cost: 11}\n\nfeeds:\n", {"OT405", "OT406"}),
    ("network.yaml", "      stateful: true\n", "      stateful: false\n", set()),
    ("matrix/10-shared.csv", "patrons,itself,nothing,observe", "patrons,itself,nothing,enforce", set()),
]  # fmt: skip


@pytest.mark.parametrize(("name", "old", "new", "codes"), PLANTED)
def test_each_planted_mistake_of_the_network_is_found(
    oaktag: Run, shipped_mended: Path, name: str, old: str, new: str, codes: set[str]
) -> None:
    path = shipped_mended / name
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new, 1))
    ran = oaktag("-C", shipped_mended, "check", "--json")
    jsonschema.validate(ran.json, _schema("check"))
    assert {f["code"] for f in ran.json["findings"]} == codes
    review = oaktag("-C", shipped_mended, "review", "--json").json["findings"]
    isolated = name.startswith("matrix")
    assert [f["code"] for f in review] == ["OT311"] * isolated


def test_a_stateless_point_that_lacks_the_cell_of_answers(
    oaktag: Run, shipped_mended: Path
) -> None:
    path = shipped_mended / "network.yaml"
    text = path.read_text().replace("stateful: true", "stateful: false")
    path.write_text(text.replace("scope: all\n      outside: allow",
                                 "scope: {destinations: [hall, untagged]}\n      outside: deny"))  # fmt: skip
    found = oaktag("-C", shipped_mended, "check", "--json").json["findings"]
    assert [f["code"] for f in found] == ["OT407"]
    traced = oaktag(
        "-C", shipped_mended, "trace", "ada", "loans-1", "loans-api", "--return", "--json"
    )
    back = [a for p in traced.json["paths"] for a in p["answers"]]
    assert back and not any(a["arrives"] for a in back)
    assert {a["hops"][-1]["node"] for a in back} == {"hall-edge"}


@settings(max_examples=30)
@given(net=nets())
def test_dropped_answers_are_dropped_in_a_trace(net: Net, tmp_path: Path) -> None:
    """Where no finding speaks of answers, every answer of a traced flow arrives."""
    workspace = write_net(net, tmp_path)
    codes = {f["code"] for f in workspace.check()["findings"]}
    names = [b.name for b in net.beings]
    for a in names:
        for b in names:
            try:
                traced = workspace.trace(f"endpoint:{a}", f"endpoint:{b}", "https", back=True)
            except package.UsageError:
                continue
            for path in traced["paths"]:
                if path["effect"] == "exact":
                    arrive = all(x["arrives"] for x in path["answers"])
                    assert arrive or codes & {"OT406", "OT407"}, (a, b, codes)


def test_where_bindings_come_by_and_where_they_stop(
    oaktag: Run, shipped: Path, shipped_mended: Path
) -> None:
    held = oaktag("-C", shipped, "bindings", "--at", "hall-edge", "--json").json
    jsonschema.validate(held, _schema("bindings"))
    model = package.Workspace.load(shipped).model
    feeds = {f.name: f for f in model.network.feeds}
    for row in held["bindings"]:
        senders = [feeds[name].sender for name in row["via"]]
        receivers = [feeds[name].receiver for name in row["via"]]
        assert [row["from"], *receivers] == [*senders, "hall-edge"]
    ran = oaktag("-C", shipped, "bindings", "--missing", "hall-edge", "--json")
    jsonschema.validate(ran.json, _schema("bindings"))
    assert {r["segment"] for r in ran.json["missing"]} == {"ashgrove-public"}
    assert all("no feed leads from there to hall-edge" in r["stopped"] for r in ran.json["missing"])
    for node in ("hall-edge", "county-exit", "central-access"):
        told = oaktag("-C", shipped_mended, "bindings", "--missing", node)
        assert told.out == f"0 addresses that {node} should know otherwise\n"
    network = shipped_mended / "network.yaml"
    for only, said in (("state: down", "is down"), ("only: {groups: [kiosks]}", "keeps it back")):
        text = network.read_text()
        feed = "{from: ashgrove-access, to: hall-edge}"
        network.write_text(text.replace(feed, f"{feed[:-1]}, {only}}}"))
        ran = oaktag("-C", shipped_mended, "bindings", "--missing", "hall-edge", "--json")
        network.write_text(text)
        assert ran.json["missing"] and all(said in r["stopped"] for r in ran.json["missing"])
    ran = oaktag("-C", shipped, "bindings", "--feed", "ashgrove-access>county-exit", "--json")
    jsonschema.validate(ran.json, _schema("bindings"))
    assert {r["said"] for r in ran.json["ends"]} == {"the same at both ends", "not relayed"}
    assert oaktag("-C", shipped, "bindings", "--feed", "x").status == 2
