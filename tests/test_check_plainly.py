"""Findings about endpoints, rules, bindings and feeds, against looking for each in the files alone."""

from __future__ import annotations

import random
from collections import Counter
from ipaddress import ip_network
from pathlib import Path
from typing import Any

import pytest

from networks import GROUPS, SEEDS, random_net, write_net
from oaktag.testing.slow_reach import ORDER, Bound, Net


def varied(seed: int) -> Net:
    """A network with whole networks as endpoints, addresses on no segment, and shared addresses."""
    rng = random.Random(seed)
    net = random_net(seed)
    for number, being in enumerate(rng.sample(net.beings, 5)):
        home = rng.randrange(10)
        being.addresses = [
            (f"10.{home}.0.0/25",),
            (f"10.{home}.0.64/26", f"2001:db8:{home}::/65"),
            ("10.0.0.0/14",),
            (f"192.0.2.{number + 1}",),
            tuple(net.beings[number].addresses[:1]),
        ][number]  # type: ignore[assignment]
        being.addresses = list(being.addresses)
        being.stable = True
    for feed in rng.sample(net.feeds, 2):
        feed["state"] = "down"
    net.feeds[-1]["only"] = {"prefixes": ["198.51.100.0/24"]}
    return net


def found(said: list[dict[str, Any]], code: str) -> list[str]:
    return [f["message"] for f in said if f["code"] == code]


def winners(net: Net) -> dict[Any, Bound]:
    """Of each prefix the registry's binding that wins."""
    number = {n: tag for n, (tag, _) in net.stack.groups.items()} | {"untagged": 0}
    best: dict[Any, Bound] = {}
    for held in sorted(net.registry(), key=lambda b: (ORDER.index(b[2]), number[b[1]])):
        best.setdefault(held[0], held)
    return best


@pytest.mark.parametrize("seed", SEEDS)
def test_people_and_addresses(seed: int, tmp_path: Path) -> None:
    net = varied(seed)
    said = write_net(net, tmp_path).check()["findings"]
    assert Counter(m.split()[3] for m in found(said, "OT203")) == Counter(
        b.name for b in net.beings if b.group is None
    )
    bound = {group for _, group, _ in winners(net).values()}
    members = {b.group for b in net.beings}
    pinned = {p["group"] for p in net.pins} | {n.get("group") for n in net.nodes}
    empty = [g for g in GROUPS if g not in members]
    held = [g for g in empty if g not in pinned]
    assert [m.split()[-1] for m in found(said, "OT201")] == held
    unbound = {g for g in GROUPS if g in members and g not in bound}
    assert {m.split()[2] for m in found(said, "OT202")} == unbound
    used = Counter(a for b in net.beings for a in b.addresses)
    shared = {a for a, n in used.items() if n > 1}
    assert {a for a in shared if any(a.split("/")[0] in m for m in found(said, "OT207"))} == shared
    assert len(found(said, "OT207")) == len(shared)
    lost = {a for a in used if _nowhere(net, a)}
    assert {a for a in lost if any(a.split("/")[0] in m for m in found(said, "OT210"))} == lost
    homes = {segment for _, _, segment, _ in net.people()}
    deserted = {s["segment"] for s in net.segments if "tag" not in s} - homes
    told = {m.split("segment ")[1] for m in found(said, "OT204")}
    assert told == deserted
    assert [m.split()[3] for m in found(said, "OT205")] == empty


def _nowhere(net: Net, address: str) -> bool:
    """Whether an address, or a whole network, is on no segment."""
    whole = ip_network(address)
    return not any(
        whole.version == ip_network(p).version and whole.subnet_of(ip_network(p))  # type: ignore[arg-type]
        for s in net.segments
        for p in s["prefixes"]
    )


@pytest.mark.parametrize("seed", SEEDS)
def test_bindings_and_feeds(seed: int, tmp_path: Path) -> None:
    net = varied(seed)
    said = write_net(net, tmp_path).check()["findings"]
    known, idle = net.known(), set()
    for feed in net.feeds:
        node = next((n for n in net.nodes if n["node"] == feed["from"]), None)
        held = net.registry() if node is None else known[feed["from"]]
        if node is not None and not node.get("relays"):
            held = net.learned(node)
        if feed.get("state") == "down" or not any(net.passes(feed, b) for b in held):
            idle.add(feed["name"])
    assert {m.split("feed ")[1].split()[0] for m in found(said, "OT409")} == idle
    covered = set()
    for prefix, group, _ in winners(net).values():
        if prefix.num_addresses == 1 or group == "untagged":
            continue
        for segment in net.segments:
            over = [
                p
                for p in map(ip_network, segment["prefixes"])
                if p.version == prefix.version and p.overlaps(prefix)
            ]
            if over and "tag" not in segment and segment["segment"] not in _homes(net, prefix):
                covered.add((group, segment["segment"]))
    told = {
        (f["example"]["group"], segment)
        for f in said if f["code"] == "OT410"
        for segment in f["example"]["segments"]
    }  # fmt: skip
    assert told == covered
    pairs = Counter((b[0], b[2]) for b in set(net.registry()))
    assert len(found(said, "OT211")) == sum(n > 1 for n in pairs.values())


def _homes(net: Net, prefix: Any) -> set[str]:
    """Where an endpoint that is this whole network is at home."""
    if prefix not in map(ip_network, [a for b in net.beings for a in b.addresses if "/" in a]):
        return set()
    homes = [
        (ip_network(p).prefixlen, s["segment"])
        for s in net.segments
        for p in s["prefixes"]
        if ip_network(p).version == prefix.version and prefix.subnet_of(ip_network(p))
    ]
    return {max(homes)[1]} if homes else set()
