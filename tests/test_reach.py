"""Knowledge, paths and reach against a slow walker that tries everything."""

from __future__ import annotations

import json
from collections import Counter
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import oaktag
from networks import write_net
from oaktag.testing.slow import Stack
from oaktag.testing.slow_reach import Being, Net
from oaktag.testing.strategies import stacks
from sizes import scaled
from test_matrix import in_box

NODES = ("n0", "n1", "n2", "n3")
PREFIXES = {
    "s0": ["10.1.0.0/24", "2001:db8:1::/64"], "s1": ["10.2.0.0/24", "2001:db8:2::/64"],
    "s2": ["10.1.0.128/25"], "s3": ["10.3.0.0/24"],
}  # fmt: skip
ADDRESSES = ("10.1.0.1", "10.1.0.2", "10.1.0.129", "10.2.0.1", "10.2.0.2", "10.3.0.1", "10.9.0.1",
             "2001:db8:1::1", "2001:db8:2::1")  # fmt: skip
GROUPS = ("ada", "bo", "cy", "di")

maybe = st.sampled_from((True, True, False))
points = st.fixed_dictionaries(
    {
        "mode": st.sampled_from(("enforce", "enforce", "enforce", "observe", "off")),
        "inside": st.booleans(),
        "stateful": st.sampled_from((True, True, True, False)),
        "outside": st.sampled_from(("allow", "deny")),
        "if_differ": st.sampled_from(("frame", "bindings")),
        "match": st.sampled_from(({"source": "tag"}, {"source": "tag"}, {"source": "address"})),
        "from": st.sampled_from(("*", "*", "*", ["s0", "s1"])),
        "toward": st.sampled_from(("*", "*", "*", ["s1", "s3"])),
        "scope": st.sampled_from(("all", "all", {"destinations": ["cy", "front"]}, {"sources": ["bo"]})),
    }
)  # fmt: skip


def everybody_else(draw: st.DrawFn, segments: list[dict[str, Any]], beings: list[Being]) -> None:
    """All addresses as a segment, as an endpoint, or as both."""
    kinds = draw(st.sampled_from((("segment",), ("endpoint",), ("segment", "endpoint"))))
    if "segment" in kinds:
        outside: dict[str, Any] = {
            "segment": "outside", "node": draw(st.sampled_from(NODES)),
            "prefixes": ["0.0.0.0/0", "::/0"],
        }  # fmt: skip
        if draw(maybe):
            outside["tag"] = draw(st.sampled_from((*GROUPS, "untagged")))
        segments.append(outside)
    if "endpoint" in kinds:
        wide = draw(
            st.sampled_from((["0.0.0.0/0"], ["::/0"], ["0.0.0.0/0", "::/0"], ["10.0.0.0/8"]))
        )
        beings.append(Being("world", wide, draw(st.sampled_from((*GROUPS, None))), True))


@st.composite
def nets(draw: st.DrawFn) -> Net:
    """Small networks with every feature."""
    stack: Stack = draw(stacks(most_lines=4))
    nodes: list[dict[str, Any]] = [
        {
            "node": name, "carries": draw(maybe), "marks": draw(st.booleans()),
            "relays": draw(st.booleans()),
            "learns": draw(st.lists(st.sampled_from(("session", "segment")), unique=True)),
            "points": [
                {"name": f"p{n}", **draw(points)}
                for n in range(draw(st.sampled_from((0, 0, 1, 1, 2))))
            ],
        }
        for name in NODES
    ]  # fmt: skip
    segments: list[dict[str, Any]] = []
    for name, prefixes in PREFIXES.items():
        segments.append(
            {"segment": name, "node": draw(st.sampled_from(NODES)), "prefixes": prefixes}
        )
    pairs = st.sampled_from([(a, b) for a in NODES for b in NODES if a < b])
    links = [
        {"between": list(draw(pairs)), "carries": draw(maybe), "cost": draw(st.integers(1, 2)), "name": f"k{n}"}
        for n in range(draw(st.integers(3, 6)))
    ]  # fmt: skip
    only = st.sampled_from(
        (None, None, {"groups": ["ada", "cy"]}, {"prefixes": ["10.1.0.0/25", "10.2.0.0/16"]},
         {"groups": ["bo"], "prefixes": ["10.0.0.0/8"]})
    )  # fmt: skip
    registries: list[dict[str, Any]] = draw(
        st.sampled_from(
            (
                [],
                [{"registry": "east", "sites": ["s1"]},
                 {"registry": "west", "prefixes": ["10.1.0.0/16", "10.2.0.0/25"]}],
                [{"registry": "east"}, {"registry": "west", "prefixes": ["10.1.0.0/25"]}],
            )
        )
    )  # fmt: skip
    for number, node in enumerate(nodes):
        node["site"] = f"s{number % 2}"
    feeds: list[dict[str, Any]] = []
    for number in range(draw(st.integers(0, 5))):
        senders = ("registry", *(r["registry"] for r in registries), *NODES)
        sender, receiver = draw(st.sampled_from(senders)), draw(st.sampled_from(NODES))
        if sender != receiver:
            feeds.append({"from": sender, "to": receiver, "name": f"f{number}"})
            feeds[-1]["state"] = draw(st.sampled_from(("up", "up", "down")))
            if kept := draw(only):
                feeds[-1]["only"] = kept
    beings = [
        Being(
            f"b{n}", draw(st.lists(st.sampled_from(ADDRESSES), min_size=1, max_size=2, unique=True)),
            draw(st.sampled_from((*GROUPS, None))), draw(maybe),
        )
        for n in range(draw(st.integers(2, 5)))
    ]  # fmt: skip
    draw(st.sampled_from((lambda *_: None, everybody_else)))(draw, segments, beings)
    pins = draw(
        st.lists(
            st.fixed_dictionaries(
                {
                    "prefix": st.sampled_from(("10.1.0.0/24", "10.1.0.2/32", "10.2.0.0/30")),
                    "group": st.sampled_from((*GROUPS, "untagged")),
                },
                optional={"at": st.sampled_from(NODES)},
            ),
            max_size=2,
        )
    )
    seen = st.tuples(
        st.sampled_from([b.name for b in beings]), st.sampled_from(ADDRESSES), st.integers(0, 3)
    )
    sessions = draw(st.lists(seen, max_size=4))
    return Net(stack, nodes, segments, links, feeds, beings, pins, sessions, registries)


@settings(max_examples=scaled(120))
@given(net=nets())
def test_reach_is_what_walking_finds(net: Net, tmp_path: Path) -> None:
    workspace = write_net(net, tmp_path)
    known = net.known()
    for node in NODES:
        said = workspace.bindings(node, ADDRESSES)["found"]
        assert [f["group"] for f in said] == [net.tag(known[node], a) for a in ADDRESSES]
    found: dict[tuple[object, ...], list[object]] = {}
    for flow in workspace.reach()["flows"]:
        ends = [flow[e][k] for e in ("source", "destination") for k in ("segment", "group")]
        why = [(r["node"], r["why"]) for r in flow["reasons"]]
        effects = {p["effect"] for p in flow["packets"]}
        row = [flow["result"], flow["at"], why, "leak" in effects, "break" in effects,
               flow["open_for_answers"], "one-way" in effects]  # fmt: skip
        # Parallel links are different paths.
        key = (*ends, tuple(flow["path"]), tuple(flow["links"]))
        assert key not in found
        found[key] = row
    slow = net.rows()
    assert found.keys() == slow.keys(), found.keys() ^ slow.keys()
    for key, row in found.items():
        walked = slow[key]
        assert row[:2] + row[3:] == [walked.result, walked.at, walked.leak, walked.gone,
                                     walked.answers, walked.one_way], key  # fmt: skip
        assert row[2] in walked.whys, key


def test_default_tags_stand_for_unknown_hosts(tmp_path: Path) -> None:
    """A segment with a default is somebody; pins inside it are too; nobody else is."""
    net = Net(
        Stack({"ada": (310, {}), "bo": (320, {}), "cy": (410, {})}, {}, {}, [[]]),
        [{"node": "n0", "learns": ["segment"], "points": [{"name": "p", "inside": True}]}],
        [
            {"segment": "s0", "node": "n0", "prefixes": ["10.1.0.0/24"], "tag": "ada"},
            {"segment": "s1", "node": "n0", "prefixes": ["10.2.0.0/30"], "tag": "untagged"},
            {"segment": "s2", "node": "n0", "prefixes": ["10.3.0.0/24"]},
        ],
        [], [{"from": "registry", "to": "n0"}],
        [Being("b0", ["10.1.0.9"], "cy", stable=True)],
        [{"prefix": "10.1.0.128/25", "group": "bo"}],
    )  # fmt: skip
    flows = write_net(net, tmp_path).reach()["flows"]
    ends = {
        tuple(f[e][k] for e in ("source", "destination") for k in ("segment", "group"))
        for f in flows
    }
    somebody = [("s0", "ada"), ("s0", "bo"), ("s0", "cy"), ("s1", "untagged")]
    alone = {("s0", "cy")}  # one endpoint; unknown hosts stand for many
    assert ends == {(*a, *b) for a in somebody for b in somebody if not (a == b and a in alone)}
    assert {f["effect"] for f in flows} == {"exact"}


def test_many_equal_paths_are_grouped_by_result(tmp_path: Path) -> None:
    """Seven stages of two links each: 128 equal paths, of which half lose the tag at each stage."""
    nodes: list[dict[str, Any]] = [{"node": f"n{n}", "carries": True} for n in range(8)]
    nodes[0]["marks"] = True
    nodes[7]["points"] = [{"name": "p"}]
    links = [
        {"between": [f"n{n}", f"n{n + 1}"], "carries": bool(side) or n > 0}
        for n in range(7)
        for side in range(2)
    ]
    net = Net(
        Stack({"ada": (310, {}), "cy": (410, {})}, {}, {}, [[]]), nodes,
        [
            {"segment": "s0", "node": "n0", "prefixes": ["10.1.0.0/24"]},
            {"segment": "s1", "node": "n7", "prefixes": ["10.2.0.0/24"]},
        ],
        links,
        [
            {"from": "registry", "to": "n0"},
            {"from": "registry", "to": "n7", "only": {"groups": ["cy"]}},
        ],
        [Being("b0", ["10.1.0.1"], "ada", stable=True), Being("b1", ["10.2.0.1"], "cy", stable=True)],
    )  # fmt: skip
    flows = write_net(net, tmp_path).reach("ada", "cy")["flows"]
    told = {(f["result"], f["paths"], tuple(r["why"] for r in f["reasons"])) for f in flows}
    assert told == {("enforced", 64, ()), ("unenforced", 64, ("source-unknown",))}


@settings(max_examples=scaled(60))
@given(net=nets(), data=st.data())
def test_expectations_on_every_path(net: Net, data: st.DataObject, tmp_path: Path) -> None:
    """``path: true`` holds if the matrix does as claimed and every row between the ends is exact;
    an endpoint asks only of its own; ``keep_open`` minds breaks of its packets alone."""
    named = [b.name for b in net.beings]
    ends = [data.draw(st.sampled_from((*GROUPS, *named))) for _ in range(2)]
    group_of = {b.name: b.group or "untagged" for b in net.beings}
    cell = tuple(group_of.get(e, e) for e in ends)
    net.stack.expectations = [{"service": "https"}]  # so that packets are told apart by it
    allowed = [
        net.stack.decide(cell[0], cell[1], p, "action")[0] == "allow"
        for p in net.stack.packets()
        if net.stack.matches("https", p)
    ]
    claim = "allowed" if all(allowed) else "denied"
    net.stack.expectations = [
        {"from": ends[0], "to": ends[1], "service": "https", "is": claim, "path": True},
        {"from": ends[0], "to": ends[1], "service": "https", "is": claim},
    ]
    workspace = write_net(net, tmp_path)
    config = json.loads((tmp_path / "oaktag.yaml").read_text())
    config["keep_open"] = [{"from": ends[0], "to": ends[1], "service": "https"}]
    (tmp_path / "oaktag.yaml").write_text(json.dumps(config))
    workspace = oaktag.Workspace.load(tmp_path)
    said = workspace.expect()
    assert said["expectations"][1]["holds"] == (all(allowed) or not any(allowed))
    flows = workspace.reach(*ends)["flows"]
    reached = [f for f in flows if f["path"]]
    exact = bool(reached) and all(f["effect"] == "exact" for f in flows)
    assert said["expectations"][0]["holds"] == (said["expectations"][1]["holds"] and exact)
    broken = [p for f in flows for p in f["packets"] if p["effect"] == "break" and _https(p)]
    assert said["keep_open"][0]["holds"] == (all(allowed) and not broken)
    if all(e in GROUPS for e in ends):
        slow = [row for key, row in net.rows().items() if (key[1], key[3]) == (ends[0], ends[1])]
        assert exact == (
            any(row.result != "unconnected" for row in slow)
            and not any(row.leak or row.gone for row in slow)
        )
    example = said["expectations"][0]["counterexample"]
    assert (example is None) == said["expectations"][0]["holds"]


def _https(box: dict[str, Any]) -> bool:
    return all(
        any(low <= number <= high for low, high in box[key])
        for key, number in (("protocols", 6), ("destination_ports", 443))
    )


def test_points_as_an_end_are_their_nodes_own_addresses(tmp_path: Path) -> None:
    """Paths to a node's own address end there; its own point minds them only if it says so."""
    stack = Stack(
        {"ada": (310, {}), "cy": (410, {})}, {}, {"web": {"entries": [{"allow": ["https"]}], "otherwise": None}},
        [[{"source": "ada", "destination": "cy", "permission": "web", "mode": "", "way": ""}]],
    )  # fmt: skip
    gate = {
        "node": "n1",
        "carries": True,
        "points": [{"name": "p"}],
        "address": "10.2.0.254",
        "group": "cy",
    }
    net = Net(
        stack,
        [{"node": "n0"}, gate, {"node": "n2", "points": [{"name": "q"}], "address": "10.3.0.254", "group": "cy"}],
        [
            {"segment": "s0", "node": "n0", "prefixes": ["10.1.0.0/24"]},
            {"segment": "s1", "node": "n1", "prefixes": ["10.2.0.0/24"]},
        ],
        [{"between": ["n0", "n1"]}, {"between": ["n1", "n2"]}],
        [{"from": "registry", "to": "n1", "name": "f"}],
        [Being("b0", ["10.1.0.1"], "ada", stable=True)],
    )  # fmt: skip

    def holds(service: str) -> bool:
        write_net(net, tmp_path)
        config = json.loads((tmp_path / "oaktag.yaml").read_text())
        config["keep_open"] = [{"from": "ada", "to": "points", "service": service}]
        (tmp_path / "oaktag.yaml").write_text(json.dumps(config))
        kept: bool = oaktag.Workspace.load(tmp_path).expect()["keep_open"][0]["holds"]
        return kept

    assert holds("https") and not holds("ssh")
    net.feeds.clear()  # the gate on the way to n2 knows nobody now, and drops what is allowed
    assert not holds("https")
    net.nodes[1]["points"] = []  # n2's own point does not mind what is for n2 itself
    assert holds("https")


def test_the_order_of_sources_can_be_chosen(tmp_path: Path) -> None:
    net = Net(
        Stack({"ada": (310, {}), "cy": (410, {})}, {}, {}, [[]]), [{"node": "n0"}],
        [{"segment": "s0", "node": "n0", "prefixes": ["10.1.0.1/32"], "tag": "cy"}], [], [],
        [Being("b0", ["10.1.0.1"], "ada", stable=True)],
    )  # fmt: skip
    assert write_net(net, tmp_path).bindings(find=("10.1.0.1",))["found"][0]["group"] == "ada"
    config = json.loads((tmp_path / "oaktag.yaml").read_text())
    config["binding_order"] = ["segment", "pinned", "session", "inventory", "adopted"]
    (tmp_path / "oaktag.yaml").write_text(json.dumps(config))
    workspace = oaktag.Workspace.load(tmp_path)
    assert workspace.bindings(find=("10.1.0.1",))["found"][0]["group"] == "cy"
    assert [f["source"]["group"] for f in workspace.reach()["flows"]] == []
    config["binding_order"] = ["segment", "pinned"]
    (tmp_path / "oaktag.yaml").write_text(json.dumps(config))
    try:
        oaktag.Workspace.load(tmp_path)
    except oaktag.WorkspaceError as error:
        assert "not an order of all sources" in str(error)
    else:
        raise AssertionError("half an order was taken")


@settings(max_examples=scaled(40))
@given(net=nets(), data=st.data())
def test_a_trace_ends_as_reach_says(net: Net, data: st.DataObject, tmp_path: Path) -> None:
    """The packet that is traced fares on each path as it does in that row of reach."""
    workspace = write_net(net, tmp_path)
    names = [b.name for b in net.beings]
    for _ in range(3):
        a, b = (data.draw(st.sampled_from(names)) for _ in range(2))
        service = data.draw(st.sampled_from(("ssh", "https", "53/udp", "icmp/echo-request")))
        if a == b:
            continue
        try:
            traced = workspace.trace(f"endpoint:{a}", f"endpoint:{b}", service, back=True)
        except oaktag.UsageError:
            continue  # no family in common
        flows = workspace.reach(f"endpoint:{a}", f"endpoint:{b}")["flows"]
        for path in traced["paths"]:
            packet = tuple(path["packet"].values())
            ends = path["from"]["segment"], path["to"]["segment"]
            rows = [
                f for f in flows
                if f["path"] == path["path"]
                and (f["source"]["segment"], f["destination"]["segment"]) == ends
            ]  # fmt: skip
            wrong = {p["effect"] for f in rows for p in f["packets"] if in_box(p, packet)}
            assert rows and path["effect"] in (wrong or {"exact"})
            assert all(h["judged"] or h["action"] is None for h in path["hops"])


@settings(max_examples=scaled(8))
@given(net=nets())
def test_failures_are_what_walking_without_them_finds(net: Net, tmp_path: Path) -> None:
    """Each link, node, feed and registry taken out of the words, and the walker sent again."""
    for number, feed in enumerate(net.feeds):
        feed["name"] = f"f{number}"
    whole = _worst(net)
    found = {(f["kind"], f["name"]): f for f in write_net(net, tmp_path).failures()["failures"]}
    links = [(link, "--".join(link["between"])) for link in net.links]
    single = [name for _, name in links if [n for _, n in links].count(name) == 1]
    for kind, name, less in [
        *(("feed", f["name"], _less(net, feeds=f)) for f in net.feeds if f.get("state") != "down"),
        *(("link", link.get("name", name), _less(net, links=link)) for link, name in links if name in single),
        *(("node", n["node"], _less(net, node=n)) for n in net.nodes),
        *(
            ("registry", name, _less(net, registry=name))
            for name in ("registry", "east", "west")
            if net.registries and name in [f["from"] for f in net.feeds]
        ),
    ]:  # fmt: skip
        lost = {s["segment"] for s in net.segments if kind == "node" and s["node"] == name}
        after = {ends: e for ends, e in _worst(less).items() if not {ends[0], ends[2]} & lost}
        turned = [after[ends] for ends in after if whole[ends] == "exact" != after[ends]]
        row = found[kind, name]
        assert (row["leaks"], row["breaks"]) == (turned.count("leak"), turned.count("break")), (kind, name)  # fmt: skip


def _worst(net: Net) -> dict[tuple[object, ...], str]:
    found: dict[tuple[object, ...], str] = {}
    for key, row in net.rows().items():
        effect = "leak" if row.leak else "break" if row.gone else "exact"
        found[key[:4]] = max(
            found.get(key[:4], "exact"), effect, key=["exact", "break", "leak"].index
        )
    return found


def _less(
    net: Net, feeds: Any = None, links: Any = None, node: Any = None, registry: str = ""
) -> Net:
    """The net without one thing; a node that is lost stands alone, without links and feeds."""
    name = node["node"] if node else None
    return Net(
        net.stack, net.nodes, net.segments,
        [k for k in net.links if k is not links and name not in k["between"]],
        [
            f for f in net.feeds
            if f is not feeds and name not in (f["from"], f["to"]) and f["from"] != registry
        ],
        net.beings, net.pins, net.sessions, net.registries,
    )  # fmt: skip


@settings(max_examples=scaled(80))
@given(net=nets())
def test_counting_is_making_every_row(net: Net, tmp_path: Path) -> None:
    """Rows counted by blocks of arrays are those made one by one, cause by cause; so are those that
    alone are made where nothing else is asked for."""
    from oaktag.core.reach_counts import count_rows

    model = write_net(net, tmp_path).model
    every = model.state.classes(model.hosts)
    counted = count_rows(model.state, every, every)
    flows = list(model.state.flows(model.hosts, model.hosts))
    wrong = [flow for flow in flows if flow.effect != "exact" or flow.cut_off]
    assert model.state.wrong_flows(model.hosts) == wrong
    assert counted.effects == Counter(f.effect for f in flows)
    assert counted.results == Counter(f.result for f in flows)
    causes = Counter((f.effect, f.causes[-1:]) for f in flows if f.effect != "exact")
    assert {key: cause.rows for key, cause in counted.causes.items()} == causes
    for (effect, reasons), cause in counted.causes.items():
        assert (cause.example.effect, cause.example.causes[-1:]) == (effect, reasons)


def test_paths_of_many_nodes_are_those_of_few(monkeypatch: pytest.MonkeyPatch) -> None:
    """Both ways of computing costs give the same paths, in the same order, parallel links too."""
    import random

    from oaktag.core import paths
    from oaktag.core.network import Link, Network, Node

    rng = random.Random(5)
    for _ in range(30):
        nodes = [Node(f"n{n}") for n in range(rng.randint(2, 14))]
        links = []
        for number in range(rng.randint(1, 30)):
            a, b = rng.sample(nodes, 2)
            links.append(Link(f"k{number}", a.name, b.name, True, rng.randint(1, 3)))
        network = Network(nodes, [], links)
        few = paths.Paths(network)
        monkeypatch.setattr(paths, "MANY_NODES", 0)
        many = paths.Paths(network)
        for a in nodes:
            assert many.reached(a.name) == few.reached(a.name)
            for b in nodes:
                assert many.count(a.name, b.name) == few.count(a.name, b.name)
                found = list(many.between(a.name, b.name))
                assert found == list(few.between(a.name, b.name))
                assert len(found) == many.count(a.name, b.name)
        monkeypatch.setattr(paths, "MANY_NODES", 300)
