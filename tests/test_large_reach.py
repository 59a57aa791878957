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
from oaktag.core import failures, paths
from oaktag.core.failures import candidates, without, worst
from oaktag.core.judging import arriving, frame_arrives
from oaktag.core.knowledge import Knowledge
from oaktag.core.network import Feed, Link, Network, Node, Point
from oaktag.core.paths import Paths
from oaktag.core.pathtree import PathTrees
from oaktag.core.placement import node_hosts
from oaktag.core.registry import learned_bindings
from oaktag.core.survey import survey
from oaktag.operations.model import Model
from oaktag.operations.replay import Replay
from oaktag.testing.slow import Stack
from oaktag.testing.slow_reach import Being, Net
from test_commands import _schema
from test_reach import write_net

GROUPS = ("ada", "bo", "cy", "di", "el", "fay")
LINES = (
    ("ada", "cy", "web", "both"), ("bo", "cy", "web", "to"), ("ada", "bo", "shell", "to"),
    ("di", "front", "web", "both"), ("front", "el", "shell", "both"), ("untagged", "cy", "web", "to"),
    ("fay", "itself", "all", "to"), ("el", "untagged", "web", "to"), ("cy", "di", "all", "both"),
)  # fmt: skip
SEEDS = range(16)


def stack() -> Stack:
    """A matrix in which most cells differ."""
    named = {
        "web": {"entries": [{"allow": ["https", "http"]}], "otherwise": None},
        "shell": {"entries": [{"deny": ["80/tcp"]}, {"allow": ["1-1023/tcp", "icmp"]}], "otherwise": None},
        "all": {"entries": [{"allow": ["any"]}], "otherwise": None},
    }  # fmt: skip
    rows = [
        {"source": s, "destination": d, "permission": p, "mode": "", "way": w}
        for s, d, p, w in LINES
    ]
    tags: dict[str, Any] = {name: (100 + n, {}) for n, name in enumerate(GROUPS)}
    return Stack(tags, {"front": ["ada", "bo"]}, named, [rows], "deny", None, "specific-first", {})


def random_net(seed: int, *, plain: bool = False) -> Net:
    """A network of some size. A ``plain`` one has what the counting counts without making rows:
    stateful points, nothing known wrongly, each host with one address of each family."""
    rng = random.Random(seed)

    def maybe(share: float) -> bool:
        return rng.random() < share

    nodes = [f"n{n}" for n in range(12)]

    def point(number: int) -> dict[str, Any]:
        made: dict[str, Any] = {"name": f"p{number}", "inside": maybe(0.3)}
        made["outside"] = rng.choice(("allow", "allow", "deny"))
        made["mode"] = rng.choice(("enforce", "enforce", "enforce", "observe", "off"))
        made["if_differ"] = rng.choice(("frame", "bindings"))
        if maybe(0.2):
            made["match"] = {"source": "address"}
        if maybe(0.4):
            some = rng.sample(GROUPS, rng.randint(1, 5))
            made["scope"] = {rng.choice(("sources", "destinations")): some}
        for way in ("from", "toward"):
            if maybe(0.2):
                made[way] = [f"s{s}" for s in rng.sample(range(10), 6)]
        if not plain:
            made["stateful"] = maybe(0.8)
        return made

    held = [
        {
            "node": name, "carries": maybe(0.7), "marks": maybe(0.5), "relays": maybe(0.3),
            "learns": [w for w in ("session", "segment") if maybe(0.4)],
            "points": [point(n) for n in range(rng.choice((0, 1, 1, 2)))],
        }
        for name in nodes
    ]  # fmt: skip
    segments: list[dict[str, Any]] = [
        {
            "segment": f"s{n}", "node": rng.choice(nodes),
            "prefixes": [f"10.{n}.0.0/24", f"2001:db8:{n}::/64"],
        }
        for n in range(10)
    ]  # fmt: skip
    for segment in segments if not plain else ():
        if maybe(0.15):
            segment["tag"] = rng.choice(GROUPS)
    pairs = [(nodes[n], nodes[rng.randrange(n)]) for n in range(1, 12)]
    pairs += [tuple(rng.sample(nodes, 2)) for _ in range(5)]  # type: ignore[misc]
    links = [
        {"between": list(pair), "carries": maybe(0.8), "cost": rng.choice((1, 1, 2)), "name": f"k{n}"}
        for n, pair in enumerate(pairs)
    ]  # fmt: skip
    feeds: list[dict[str, Any]] = []
    for number in range(rng.randint(6, 16)):
        sender = rng.choice(["registry", "registry", *nodes])
        receiver = rng.choice(nodes)
        if sender != receiver:
            feeds.append({"from": sender, "to": receiver, "name": f"f{number}"})
            if maybe(0.4):
                some = rng.sample(range(10), 5)
                wide = [f"10.{n}.0.0/16" for n in some] + [f"2001:db8:{n}::/48" for n in some[:3]]
                feeds[-1]["only"] = {"prefixes": wide}
            elif maybe(0.2):
                feeds[-1]["only"] = {"groups": rng.sample(GROUPS, 4)}
    beings = []
    for n in range(24):
        home = rng.randrange(10)
        where = [f"10.{home}.0.{n + 1}"] * maybe(0.9) + [f"2001:db8:{home}::{n + 1:x}"] * maybe(0.4)
        if not plain and maybe(0.2):
            where.append(f"10.{rng.randrange(10)}.0.{n + 101}")
        group = rng.choice((*GROUPS, None)) if not plain else rng.choice(GROUPS)
        beings.append(Being(f"b{n}", where or [f"10.{home}.0.{n + 1}"], group, maybe(0.8)))
    pins = []
    if not plain:
        pins = [
            {"prefix": f"10.{rng.randrange(10)}.0.0/25", "group": rng.choice(GROUPS), "at": rng.choice(nodes)}
            for _ in range(2)
        ]  # fmt: skip
    return Net(stack(), held, segments, links, feeds, beings, pins, [])


@pytest.mark.parametrize("plain", [True, False])
@pytest.mark.parametrize("seed", SEEDS)
def test_counting_and_rows_agree(seed: int, plain: bool, tmp_path: Path) -> None:
    """Effects, results and causes of all rows; from and to a part of the hosts too."""
    model = write_net(random_net(seed, plain=plain), tmp_path).model
    every = model.state.classes(model.hosts)
    part = model.state.classes(model.hosts[::3])
    for sources, destinations in ((every, every), (part, every), (every, part), (part, part)):
        counted = survey(model.state, sources, destinations)
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


def test_counting_does_count(tmp_path: Path) -> None:
    """Of plain networks most rows are counted, and are not made one by one (that would only be
    slow, so nothing else would notice)."""
    counted = made = 0
    for seed in SEEDS:
        model = write_net(random_net(seed, plain=True), tmp_path / str(seed)).model
        every = model.state.classes(model.hosts)
        held: list[int] = []
        rows = model.state.rows

        def watched(*sides: Any, rows: Any = rows, held: list[int] = held) -> Any:
            found = list(rows(*sides))
            held.append(len(found))
            return iter(found)

        model.state.rows = watched  # type: ignore[method-assign, assignment]
        counted += survey(model.state, every, every).effects.total()
        made += sum(held)
    assert made < counted / 3, (made, counted)


@pytest.mark.parametrize("seed", SEEDS[:8])
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
        turned = Counter(
            flow.effect
            for ends, flow in worst(after.flows(left, left)).items()
            if before[ends].effect == "exact" != flow.effect
        )
        row = said[lost.kind, lost.name]
        assert (row["leaks"], row["breaks"]) == (turned["leak"], turned["break"]), lost
        assert bool(row["example"]) == bool(turned)
        if turned:
            assert row["example"].endswith(": leak" if turned["leak"] else ": break")


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


@pytest.mark.parametrize("seed", range(40))
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


def grid(size: int, rng: random.Random) -> Net:
    """A square of nodes with links of one cost, of which some do not carry; points on a few."""

    def name(i: int, j: int) -> str:
        return f"g{i}{j}"

    nodes: list[dict[str, Any]] = [
        {"node": name(i, j), "carries": True, "marks": i == j == 0}
        for i in range(size)
        for j in range(size)
    ]
    for spot in rng.sample(range(1, size * size), 2):
        nodes[spot]["points"] = [{"name": "p", "outside": rng.choice(("allow", "deny"))}]
    links = [
        {"between": [name(i, j), name(i + di, j + dj)], "carries": rng.random() < 0.8}
        for i in range(size)
        for j in range(size)
        for di, dj in ((0, 1), (1, 0))
        if i + di < size and j + dj < size
    ]
    segments = [
        {"segment": "s0", "node": name(0, 0), "prefixes": ["10.1.0.0/24"]},
        {"segment": "s1", "node": name(size - 1, size - 1), "prefixes": ["10.2.0.0/24"]},
    ]
    feeds = [{"from": "registry", "to": node["node"]} for node in nodes if rng.random() < 0.8]
    for node in nodes:
        node.setdefault("points", [])
    feeds.append({"from": "registry", "to": name(0, 0), "name": "first"})
    beings = [Being("b0", ["10.1.0.1"], "ada", True), Being("b1", ["10.2.0.1"], "cy", True)]
    return Net(stack(), nodes, segments, links, feeds, beings)


@pytest.mark.parametrize("seed", range(6))
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
        walked[row.result, row.at, tuple(row.why), row.leak, row.gone] += 1
    found: Counter[tuple[object, ...]] = Counter()
    for flow in flows:
        effects = {p["effect"] for p in flow["packets"]}
        why = tuple((r["node"], r["why"]) for r in flow["reasons"])
        key = flow["result"], flow["at"], why, "leak" in effects, "break" in effects
        found[key] += flow["paths"]
    assert found == walked and found.total() == 70
    model = workspace.model
    every = model.state.classes(model.hosts)
    assert survey(model.state, every, every).effects == Counter(
        f.effect for f in model.state.rows(every, every)
    )
    large = write_net(grid(10, rng), tmp_path / "large")
    assert sum(f["paths"] for f in large.reach("ada", "cy")["flows"]) == 48_620
    assert {f["effect"] for f in large.trace("ada", "cy", "https")["paths"]} <= {
        "exact",
        "leak",
        "break",
    }


def test_a_packet_that_does_not_fare_so_is_not_shown(tmp_path: Path) -> None:
    """Every row is replayed; one that says more than is true stops the run."""
    from dataclasses import replace

    model = write_net(random_net(3), tmp_path).model
    classes = model.state.classes(model.hosts)
    replay = Replay(model.state, classes, classes)
    atoms = model.atoms
    checked = 0
    for flow in model.state.rows(classes, classes):
        replay.check(flow)
        if flow.path is None:
            continue
        for family in (4, 6):
            true = flow.leaks.get(family, 0) | flow.breaks.get(family, 0)
            if not true or flow.source == flow.destination:
                continue
            # Whatever neither leaks nor breaks is said to leak.
            wrong = replace(flow, leaks={family: atoms.of_family(family) & ~true}, breaks={})
            if any(flow.leaks.values()) and any(flow.breaks.values()):
                continue
            if any(family in r.families for r in atoms.regions(wrong.leaks[family])):
                checked += 1
                with pytest.raises(AssertionError, match="is said to leak and does not"):
                    replay.check(wrong)
    assert checked > 20


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
    assert flow["packets_text"] == "break 80,443/tcp"
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
    assert sum(c["flows"] for c in summary["causes"]) == effects["leak"] + effects.get("break", 0)
    assert len(ran.out.splitlines()) < 60 and f"{effects['leak']:,} leak" in ran.out
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
    assert survey(model.state, here, every).effects == Counter(
        f.effect for f in model.state.rows(here, every)
    )


@pytest.mark.parametrize("seed", range(8))
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
            if point.direction(a.name, b.name) is not None:
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
            assert survey(model.state, *sides).effects == Counter(f.effect for f in rows)


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


def test_a_figure_of_very_many_sites(tmp_path: Path, oaktag: Callable[..., Ran]) -> None:
    """A table of sites by sites: every site twice, a mark for each two sites joined or fed."""
    nodes: list[dict[str, Any]] = [
        {"node": f"n{n}", "site": f"town-{n // 3}", "carries": n % 2 == 0, "points": []}
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
    assert all(written.count(f"town-{n}") == 2 for n in range(22))
    assert written.count("! 1") == 1  # only the point's node can be where something goes wrong
    assert "below the diagonal, links between sites" in drawn
