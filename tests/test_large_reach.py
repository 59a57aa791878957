"""What reach does for large networks, against the plain way: counting, failures, paths, knowledge.

Networks here are larger than those of ``test_reach``: a dozen nodes, ten segments, two families,
some twenty hosts, with feeds, filters, relays, marks, pins at nodes, sessions and scopes at random.
"""

from __future__ import annotations

import json
import random
import re
import sys
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import jsonschema
import pytest

import oaktag as package
from conftest import Ran
from networks import SEEDS, grid, random_net, stack, write_net
from oaktag.core import failures, paths
from oaktag.core.failures import candidates, without, worst
from oaktag.core.judging import frame_arrives
from oaktag.core.knowledge import Knowledge
from oaktag.core.network import Feed, Link, Network, Node, Point
from oaktag.core.paths import Paths
from oaktag.core.pathtree import PathTrees
from oaktag.core.placement import node_hosts
from oaktag.core.reach_counts import count_rows
from oaktag.core.registry import learned_bindings
from oaktag.core.scopes import arriving
from oaktag.operations.model import Model
from oaktag.testing.slow_reach import Being, Net
from sizes import scaled
from test_commands import _schema


@pytest.mark.parametrize("plain", [True, False])
@pytest.mark.parametrize("seed", SEEDS)
def test_counting_and_rows_agree(seed: int, plain: bool, tmp_path: Path) -> None:
    """Effects, results and causes of all rows; from and to a part of the hosts too."""
    model = write_net(random_net(seed, plain=plain), tmp_path).model
    every = model.state.classes(model.hosts)
    part = model.state.classes(model.hosts[::3])
    for sources, destinations in ((every, every), (part, every), (every, part), (part, part)):
        counted = count_rows(model.state, sources, destinations)
        flows = list(model.state.rows(sources, destinations))
        assert counted.effects == Counter(f.effect for f in flows)
        assert counted.results == Counter(f.result for f in flows)
        causes = Counter((f.effect, f.causes[-1:]) for f in flows if f.effect != "exact")
        assert {key: cause.rows for key, cause in counted.causes.items()} == causes
        places = {(f.source[0], f.destination[0]) for f in flows}
        for (effect, last), cause in counted.causes.items():
            example = cause.example
            assert (example.effect, example.causes[-1:]) == (effect, last)
            assert example in flows
            assert cause.sources.keys() <= {a for a, _ in places}
            assert cause.destinations.keys() <= {b for _, b in places}


@pytest.mark.parametrize("seed", SEEDS[: scaled(4)])
def test_failures_are_rows_of_the_network_without(
    seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Each loss, by building the whole network without it from nothing and making every row. Half
    of the networks are taken as if they had very many nodes."""
    model = write_net(random_net(seed, plain=seed % 2 == 0), tmp_path).model
    if seed % 4 < 2:
        monkeypatch.setattr(failures, "MANY_NODES", 0)
        monkeypatch.setattr(paths, "MANY_NODES", 0)
    said = {(f["kind"], f["name"]): f for f in package.Workspace(model).failures()["failures"]}
    before = worst(model.state.flows(model.hosts, model.hosts))
    learned = learned_bindings(
        model.groups, model.assignment, model.prefix_pins, model.network, model.places
    )
    from oaktag.core.reach import State

    every: Counter[str] = Counter()
    losing = candidates(model.network)
    assert {(lost.kind, lost.name) for lost in losing} == said.keys()
    for lost in losing:
        network = without(model.network, lost)
        judges = {
            n: j for n, j in model.state.judges.items() if (lost.kind, lost.name) != ("point", n)
        }
        knowledge = Knowledge(network, model.registry_bindings, learned)
        after = State(model.matrix, network, Paths(network), knowledge, judges)
        left = [h for h in model.hosts if lost.kind != "node" or h.node != lost.name]
        turned: Counter[str] = Counter()
        for ends, flow in worst(after.flows(left, left)).items():
            if flow.cut_off and not before[ends].cut_off:
                turned["cut off"] += 1
            elif before[ends].effect == "exact" != flow.effect:
                turned[flow.effect] += 1
        row = said[lost.kind, lost.name]
        found = {"leak": "leaks", "break": "breaks", "one-way": "one_way", "cut off": "cut_off"}
        assert {e: row[key] for e, key in found.items()} == {e: turned[e] for e in found}, lost
        assert bool(row["example"]) == bool(turned)
        if turned:
            first = next(e for e in found if turned[e])
            assert row["example"].endswith(f": {first}"), (lost, row, turned)
        every += turned
    assert sum(every.values()) > 10 and len(every) > 1


@pytest.mark.parametrize("seed", SEEDS)
def test_knowledge_without_feeds_is_knowledge_of_the_network_without(
    seed: int, tmp_path: Path
) -> None:
    """One feed less, and all feeds of one node less: the same as from nothing, for every node."""
    model = write_net(random_net(seed), tmp_path).model
    whole, network = model.knowledge, model.network
    learned = learned_bindings(
        model.groups, model.assignment, model.prefix_pins, model.network, model.places
    )
    losses: list[list[Feed]] = [[feed] for feed in network.feeds]
    losses += [[f for f in network.feeds if n in (f.sender, f.receiver)] for n in network.nodes]
    for lost in losses:
        feeds = [f for f in network.feeds if f not in lost]
        less = Network(
            list(network.nodes.values()), list(network.segments.values()), network.links, feeds
        )
        fewer, plain = whole.less(less, lost), Knowledge(less, model.registry_bindings, learned)
        for node in network.nodes:
            assert fewer.known(node) == plain.known(node)
            assert set(fewer.at(node).bindings) == set(plain.at(node).bindings)
            # Who knows the same as before has the same table, not one like it.
            assert (fewer.at(node) is whole.at(node)) == (fewer.known(node) == whole.known(node))
        for binding in whole.every:
            assert fewer.holders(binding) == plain.holders(binding)


def random_links(seed: int) -> Network:
    """Nodes and links alone, parallel ones too, some nodes without any."""
    rng = random.Random(seed)
    nodes = [
        Node(f"n{n}", carries=rng.random() < 0.7, marks=rng.random() < 0.5)
        for n in range(rng.randint(2, 9))
    ]
    links = []
    for number in range(rng.randint(1, 14)):
        a, b = rng.sample(nodes, 2)
        links.append(Link(f"k{number}", a.name, b.name, rng.random() < 0.7, rng.randint(1, 2)))
    return Network(nodes, [], links)


@pytest.mark.parametrize("seed", range(scaled(40)))
def test_all_ways_to_ask_of_paths_agree(seed: int) -> None:
    """Trees hold just the paths, with whether frames arrive; a node is crossed, and reached by
    frames, just where some path says so."""
    network = random_links(seed)
    held = Paths(network)
    trees = PathTrees(network, held)
    names = list(network.nodes)
    for source in names:
        every = {t: list(held.between(source, t)) for t in names}
        tree = trees.tree(source)
        found: dict[str, list[Any]] = {t: [] for t in names}
        for entry in range(len(tree.node)):
            path = trees.path(tree, entry)
            hop = len(path.nodes) - 1
            found[path.nodes[-1]].append(path)
            arrives = frame_arrives(path, hop, network) if hop else network.nodes[source].marks
            assert tree.alive[entry] == arrives
        assert not tree.many.any()
        for target, ways in every.items():
            assert sorted(map(str, found[target])) == sorted(map(str, ways))
        marked = network.nodes[source]._replace(marks=True)
        others = [n for n in network.nodes.values() if n.name != source]
        loud = Network([marked, *others], [], network.links)
        reached = {
            path.nodes[-1]
            for ways in every.values()
            for path in ways
            if len(path.nodes) > 1 and frame_arrives(path, len(path.nodes) - 1, loud)
        }
        assert set(arriving(source, network, held)) == reached
    for node in names:
        for sources in (names, names[:1], names[1:]):
            expected = [
                any(node in p.nodes for s in sources if s != t for p in held.between(s, t))
                for t in names
            ]
            assert held.crossed(node, sources, names) == expected


@pytest.mark.parametrize("seed", range(scaled(6)))
def test_a_square_of_equal_paths(seed: int, tmp_path: Path) -> None:
    """70 equal paths of one pair: grouped by result as if each had been walked; and the same for
    a square so large that nobody could."""
    rng = random.Random(seed)
    net = grid(5, rng)
    workspace = write_net(net, tmp_path / "small")
    flows = workspace.reach("ada", "cy")["flows"]
    known = net.known()
    walked: Counter[tuple[object, ...]] = Counter()
    for way in net.paths("g00", "g44"):
        row = net.walk(way, known, ("10.1.0.1", "s0", "ada"), ("10.2.0.1", "s1", "cy"))
        # What is amiss at another point though enforced tells no row from another here.
        walked[row.result, row.at, tuple(row.why[-1:]), row.leak, row.gone] += 1
    found: Counter[tuple[object, ...]] = Counter()
    for flow in flows:
        effects = {p["effect"] for p in flow["packets"]}
        why = tuple((r["node"], r["why"]) for r in flow["reasons"][-1:])
        key = flow["result"], flow["at"], why, "leak" in effects, "break" in effects
        found[key] += flow["paths"]
    assert found == walked and found.total() == 70
    model = workspace.model
    every = model.state.classes(model.hosts)
    assert count_rows(model.state, every, every).effects == Counter(
        f.effect for f in model.state.rows(every, every)
    )
    large = write_net(grid(10, rng), tmp_path / "large")
    assert sum(f["paths"] for f in large.reach("ada", "cy")["flows"]) == 48_620
    assert {f["effect"] for f in large.trace("ada", "cy", "https")["paths"]} <= {
        "exact",
        "leak",
        "break",
        "one-way",
    }


def test_what_is_amiss_though_enforced(tmp_path: Path, oaktag: Callable[..., Ran]) -> None:
    """A first point drops what it does not know; the last enforces: reach says where it breaks."""
    net = Net(
        stack(),
        [
            {"node": "n0", "points": [{"name": "p", "outside": "deny", "scope": {"destinations": ["bo"]}}]},
            {"node": "n1", "points": [{"name": "q"}]},
        ],
        [
            {"segment": "s0", "node": "n0", "prefixes": ["10.1.0.0/24"]},
            {"segment": "s1", "node": "n1", "prefixes": ["10.2.0.0/24"]},
        ],
        [{"between": ["n0", "n1"]}],
        [{"from": "registry", "to": "n0"}, {"from": "registry", "to": "n1"}],
        [Being("b0", ["10.1.0.1"], "ada", True), Being("b1", ["10.2.0.1"], "cy", True)],
    )  # fmt: skip
    write_net(net, tmp_path)
    ran = oaktag("-C", tmp_path, "reach", "--from", "ada", "--to", "cy")
    assert (
        ran.status == 1
        and "n0's list lacks the cell" in ran.out
        and "widen the scope of n0" in ran.out
    )
    document = oaktag("-C", tmp_path, "reach", "--from", "ada", "--to", "cy", "--json").json
    (flow,) = document["flows"]
    assert (flow["result"], flow["at"], flow["reasons"], flow["effect"]) == (
        "enforced",
        "n1",
        [],
        "break",
    )
    assert flow["packets_text"] == "break http, https"
    (cause,) = document["summary"]["causes"]
    assert cause["reasons"] == [{"node": "n0", "why": "no-cell"}]


def test_a_network_of_many_causes_fits_a_screen(tmp_path: Path, oaktag: Callable[..., Ran]) -> None:
    """A generated workspace of 1.5 million rows: kinds of causes first, then the worst ones; the
    numbers are those of the JSON form; failures of it are found too."""
    sys.path.insert(0, str(Path(__file__).parents[1] / "benchmarks"))
    import generate  # type: ignore[import-not-found, unused-ignore]

    for name, text in generate.workspace_texts(0.01, 2).items():
        path = tmp_path / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    ran = oaktag("-C", tmp_path, "reach")
    document = oaktag("-C", tmp_path, "reach", "--json").json
    summary = document["summary"]
    effects = summary["effects"]
    assert sum(effects.values()) == sum(summary["results"].values()) > 1_000_000
    wrong = sum(n for effect, n in effects.items() if effect != "exact")
    assert sum(c["flows"] for c in summary["causes"]) == wrong
    assert len(ran.out.splitlines()) < 66 and f"{effects['leak']:,} leak" in ran.out
    assert f"{len(summary['causes'])} causes; the 10 worst:" in ran.out
    assert len(document["flows"]) == len(summary["causes"])
    for cause in summary["causes"]:
        assert cause["from_segments"] == sorted(cause["from_segments"])
        assert 0 < len(cause["from_segments"]) <= 20 and cause["advice"]
    refused = oaktag("-C", tmp_path, "reach", "--by", "endpoint")
    assert refused.status == 2 and "narrow them by --from and --to" in refused.err
    # One source segment is a part of the whole, whichever way it is computed.
    model = Model.read(tmp_path)
    held = Counter(h.group for h in model.hosts)
    group = model.groups.all[min(held, key=lambda g: (held[g], g))].id
    part = oaktag("-C", tmp_path, "reach", "--from", group, "--json").json["summary"]["effects"]
    assert 0 < sum(part.values()) < sum(effects.values())
    here = model.state.classes([h for h in model.hosts if h.segment == "s3"])
    every = model.state.classes(model.hosts)
    assert count_rows(model.state, here, every).effects == Counter(
        f.effect for f in model.state.rows(here, every)
    )


@pytest.mark.parametrize("seed", range(scaled(8)))
def test_by_endpoint_names_whose_rows_are_not_exact(
    seed: int, tmp_path: Path, oaktag: Callable[..., Ran]
) -> None:
    """Just those of whom ``--from`` or ``--to`` the endpoint alone shows something not exact."""
    net = random_net(seed)
    workspace = write_net(net, tmp_path)
    ran = oaktag("-C", tmp_path, "reach", "--by", "endpoint", "--json")
    jsonschema.validate(ran.json, _schema("reach"))
    said = {row["endpoint"]: row for row in ran.json["endpoints"]}
    for being in net.beings:
        row = said.get(being.name, {})
        for word, ends in (
            ("from", (f"endpoint:{being.name}", None)),
            ("to", (None, f"endpoint:{being.name}")),
        ):
            try:
                flows = workspace.reach(*ends)["flows"]
            except package.UsageError:
                flows = []
            wrong = row.get(f"leaks_{word}", 0) + row.get(f"breaks_{word}", 0)
            assert bool(wrong) == any(f["effect"] != "exact" for f in flows), (being, word)
            assert bool(row.get(f"leaks_{word}")) == any(f["effect"] == "leak" for f in flows)
    shown = oaktag("-C", tmp_path, "reach", "--by", "endpoint").out
    assert all(name in shown for name in said)


def test_known_scopes_hold_what_paths_lead_to(tmp_path: Path) -> None:
    """``scope: known`` by enumerating every path of every pair of segments."""
    for seed in SEEDS:
        net = random_net(seed, plain=True)
        for node in net.nodes:
            for point in node["points"]:
                point["scope"] = "known"
        model = write_net(net, tmp_path / str(seed)).model
        groups = {
            s: {h.group for h in model.hosts if h.segment == s} for s in model.network.segments
        }
        unstable = {
            int(model.assignment.group[n])
            for n in range(len(model.files.endpoints))
            if not model.files.endpoints.is_stable(n) and model.assignment.group[n] >= 0
        }
        for point in model.network.points.values():
            assert model.scope(point)[1] == sorted({0} | _behind(model, point, groups, unstable))


def _behind(
    model: Model, point: Point, groups: dict[str, set[int]], unstable: set[int]
) -> set[int]:
    found: set[int] = set()
    segments = model.network.segments
    for a in segments.values():
        for b in segments.values():
            if a is b and not point.inside:
                continue
            if point.origins is not None and a.name not in point.origins:
                continue
            if point.targets is not None and b.name not in point.targets:
                continue
            ways = [(a.node,)] if a is b else [p.nodes for p in model.paths.between(a.node, b.node)]
            if any(point.node in nodes for nodes in ways):
                found |= groups[b.name]
                if "session" in model.network.nodes[b.node].learns:
                    found |= unstable
    return found


def test_own_addresses_are_counted_as_rows_are(tmp_path: Path) -> None:
    """The word ``points``: rows to nodes' own addresses, counted and made."""
    for seed in range(6):
        net = random_net(seed, plain=True)
        for number, node in enumerate(net.nodes):
            node["address"] = f"10.{number % 10}.0.250"
            if number % 3 == 0:
                node["group"] = "di"
        model = write_net(net, tmp_path / str(seed)).model
        classes = model.state.classes(model.hosts)
        own = model.state.classes(node_hosts(model.groups, model.network, model.registry))
        assert any(c.host.own for c in own)
        for sides in ((classes, own), (own, classes)):
            rows = list(model.state.rows(*sides))
            assert count_rows(model.state, *sides).effects == Counter(f.effect for f in rows)


def test_json_of_many_rows_says_that_it_is_grouped(
    tmp_path: Path, oaktag: Callable[..., Ran]
) -> None:
    """Below the limit ``flows`` has every row; the summary is the same either way."""
    write_net(random_net(5, plain=True), tmp_path)
    document = oaktag("-C", tmp_path, "reach", "--json").json
    assert len(document["flows"]) == sum(document["summary"]["effects"].values())
    counted = Counter(f["effect"] for f in document["flows"])
    assert counted == Counter(document["summary"]["effects"])
    by_cause: Counter[str] = Counter()
    for cause in document["summary"]["causes"]:
        by_cause[cause["effect"]] += cause["flows"]
    assert by_cause == +Counter({e: n for e, n in counted.items() if e != "exact"})
    text = json.dumps(document, sort_keys=True)
    again = oaktag("-C", tmp_path, "reach", "--json").json
    assert json.dumps(again, sort_keys=True) == text


@pytest.mark.parametrize("at", [3, 6])
def test_a_figure_of_very_many_sites(tmp_path: Path, oaktag: Callable[..., Ran], at: int) -> None:
    """Eleven sites are a box each; more are a table of sites by sites, with each site twice."""
    nodes: list[dict[str, Any]] = [
        {"node": f"n{n}", "site": f"town-{n // at}", "carries": n % 2 == 0, "points": []}
        for n in range(66)
    ]
    nodes[2]["points"] = [{"name": "p"}]
    links = [{"between": [f"n{n}", f"n{n // 2}"], "carries": n % 5 > 0} for n in range(1, 66)]
    feeds = [{"from": "registry", "to": "n9"}, {"from": "n60", "to": "n3"}]
    segments = [
        {"segment": f"s{n}", "node": f"n{n}", "prefixes": [f"10.{n}.0.0/24"]} for n in (5, 64)
    ]
    beings = [Being("b0", ["10.5.0.1"], "ada", True), Being("b1", ["10.64.0.1"], "cy", True)]
    write_net(Net(stack(), nodes, segments, links, feeds, beings), tmp_path)
    for name in ("one.svg", "two.svg", "one.png"):
        assert oaktag("-C", tmp_path, "reach", "--figure", str(tmp_path / name)).status == 1
    drawn = (tmp_path / "one.svg").read_text()
    assert drawn == (tmp_path / "two.svg").read_text()
    assert (tmp_path / "one.png").read_bytes()[:4] == b"\x89PNG"
    written = re.findall(r"<!-- (.*?) -->", drawn)
    if at == 6:
        assert all(written.count(f"town-{n}") == 1 for n in range(11))
        assert sum(w.startswith("6 nodes: ") for w in written) == 11
        assert (
            written.count("! goes wrong at n2") == 1 and "66 nodes: each site is one box" in drawn
        )
        return
    assert all(written.count(f"town-{n}") == 2 for n in range(22))
    assert written.count("! 1") == 1  # only the point's node can be where something goes wrong
    assert "below the diagonal, links between sites" in drawn
