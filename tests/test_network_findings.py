"""Findings about the network: each planted on what is sound, found, and true."""

from __future__ import annotations

import itertools
import random
from collections.abc import Callable
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import given, settings

import oaktag as package
from conftest import Ran
from networks import SEEDS, random_net, share_states, states_of, write_net
from oaktag.operations import network
from oaktag.testing.slow_reach import Bound, Net
from sizes import scaled
from test_commands import _schema
from test_reach import nets

Run = Callable[..., Ran]

PLANTED = [
    ("network.yaml", "carrier, carries: false}", "carrier, carries: false, marks: true}", {"OT401"}),
    ("network.yaml", "  - {from: registry, to: hall-edge}", "  - {from: registry, to: hall-edge, only: {groups: [internet, hall]}}", {"OT402"}),
    ("network.yaml", "segments:\n", "  - {node: spare, point: {}}\n\nsegments:\n", {"OT403", "OT411"}),
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


@settings(max_examples=scaled(30))
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


@pytest.mark.parametrize("seed", range(scaled(16)))
def test_findings_are_what_the_words_say(seed: int, tmp_path: Path) -> None:
    """Idle marks, narrower bindings kept back, points that nothing crosses, tags that differ: each
    from the words of the files alone, by trying every path and comparing every two bindings."""
    net = random_net(seed)
    for feed in net.feeds[::3]:  # a filter by groups alone keeps narrower bindings back
        feed["only"] = {"groups": ["ada", "bo", "cy"]}
    net.pins.append({"prefix": "10.3.0.0/24", "group": "ada"})
    net.pins.append({"prefix": "10.3.0.0/26", "group": "fay"})
    net.segments[5]["tag"] = "bo"
    said = write_net(net, tmp_path).check()["findings"]
    assert all(f["code"] not in ("OT401", "OT402", "OT403", "OT404") or f["file"] for f in said)
    found = {
        code: {f["message"].split()[0] for f in said if f["code"] == code}
        for code in ("OT401", "OT404")
    }
    known = net.known()
    idle = {n["node"] for n in net.nodes if n["marks"] and not known[n["node"]]}
    assert found["OT401"] == idle
    counted = len([f for f in said if f["code"] == "OT402"])
    assert counted == sum(_keeps_back(net, feed, known) for feed in net.feeds)
    node_of = {s["segment"]: s["node"] for s in net.segments}
    ends = sorted(set(node_of.values()))
    ways = {(a, b): net.paths(a, b) for a in ends for b in ends if a != b}
    on_way = {name for held in ways.values() for way in held for name, _ in way} | set(ends)
    points = [
        f"{n['node']}.{p['name']}" for n in net.nodes for p in n["points"] if p.get("mode") != "off"
    ]
    lonely = {p for p in points if p.split(".")[0] not in on_way}
    told = [f["message"] for f in said if f["code"] == "OT403"]
    assert {m.split("the point ")[1].split(":")[0] for m in told} == lonely
    assert found["OT404"] == {
        f"{n['node']}.{p['name']}"
        for n in net.nodes
        for p in n["points"]
        if p.get("mode") != "off" and p.get("match", {}).get("source") != "address"
        if _differs(net, n["node"], known, ways, node_of)
    }


@pytest.mark.parametrize("seed", SEEDS)
def test_findings_about_answers_are_what_walking_finds(
    seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Who is gone round, and who drops answers: of every two addresses, on all ways out and back,
    about every kind of packet that arrives."""
    rng = random.Random(seed)
    net = random_net(seed)
    share_states(net, rng, 0.3)
    for segment in net.segments:
        segment.pop("tag", None)
    net.beings = net.beings[:12]
    names = {
        f"{n['node']} {i}": f"{n['node']}.{p['name']}"
        for n in net.nodes
        for i, p in enumerate(n["points"])
    }
    stateful = {
        f"{n['node']}.{p['name']}": p.get("stateful", True) for n in net.nodes for p in n["points"]
    }
    known, found = net.known(), set()
    dropping: dict[tuple[object, ...], list[set[str]]] = {}
    people = [(address, segment, group) for _, address, segment, group in net.people()]
    net._packets = net._kinds()
    for a, b in itertools.permutations(people, 2):
        if ip_address(a[0]).version != ip_address(b[0]).version:
            continue
        outs, backs = _ways(net, a[1], b[1]), _ways(net, b[1], a[1])
        for out, back in itertools.product(outs, backs):
            there = net.judgements(out, known, a, b)
            row = a[1], a[2], b[1], b[2], tuple(n for n, _ in out)
            dropping.setdefault(row, []).append(set())
            arriving = [
                n for n in range(len(net._packets))
                if _answered(net._packets[n]) and net._packets[n][0] == ip_address(a[0]).version
                and net.allows((a[2], b[2]))[n] and all(_passes(net, cell, n) for cell in there)
            ]  # fmt: skip
            if not arriving:
                continue
            keeping = states_of(net, back)
            for judged in there:
                if judged[2] and _state(judged, names) not in keeping:
                    found.add(("OT405", names[judged[3][0]]))
            crossed = states_of(net, out)
            for judged in net.judgements(back, known, b, a):
                knows = judged[2] and _state(judged, names) in crossed
                if not knows and any(not _passes(net, judged, n, turned=True) for n in arriving):
                    point = names[judged[3][0]]
                    found.add(("OT406" if stateful[point] else "OT407", point))
                    dropping[row][-1].add(point.split(".")[0])
    workspace = write_net(net, tmp_path)
    for most in (network.MOST_PAIRS, 0):  # of every pair; and as in a network of very many
        monkeypatch.setattr(network, "MOST_PAIRS", most)
        said = workspace.check()["findings"]
        told = {
            (f["code"], f["message"].split(" go round ")[1].split(",")[0])
            for f in said if f["code"] == "OT405"
        }  # fmt: skip
        told |= {
            (f["code"], f["message"].split()[0]) for f in said if f["code"] in ("OT406", "OT407")
        }
        assert told == found, most
    # Rows of reach name who drops their answers: of one pair of addresses, all of them.
    for flow in workspace.reach()["flows"]:
        named = {r["node"] for r in flow["amiss"] if r["why"] == "answer-dropped"}
        assert bool(named) == (flow["effect"] == "one-way")
        if named:
            ends = [(e["segment"], e["group"]) for e in (flow["source"], flow["destination"])]
            tries = dropping[(*ends[0], *ends[1], tuple(flow["path"]))]
            assert named <= set().union(*tries)
            assert len({frozenset(t) for t in tries}) > 1 or named == tries[0]


def _state(judged: Any, names: dict[str, str]) -> object:
    """The name of the flows that a judging point keeps, as ``states_of`` names them."""
    own, *shared = judged[3]
    return shared[0].removeprefix("shared ") if shared else tuple(names[own].split("."))


def _ways(net: Net, one: str, two: str) -> list[list[tuple[str, Any]]]:
    node_of = {s["segment"]: s["node"] for s in net.segments}
    return [[(node_of[one], None)]] if one == two else net.paths(node_of[one], node_of[two])


def _answered(packet: tuple[int, int, int, int]) -> bool:
    return packet[1] in (6, 17, 132) or packet[:3] in ((4, 1, 8), (6, 58, 128))


def _passes(net: Net, judged: Any, number: int, *, turned: bool = False) -> bool:
    """Whether a point lets a packet pass, or (turned) the answer to it."""
    what, answering = judged[:2]
    if isinstance(what, str):
        return bool(what == "allow")
    plain, other = (net.answers, net.allows) if turned else (net.allows, net.answers)
    return plain(what)[number] or (answering and other((what[1], what[0]))[number])


def _keeps_back(net: Net, feed: dict[str, Any], known: dict[str, list[Bound]]) -> bool:
    """Whether a feed passes a wide binding, and keeps back one of another group inside it that the
    receiver does not have from elsewhere."""
    if "only" not in feed or feed.get("state") == "down":
        return False
    registry = feed["from"] == "registry"
    sender = net.registry() if registry else known[feed["from"]]
    node = next((n for n in net.nodes if n["node"] == feed["from"]), None)
    own = sender if registry or (node and node.get("relays")) else net.learned(node or {})
    brought = [b for b in own if net.passes(feed, b)]
    has = {b[0] for b in known[feed["to"]]}
    # Of one prefix the sender goes by the stronger source, then the lower tag.
    numbers = {g: tag for g, (tag, _) in net.stack.groups.items()} | {"untagged": 0}
    order = ("pinned", "session", "inventory", "adopted", "segment")
    in_force: dict[object, Bound] = {}
    for bound in sorted(sender, key=lambda b: (order.index(b[2]), numbers[b[1]])):
        in_force.setdefault(bound[0], bound)
    return any(
        narrow[0].version == wide[0].version
        and narrow[0] != wide[0]
        and narrow[0].subnet_of(wide[0])  # type: ignore[arg-type]
        and narrow[0] not in has
        and narrow[1] != wide[1]
        for wide in brought
        for narrow in in_force.values()
    )


def _differs(
    net: Net,
    node: str,
    known: dict[str, list[Bound]],
    ways: dict[tuple[str, str], list[list[tuple[str, Any]]]],
    node_of: dict[str, str],
) -> bool:
    """Whether some frame arrives at a node with another tag than the node itself has for it."""
    carries = {n["node"]: n["carries"] for n in net.nodes}
    marks = {n["node"]: n["marks"] for n in net.nodes}
    people = [(address, node_of[segment]) for _, address, segment, _ in net.people()]
    people += [(a, node_of[s]) for a, s in _unknown(net)]
    for address, start in people:
        frame, bound = (net.tag(known[n], address) for n in (start, node))
        if not marks[start] or "untagged" in (frame, bound) or frame == bound:
            continue
        for (a, _), held in ways.items():
            for way in held if a == start else ():
                names = [name for name, _ in way]
                if node not in names[1:]:
                    continue
                hop = names.index(node)
                links = all(link["carries"] for _, link in way[1 : hop + 1])
                if links and all(carries[n] for n in names[1:hop]):
                    return True
    return False


def _unknown(net: Net) -> list[tuple[str, str]]:
    """Addresses of unknown hosts on segments with a default tag, one of all that are alike."""
    return [(a, segment) for name, a, segment, _ in net.people() if name == f"unknown at {a}"]
