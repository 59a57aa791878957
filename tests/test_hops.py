"""Every hop that ``trace`` tells, against walking the same way with the words of the files alone:
what is known there and from where, who judges and what comes of it, up to where the packet ends;
and the answer's way back."""

from __future__ import annotations

import random
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import pytest

import oaktag
from networks import GROUPS, SEEDS, random_net, share_states, state_of, states_of, write_net
from oaktag.testing.slow_reach import ORDER, Bound, Net, exchanged

SERVICES = ("https", "22/tcp", "53/udp", "icmp/echo-request", "proto/47")
Way = list[tuple[str, Any]]
Packet = tuple[int, int, int, int]


def origin(net: Net, held: list[Bound], address: str) -> str:
    """The source of the binding that wins for an address; nothing where it says untagged."""
    here = ip_address(address)
    fitting = [b for b in held if here in b[0]]
    number = {n: tag for n, (tag, _) in net.stack.groups.items()} | {"untagged": 0}
    best = min(
        fitting, key=lambda b: (-b[0].prefixlen, ORDER.index(b[2]), number[b[1]]), default=None
    )
    return "" if best is None or best[1] == "untagged" else best[2]


def allowed(net: Net, cell: tuple[str, str], packet: Packet) -> bool:
    return net.stack.decide(*cell, packet, "action")[0] == "allow"


def hops(
    net: Net, way: Way, ends: tuple[dict[str, Any], dict[str, Any]], packet: Packet,
    known: dict[str, list[Bound]], knowing: set[object],
) -> list[dict[str, Any]]:  # fmt: skip
    """The hops of one packet; ``knowing`` are the states that know its flow already."""
    nodes = {n["node"]: n for n in net.nodes}
    one, two = ends
    frame, found = "untagged", []
    if nodes[way[0][0]].get("marks"):
        frame = net.tag(known[way[0][0]], one["address"])
    for hop, (name, link) in enumerate(way):
        if hop and not (link or {}).get("carries", True):
            frame = "untagged"
        if hop > 1 and not nodes[way[hop - 1][0]].get("carries", False):
            frame = "untagged"
        arriving, held = (frame if hop else "untagged"), known[name]
        bound, there = net.tag(held, one["address"]), net.tag(held, two["address"])
        told = {
            "node": name, "point": None, "destination_group": there, "judged": False, "why": None,
            "destination_from": origin(net, held, two["address"]), "action": None,
        }  # fmt: skip
        acting = [p for p in nodes[name]["points"] if p.get("mode") != "off"]
        if not acting:
            seen = arriving if arriving != "untagged" else bound
            by = "frame" if arriving != "untagged" else origin(net, held, one["address"])
            found.append({**told, "source_group": seen, "source_from": by})
        for point in acting:
            seen, _ = net.sees(point, arriving, held, one["address"], two["address"])
            address = point.get("match", {}).get("source") == "address"
            by = origin(net, held, one["address"]) if seen != "untagged" else ""
            if arriving != "untagged" and seen == arriving and not address:
                by = "frame"
            row = {
                **told,
                "point": f"{name}.{point['name']}",
                "source_group": seen,
                "source_from": by,
            }
            found.append(row)
            row["why"] = net.unjudged(point, one["segment"], two["segment"])
            if row["why"] is not None:
                continue
            in_list = net.in_scope(point, seen, there)
            row |= {
                "judged": True,
                "why": net.fault(seen, one["group"], there, two["group"], in_list),
            }
            stateful = point.get("stateful", True)
            passes = point.get("outside", "allow") == "allow"
            if in_list:
                passes = allowed(net, (seen, there), packet)
                passes |= not stateful and allowed(net, (there, seen), exchanged(packet))
            if stateful and state_of(name, point) in knowing:
                passes = True
            watches = point.get("mode", "enforce") == "observe"
            row["action"] = "allow" if passes or watches else "deny"
            if row["action"] == "deny":
                return found
    return found


@pytest.mark.parametrize("seed", SEEDS)
def test_every_hop_is_as_the_files_say(seed: int, tmp_path: Path) -> None:
    rng = random.Random(seed)
    net = random_net(seed)
    share_states(net, rng, 0.5)
    for segment in net.segments[::3]:
        segment["tag"] = "untagged"
    workspace, known = write_net(net, tmp_path), net.known()
    names = [b.name for b in net.beings if b.group in GROUPS or b.group is None]
    met = 0
    for _ in range(12):
        a, b = rng.sample(names, 2)
        try:
            traced = workspace.trace(
                f"endpoint:{a}", f"endpoint:{b}", rng.choice(SERVICES), back=True
            )
        except oaktag.UsageError:
            continue  # no family in common
        for told in traced["paths"]:
            one, two = told["from"], told["to"]
            packet = (
                told["packet"]["family"], told["packet"]["protocol"],
                told["packet"]["source_port"], told["packet"]["destination_port"],
            )  # fmt: skip
            if one["segment"] == two["segment"]:
                ways: list[Way] = [[(one["node"], None)]]
            else:
                ways = net.paths(one["node"], two["node"])
            fitting = [w for w in ways if [n for n, _ in w] == told["path"]]
            if not fitting:
                assert not told["path"] and not ways
                continue
            met += len(fitting) == 1
            # Parallel links make two ways over the same nodes.
            expected = [hops(net, w, (one, two), packet, known, set()) for w in fitting]
            assert _plain(told["hops"]) in expected
            arrives = all(h["action"] != "deny" for h in told["hops"])
            for answer in told["answers"]:
                back = [w for w in net.paths(two["node"], one["node"]) or [[(one["node"], None)]]
                        if [n for n, _ in w] == answer["path"]]  # fmt: skip
                assert arrives and _plain(answer["hops"]) in [
                    hops(net, w, (two, one), exchanged(packet), known, states_of(net, out))
                    for w in back
                    for out in fitting
                ]
                assert answer["arrives"] == all(h["action"] != "deny" for h in answer["hops"])
    assert met > 3


def _plain(told: list[dict[str, Any]]) -> list[dict[str, Any]]:
    keys = ("node", "point", "destination_group", "judged", "why", "destination_from", "action",
            "source_group", "source_from")  # fmt: skip
    return [{k: row[k] for k in keys} for row in told]
