"""Mending: what is proposed mends, costs least, and is written so that it reads."""

from __future__ import annotations

import itertools
import json
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import oaktag as package
from conftest import Ran
from networks import write_net
from oaktag.core import mending as mending_core
from oaktag.core.judging import Judge
from oaktag.core.knowledge import Knowledge
from oaktag.core.mending import Change, changed, possible
from oaktag.core.network import Network
from oaktag.core.paths import Paths
from oaktag.core.reach import State
from oaktag.core.registry import learned_bindings
from oaktag.located import Location
from oaktag.operations.mend import written
from oaktag.operations.model import Model
from oaktag.testing.slow_reach import Net
from sizes import scaled
from test_commands import _schema
from test_prospects import load_mendable
from test_reach import nets

Run = Callable[..., Ran]


@st.composite
def mendable(draw: st.DrawFn) -> tuple[Net, dict[str, int]]:
    """Networks with some things that can be switched on, at most six in most cases."""
    net: Net = draw(nets())
    prices = st.integers(1, 4)
    for node in net.nodes:
        keys = [draw(st.sampled_from(("carry", "mark", "point")))]
        if draw(st.integers(0, 3)) == 0:
            node["can"] = {key: draw(prices) for key in keys}
    for link in net.links:
        if draw(st.integers(0, 3)) == 0:
            link["can"] = {"carry": draw(prices)}
    some = draw(
        st.lists(st.sampled_from(("scope", "direction", "inside")), max_size=2, unique=True)
    )
    if draw(st.integers(0, 2)) == 0:
        some = ["feed"]
    return net, {key: draw(prices) for key in some}


def _effects(model: Model, changes: Sequence[Change]) -> dict[object, tuple[str, bool]]:
    """How each row fares with some changes made, and whether anything of it breaks; by ends and
    path."""
    network = changed(model.network, changes)
    learned = learned_bindings(
        model.groups, model.assignment, model.prefix_pins, model.network, model.places
    )
    knowledge = Knowledge(
        network, model.registry_bindings, learned, model.files.config.binding_order
    )
    every = tuple(range(len(model.groups)))
    judges = {
        name: Judge(p, model.matrix, (every, every) if p.scope.kind == "all" else model.scope(p))
        for name, p in network.points.items()
    }
    state = State(model.matrix, network, Paths(network), knowledge, judges)
    return {
        (f.source, f.destination, f.path.nodes, tuple(k.name for k in f.path.links)): (
            f.effect, any(f.breaks.values()),
        )
        for f in state.flows(model.hosts, model.hosts)
        if f.path
    }  # fmt: skip


def _choices(net: Net, mending: dict[str, int]) -> list[Change]:
    """All possible changes, by the words of the file alone."""
    found: list[Change] = []
    for node in net.nodes:
        for key, price in node.get("can", {}).items():
            has = {"carry": node.get("carries"), "mark": node.get("marks"), "point": node["points"]}
            kinds: dict[str, Any] = {
                "carry": "node carries",
                "mark": "node marks",
                "point": "point",
            }
            if not has[key]:
                found.append(Change(kinds[key], node["node"], price))
        for point in node["points"]:
            name = f"{node['node']}.{point['name']}"
            wide = {
                "scope": point.get("scope", "all") == "all",
                "direction": point.get("from", "*") == point.get("toward", "*") == "*",
                "inside": point.get("inside", False),
            }
            found += [
                Change(kind, name, mending[kind])  # type: ignore[arg-type]
                for kind, whole in wide.items()
                if kind in mending and not whole and point.get("mode") != "off"
            ]
    for number, link in enumerate(net.links):
        if "can" in link and not link.get("carries", True):
            found.append(Change("link carries", link["name"], link["can"]["carry"], str(number)))
    full = {(f["from"], f["to"]) for f in net.feeds if "only" not in f and f.get("state") != "down"}
    for sender in ("registry", *(n["node"] for n in net.nodes)):
        raw = next((n for n in net.nodes if n["node"] == sender), {})
        speaks = sender == "registry" or net.learned(raw) or raw.get("relays")
        for node in net.nodes if "feed" in mending and speaks else ():
            listens = node["points"] or any(node.get(k) for k in ("marks", "relays", "can"))
            if listens and node["node"] != sender and (sender, node["node"]) not in full:
                found.append(Change("feed", sender, mending["feed"], node["node"]))
    return found


@settings(max_examples=scaled(40))
@given(made=mendable(), breaks=st.booleans(), even=st.booleans(), most=st.sampled_from((1, 2, 40)))
def test_the_cheapest_of_all_sets_of_changes(
    made: tuple[Net, dict[str, int]], breaks: bool, even: bool, most: int, tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    """Against trying every set; however few wrong rows are looked at before the program is solved
    again. What no set can mend without making something exact worse is hopeless."""
    monkeypatch.setattr(mending_core, "MOST_NEW", most)
    net, mending = made
    write_net(net, tmp_path)
    path = tmp_path / "network.yaml"
    path.write_text(json.dumps({**json.loads(path.read_text()), "mending": mending}))
    workspace = package.Workspace.load(tmp_path)
    model = workspace.model
    learned: Any = learned_bindings(
        model.groups, model.assignment, model.prefix_pins, model.network, model.places
    )
    choices = _choices(net, mending)
    assert set(possible(model.network, learned)) == set(choices)
    assume(len(choices) <= 6)
    found = workspace.mend(breaks=breaks, even_if_breaks=even, write=True)
    assert found["proved"]
    sets = [
        s for size in range(len(choices) + 1) for s in itertools.combinations(choices, size)
    ]  # fmt: skip
    fare = {s: _effects(model, s) for s in sets}
    exact = {row for row, (effect, _) in fare[()].items() if effect == "exact"}
    worse = {s: {r for r in exact if fare[s][r][0] != "exact"} for s in sets}
    sound = [s for s in sets if even or not worse[s]]
    wrong = {
        s: {r for r, (e, broken) in fare[s].items() if e == "leak" or (breaks and broken)}
        for s in sets
    }
    hopeless = set.intersection(*(wrong[s] for s in sound))
    good = [s for s in sound if wrong[s] <= hopeless]
    cost = min((sum(c.price for c in s) for s in good), default=None)
    assert found["cost"] == cost, (found, choices)
    assert len(found["hopeless"]) <= len(hopeless)
    if cost is not None:
        again = package.Workspace.load(tmp_path).model
        now = _effects(again, ())
        assert {r for r, (e, b) in now.items() if e == "leak" or (breaks and b)} <= hopeless
        turned = {r for r in exact if now[r][0] != "exact"}
        assert (even or not turned) and len(found["broken"]) == len(turned)


@pytest.mark.parametrize("seed", range(4))
def test_each_change_is_written_as_it_was_tried(seed: int, tmp_path: Path) -> None:
    """Every kind of change, made in the file and read again, is the network that was weighed."""
    model, rng = load_mendable(seed, tmp_path)
    learned: Any = learned_bindings(
        model.groups, model.assignment, model.prefix_pins, model.network, model.places
    )
    by_kind: dict[str, list[Change]] = {}
    for change in possible(model.network, learned):
        by_kind.setdefault(change.kind, []).append(change)
    assert len(by_kind) >= 7
    path = tmp_path / "network.yaml"
    before = path.read_text()
    for changes in by_kind.values():
        for change in rng.sample(changes, min(len(changes), 4)):
            path.write_text(written(model, before, change))
            found = package.Workspace.load(tmp_path).model.network
            assert _bare(found) == _bare(changed(model.network, [change])), change
            assert _bare(found) != _bare(model.network)


def _bare(network: Network) -> tuple[object, ...]:
    """A network without where it is written, and without the names of its points."""
    nowhere = Location("")
    nodes = [
        n._replace(
            location=nowhere, points=tuple(p._replace(location=nowhere, name="") for p in n.points)
        )
        for n in network.nodes.values()
    ]
    links = [k._replace(location=nowhere) for k in network.links]
    feeds = [f._replace(location=nowhere) for f in network.feeds]
    return (
        *nodes,
        *links,
        *feeds,
        *(s._replace(location=nowhere) for s in network.segments.values()),
    )


def test_time_ends_the_search_with_a_bound(oaktag: Run, shipped: Path) -> None:
    """Nothing is written, and nothing is said to be proved."""
    before = (shipped / "network.yaml").read_text()
    ran = oaktag(
        "-C", shipped, "reach", "--mend", "--breaks", "--seconds", "0", "--write", "--json"
    )
    jsonschema.validate(ran.json, _schema("reach-mend"))
    assert (ran.json["changes"], ran.json["cost"], ran.json["proved"]) == (None, None, False)
    whole = oaktag("-C", shipped, "reach", "--mend", "--breaks", "--json").json
    assert whole["proved"] and ran.json["bound"] <= whole["cost"]
    assert (shipped / "network.yaml").read_text() == before
    said = oaktag("-C", shipped, "reach", "--mend", "--breaks", "--seconds", "0").out
    assert "not found in time" in said and "it costs at least" in said


def test_two_changes_that_help_only_together(oaktag: Run, shipped_mended: Path) -> None:
    """Frames marked at Brindle help nobody while the carrier strips them: both links and the node."""
    path = shipped_mended / "network.yaml"
    text = path.read_text()
    for feed in ("hall-edge", "county-exit"):
        text = text.replace(f"  - {{from: brindle-access, to: {feed}}}\n", "")
    text = text.replace(
        "[brindle-access, carrier], carries: false",
        "[brindle-access, carrier], carries: false, can: {carry: 2}",
    )
    text = text.replace(
        "[carrier, hall-edge], carries: false",
        "[carrier, hall-edge], carries: false, can: {carry: 2}",
    )
    text = text.replace("carrier, carries: false}", "carrier, carries: false, can: {carry: 1}}")
    path.write_text(text + "\nmending: {scope: 1}\n")
    before = oaktag("-C", shipped_mended, "reach", "--json").json["summary"]["effects"]
    assert before["leak"] > 0
    ran = oaktag("-C", shipped_mended, "reach", "--mend", "--json")
    jsonschema.validate(ran.json, _schema("reach-mend"))
    assert (ran.json["cost"], ran.json["proved"], ran.json["hopeless"]) == (5, True, [])
    assert path.read_text() == text + "\nmending: {scope: 1}\n"
    shown = oaktag("-C", shipped_mended, "reach", "--mend", "--write").out
    assert "cost 5, proved to be the cheapest after which nothing leaks" in shown
    after = oaktag("-C", shipped_mended, "reach", "--json").json["summary"]["effects"]
    assert "leak" not in after and after["break"] > 0  # who comes back to Brindle is still unknown
    with_feeds = path.read_text().replace("mending: {scope: 1}", "mending: {feed: 3}")
    path.write_text(with_feeds)
    made = oaktag("-C", shipped_mended, "reach", "--mend", "--breaks", "--write", "--json").json
    assert [(c["kind"], c["what"], c["to"]) for c in made["changes"]] == [
        ("feed", "brindle-access", "hall-edge")
    ]
    effects = oaktag("-C", shipped_mended, "reach", "--json").json["summary"]["effects"]
    assert effects == {"exact": sum(before.values())}
    assert "already" in oaktag("-C", shipped_mended, "reach", "--mend").out
