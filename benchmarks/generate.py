"""Make a large network, always the same for one seed: its parts, or a whole workspace.

    python benchmarks/generate.py --out DIR [--scale 1.0] [--seed 1]

At scale 1: a million endpoints, 500 assignment rules, a million bindings, 2,000 groups, 100,000
lines, 400 permissions, 5,000 nodes and points, 12,000 links, 3,000 segments.
"""

from __future__ import annotations

import argparse
import tempfile
from pathlib import Path

import numpy as np

from oaktag.core.addresses import joined
from oaktag.core.assignment import Compare, Condition, Equals, Glob, Rule
from oaktag.core.endpoints import Endpoints, SourceTable, coded
from oaktag.core.groups import Groups
from oaktag.core.lines import Policy
from oaktag.core.network import Network
from oaktag.located import Location

ENDPOINTS = 1_000_000
RULES = 500
PREFIXES = 1_000_000
HERE = Location("generated")


def endpoint_columns(scale: float, seed: int) -> dict[str, list[str]]:
    """Five text columns, two of them with a value of its own for every endpoint."""
    rng = np.random.default_rng(seed)
    count = int(ENDPOINTS * scale)
    kinds = ("db", "web", "app", "pc", "cam", "till")
    kind = rng.integers(0, len(kinds), count)
    site = rng.integers(0, 200, count)
    return {
        "name": [
            f"{kinds[k]}-{s:03d}-{n:07d}" for n, (k, s) in enumerate(zip(kind, site, strict=True))
        ],
        "site": [f"site-{s:03d}" for s in site],
        "model": [f"M-{m}" for m in rng.integers(0, 500, count)],
        "role": [f"role-{r}" for r in rng.integers(0, 50, count)],
        "size": [str(s) for s in rng.integers(0, 40, count)],
    }


def endpoints(columns: dict[str, list[str]]) -> Endpoints:
    """The columns as endpoints of one source."""
    ids = columns["name"]
    values = {name: coded((v,) for v in column) for name, column in columns.items()}
    return Endpoints([SourceTable("device", "generated", ids, list(range(len(ids))), values)])


def rules(seed: int) -> list[tuple[int, list[tuple[str, str, object]]]]:
    """Rules as (group, conditions); a condition is (attribute, how, what). A tenth have globs."""
    rng = np.random.default_rng(seed + 1)
    made: list[tuple[int, list[tuple[str, str, object]]]] = []
    for number in range(RULES):
        conditions: list[tuple[str, str, object]] = [
            ("model", "is", f"M-{rng.integers(0, 500)}"),
            ("role", "is", f"role-{rng.integers(0, 50)}"),
        ]
        if number % 10 == 0:
            kind = ("db", "web", "app", "pc")[rng.integers(0, 4)]
            conditions = [
                ("name", "like", f"{kind}-{rng.integers(0, 20):02d}*-*{rng.integers(0, 10)}")
            ]
        elif number % 10 == 1:
            conditions = [
                ("site", "is", f"site-{rng.integers(0, 200):03d}"),
                ("size", "from", int(rng.integers(20, 40))),
            ]
        made.append((number % 200 + 1, conditions))
    return made


def as_rules(made: list[tuple[int, list[tuple[str, str, object]]]]) -> list[Rule]:
    """The same rules as the core has them."""
    result = []
    for give, conditions in made:
        held = []
        for attribute, how, what in conditions:
            if how == "from":
                held.append(Condition(attribute, Compare(((">=", float(str(what))),)), str(what)))
            else:
                held.append(
                    Condition(attribute, (Glob if how == "like" else Equals)(str(what)), str(what))
                )
        result.append(Rule(give, tuple(held), (), HERE))
    return result


def prefixes(scale: float, seed: int, family: int = 4) -> tuple[np.ndarray, np.ndarray]:
    """Distinct prefixes, most of them hosts, as (first addresses as keys, lengths)."""
    rng = np.random.default_rng(seed + 2)
    count = int(PREFIXES * scale)
    if family == 4:
        lengths = rng.choice([16, 20, 24, 28, 32], count, p=[0.001, 0.009, 0.05, 0.04, 0.9])
        wide = (np.uint64(1) << (32 - lengths).astype(np.uint64)) - np.uint64(1)
        starts = (rng.integers(0x0A000000, 0x0C000000, count, dtype=np.uint64)) & ~wide
        _, first = np.unique(starts << np.uint64(6) | lengths.astype(np.uint64), return_index=True)
        return starts[first], lengths[first]
    lengths = rng.choice([40, 48, 56, 64, 128], count, p=[0.001, 0.009, 0.01, 0.08, 0.9])
    high = np.uint64(0xFD20 << 48) | rng.integers(0, 1 << 18, count, dtype=np.uint64) << np.uint64(
        6
    )
    low = rng.integers(0, 1 << 12, count, dtype=np.uint64) << np.uint64(20) | np.uint64(1)
    kept = np.minimum(64 - lengths, 63).clip(0).astype(np.uint64)
    high = np.where(lengths < 64, high >> kept << kept, high)
    low = np.where(lengths == 128, low, 0).astype(np.uint64)
    found = joined(high, low)
    _, first = np.unique(
        np.stack([high, low, lengths.astype(np.uint64)]), axis=1, return_index=True
    )
    return found[first], lengths[first]


def addresses(count: int, seed: int, family: int) -> np.ndarray:
    """Addresses to be looked up, as keys: all over the prefixes' room, and for IPv6 half of them
    hosts that have a prefix of their own."""
    rng = np.random.default_rng(seed + 5)
    if family == 4:
        return rng.integers(0x0A000000, 0x0C000000, count, dtype=np.uint64)
    high = np.uint64(0xFD20 << 48) | rng.integers(0, 1 << 18, count, dtype=np.uint64) << np.uint64(
        6
    )
    low = rng.integers(0, 1 << 12, count, dtype=np.uint64) << np.uint64(20) | np.uint64(1)
    starts, lengths = prefixes(max(count / 10 / PREFIXES, 0.005), seed, 6)
    hosts = starts[lengths == 128]
    some = joined(high, low)
    some[::2] = hosts[rng.integers(0, len(hosts), len(some[::2]))]
    return some


def policy(scale: float, seed: int) -> tuple[Groups, Policy]:
    """Groups and lines of a workspace, as the core has them."""
    from oaktag.workspace.load import load

    with tempfile.TemporaryDirectory() as place:
        root = Path(place)
        texts = policy_texts(scale, seed) | {
            "oaktag.yaml": "workspace: large\ndefault: deny\n"
            "layers: [matrix/10-first.csv, matrix/20-second.csv]\nsources: []\n"
        }
        for name, text in texts.items():
            (root / name).parent.mkdir(parents=True, exist_ok=True)
            (root / name).write_text(text, encoding="utf-8")
        files = load(root)
    return files.groups, files.policy


def network(scale: float, seed: int) -> Network:
    """The network of a workspace, as the core has it."""
    from oaktag.workspace.folder import Folder
    from oaktag.workspace.network_file import read_network
    from oaktag.workspace.textfile import Problems

    with tempfile.TemporaryDirectory() as place:
        Path(place, "network.yaml").write_text(network_text(scale, seed), encoding="utf-8")
        return read_network(Folder(Path(place)), None, Problems())


# -- a whole workspace ---------------------------------------------------------------------------

GROUPS = 2_000
LINES = 100_000
PERMISSIONS = 400
NODES, LINKS, SEGMENTS = 5_000, 12_000, 3_000
CLASSES = 200


def _count(full: int, scale: float, least: int) -> int:
    return max(round(full * scale), least)


def policy_texts(scale: float, seed: int) -> dict[str, str]:
    """Groups, permissions and lines. Lines grow with the scale, groups with its root, so that the
    share of the cells that have a line of their own stays: a twentieth."""
    rng = np.random.default_rng(seed + 3)
    groups = _count(GROUPS, scale**0.5, 20)
    permissions = _count(PERMISSIONS, scale**0.5, 20)
    names = [f"g{n:04d}" for n in range(groups)]
    sets = {
        f"s{n:03d}": rng.choice(groups, rng.integers(2, 21), replace=False).tolist()
        for n in range(max(groups // 10, 4))
    }
    ports = rng.integers(1, 65_000, permissions * 4).tolist()
    lines = ["source,destination,permission,mode,way,expires,owner,note"]
    set_names = list(sets)
    for number in range(_count(LINES, scale, 50)):
        ends = [names[rng.integers(groups)], names[rng.integers(groups)]]
        kind = rng.random()
        if kind < 0.02:
            ends = [set_names[rng.integers(len(sets))], set_names[rng.integers(len(sets))]]
        elif kind < 0.06:
            ends[int(rng.integers(2))] = set_names[rng.integers(len(sets))]
        mode = "observe" if number % 50 == 0 else "enforce"
        way = "both" if number % 3 else "to"
        lines.append(f"{ends[0]},{ends[1]},p{rng.integers(permissions):03d},{mode},{way},,,")
    made = ["permissions:"]
    for n in range(permissions):
        some = ports[4 * n : 4 * n + 1 + n % 4]
        listed = ", ".join(f"{p}/tcp" if p % 3 else f"{p}-{p + p % 300}/udp" for p in some)
        made += [f"  p{n:03d}:", f"    - allow: [{listed}]"]
        if n % 20 == 0:
            made += ["    - deny: 1-1023/tcp", "    - allow: icmp"]
    half = len(lines) // 2 + 1
    return {
        "groups.yaml": "groups:\n"
        + "".join(f"  - {{id: {n}, tag: {i + 10}}}\n" for i, n in enumerate(names))
        + "sets:\n"
        + "".join(f"  {s}: [{', '.join(names[g] for g in m)}]\n" for s, m in sets.items()),
        "permissions.yaml": "\n".join(made) + "\n",
        "matrix/10-first.csv": "\n".join(lines[:half]) + "\n",
        "matrix/20-second.csv": "\n".join([lines[0], *lines[half:]]) + "\n",
    }


def network_text(scale: float, seed: int) -> str:
    """Nodes in three tiers, all with a point; segments of 1,024 addresses on the outer ones; feeds
    of some 330 bindings, a few of 20,000, in at most 200 classes; scopes of one group's column."""
    rng = np.random.default_rng(seed + 4)
    nodes, segments = _count(NODES, scale, 12), _count(SEGMENTS, scale, 6)
    groups = _count(GROUPS, scale**0.5, 20)
    core, middle = max(nodes // 100, 3), max(nodes // 10, 6)
    lines = ["nodes:"]
    for n in range(nodes):
        flags = "carries: true, marks: true, learns: [session]" if n % 10 else "carries: false"
        scope = f"scope: {{sources: ['*'], destinations: [g{rng.integers(groups):04d}]}}"
        lines.append(f"  - {{node: n{n}, {flags}, point: {{{scope}, capacity: 20000}}}}")
    lines.append("segments:")
    outer = list(range(middle, nodes))
    for s in range(segments):
        lines.append(
            f"  - {{segment: s{s}, node: n{outer[s % len(outer)]}, prefixes: [{_net(s)}/22]}}"
        )
    pairs: dict[tuple[int, int], int] = {}
    for n in range(1, core):
        pairs[n - 1, n] = 1
    pairs[0, core - 1] = 1
    for n in range(core, middle):
        for other in rng.choice(core, 2, replace=False).tolist():
            pairs[other, n] = 10
    for n in outer:
        for other in (rng.choice(middle - core, 2, replace=False) + core).tolist():
            pairs[other, n] = 10
    while len(pairs) < _count(LINKS, scale, 24):
        a, b = sorted(rng.choice(max(middle, nodes // 2), 2, replace=False).tolist())
        pairs[a, b] = 40
    lines.append("links:")
    for (a, b), cost in pairs.items():
        carries = ", carries: false" if rng.random() < 0.1 else ""
        lines.append(f"  - {{between: [n{a}, n{b}], cost: {cost}{carries}}}")
    lines.append("feeds:")
    for n in range(nodes):
        first = (n % CLASSES) * segments // CLASSES
        many = 60 if n % CLASSES == 0 else 1
        nets = ", ".join(f"{_net(s)}/22" for s in range(first, min(first + many, segments)))
        lines.append(f"  - {{from: registry, to: n{n}, only: {{prefixes: [{nets}]}}}}")
    return "\n".join(lines) + "\n"


def _net(segment: int) -> str:
    number = 0x0A000000 + (segment << 10)
    return ".".join(str(number >> s & 255) for s in (24, 16, 8, 0))


def people_texts(scale: float, seed: int) -> dict[str, str]:
    """An inventory and the rules for it: file → text."""
    columns = endpoint_columns(scale, seed)
    # Segments have 1,024 addresses, and no more people.
    segments = max(_count(SEGMENTS, scale, 6), -(-len(columns["name"]) // 1_000))
    groups = _count(GROUPS, scale**0.5, 20)
    rows = ["name,site,model,role,size,address"]
    for n, row in enumerate(zip(*columns.values(), strict=True)):
        number = 0x0A000000 + ((n % segments) << 10) + n // segments + 1
        address = ".".join(str(number >> s & 255) for s in (24, 16, 8, 0))
        rows.append(",".join((*row, address)))
    keys = {"is": "{}", "like": '"{}"', "from": '{{">=": {}}}'}
    made = ["rules:"]
    for give, conditions in rules(seed):
        # The first condition on the name is a glob on the id.
        when = ", ".join(
            f"{'id' if a == 'name' else a}: {keys[how].format(what)}" for a, how, what in conditions
        )
        made.append(f"  - {{give: g{give % groups:04d}, when: {{{when}}}}}")
    rest = f"  - {{give: g{0:04d}, when: {{kind: server}}}}"
    return {
        "assignments.yaml": "\n".join([*made, rest]) + "\n",
        "inventory/endpoints.csv": "\n".join(rows) + "\n",
    }


def workspace_texts(scale: float, seed: int) -> dict[str, str]:
    """A whole workspace: file → text."""
    return {
        **policy_texts(scale, seed),
        **people_texts(scale, seed),
        "oaktag.yaml": "workspace: large\ndefault: deny\n"
        "layers: [matrix/10-first.csv, matrix/20-second.csv]\nsources:\n"
        "  - {file: inventory/endpoints.csv, kind: server, id: name, address: address}\n",
        "network.yaml": network_text(scale, seed),
    }


def main() -> None:
    parser = argparse.ArgumentParser(description="Write a large workspace into a folder.")
    parser.add_argument("--out", type=Path, required=True)
    parser.add_argument("--scale", type=float, default=1.0)
    parser.add_argument("--seed", type=int, default=1)
    options = parser.parse_args()
    for name, text in workspace_texts(options.scale, options.seed).items():
        path = options.out / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
