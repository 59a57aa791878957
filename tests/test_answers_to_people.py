"""What commands say about rows and bindings, against saying it plainly from the same files: which
rows the workspace bears, where a binding stopped, who is bound and why somebody is not."""

from __future__ import annotations

import ipaddress
import itertools
import json
import random
from datetime import date
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import pytest

import oaktag
from networks import GROUPS, SEEDS, random_net, write_net
from oaktag.core.packets import Packet, span_of
from oaktag.core.services import parse_service
from oaktag.operations import reach as many_rows
from oaktag.operations.members import withheld as withheld_of
from sizes import scaled

CAUSES = ("no-point", "direction", "inside", "source-unknown", "destination-unknown", "no-cell",
          "source-wrong", "answer-dropped")  # fmt: skip
SERVICES = ("22/tcp", "1-1023/tcp", "any", "443/tcp", "proto/47")
PORTS = (0, 1, 21, 22, 23, 79, 80, 81, 443, 444, 1023, 1024, 65_535)
PACKETS = [
    Packet(family, protocol, source, destination)
    for family in (4, 6)
    for protocol in (0, 1, 6, 17, 47, 58, 132)
    for source, destination in itertools.product(PORTS, PORTS)
    if max(source, destination) <= span_of(family, protocol)
]


def random_borne(rng: random.Random) -> dict[str, Any]:
    """Something accepted: at random more or less of it."""
    made: dict[str, Any] = {"reach": rng.choice(("leak", "leak", "break", "one-way", "cut-off"))}
    if rng.random() < 0.4:
        made["cause"] = rng.choice(CAUSES)
    if rng.random() < 0.4:
        made["at"] = rng.sample(("n1*", "s[0-4]", "s*", "n3", "n?"), 2)
    for end in ("from", "to"):
        if rng.random() < 0.3:
            made[end] = rng.choice((*GROUPS, "front", "untagged"))
    if rng.random() < 0.4 and made["reach"] != "cut-off":
        made["service"] = rng.choice(SERVICES)
    return {
        **made,
        "why": "a while",
        "until": rng.choice(("2026-12-31", "2026-12-31", "2026-01-31")),
    }


def packets_of(row: dict[str, Any], effect: str) -> list[Packet]:
    """The packets of the sample that a row says to fare so."""
    boxes = [b for b in row["packets"] if b["effect"] == effect]
    return [
        p for p in PACKETS
        if any(
            b["family"] == p.family
            and all(
                any(low <= number <= high for low, high in b[key])
                for number, key in zip(p[1:], ("protocols", "source_ports", "destination_ports"), strict=True)
            )
            for b in boxes
        )
    ]  # fmt: skip


def bears(one: dict[str, Any], row: dict[str, Any], members: dict[str, list[str]]) -> bool:
    """Whether what is accepted speaks of a row: by cause, ends and place."""
    ends = row["source"], row["destination"]
    for end, key in zip(ends, ("from", "to"), strict=True):
        if key in one and end["group"] not in members.get(one[key], [one[key]]):
            return False
    if row["effect"] == "one-way":
        causes = [r for r in row["amiss"] if r["why"] == "answer-dropped"]
    else:
        causes = row["reasons"] or [r for r in row["amiss"] if r["why"] != "answer-dropped"]
    if "cause" in one:
        causes = [r for r in causes if r["why"] == one["cause"]]
        if not causes:
            return False
    places = [r["node"] for r in causes if r["node"]] + [end["segment"] for end in ends]
    return "at" not in one or any(fnmatchcase(p, glob) for p in places for glob in one["at"])


@pytest.mark.parametrize("seed", SEEDS[: scaled(8)])
def test_rows_are_borne_when_all_that_is_wrong_with_them_is(
    seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Said of each row; and of very many rows, which are counted, the same in numbers."""
    rng = random.Random(seed)
    net = random_net(seed)
    write_net(net, tmp_path)
    config = json.loads((tmp_path / "oaktag.yaml").read_text())
    config["accepted"] = [random_borne(rng) for _ in range(rng.randint(1, 4))]
    (tmp_path / "oaktag.yaml").write_text(json.dumps(config))
    said = oaktag.Workspace.load(tmp_path, today=date(2026, 6, 1)).reach()
    today = [b for b in config["accepted"] if b["until"] >= "2026-06-01"]
    counts: dict[str, int] = {}
    for row in said["flows"]:
        wrong = "cut-off" if row["result"] == "unconnected" else row["effect"]
        speaking = [b for b in today if bears(b, row, net.stack.sets)]
        if wrong == "cut-off":
            borne = any(b["reach"] == "cut-off" for b in speaking)
        else:
            borne = wrong != "exact"
            for effect in ("leak", "break", "one-way"):
                mine = [b for b in speaking if b["reach"] == effect]
                for packet in packets_of(row, effect):
                    borne &= any(
                        "service" not in b
                        or any(x.holds(packet) for x in parse_service(b["service"]))
                        for b in mine
                    )
        assert row["accepted"] == borne, (row, config["accepted"])
        if borne:
            counts[wrong] = counts.get(wrong, 0) + 1
    assert said["summary"]["accepted"] == counts
    for limit in ("FEW_PAIRS", "MOST_ROWS"):
        monkeypatch.setattr(many_rows, limit, 0)
    counted = oaktag.Workspace.load(tmp_path, today=date(2026, 6, 1)).reach()["summary"]
    rows = said["summary"]
    for what in ("accepted", "effects", "results"):
        assert counted[what] == {k: n for k, n in rows[what].items() if n}, what
    for what in ("cut_off", "causes"):
        assert sum(c["flows"] for c in counted[what]) == sum(c["flows"] for c in rows[what])
    assert {c["effect"] for c in counted["causes"]} == {c["effect"] for c in rows["causes"]}


# -- where bindings stop -------------------------------------------------------------------------


@pytest.mark.parametrize("seed", SEEDS[: scaled(8)])
def test_what_a_node_lacks_is_whom_it_does_not_know(seed: int, tmp_path: Path) -> None:
    """``bindings --missing``: everybody whose packets can cross a point, whose tag is another
    there; and each says where the right one stops."""
    net = random_net(seed)
    workspace = write_net(net, tmp_path)
    model = workspace.model
    for node in net.nodes:
        name = node["node"]
        rows = workspace.missing(name)["missing"]
        expected = {
            (h.segment, model.groups.all[h.group].id, model.groups.tag(h.group), h.address)
            for h in model.hosts
            if h.group
            and (
                (h.node == name and node["marks"])
                or (bool(model.network.nodes[name].points) and name in model.paths.reached(h.node))
            )
            and model.knowledge.at(name).tag(h.family, h.address) != model.groups.tag(h.group)
        }
        assert len(rows) == len(expected)
        assert {(r["segment"], r["group"], r["tag"]) for r in rows} == {e[:3] for e in expected}
        for row in rows:
            binding = workspace.bindings(name, find=(row["address"],))["found"][0]
            assert (binding["tag"], binding["group"]) == (row["known"], row["known_group"])
            words = row["stopped"]
            if row["known"]:
                assert words == f"{name} holds another binding of it"
                continue
            holders = [
                at for at in ("registry", *(n["node"] for n in net.nodes))
                if workspace.bindings(None if at == "registry" else at, find=(row["address"],))["found"][0]["tag"]
            ]  # fmt: skip
            if words.startswith("nobody"):
                assert "registry" not in holders
                continue
            sender = words.split(" ")[0].rstrip(",")
            assert sender in holders
            feeds = [f for f in net.feeds if f["to"] == name and f["from"] == sender]
            if "; the feed " in words:
                feed = next(f for f in feeds if f["name"] in words.split())
                down = feed.get("state") == "down"
                assert ("is down" in words) == down
                assert down or "keeps it back (only)" in words
                assert down or "only" in feed
            elif "does not relay" in words:
                assert feeds and not next(n for n in net.nodes if n["node"] == sender)["relays"]
            else:
                assert "no feed leads from there" in words
                assert not [f for f in net.feeds if f["to"] == name and f["from"] in holders]


# -- who is bound --------------------------------------------------------------------------------


@pytest.mark.parametrize("seed", SEEDS[: scaled(4)])
def test_members_and_bindings_are_two_counts(seed: int, tmp_path: Path) -> None:
    """Each group's members and bindings; who has none, and why."""
    net = random_net(seed)
    workspace = write_net(net, tmp_path)
    said = {g["group"]: g for g in workspace.groups()["groups"]}
    shown = workspace.bindings()["bindings"]
    for group in GROUPS:
        members = [b.name for b in net.beings if b.group == group]
        assert said[group]["members"] == len(members)
        assert said[group]["bindings"] == sum(b["group"] == group for b in shown)
    withheld = {r["endpoint"]: r["why"] for r in withheld_of(workspace.model)["withheld"]}
    mine = {b.name for b in net.beings if b.group is not None}
    assert withheld.keys() == mine - {b["who"] for b in shown}
    for being in net.beings:
        if being.name in withheld:
            assert not being.stable
            assert withheld[being.name].startswith("its address is leased and no session is known")
        told = workspace.explain(being.name)
        who = told["endpoint"]
        assert who["group"] == (being.group or "untagged")
        places = [ipaddress.ip_network(p["address"]) for p in told["places"]]
        assert places == [ipaddress.ip_network(a) for a in who["addresses"]]
