"""Random networks of some size, and how any network is written as a workspace."""

from __future__ import annotations

import json
import random
from pathlib import Path
from typing import Any

import oaktag
from oaktag.testing.slow import Stack
from oaktag.testing.slow_reach import Being, Net
from oaktag.testing.strategies import write_stack
from sizes import scaled

GROUPS = ("ada", "bo", "cy", "di", "el", "fay")
LINES = (
    ("ada", "cy", "web", "both"), ("bo", "cy", "web", "to"), ("ada", "bo", "shell", "to"),
    ("di", "front", "web", "both"), ("front", "el", "shell", "both"), ("untagged", "cy", "web", "to"),
    ("fay", "itself", "all", "to"), ("el", "untagged", "web", "to"), ("cy", "di", "all", "both"),
)  # fmt: skip
#: Fewer where the tests run for one change of the code after the other (``tools/mutate.py``).
SEEDS = range(scaled(16))


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
    if not plain and seed % 2:
        outside = {
            "segment": "outside",
            "node": rng.choice(nodes),
            "prefixes": ["0.0.0.0/0", "::/0"],
        }
        segments.append(
            outside | ({"tag": rng.choice((*GROUPS, "untagged"))} if maybe(0.7) else {})
        )
        if maybe(0.5):
            wide = ["0.0.0.0/0", "::/0"][: rng.randint(1, 2)]
            beings.append(Being("world", wide, rng.choice((*GROUPS, None)), True))
    return Net(stack(), held, segments, links, feeds, beings, pins, [])


def share_states(net: Net, rng: random.Random, share: float) -> None:
    """Let some points know each other's flows."""
    for node in net.nodes:
        for point in node["points"]:
            if rng.random() < share:
                point["shares_state"] = "pair"


def states_of(net: Net, way: list[tuple[str, Any]]) -> set[object]:
    """What keeps the flows of a way: its stateful points, or what these share."""
    points = {n["node"]: n["points"] for n in net.nodes}
    return {state_of(name, p) for name, _ in way for p in points[name] if keeps_state(p)}


def keeps_state(point: dict[str, Any]) -> bool:
    return bool(point.get("stateful", True)) and point.get("mode") != "off"


def state_of(node: str, point: dict[str, Any]) -> object:
    """The name of the flows that a point keeps: its own, or the one that it shares."""
    return point.get("shares_state", (node, point["name"]))


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


def write_net(net: Net, folder: Path) -> oaktag.Workspace:
    write_stack(net.stack, folder)
    config = json.loads((folder / "oaktag.yaml").read_text())
    config["sources"] = [
        {
            "file": "all.csv",
            "kind": "server",
            "id": "name",
            "address": "ip",
            "stability": "stability",
        }
    ]
    rows = [
        f"{b.name},{';'.join(b.addresses)},{'fixed' if b.stable else 'leased'},{b.group or ''}"
        for b in net.beings
    ]
    (folder / "all.csv").write_text("\n".join(["name,ip,stability,role", *rows]) + "\n")
    config["sessions"] = "seen.csv"
    seen = [f"{who},{where},2026-11-2{since}" for who, where, since in net.sessions]
    (folder / "seen.csv").write_text("\n".join(["endpoint,address,since", *seen]) + "\n")
    rules = [{"give": n, "when": {"role": n}} for n in net.stack.groups]
    for name, content in {
        "oaktag.yaml": config,
        "assignments.yaml": {"pins": net.pins, "rules": rules},
        "network.yaml": {
            "nodes": net.nodes, "segments": net.segments, "links": net.links, "feeds": net.feeds,
            "registries": net.registries,
        },
    }.items():  # fmt: skip
        (folder / name).write_text(json.dumps(content))
    return oaktag.Workspace.load(folder)
