"""Small workspaces that tell a right reading of one rule from a wrong one, worked out by hand."""

from __future__ import annotations

import itertools
import json
import re
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

import oaktag as package
from conftest import Ran
from kernel_oracle import UNJUDGED, Question, ask
from oaktag.core import mending
from oaktag.core.accesslist import PassBetween
from oaktag.core.acting import act
from oaktag.core.addresses import Range
from oaktag.core.packets import Packet
from oaktag.dialects.nftables import table_name
from oaktag.dialects.nftables_live import refill
from oaktag.operations.lists import list_of, list_text
from oaktag.workspace.edits import write_all
from oaktag.workspace.lock import OWN

Run = Callable[..., Ran]
GROUPS = [{"id": n, "tag": 100 + i} for i, n in enumerate("abc", 1)]
PERMISSIONS = {
    "web": [{"allow": "443/tcp"}], "shell": [{"allow": "22/tcp"}], "nothing": [{"deny": "any"}],
    "onward": [{"pass": "any"}], "all": [{"allow": "any"}],
}  # fmt: skip
HEAD = "source,destination,permission,mode,way,expires,owner,note\n"


def build(folder: Path, lines: str = "", network: Any = None, **files: Any) -> Path:
    """A workspace of three groups with a server each, ``a-1`` at 10.1.0.1 and so on."""
    rows = [f"{n}-1,10.{i}.0.1,{n}" for i, n in enumerate("abc", 1)]
    layers = [HEAD + part for part in lines.split("---\n")]
    names = [f"matrix/{n}.csv" for n in range(len(layers))]
    held: dict[str, Any] = {
        "oaktag.yaml": {
            "workspace": "corner", "layers": names,
            "sources": [{"file": "servers.csv", "kind": "server", "id": "name", "address": "ip"}],
        },
        "groups.yaml": {"groups": GROUPS, "sets": {"front": ["a", "b"], "back": ["b", "c"]}},
        "permissions.yaml": {"permissions": PERMISSIONS},
        "assignments.yaml": {"rules": [{"give": n, "when": {"role": n}} for n in "abc"]},
        "servers.csv": "\n".join(["name,ip,role", *rows]) + "\n",
        **dict(zip(names, layers, strict=True)),
    }  # fmt: skip
    if network is not None:
        held["network.yaml"] = network
    for name, content in files.items():
        path = name.replace("__", "/").replace("_yaml", ".yaml").replace("_csv", ".csv")
        held[path.replace("_ldif", ".ldif").replace("_jsonl", ".jsonl")] = content
    for name, content in held.items():
        if isinstance(content, dict) and isinstance(held.get(name), dict) and name == "oaktag.yaml":
            content = {**content, **files.get("config", {})}
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        text = content if isinstance(content, str) else json.dumps(content)
        if name != "config":
            (folder / name).write_text(text, encoding="utf-8")
    return folder


def net(*nodes: dict[str, Any], links: Any = (), feeds: Any = (), where: str = "") -> Any:
    """Nodes, of which the segments of a, b and c are on those that ``where`` names (or the last)."""
    names = where.split() or [nodes[-1]["node"]] * 3
    return {
        "nodes": list(nodes),
        "segments": [
            {"segment": f"s{n}", "node": node, "prefixes": [f"10.{i}.0.0/24"]}
            for i, (n, node) in enumerate(zip("abc", names, strict=True), 1)
        ],
        "links": [k if isinstance(k, dict) else {"between": list(k)} for k in links],
        "feeds": [
            f if isinstance(f, dict) else dict(zip(("from", "to"), f, strict=True)) for f in feeds
        ],
    }


# -- assignment and the matrix -------------------------------------------------------------------


def test_confidence_counts_from_its_limit_on_and_in_later_rules_too(
    tmp_path: Path, oaktag: Run
) -> None:
    rules: list[Any] = [
        {"give": "a", "when": {"role": "a"}, "min_confidence": 0.8},
        {"give": "b", "when": {"role": "a"}, "min_confidence": 0.9},
        {"give": "c", "when": {"role": "a"}, "min_confidence": 0.7},
    ]
    table = "name,ip,role,role.confidence\nx,10.1.0.1,a,0.8\ny,10.1.0.2,a,0.75\n"
    build(tmp_path, assignments_yaml={"rules": rules}, servers_csv=table)
    said = {
        r["endpoint"]: r
        for r in oaktag("-C", tmp_path, "members", "--all", "--json").json["endpoints"]
    }
    assert (said["x"]["group"], [r["group"] for r in said["x"]["also"]]) == ("a", ["c"])
    assert (said["y"]["group"], said["y"]["also"]) == ("c", [])


def test_what_a_layer_passes_on_goes_by_the_next_layer_of_its_own_cell(
    tmp_path: Path, oaktag: Run
) -> None:
    """Both cells are alike in the first layer; only behind it do they differ."""
    build(tmp_path, "a,back,onward,,,,,\na,*,nothing,,,,,\n---\na,b,shell,,,,,\na,c,web,,,,,\n")
    asked = [("b", "22/tcp"), ("b", "443/tcp"), ("c", "22/tcp"), ("c", "443/tcp")]
    said = [oaktag("-C", tmp_path, "decide", "a", d, s, "--json").json["action"] for d, s in asked]
    assert said == ["allow", "deny", "deny", "allow"]
    for cell, service in (("b", "22"), ("c", "443")):  # the painted cells say so too
        (tmp_path / "expectations.yaml").write_text(
            f"- {{from: a, to: {cell}, allowed: [{service}/tcp], exactly: true}}\n"
        )
        assert oaktag("-C", tmp_path, "expect").status == 0, cell


def test_a_line_both_ways_between_one_word_has_no_mirror(tmp_path: Path, oaktag: Run) -> None:
    build(tmp_path, "front,front,web,,both,,,\na,c,web,,both,,,\n")
    for cell, count in ((("a", "b"), 1), (("b", "a"), 1), (("c", "a"), 1)):
        assert len(oaktag("-C", tmp_path, "cell", *cell, "--json").json["lines"]) == count


def test_revoking_one_way_of_a_line_leaves_the_other(tmp_path: Path, oaktag: Run) -> None:
    build(tmp_path, "a,b,web,,both,,,\n")
    assert oaktag("-C", tmp_path, "revoke", "a", "b", "443/tcp", "--write").status == 0
    said = [
        oaktag("-C", tmp_path, "decide", *ends, "443/tcp", "--json").json["action"]
        for ends in (("a", "b"), ("b", "a"))
    ]
    assert said == ["deny", "allow"]


# -- who knows what ------------------------------------------------------------------------------


def test_only_passes_a_prefix_to_its_last_address(tmp_path: Path, oaktag: Run) -> None:
    table = "name,ip,role\n" + "".join(f"x{n},10.1.0.{n},a\n" for n in range(3, 9))
    feeds: list[Any] = [{"from": "registry", "to": "n", "only": {"prefixes": ["10.1.0.4/30"]}}]
    build(tmp_path, network=net({"node": "n"}, feeds=feeds), servers_csv=table)
    rows = oaktag("-C", tmp_path, "bindings", "--at", "n", "--json").json["bindings"]
    assert [r["prefix"] for r in rows] == [f"10.1.0.{n}/32" for n in range(4, 8)]


def test_feeds_go_on_where_the_node_between_relays(tmp_path: Path, oaktag: Run) -> None:
    nodes: list[dict[str, Any]] = [
        {"node": "r", "relays": True},
        {"node": "s"},
        {"node": "x"},
        {"node": "y"},
    ]
    feeds: list[Any] = [("registry", "r"), ("registry", "s"), ("r", "x"), ("s", "y")]
    build(tmp_path, network=net(*nodes, feeds=feeds))
    at_x = oaktag("-C", tmp_path, "bindings", "--at", "x", "--json").json["bindings"]
    assert [r["via"] for r in at_x] == [["registry>r", "r>x"]] * 3
    assert oaktag("-C", tmp_path, "bindings", "--at", "y", "--json").json["bindings"] == []
    found = oaktag("-C", tmp_path, "check", "--json").json["findings"]
    # No node has a point or marks, so nothing of the network is looked at.
    assert not [f for f in found if f["code"].startswith("OT4")]
    nodes[2]["point"] = {}
    build(tmp_path, network=net(*nodes, feeds=feeds))
    said = oaktag("-C", tmp_path, "check", "--json").json["findings"]
    (idle,) = [f for f in said if f["code"] == "OT409"]
    assert "s>y brings nothing" in idle["message"] and "does not relay" in idle["message"]


def test_two_feeds_between_the_same_ends_are_two(tmp_path: Path, oaktag: Run) -> None:
    feeds: list[Any] = [
        {"from": "registry", "to": "n", "only": {"groups": ["a"]}},
        {"from": "registry", "to": "n", "only": {"groups": ["b"]}},
    ]
    build(tmp_path, network=net({"node": "n", "point": {"inside": True}}, feeds=feeds))
    for name, prefixes in (("registry>n", ["10.1.0.1/32"]), ("registry>n#2", ["10.2.0.1/32"])):
        rows = oaktag("-C", tmp_path, "bindings", "--feed", name, "--json").json["ends"]
        assert [r["prefix"] for r in rows if r["said"].startswith("the same")] == prefixes
    lost = oaktag("-C", tmp_path, "reach", "--failures", "--json").json["failures"]
    assert [f["name"] for f in lost if f["kind"] == "feed"].count("registry>n#2") == 1


def test_what_begins_tomorrow_does_not_count_today(tmp_path: Path, oaktag: Run) -> None:
    build(
        tmp_path,
        network=net({"node": "n"}),
        config={"sessions": "seen.csv"},
        servers_csv="name,ip,role\nx,,a\n",
        seen_csv="endpoint,address,since\nx,10.1.0.7,2026-03-01T10:00:00Z\nx,10.1.0.8,2026-03-02T10:00:00Z\n",
        assignments_yaml={
            "pins": [{"prefix": "10.2.0.0/24", "group": "b", "since": "2026-03-02"}],
            "rules": [{"give": "a", "when": {"role": "a"}}],
        },
    )  # fmt: skip
    for day, prefixes in (
        ("2026-02-28", []),
        ("2026-03-01", ["10.1.0.7/32"]),
        ("2026-03-02", ["10.1.0.7/32", "10.1.0.8/32", "10.2.0.0/24"]),
    ):
        rows = oaktag("-C", tmp_path, "--today", day, "bindings", "--json").json["bindings"]
        assert [r["prefix"] for r in rows] == prefixes, day


# -- reach ---------------------------------------------------------------------------------------

ENDS = ("source", "destination")


def rows_of(document: dict[str, Any]) -> dict[tuple[str, str], dict[str, Any]]:
    return {(f["source"]["group"], f["destination"]["group"]): f for f in document["flows"]}


def test_of_several_that_enforce_the_latest_is_named(tmp_path: Path, oaktag: Run) -> None:
    """Of two of a the first point knows one alone: the row is enforced where both are known."""
    table = "name,ip,role\na-1,10.1.0.1,a\na-2,10.1.0.2,a\nb-1,10.2.0.1,b\n"
    nodes: list[dict[str, Any]] = [
        {"node": "m"},
        {"node": "p", "point": {}},
        {"node": "q", "point": {}},
        {"node": "z"},
    ]
    feeds: list[Any] = [
        {"from": "registry", "to": "p", "only": {"prefixes": ["10.1.0.1/32", "10.2.0.0/16"]}},
        ("registry", "q"),
    ]
    links: list[Any] = [("m", "p"), ("p", "q"), ("q", "z")]
    build(
        tmp_path,
        "a,b,all,,,,,\nuntagged,b,all,,,,,\n",
        network=net(*nodes, links=links, feeds=feeds, where="m z z"),
        servers_csv=table,
    )
    row = rows_of(oaktag("-C", tmp_path, "reach", "--from", "a", "--to", "b", "--json").json)[
        "a", "b"
    ]
    assert (row["result"], row["at"], row["effect"]) == ("enforced", "q", "exact")
    alone = oaktag("-C", tmp_path, "reach", "--from", "a-1", "--to", "b", "--json").json["flows"]
    assert [f["at"] for f in alone] == ["p"]


@pytest.mark.parametrize(("stages", "rows"), [(6, 64), (7, 1)])
def test_up_to_64_equal_paths_are_rows_of_their_own(
    stages: int, rows: int, tmp_path: Path, oaktag: Run
) -> None:
    nodes: list[dict[str, Any]] = [{"node": f"n{n}"} for n in range(stages + 1)]
    links: list[Any] = [
        {"between": [f"n{n}", f"n{n + 1}"], "name": f"k{n}{x}"} for n in range(stages) for x in "xy"
    ]
    build(tmp_path, network=net(*nodes, links=links, where=f"n0 n{stages} n{stages}"))
    flows = oaktag("-C", tmp_path, "reach", "--from", "a", "--to", "b", "--json").json["flows"]
    assert len(flows) == rows and sum(f["paths"] for f in flows) == 2**stages


def test_an_expectation_with_path_asks_about_its_own_packets(tmp_path: Path, oaktag: Run) -> None:
    """443 arrives, as it must; 22 arrives though denied, for nobody judges."""
    asked: list[Any] = [
        {"from": "a", "to": "b", "service": "443/tcp", "is": "allowed", "path": True},
        {"from": "a", "to": "b", "allowed": ["443/tcp"], "path": True},
        {"from": "a", "to": "b", "allowed": ["443/tcp"], "exactly": True, "path": True},
        {"from": "a", "to": "b", "service": "22/tcp", "is": "denied", "path": True},
        {"from": "a", "to": "c", "allowed": "none", "path": True},
    ]
    build(tmp_path, "a,b,web,,,,,\n", network=net({"node": "n"}), expectations_yaml=asked)
    rows = oaktag("-C", tmp_path, "expect", "--json").json["expectations"]
    assert [r["holds"] for r in rows] == [True, True, False, False, False]


def test_a_stateless_point_knows_no_flows_whatever_it_shares(tmp_path: Path, oaktag: Run) -> None:
    """The second gate knows nobody: what it would have to know of the flow, it does not keep."""
    nodes: list[dict[str, Any]] = [
        {"node": "m"}, {"node": "g1", "point": {"shares_state": "pair"}},
        {"node": "g2", "point": {"shares_state": "pair", "stateful": False}}, {"node": "z"},
    ]  # fmt: skip
    links: list[Any] = [("m", "g1"), ("m", "g2"), ("g1", "z"), ("g2", "z")]
    network = net(*nodes, links=links, feeds=[("registry", "g1")], where="m z z")
    build(tmp_path, "a,b,web,,,,,\n", network=network)
    asked = ("--from", "a", "--to", "b", "--json")
    flows = oaktag("-C", tmp_path, "reach", *asked).json["flows"]
    assert {f["path"][1]: f["effect"] for f in flows} == {"g1": "one-way", "g2": "break"}
    traced = oaktag("-C", tmp_path, "trace", "a", "b", "443/tcp", "--return", "--json").json[
        "paths"
    ]
    (over,) = [p for p in traced if p["path"][1] == "g1"]
    assert {a["path"][1]: a["arrives"] for a in over["answers"]} == {"g1": True, "g2": False}
    nodes[2]["point"] = {"shares_state": "pair"}
    build(tmp_path, "a,b,web,,,,,\n", network=network)
    flows = oaktag("-C", tmp_path, "reach", *asked).json["flows"]
    assert {f["path"][1]: f["effect"] for f in flows} == {"g1": "exact", "g2": "break"}


def test_ways_of_unlike_lengths_lead_to_an_end_of_too_many_paths(
    tmp_path: Path, oaktag: Run
) -> None:
    """Seven times two ways, then one link of cost 2 or two of cost 1: 256 paths, all enforced."""
    turns = [(f"c{n}", f"{side}{n}", f"c{n + 1}") for n in range(7) for side in "uv"]
    links: list[Any] = [pair for a, m, b in turns for pair in ((a, m), (m, b))]
    links += [{"between": ["c7", "gate"], "cost": 2}, ("c7", "x"), ("x", "gate")]
    names = dict.fromkeys(name for turn in turns for name in turn)
    nodes: list[Any] = [{"node": name} for name in (*names, "x")]
    network = net(
        *nodes, {"node": "gate", "point": {}}, links=links, feeds=[("registry", "gate")],
        where="c0 gate gate",
    )  # fmt: skip
    build(tmp_path, "a,b,web,,,,,\n", network=network)
    flows = oaktag("-C", tmp_path, "reach", "--from", "a", "--to", "b", "--json").json["flows"]
    assert [(f["paths"], f["result"], f["at"], f["effect"]) for f in flows] == [
        (256, "enforced", "gate", "exact")
    ]
    for words in (["reach", "--failures"], ["trace", "a", "b", "443/tcp"], ["check"]):
        assert oaktag("-C", tmp_path, *words).status in (0, 1), words


def test_answers_that_go_another_way_are_lost_over_many_paths_too(
    tmp_path: Path, oaktag: Run
) -> None:
    """Two gates beside each other, which do not know each other's flows, between two points that
    every path meets; by one link each, then by nine: 162 paths that all come to the same."""
    for times in (1, 9):
        points: list[dict[str, Any]] = [{"node": g, "point": {}} for g in ("m", "g1", "g2", "z")]
        links = [pair for g in ("g1", "g2") for pair in [("m", g)] * times + [(g, "z")] * times]
        feeds = [("registry", g) for g in ("m", "g1", "g2", "z")]
        network = net(*points, links=links, feeds=feeds, where="m z z")
        folder = tmp_path / str(times)
        folder.mkdir()
        build(folder, "a,b,web,,,,,\n", network=network)
        flows = oaktag("-C", folder, "reach", "--from", "a", "--to", "b", "--json").json["flows"]
        assert sum(f["paths"] for f in flows) == 2 * times**2
        assert {f["effect"] for f in flows} == {"one-way"}
        droppers = {r["node"] for f in flows for r in f["amiss"] if r["why"] == "answer-dropped"}
        assert droppers == {"g1", "g2"}
        run = oaktag("-C", folder, "trace", "a", "b", "443/tcp")
        assert run.status == 1
        for gate, other in (("g1", "g2"), ("g2", "g1")):
            assert f"the answer is dropped at {gate}; it goes round {other}" in " ".join(
                run.out.split()
            )
        told = oaktag("-C", folder, "check", "--json").json["findings"]
        assert sorted((f["code"], f["message"][:2]) for f in told) == [
            ("OT405", "an"), ("OT405", "an"), ("OT406", "g1"), ("OT406", "g2"),
        ]  # fmt: skip
        run = oaktag("-C", folder, "callers", "b", "443/tcp", "--real")
        assert "g2 drops the answers" in " ".join(run.out.split())


def test_ways_round_a_gate_are_found_over_many_paths_too(tmp_path: Path, oaktag: Run) -> None:
    """A gate, and beside it a node without one, which comes later in the file; 81 paths each.
    Answers go round the gate, or meet it though it did not see the way out."""
    points: list[dict[str, Any]] = [{"node": g, "point": {}} for g in ("m", "g", "z")]
    links = [pair for n in ("g", "bare") for pair in [("m", n)] * 9 + [(n, "z")] * 9]
    feeds = [("registry", g) for g in ("m", "g", "z")]
    network = net(*points, {"node": "bare"}, links=links, feeds=feeds, where="m z z")
    build(tmp_path, "a,b,web,,,,,\n", network=network)
    flows = oaktag("-C", tmp_path, "reach", "--from", "a", "--to", "b", "--json").json["flows"]
    assert [(f["paths"], f["effect"], [r["node"] for r in f["amiss"]]) for f in flows] == [
        (81, "one-way", ["g"]), (81, "exact", []),
    ]  # fmt: skip
    told = oaktag("-C", tmp_path, "check", "--json").json["findings"]
    assert [(f["code"], f["message"].split(" over ")[1][:8]) for f in told] == [
        ("OT405", "z bare m"), ("OT406", "z g m: i"),
    ]  # fmt: skip


def test_a_frame_that_loses_its_tag_on_one_of_many_ways_back_costs_the_answer(
    tmp_path: Path, oaktag: Run
) -> None:
    """A stateless point knows who answers by the frame alone, which keeps its tag over ``keeps``
    and loses it over ``loses``: there the answer is dropped."""
    one: dict[str, Any] = {"stateful": False, "from": ["sb"]}
    nodes: list[dict[str, Any]] = [
        {"node": "m", "point": one, "learns": ["session", "segment"]},
        {"node": "keeps", "carries": True}, {"node": "loses"},
        {"node": "z", "marks": True, "point": {"from": ["sa"]}},
    ]  # fmt: skip
    links: list[dict[str, Any]] = [
        {"between": pair, "carries": True, "name": f"{n}-{times}-{pair[0]}"}
        for n in ("keeps", "loses")
        for times in range(9)
        for pair in (["m", n], [n, "z"])
    ]
    feeds: list[Any] = [
        ("registry", "z"), {"from": "registry", "to": "m", "only": {"groups": ["a"]}},
    ]  # fmt: skip
    network = net(*nodes, links=links, feeds=feeds, where="m z z")
    build(tmp_path, "a,b,web,,,,,\n", network=network)
    flows = oaktag("-C", tmp_path, "reach", "--from", "a", "--to", "b", "--json").json["flows"]
    assert [(f["paths"], f["effect"], f["amiss"]) for f in flows] == [
        (162, "one-way", [{"node": "m", "why": "answer-dropped"}])
    ]
    run = oaktag("-C", tmp_path, "trace", "a", "b", "443/tcp")
    assert run.status == 1 and "but the answer is dropped at m" in " ".join(run.out.split())


def test_an_expectation_with_path_asks_for_the_answer_too(tmp_path: Path, oaktag: Run) -> None:
    """Two gates that do not know each other's flows; then they share them."""
    gates: list[dict[str, Any]] = [{"node": g, "point": {}} for g in ("g1", "g2")]
    nodes: list[dict[str, Any]] = [{"node": "m"}, *gates, {"node": "z"}]
    links: list[Any] = [("m", "g1"), ("m", "g2"), ("g1", "z"), ("g2", "z")]
    feeds: list[Any] = [("registry", "g1"), ("registry", "g2")]
    asked: list[Any] = [
        {"from": "a", "to": "b", "service": "443/tcp", "is": "allowed", "path": True}
    ]
    network = net(*nodes, links=links, feeds=feeds, where="m z z")
    build(tmp_path, "a,b,web,,,,,\n", network=network, expectations_yaml=asked)
    (row,) = oaktag("-C", tmp_path, "expect", "--json").json["expectations"]
    assert not row["holds"] and "its answer is dropped at g" in row["counterexample"]["text"]
    ran = oaktag("-C", tmp_path, "reach", "--from", "a", "--to", "b", "--json")
    assert ran.status == 1 and {f["effect"] for f in ran.json["flows"]} == {"one-way"}
    assert {(f["amiss"][0]["node"], f["path"][1]) for f in ran.json["flows"]} == {
        ("g1", "g2"),
        ("g2", "g1"),
    }
    told = oaktag("-C", tmp_path, "trace", "a", "b", "443/tcp")
    assert told.status == 1 and "but the answer is dropped at g" in told.out
    found = oaktag("-C", tmp_path, "check", "--json").json["findings"]
    assert {f["code"] for f in found} >= {"OT405", "OT406"}
    ways = {f["message"].split(" go round ")[0] for f in found if f["code"] == "OT405"}
    assert ways and all(
        re.fullmatch(r"answers from b in sb to a in sa over z g. m", w) for w in ways
    )
    for gate in gates:
        gate["point"] = {"shares_state": "pair"}
    build(tmp_path, "a,b,web,,,,,\n", network=network, expectations_yaml=asked)
    assert oaktag("-C", tmp_path, "expect").status == 0
    assert oaktag("-C", tmp_path, "reach", "--from", "a", "--to", "b").status == 0
    # Not even when they share nothing, where the matrix lets the answers pass by themselves; then
    # only those to what else is allowed are lost.
    for gate in gates:
        gate["point"] = {}
    build(tmp_path, "a,b,web,,,,,\nb,a,all,,,,,\n", network=network)
    turned = oaktag("-C", tmp_path, "set", "b", "a", "nothing", "--json").json["network"]
    lost = [r["why"] for r in turned if r["new"] and r["effect"] == "one-way"]
    assert lost in (["g1 drops the answers"], ["g2 drops the answers"])
    asked += [
        {"from": "a", "to": "b", "service": "22/tcp", "is": "allowed", "path": True},
        {"from": "a", "to": "b", "allowed": ["22/tcp", "443/tcp"], "exactly": True, "path": True},
    ]
    replies = {"replies": [{"allow": "0-65535/tcp", "from_ports": "443"}]}
    build(
        tmp_path, "a,b,web,,,,,\na,b,shell,,,,,\nb,a,replies,,,,,\n", network=network,
        expectations_yaml=asked, permissions_yaml={"permissions": {**PERMISSIONS, **replies}},
    )  # fmt: skip
    rows = oaktag("-C", tmp_path, "expect", "--json").json["expectations"]
    assert [r["holds"] for r in rows] == [True, False, False], rows


@pytest.mark.parametrize("inside", [False, True])
def test_a_nodes_own_address_is_not_guarded_by_a_point_that_leaves_it_alone(
    inside: bool, tmp_path: Path, oaktag: Run
) -> None:
    nodes: list[dict[str, Any]] = [
        {"node": "m"},
        {"node": "gate", "address": "10.2.0.254", "group": "b", "point": {"inside": inside}},
    ]
    network = net(*nodes, links=[("m", "gate")], feeds=[("registry", "gate")], where="m gate gate")
    build(tmp_path, "a,b,web,,,,,\n", network=network)
    for word in ("10.2.0.254", "points"):
        ran = oaktag("-C", tmp_path, "trace", "a", word, "22/tcp", "--json")
        assert (ran.status, ran.json["effect"]) == (1, "leak"), ran.out
        flows = oaktag("-C", tmp_path, "reach", "--from", "a", "--to", word, "--json").json["flows"]
        assert [(f["result"], f["effect"]) for f in flows] == [("unenforced", "leak")]
        assert flows[0]["reasons"] == [{"node": "gate", "why": "direction"}]
    flows = oaktag("-C", tmp_path, "reach", "--from", "10.2.0.254", "--to", "a", "--json").json[
        "flows"
    ]
    assert [(f["effect"], f["reasons"]) for f in flows] == [
        ("leak", [{"node": "gate", "why": "direction"}])
    ]
    assert oaktag("-C", tmp_path, "trace", "a", "b-1", "22/tcp").status == 0
    nodes[1]["point"] = {"own": True}
    build(tmp_path, "a,b,web,,,,,\n", network=network)
    ran = oaktag("-C", tmp_path, "trace", "a", "10.2.0.254", "22/tcp", "--json")
    assert (ran.status, ran.json["effect"]) == (0, "exact")


def test_an_address_stands_for_who_is_there(tmp_path: Path, oaktag: Run) -> None:
    """An endpoint's own address, one that nobody has, one inside a whole network, one on no segment."""
    network = net({"node": "m"}, {"node": "gate", "point": {}}, links=[("m", "gate")],
                  feeds=[("registry", "gate")], where="m gate gate")  # fmt: skip
    rows = "name,ip,role\na-1,10.1.0.1,a\nb-1,10.2.0.1,b\nc-1,10.3.0.128/25,c\n"
    build(tmp_path, "a,b,web,,,,,\n", network=network, servers_csv=rows)
    for word, same, group in (
        ("10.1.0.1", "endpoint:a-1", "a"), ("10.1.0.77", None, "untagged"), ("10.3.0.200", None, "c"),
        ("10.3.0.2", None, "untagged"),
    ):  # fmt: skip
        flows = oaktag("-C", tmp_path, "reach", "--from", word, "--to", "b", "--json").json["flows"]
        assert [f["source"]["group"] for f in flows] == [group], word
        if same:
            ran = oaktag("-C", tmp_path, "reach", "--from", same, "--to", "b", "--json")
            assert ran.json["flows"] == flows
    assert oaktag("-C", tmp_path, "reach", "--from", "192.0.2.9", "--json").json["flows"] == []
    assert "192.0.2.9 is nowhere" in oaktag("-C", tmp_path, "trace", "192.0.2.9", "b", "22/tcp").out


def test_unknown_hosts_of_one_segment_are_a_pair(tmp_path: Path, oaktag: Run) -> None:
    network = net({"node": "n", "point": {}})
    network["segments"][2]["tag"] = "c"
    build(tmp_path, network=network, servers_csv="name,ip,role\na-1,10.1.0.1,a\n")
    rows = rows_of(oaktag("-C", tmp_path, "reach", "--json").json)
    assert (rows["c", "c"]["effect"], rows["c", "c"]["reasons"][0]["why"]) == ("leak", "inside")
    assert ("a", "a") not in rows


def test_who_is_untagged_by_a_rule_is_so_whatever_his_segment_says(
    tmp_path: Path, oaktag: Run
) -> None:
    """A rule puts d into no group, which is an assignment; e is put nowhere. Neither address is stable,
    so neither has a binding: the registry says b of both, for b is the segment's default."""
    network = net({"node": "n", "point": {}})
    network["segments"][0]["tag"] = "b"
    rows = "name,ip,role,stability\nd-1,10.1.0.8,d,leased\ne-1,10.1.0.9,e,leased\nc-1,10.3.0.1,c,fixed\n"
    source = {
        "file": "servers.csv",
        "kind": "server",
        "id": "name",
        "address": "ip",
        "stability": "stability",
    }
    rules = [{"give": "untagged", "when": {"role": "d"}}, {"give": "c", "when": {"role": "c"}}]
    build(
        tmp_path, "b,c,web,,,,,\n", network=network, servers_csv=rows,
        assignments_yaml={"rules": rules}, config={"sources": [source]},
    )  # fmt: skip
    for who, group in (("d-1", "untagged"), ("e-1", "b")):
        flows = oaktag("-C", tmp_path, "reach", "--from", f"endpoint:{who}", "--json").json["flows"]
        assert flows and {f["source"]["group"] for f in flows} == {group}, (who, flows)


def test_a_whole_network_stands_on_no_ground_of_others(tmp_path: Path, oaktag: Run) -> None:
    """The internet, at home beyond the exit: not on other segments, nor where endpoints are."""
    nodes: list[dict[str, Any]] = [{"node": "m"}, {"node": "exit", "point": {}}]
    network = net(*nodes, links=[("m", "exit")], feeds=[("registry", "exit")], where="m m exit")
    network["segments"][2]["prefixes"] = ["0.0.0.0/0"]
    table = "name,ip,role\na-1,10.1.0.1,a\nb-1,10.2.0.1,b\nworld,0.0.0.0/0,c\n"
    build(tmp_path, "front,c,web,,,,,\n", network=network, servers_csv=table)
    rows = rows_of(oaktag("-C", tmp_path, "reach", "--json").json)
    assert rows.keys() == {(s, d) for s in "abc" for d in "abc" if s != d}
    assert rows["a", "c"]["effect"] == "exact" and rows["c", "a"]["effect"] == "exact"
    ran = oaktag("-C", tmp_path, "trace", "a", "198.51.100.7", "443/tcp", "--json")
    assert (ran.json["effect"], ran.json["paths"][0]["to"]["group"]) == ("exact", "c")
    # At home on the longest prefix that holds all of it, whatever the segments are called.
    with (tmp_path / "servers.csv").open("a") as file:
        file.write("floor,10.1.0.128/25,b\n")
    to = oaktag("-C", tmp_path, "trace", "world", "floor", "443/tcp", "--json").json["paths"][0]
    assert to["to"]["segment"] == "sa"


def test_what_is_accepted_is_counted_apart_and_what_it_does_not_cover_stays_red(
    tmp_path: Path, oaktag: Run
) -> None:
    network = net({"node": "n"}, {"node": "far"}, where="n n far")
    borne: list[dict[str, Any]] = [
        {
            "reach": "leak",
            "cause": "no-point",
            "at": ["s*"],
            "from": "a",
            "why": "soon",
            "until": "2027-03-01",
        },
        {"reach": "cut-off", "from": "c", "why": "not yet joined", "until": "2027-03-01"},
    ]
    build(tmp_path, "a,b,web,,,,,\n", network=network, config={"accepted": borne})
    run = ("-C", tmp_path, "--today", "2026-12-01", "reach", "--json")
    said = oaktag(*run)
    assert said.status == 1
    assert said.json["summary"]["accepted"] == {"leak": 1, "cut-off": 2}
    assert {(f["source"]["group"], f["destination"]["group"]) for f in said.json["flows"] if f["accepted"]} == {
        ("a", "b"), ("c", "a"), ("c", "b"),
    }  # fmt: skip
    assert [tuple(o["between"]) for o in said.json["summary"]["cut_off"]] == [
        ("sa", "sc"),
        ("sb", "sc"),
    ]
    shown = oaktag("-C", tmp_path, "--today", "2026-12-01", "reach").out
    assert shown.startswith("cut off: no path joins sa and sc")
    assert "accepted in oaktag.yaml: 2 cut-off, 1 leak" in shown
    every: list[dict[str, Any]] = [
        {"reach": e, "why": "all", "until": "2027-03-01"} for e in ("leak", "cut-off")
    ]
    build(tmp_path, "a,b,web,,,,,\n", network=network, config={"accepted": every})
    assert oaktag(*run).status == 0
    assert oaktag("-C", tmp_path, "--today", "2027-03-02", "reach").status == 1
    every[0]["service"] = "22/tcp"  # all else that leaks stays red
    build(tmp_path, "a,b,web,,,,,\n", network=network, config={"accepted": every})
    assert oaktag(*run).status == 1


def test_advice_follows_the_cause(tmp_path: Path, oaktag: Run) -> None:
    nodes: list[dict[str, Any]] = [{"node": "m"}, {"node": "gate", "point": {"outside": "allow"}}]
    cases: list[tuple[list[Any], str]] = [
        ([], "feed gate the bindings of sa"),
        ([{"from": "registry", "to": "gate", "state": "down"}], "bring up the feed registry>gate"),
        (
            [{"from": "registry", "to": "gate", "only": {"groups": ["b"]}}],
            "let the feed registry>gate pass",
        ),
        ([("m", "gate")], "feed gate the bindings of sa"),
    ]
    for feeds, told in cases:
        network = net(*nodes, links=[("m", "gate")], feeds=feeds, where="m gate gate")
        build(tmp_path, "a,b,web,,,,,\n", network=network)
        causes = oaktag("-C", tmp_path, "reach", "--from", "a", "--to", "b", "--json").json[
            "summary"
        ]["causes"]
        assert [c["advice"] for c in causes if told in c["advice"]], (feeds, causes)


def test_drift_tells_what_is_new_and_only_of_a_nodes_own_feeds(tmp_path: Path, oaktag: Run) -> None:
    """The network leaks already between b and c, whose path has no point; a node that forgets a
    breaks one pair."""
    nodes: list[dict[str, Any]] = [{"node": "m"}, {"node": "gate", "point": {}}, {"node": "far"}]
    network = net(
        *nodes,
        links=[("m", "gate"), ("gate", "far")],
        feeds=[("registry", "gate"), ("registry", "m")],
        where="m far far",
    )
    build(tmp_path, "a,b,web,,,,,\n", network=network)
    folder = tmp_path / "observed"
    folder.mkdir()
    bindings = [{"prefix": f"10.{n}.0.1/32", "tag": 100 + n} for n in (2, 3)]
    report: dict[str, Any] = {"form": 1, "node": "gate", "bindings": bindings}
    # What a node says of a feed that others receive is not its business.
    (folder / "m.json").write_text(
        json.dumps({"form": 1, "node": "m", "feeds": [{"feed": "registry>gate", "state": "down"}]})
    )
    seen = oaktag("-C", tmp_path, "reach", "--observed", "observed", "--json").json["flows"]
    assert seen == oaktag("-C", tmp_path, "reach", "--json").json["flows"]
    assert Counter(f["effect"] for f in seen) == {"exact": 4, "leak": 2}
    (folder / "gate.json").write_text(json.dumps(report))
    (row,) = oaktag("-C", tmp_path, "drift", "--json").json["drift"]
    assert (row["node"], row["kind"], row["leaks"], row["breaks"]) == ("gate", "bindings", 0, 1)
    # A list that nobody can read, or that nobody knows, lets everything pass as far as we know.
    del report["bindings"]
    (folder / "gate.nft").write_text("table inet x { chain c { accept } }\n")
    for held in ({"list": "gate.nft"}, {"sha256": "0" * 64}):
        report["points"] = [{"point": "gate", **held}]
        (folder / "gate.json").write_text(json.dumps(report))
        (row,) = oaktag("-C", tmp_path, "drift", "--json").json["drift"]
        assert (row["kind"], row["known"], row["leaks"] > 0) == ("lists", False, True)
        flows = oaktag(
            "-C", tmp_path, "reach", "--observed", "observed", "--from", "c", "--to", "a", "--json"
        ).json["flows"]
        assert {f["effect"] for f in flows} == {"leak"}
    report["points"] = [{"point": "elsewhere", "mode": "enforce"}]
    (folder / "gate.json").write_text(json.dumps(report))
    ran = oaktag("-C", tmp_path, "drift", "--json")
    assert (
        ran.status == 1
        and ran.json["drift"][0]["differences"][0]["what"] == "a point not meant here"
    )


@pytest.mark.parametrize("change", ["tables", "toward", "cells"])
def test_a_list_that_is_reported_is_what_acts(change: str, tmp_path: Path, oaktag: Run) -> None:
    """Tables of bindings swapped, fewer addresses judged, a cell more: all of it counts."""
    nodes: list[dict[str, Any]] = [
        {"node": "m"},
        {"node": "gate", "point": {"toward": ["sb", "sc"]}},
    ]
    network = net(*nodes, links=[("m", "gate")], feeds=[("registry", "gate")], where="m gate gate")
    build(tmp_path, "a,b,web,,,,,\n", network=network)
    model = package.Workspace.load(tmp_path).model
    text = list_text(model, model.network.points["gate"])
    changed = {
        "tables": text.replace("10.1.0.1 : 0x10065, # a", "10.1.0.1 : 0x10066, # b"),
        "toward": text.replace("\t\t\t10.2.0.0/24,\n\t\t\t10.3.0.0/24\n", "\t\t\t10.3.0.0/24\n"),
        "cells": re.sub(r"\bdrop(,?) #", r"accept\1 #", text),
    }[change]
    assert changed != text
    folder = tmp_path / "observed"
    folder.mkdir()
    (folder / "gate.nft").write_text(changed)
    report = {"form": 1, "node": "gate", "points": [{"point": "gate", "list": "gate.nft"}]}
    (folder / "gate.json").write_text(json.dumps(report))
    rows = rows_of(oaktag("-C", tmp_path, "reach", "--observed", "observed", "--json").json)
    meant = rows_of(oaktag("-C", tmp_path, "reach", "--json").json)
    turned = {
        k: (meant[k]["effect"], rows[k]["effect"])
        for k in rows
        if rows[k]["effect"] != meant[k]["effect"]
    }
    assert turned == {
        "tables": {("a", "b"): ("exact", "break")},
        "toward": dict.fromkeys((("a", "b"), ("c", "b")), ("exact", "leak")),
        "cells": dict.fromkeys((("a", "b"), ("a", "c"), ("b", "c"), ("c", "b")), ("exact", "leak")),
    }[change]  # fmt: skip


# -- lists ---------------------------------------------------------------------------------------


def test_what_is_inside_of_a_segment_is_proved_pair_by_pair(tmp_path: Path) -> None:
    """A segment with a hole in it, and others of two prefixes: whatever pair of addresses a list lacks
    or has too much, it is refuted by a packet between two that it takes otherwise."""
    own = [["10.1.0.0/24", "10.9.0.0/24"], ["10.1.0.64/26"], ["10.2.0.0/24", "10.3.0.0/24"]]
    network = {
        "nodes": [{"node": "gate", "point": {}}],
        "segments": [
            {"segment": f"s{n}", "node": "gate", "prefixes": p} for n, p in enumerate(own)
        ],
        "feeds": [{"from": "registry", "to": "gate"}],
    }
    build(tmp_path, "a,b,web,,,,,\nb,c,web,,,,,\n", network=network)
    model = package.Workspace.load(tmp_path).model
    point = model.network.points["gate"]
    held = list_of(model, point)
    assert model.refute(point, held) is None
    at, (pairs,) = zip(
        *((n, s.pairs) for n, s in enumerate(held.head) if isinstance(s, PassBetween)), strict=True
    )
    assert [len(pairs), *at] == [14, *at], "nine of the first segment, one, and four"
    spans = sorted({span for pair in pairs for span in pair})
    edges = sorted({n for s in spans for n in (s.start, s.end)} | {10 << 24 | 0x10001, 10 << 24})
    packets = [Packet(4, 6, 50_000, 443), Packet(4, 17, 9, 9)]
    more = [(a, b) for a in spans for b in spans if (a, b) not in pairs]
    told = []
    for less, pair in [*((True, p) for p in pairs), *((False, p) for p in more)]:
        left = tuple(p for p in pairs if p != pair) if less else (*pairs, pair)
        steps = [PassBetween(4, left) if n in at else s for n, s in enumerate(held.head)]
        other = replace(held, head=tuple(steps))
        odd = {
            (a, b)
            for a in edges
            for b in edges
            if any(act(held, p, a, b).action != act(other, p, a, b).action for p in packets)
        }
        against = model.refute(point, other)
        assert (against is None) == (not odd), (less, pair)
        if against is not None:
            ends = against.source, against.destination
            acted = [act(one, against.packet, *ends).action for one in (other, held)]
            assert acted == [against.listed[0], against.meant[0]] and acted[0] != acted[1]
            assert all(s.start <= end <= s.end for s, end in zip(pair, ends, strict=True))
        told.append((less, against is None))
    assert Counter(told)[True, False] > 5 and Counter(told)[False, False] > 5, Counter(told)


def test_a_line_counts_on_its_last_day_in_lists_and_in_their_proof(
    tmp_path: Path, oaktag: Run
) -> None:
    today = datetime.now(UTC).date()
    for until, allowed in ((today, True), (today - timedelta(days=1), False)):
        network = net({"node": "gate", "point": {}}, feeds=[("registry", "gate")])
        build(tmp_path, f"a,b,web,,,{until},,\n", network=network)
        assert oaktag("-C", tmp_path, "compile").status == 0
        text = (tmp_path / "lists/gate.nft").read_text()
        assert ("dport 443" in text) is allowed, text
        assert oaktag("-C", tmp_path, "prove", tmp_path / "lists").status == 0


def test_what_lists_cannot_do_is_an_error_that_names_it(tmp_path: Path, oaktag: Run) -> None:
    points: list[dict[str, Any]] = [{"name": "one"}, {"name": "two", "inside": True}]
    network = net({"node": "gate", "points": points}, feeds=[("registry", "gate")])
    odd: dict[str, Any] = {**PERMISSIONS, "web": [{"deny": "proto/44"}, {"allow": "443/tcp"}]}
    build(tmp_path, "a,b,web,,,,,\n", network=network, permissions_yaml={"permissions": odd})
    ran = oaktag("-C", tmp_path, "compile")
    assert ran.status == 1 and "the cell a b has the entry proto/44" in ran.err, ran.err
    points[:] = [{"name": "one", "scope": {"destinations": ["c"]}}]
    build(tmp_path, "a,b,web,,,,,\n", network=network, permissions_yaml={"permissions": odd})
    assert oaktag("-C", tmp_path, "compile").status == 0


def test_points_of_one_node_take_no_tags_from_each_other(
    real_kernel: None, tmp_path: Path, oaktag: Run
) -> None:
    """By frames first, by addresses first, by addresses alone, in every order: each sees what it
    would see alone, and behind all of them the frame has the tag that it came with."""
    sees: dict[str, dict[str, Any]] = {
        "frame": {}, "bound": {"if_differ": "bindings"}, "alone": {"match": {"source": "address"}}
    }  # fmt: skip
    points = [{"name": name, **told} for name, told in sees.items()]
    points += [{"name": "again", **sees["bound"]}, {"name": "more", **sees["alone"]}]
    network = net({"node": "gate", "points": points}, feeds=[("registry", "gate")])
    table = "name,ip,role\na-1,10.1.0.1,a\nb-1,10.2.0.1,b\nc-1,10.3.0.1,c\n"
    build(tmp_path, "a,b,web,,,,,\n", network=network, servers_csv=table)
    assert oaktag("-C", tmp_path, "compile").status == 0
    texts = {p["name"]: (tmp_path / f"lists/gate.{p['name']}.nft").read_text() for p in points}
    tags: dict[str, Any] = {str(g["id"]): g["tag"] for g in GROUPS}
    bound = {"10.1.0.1": tags["a"], "10.3.0.1": tags["c"], "10.9.0.1": 0}

    def passes(name: str, frame: int, source: str) -> bool:
        known = bound[source]
        how = {"again": "bound", "more": "alone"}.get(name, name)
        seen = {"frame": frame or known, "bound": known or frame, "alone": known}[how]
        return seen in (tags["a"], 65535)  # what is in no cell goes outside, and passes

    every = [o for n in (1, 2, 3) for o in itertools.permutations(sees, n)] + [tuple(texts)]
    lists: list[tuple[str, list[Question]]] = []
    meant: list[list[bool]] = []
    for order, frame in itertools.product(every, (0, tags["a"], tags["c"], 65535)):
        judge = (
            "table inet behind {\n\tchain crossing {\n"
            "\t\ttype filter hook postrouting priority 0; policy accept;\n"
            f"\t\tip saddr != {UNJUDGED[0]} meta mark != {frame:#x} drop\n\t}}\n}}\n"
        )
        asked = [
            Question(Packet(4, 6, 50_000 + n, 443), source, "10.2.0.1", frame)
            for n, source in enumerate(bound)
        ]
        lists.append(("".join(texts[name] for name in order) + judge, asked))
        meant.append([all(passes(name, frame, q.source) for name in order) for q in asked])
    assert ask(lists) == meant
    assert {tuple(some) for some in meant} == {
        (True, False, False), (True, False, True), (True, True, True), (False, False, False)
    }  # fmt: skip
    # In another's turn a list would meet what that one put there.
    path = tmp_path / "lists/gate.more.nft"
    path.write_text(texts["more"].replace("priority 8;", "priority 2;").replace("9;", "3;"))
    told = oaktag("-C", tmp_path, "prove", "lists", "--json")
    rows = {row["point"]: row for row in told.json["points"]}
    assert told.status == 1 and [p for p, row in rows.items() if not row["equal"]] == ["gate.more"]
    assert "in turn 1, and of the lists of its node it is number 4" in rows["gate.more"]["error"]


def test_a_new_member_of_a_group_out_of_scope_changes_tables_alone(
    real_kernel: None, tmp_path: Path
) -> None:
    """The kernel takes the refilled tables, and does with the new one what is outside."""
    point: dict[str, Any] = {"inside": True, "scope": {"destinations": ["b"]}, "outside": "deny"}
    table = "name,ip,role\na-1,10.1.0.1,a\nb-1,10.2.0.1,b\n"
    network = net({"node": "gate", "point": point}, feeds=[("registry", "gate")])
    build(tmp_path, "a,b,web,,,,,\n", network=network, servers_csv=table)
    model = package.Workspace.load(tmp_path).model
    held = list_of(model, model.network.points["gate"])
    text = list_text(model, model.network.points["gate"])
    ranges = [*held.destination_bindings, Range(4, 0x0A030001, 0x0A030001, 103)]
    asked = [
        Question(Packet(4, 6, 50_000, 443), "10.1.0.1", "10.2.0.1"),
        Question(Packet(4, 6, 50_001, 443), "10.1.0.1", "10.3.0.1"),
    ]
    assert ask(
        [
            (
                text
                + refill(
                    table_name("gate"),
                    held.source_bindings,
                    ranges,
                    set(held.blocks),
                    kept=False,
                    keeps=False,
                ),
                asked,
            )
        ]
    ) == [[True, False]]


# -- files ---------------------------------------------------------------------------------------


def test_a_change_that_cannot_be_written_whole_is_taken_back(tmp_path: Path) -> None:
    build(tmp_path, "a,b,web,,,,,\n")
    before = {p: p.read_bytes() for p in tmp_path.rglob("*") if p.is_file()}
    text = (tmp_path / "groups.yaml").read_text()
    (tmp_path / "lists").write_text("a file, no folder\n")
    before[tmp_path / "lists"] = b"a file, no folder\n"
    files = package.Workspace.load(tmp_path).model.files
    changed = {"groups.yaml": text + " ", "fresh/x.csv": "x\n", "lists/x.csv": "y\n"}
    with pytest.raises((OSError, package.UsageError), match=r"lists"):
        write_all(files, "a try", changed)
    held = {p: p.read_bytes() for p in tmp_path.rglob("*") if p.is_file() and OWN not in p.parts}
    assert held == before and not (tmp_path / "fresh").exists()


def test_rename_leaves_longer_names_alone(tmp_path: Path, oaktag: Run) -> None:
    groups: list[Any] = [*GROUPS, {"id": "a-long", "tag": 120}, {"id": "long-a", "tag": 121}]
    lines = "a,a-long,web,,,,,a and a-long\nlong-a,a,web,,,,,\n"
    build(tmp_path, lines, groups_yaml={"groups": groups, "sets": {"some": ["a", "a-long"]}})
    assert oaktag("-C", tmp_path, "rename", "--write", "a", "z").status == 0
    held = json.loads((tmp_path / "groups.yaml").read_text())
    assert [g["id"] for g in held["groups"]] == ["z", "b", "c", "a-long", "long-a"]
    assert held["sets"] == {"some": ["z", "a-long"]}
    rows = (tmp_path / "matrix/0.csv").read_text().splitlines()[1:]
    assert [r.split(",")[:2] for r in rows] == [["z", "a-long"], ["long-a", "z"]]


def test_the_column_of_a_fault_behind_a_quoted_comma(tmp_path: Path, oaktag: Run) -> None:
    table = 'name,room,ip,role\nx,"left, ""old"" wing",10.1.0.300,a\n'
    build(tmp_path, servers_csv=table)
    ran = oaktag("-C", tmp_path, "check")
    assert ran.status != 0 and "servers.csv:2:24" in ran.out + ran.err, ran


def test_ldif_moves_escapes_and_deletes(tmp_path: Path, oaktag: Run) -> None:
    """Names are compared by what they mean (RFC 4514); a new name takes the old one's value away,
    and no other (RFC 2849, deleteoldrdn)."""
    ldif = r"""dn: uid=ann,ou=old,dc=x
uid: ann
role: a
room: 1
room: 2

dn: cn=Bo\, the other,ou=old,dc=x
uid: bo
role: b

dn: cn=North\, upstairs,dc=x
member: CN=Bo\2C the other , ou=old,dc=x
member: uid=ann,ou=new,dc=x

dn: uid=ann,ou=old,dc=x
changetype: modrdn
newrdn: uid=ann
deleteoldrdn: 0
newsuperior: ou=new,dc=x

dn: uid=ann,ou=new,dc=x
changetype: modify
delete: room
-

dn: cn=Bo\2c the other,ou=old,dc=x
changetype: modify
replace: role
role: c
-

dn: uid=cy,ou=old\\,dc=x
uid: cy
uid: cyril
role: a

dn: uid=cy,ou=old\\,dc=x
changetype: modrdn
newrdn: uid=c\C3\BF
deleteoldrdn: 1

dn: uid=c\C3\BF,ou=old\\,dc=x
changetype: modify
replace: role
role: b
-
"""
    sources = [{"file": "people.ldif", "kind": "user", "id": "uid"}]
    build(tmp_path, config={"sources": sources}, people_ldif=ldif)
    rows = oaktag("-C", tmp_path, "members", "--all", "--json").json["endpoints"]
    assert {r["endpoint"]: r["group"] for r in rows} == {"ann": "a", "bo": "c", "cyril": "b"}
    values = oaktag("-C", tmp_path, "attributes", "--json").json["attributes"]
    assert {v["attribute"]: v["values"] for v in values}["room"] == 0, values
    said = oaktag("-C", tmp_path, "attributes", "member_of", "--json").out
    assert "North, upstairs" in said


def test_the_proof_minds_what_is_inside_a_segment(tmp_path: Path, oaktag: Run) -> None:
    """A list that judges inside one segment more, or leaves two segments alone together."""
    network = net({"node": "gate", "point": {}}, feeds=[("registry", "gate")])
    build(tmp_path, "a,b,web,,,,,\n", network=network)
    assert oaktag("-C", tmp_path, "compile").status == 0
    path = tmp_path / "lists/gate.nft"
    text = path.read_text()
    pair = "\t\t\t10.1.0.0/24 . 10.1.0.0/24,\n"
    assert pair in text
    for changed, told in (
        (text.replace(pair, ""), "the list says deny, the matrix allow"),
        (text.replace(pair, f"{pair}\t\t\t10.1.0.0/24 . 10.3.0.0/24,\n"), "the list says allow"),
    ):
        path.write_text(changed)
        ran = oaktag("-C", tmp_path, "prove")
        assert ran.status == 1 and told in ran.out, ran.out


def test_names_and_order_that_do_not_matter_change_no_answer(tmp_path: Path, oaktag: Run) -> None:
    """Everything renamed, prefixes split in two, nodes and links in another order: same rows."""
    nodes: list[dict[str, Any]] = [
        {"node": "m", "marks": True}, {"node": "p", "point": {}, "carries": True}, {"node": "z", "point": {"scope": {"destinations": ["b"]}}},
    ]  # fmt: skip
    links: list[Any] = [("m", "p"), ("p", "z")]
    feeds: list[Any] = [
        ("registry", "z"),
        {"from": "registry", "to": "p", "only": {"groups": ["b"]}},
        ("registry", "m"),
    ]
    lines = "a,b,web,,,,,\nc,a,shell,,both,,,\n"
    build(tmp_path / "one", lines, network=net(*nodes, links=links, feeds=feeds, where="m p z"))
    first = rows_of(oaktag("-C", tmp_path / "one", "reach", "--json").json)
    other = net(*reversed(nodes), links=links[::-1], feeds=feeds[::-1], where="m p z")
    for segment in other["segments"]:
        (prefix,) = segment["prefixes"]
        segment["prefixes"] = [prefix.replace("/24", "/25"), prefix.replace(".0/24", ".128/25")]
    text = json.dumps(other)
    for old, new in (("m", "first"), ("p", "second"), ("z", "third")):
        text = text.replace(f'"{old}"', f'"{new}"')
    build(tmp_path / "two", "c,a,shell,,both,,,\na,b,web,,,,,\n", network=json.loads(text))
    second = rows_of(oaktag("-C", tmp_path / "two", "reach", "--json").json)
    said = [
        {k: (r["result"], r["effect"], r["packets_text"], [x["why"] for x in r["reasons"]]) for k, r in rows.items()}
        for rows in (first, second)
    ]  # fmt: skip
    assert said[0] == said[1] and len({r[1] for r in said[0].values()}) > 1


def test_packets_of_a_row_in_both_families_are_united(tmp_path: Path, oaktag: Run) -> None:
    """All but 443 leaks, on either family: said once, and no port is made up by adding."""
    network = net({"node": "n"})
    for n, segment in enumerate(network["segments"], 1):
        segment["prefixes"].append(f"2001:db8:{n}::/64")
    table = "name,ip,role\n" + "".join(
        f"{g}-1,10.{n}.0.1;2001:db8:{n}::1,{g}\n" for n, g in enumerate("ab", 1)
    )
    build(tmp_path, "a,b,web,,,,,\n", network=network, servers_csv=table)
    rows = rows_of(oaktag("-C", tmp_path, "reach", "--json").json)
    assert rows["a", "b"]["packets_text"] == "leak any but 443/tcp"
    assert rows["b", "a"]["packets_text"] == "leak any"
    assert {p["family"] for p in rows["a", "b"]["packets"]} == {4, 6}


@pytest.mark.parametrize("modes", [("observe", "observe"), ("observe", "enforce"), ("enforce", "observe"),
                                   ("off", "observe"), ("enforce", "enforce")])  # fmt: skip
def test_where_a_row_to_nobody_known_is_observed_or_enforced_first(
    modes: tuple[str, str], tmp_path: Path, oaktag: Run
) -> None:
    """Of two points on the way to somebody in no group: the first that enforces, else the first that
    observes."""
    points = [{"mode": mode} for mode in modes]
    network = net(
        {"node": "near", "point": points[0]}, {"node": "next", "point": points[1]}, {"node": "far"},
        links=[("near", "next"), ("next", "far")],
        feeds=[("registry", "near"), ("registry", "next")], where="near near far",
    )  # fmt: skip
    table = "name,ip,role\na-1,10.1.0.1,a\nstray,10.3.0.1,nobody\n"
    build(tmp_path, "a,untagged,web,,,,,\n", network=network, servers_csv=table)
    rows = rows_of(oaktag("-C", tmp_path, "reach", "--json").json)
    row = rows["a", "untagged"]
    wanted = "enforce" if "enforce" in modes else "observe"
    at = ("near", "next")[modes.index(wanted)]
    assert (row["result"], row["at"]) == (wanted + "d" if wanted[-1] == "e" else wanted + "ed", at)
    assert row["effect"] == ("exact" if wanted == "enforce" else "leak")
    back = rows["untagged", "a"]
    at = ("next", "near")[modes[::-1].index(wanted)]
    assert (back["result"], back["at"]) == (row["result"], at)


# -- mending -------------------------------------------------------------------------------------


@pytest.mark.parametrize("most", [1, 40])
@pytest.mark.parametrize("exact", [False, True])
def test_rows_of_which_each_alone_can_be_mended(
    exact: bool, most: int, tmp_path: Path, oaktag: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Frames marked at m make a known and b wrongly known; a point at p drops b unless a frame says
    otherwise. So a and b cannot both be mended; where frames make e worse, a cannot be at all."""
    monkeypatch.setattr(mending, "MOST_NEW", most)
    nodes: list[dict[str, Any]] = [
        {"node": "m", "can": {"mark": 1}}, {"node": "p", "carries": True, "can": {"point": 1}},
        {"node": "g", "carries": True, "point": {}},
    ]  # fmt: skip
    feeds = [
        {"from": "registry", "to": "p", "only": {"groups": ["b", "c"]}},
        {"from": "registry", "to": "g", "only": {"groups": ["c"]}},
    ]
    network = net(*nodes, links=[("m", "p"), ("p", "g")], feeds=feeds, where="m m g")
    network["mending"] = {"direction": 5}
    pins = [
        {"prefix": "10.1.0.1/32", "group": "a", "at": "m"},
        {"prefix": "10.2.0.1/32", "group": "open", "at": "m"},
    ]
    rows, lines = "name,ip,role\na-1,10.1.0.1,a\nb-1,10.2.0.1,b\nc-1,10.3.0.1,c\n", ""
    if exact:
        rows += "e-1,10.2.0.5,e\n"
        pins.append({"prefix": "10.2.0.5/32", "group": "shut", "at": "m"})
        lines = "e,c,web,,,,,\n"
    more = [{"id": n, "tag": 200 + i} for i, n in enumerate(("open", "shut", "e"))]
    build(
        tmp_path, f"untagged,c,web,,,,,\nopen,c,web,,,,,\n{lines}", network=network,
        groups_yaml={"groups": [*GROUPS, *more]}, servers_csv=rows,
        assignments_yaml={
            "pins": pins, "rules": [{"give": n, "when": {"role": n}} for n in (*"abc", "e")],
        },
    )  # fmt: skip
    leaking = {
        f["source"]["group"]
        for f in oaktag("-C", tmp_path, "reach", "--to", "c", "--json").json["flows"]
        if f["effect"] == "leak"
    }
    assert leaking == {"a", "b"}
    ran = oaktag("-C", tmp_path, "reach", "--mend", "--json").json
    assert ran["proved"]
    toward = {h.split()[0] for h in ran["hopeless"] if "→ c in" in h}
    if exact:
        assert (ran["cost"], toward) == (1, {"a"})
        assert [c["kind"] for c in ran["changes"]] == ["point"]
    else:
        assert (ran["cost"], toward) == (None, set())


def test_no_attribute_comes_from_two_columns_of_a_list(tmp_path: Path, oaktag: Run) -> None:
    """Nor one that the source itself gives: each is told with the column, and what to do."""
    table = "name,ip,role,kind,trade\na-1,10.1.0.1,a,x,b\n"
    source = {"file": "servers.csv", "kind": "server", "id": "name", "address": "ip"}
    sources = [{**source, "columns": {"trade": "role"}}]
    ran = oaktag("-C", build(tmp_path, servers_csv=table, config={"sources": sources}), "check")
    told = " ".join(ran.out.split())
    assert ran.status == 1 and "2 errors found" in told, ran
    assert "the column 'kind' of servers.csv would give 'kind' once more" in told
    assert (
        "the column 'trade' of servers.csv would give 'role' once more → beside role; map it"
        in told
    )


def test_lists_that_change_alike_are_told_together(tmp_path: Path, oaktag: Run) -> None:
    """Six by name, and how many more; a guard that is taken away, in lines that fit a terminal."""
    nodes: list[dict[str, Any]] = [{"node": f"branch-{n}", "point": {}} for n in range(8)]
    links = [(a["node"], b["node"]) for a, b in itertools.pairwise(nodes)]
    network = net(*nodes, links=links, feeds=[("registry", n["node"]) for n in nodes])
    asked = [
        {
            "from": "a",
            "to": "b",
            "is": "denied",
            "service": [
                "ssh",
                "http",
                "https",
                "domain",
                "ntp",
                "snmp",
                "ldap",
                "ldaps",
                "imap",
                "smtp",
                "8443/tcp",
                "9000-9100/tcp",
                "10000-10010/udp",
            ],
        }
    ]
    build(tmp_path / "was", "a,b,web,,,,,\n", network, expectations_yaml=asked)
    folder = build(tmp_path / "now", "a,b,web,,,,,\n", network, expectations_yaml=[])
    assert oaktag("-C", folder, "compile").status == 0
    (folder / "matrix/0.csv").write_text(HEAD + "a,b,shell,,,,,\n")
    out = " ".join(oaktag("-C", folder, "compile", "--out", "new", "--since", "lists").out.split())
    assert "branch-0, branch-1, branch-2, branch-3, branch-4, branch-5 and 2 more: " in out
    ran = oaktag("-C", folder, "compare", "../was/", "./")
    assert "guard taken away" in ran.out and max(map(len, ran.out.splitlines())) <= 100, ran
    assert re.search("^guard +where +what$", ran.out, re.MULTILINE), "columns that are wrapped"


def test_an_entry_names_what_its_line_says_where_the_rest_is_decided_already(
    tmp_path: Path, oaktag: Run
) -> None:
    """A range with a hole is one range behind the entry for the hole."""
    permissions = dict(PERMISSIONS)
    permissions["web"] = [{"deny": "8005/tcp"}, {"allow": "8000-8010/tcp"}]
    network = net({"node": "n", "point": {}}, feeds=[("registry", "n")])
    build(tmp_path, "a,b,web,,,,,\n", network, permissions_yaml={"permissions": permissions})
    assert oaktag("-C", tmp_path, "compile").status == 0
    text = (tmp_path / "lists/n.nft").read_text()
    assert "8005" in text and "8000-8010" in text and "8004" not in text
