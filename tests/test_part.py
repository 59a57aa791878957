"""A part of a network, with what surrounds it folded: what happens inside it is what happens there in
the whole, and what comes to it from around comes by the same way, tagged or not as there."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import jsonschema
import pytest

from conftest import Ran
from networks import GROUPS, SEEDS, random_net, write_net
from oaktag.core.paths import Path as Way
from oaktag.operations.lab_part import part_told, parted
from oaktag.operations.lists import points_of, written
from oaktag.operations.model import Model
from oaktag.operations.reach import reach
from test_commands import _schema
from test_relations import Rows, fares, keyed

Run = Callable[..., Ran]


def _inside(rows: Rows, model: Model, kept: set[str]) -> Rows:
    at = {name: s.node for name, s in model.network.segments.items()}
    return {
        key: told for key, told in fares(rows).items() if {at[key[0][0]], at[key[1][0]]} <= kept
    }


def _lists(model: Model) -> dict[str, str]:
    return {p.id: written(model, p, model.list_of(p)).text for p in points_of(model)}


def _ways(model: Model, source: str, target: str) -> list[Way]:
    return list(model.paths.between(source, target))


def _shut(model: Model, kept: set[str]) -> bool:
    """Whether every least-cost path between two of some nodes stays among them."""
    return all(
        set(way.nodes) <= kept for a in kept for b in kept if a < b for way in _ways(model, a, b)
    )


#: In the network of the last seed a part knows otherwise than the whole, and says so.
@pytest.mark.parametrize("seed", sorted({*SEEDS, 15}))
def test_a_part_is_as_the_whole(seed: int, tmp_path: Path) -> None:
    rng, folded, alike, odd = random.Random(seed), 0, 0, 0
    net = random_net(seed)
    for number, node in enumerate(net.nodes):
        for point in node["points"]:
            if "scope" not in point and rng.random() < 0.5:
                point["scope"] = "known"
        if rng.random() < 0.4:
            node |= {"address": f"10.{number % 10}.0.250", "group": rng.choice(GROUPS)}
    whole = write_net(net, tmp_path).model
    rows, lists = keyed(reach(whole)["flows"]), _lists(whole)
    for _ in range(6):
        asked = rng.sample(list(whole.network.nodes), rng.randint(1, 3))
        there = parted(whole, {"nodes": asked})
        told: Any = part_told(whole, there)
        part: Any = there.files.part
        kept, hearts = set(told["nodes"]), {s["node"] for s in told["around"]}
        held = {n for s in told["around"] for n in s["stands_for"]}
        assert set(asked) <= kept and kept | held == set(whole.network.nodes)
        assert not kept & held and set(there.network.nodes) == kept | hearts
        alone = [n for n in kept if n not in asked]
        assert _shut(whole, kept) or any(_shut(whole, kept - {n}) for n in alone)
        for a in kept:
            for b in kept:
                if all(set(w.nodes) <= kept for w in _ways(whole, a, b)):
                    assert [w.links for w in _ways(whole, a, b)] == [
                        w.links for w in _ways(there, a, b)
                    ]
        assert all(link.a != link.b for link in there.network.links)
        known = [{n: {(str(b.prefix), b.tag) for b in m.knowledge.at(n).in_force} for n in kept}
                 for m in (whole, there)]  # fmt: skip
        assert {r["node"]: r["bindings"] for r in told["otherwise"]} == {
            n: len(known[0][n] ^ known[1][n]) for n in kept if known[0][n] != known[1][n]
        }
        if told["otherwise"]:
            odd += 1
            continue
        folded += bool(hearts)
        for node in kept:
            assert all(there.knowledge.chain(b, node) is not None
                       for b in there.knowledge.known(node))  # fmt: skip
        assert _inside(keyed(reach(there)["flows"]), there, kept) == _inside(rows, whole, kept)
        assert _lists(there) == {n: t for n, t in lists.items() if n not in told["left_out"]}
        stand_ins = part.stand_ins(there.hosts)
        near = {(h.node, h.group, h.family) for h in there.hosts if h.segment in part.near}
        assert near == {(h.node, h.group, h.family) for h in stand_ins if h.segment in part.near}
        for host in stand_ins:
            entry = whole.network.segments[host.segment].node
            side = set(part.stands_for[host.node])
            mine = whole.knowledge.at(entry).tag(host.family, host.address)
            marks = there.network.nodes[host.node].marks
            tag = marks and there.knowledge.at(host.node).tag(host.family, host.address)
            comes: set[int] = set()
            for target in kept:
                ways = _ways(whole, entry, target)
                comes |= {_frame(whole, w, side) * mine for w in ways}
                if host.segment in part.near:  # the way from there is the way in the whole
                    assert {_rest(w, side) for w in ways} == {
                        _rest(w, side) for w in _ways(there, host.node, target)
                    }
            assert len(comes) != 1 or comes == {tag or 0}, (seed, asked, host)
            alike += 1
    assert folded and alike and odd == (seed == 15)


def _rest(way: Way, side: set[str]) -> tuple[str, ...]:
    """Nodes and links of a way from where it leaves a side."""
    out = next(n for n, name in enumerate(way.nodes) if name not in side)
    return (*way.nodes[out:], *(link.name for link in way.links[out - 1 :]))


def _frame(model: Model, way: Way, side: set[str]) -> bool:
    """Whether a frame is tagged at its first node and still is where it leaves a side."""
    tagged = model.network.nodes[way.nodes[0]].marks
    for node, link in zip(way.nodes[1:], way.links, strict=True):
        if node not in side:
            break
        tagged = tagged and link.carries and model.network.nodes[node].carries
    return tagged


@pytest.mark.usefixtures("real_kernel")
def test_a_lab_of_a_part(oaktag: Run, shipped_mended: Path) -> None:
    """What is there fares as meant; the lists are those of the whole; a link lost there is told."""
    mended = shipped_mended
    at = ("-C", mended)
    wrong = oaktag(*at, "lab", "up", "--sites", "hall", "--nodes", "central-coer")
    assert (
        wrong.status == 2 and "there is no node 'central-coer'; perhaps central-core" in wrong.err
    )
    try:
        up = oaktag(*at, "lab", "up", "--sites", "hall", "--json")
        jsonschema.validate(up.json, _schema("lab-up"))
        assert up.json["part"]["nodes"] == ["hall-edge"] and up.json["nodes"] == 3
        assert up.json["part"]["left_out"] == ["county-exit"] and not up.json["part"]["otherwise"]
        probed = oaktag(*at, "lab", "probe", "--json").json
        sent = len(probed["probes"])
        assert sent > 500 and probed["summary"] == {"as meant": sent} and probed["packed"] == ""
        oaktag(*at, "lab", "state", mended / "seen")
        oaktag(*at, "compile", "--out", mended / "lists")
        (written,) = (mended / "lists").glob("hall-edge.*nft")
        assert (mended / "seen" / "hall-edge.nft").read_text() == written.read_text()
        assert [p.name for p in (mended / "seen").glob("*.json")] == ["hall-edge.json"]
        (mended / "inventory" / "servers.csv").open("a").write(
            "catalogue-9,10.20.200.19;2001:db8:20:200::19,catalogue,\n"
        )
        applied = oaktag(*at, "lab", "apply", "--json").json
        assert [t["name"] for t in applied["things"] if t["kind"] == "host"] == ["catalogue-9"]
        one = oaktag(*at, "lab", "probe", "hall-edge", "catalogue-9", "https")
        assert one.status == 0, one
        oaktag(*at, "lab", "break", "link", "carrier--hall-edge")
        broken = oaktag(*at, "lab", "probe", "--json").json
        assert set(broken["summary"]) == {"as meant", "cut off"} and broken["packed"] == ""
    finally:
        oaktag(*at, "lab", "down")
