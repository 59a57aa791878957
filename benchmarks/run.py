"""Run the benchmarks, each beside a named, general baseline in the same run, and write one table.

    python benchmarks/run.py [--scale 1.0] [--seed 1] [--out docs/benchmarks.md]

Every benchmark first checks its result against the plain way on a small size. Figures are medians of
five runs (of one, where a run of the baseline takes minutes: the table says so).
"""

from __future__ import annotations

import argparse
import platform
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from functools import cache, partial
from importlib.metadata import version
from pathlib import Path
from typing import Any, NamedTuple

import generate
import list_rows
import netaddr
import networkx
import numpy as np
import pandas as pd
import pytricia

from oaktag.core.addresses import address_text, key_number, keys
from oaktag.core.assignment import Assignment
from oaktag.core.comparison import compare
from oaktag.core.failures import losses
from oaktag.core.groups import Groups
from oaktag.core.lines import Policy
from oaktag.core.matrix import Matrix
from oaktag.core.packets import Atoms
from oaktag.core.paths import Paths
from oaktag.core.placement import Hosts
from oaktag.core.population import Class
from oaktag.core.ranges import Table, aggregate, flatten
from oaktag.core.reach import State
from oaktag.core.reach_counts import count_rows
from oaktag.core.review import find_contradictions, find_redundant, find_shadowed
from oaktag.operations.model import Model

HEAD = """# Benchmarks

Made by `make bench`; nothing here is written by hand. Each row is beside a general baseline in the same
run: the ratio is what counts, for machines differ.

"""
TAIL = """
Reach and failures are measured from a workspace that is loaded, its bindings known and its hosts
placed. Failures are measured at a tenth of the scale only. Lists of a large network stand on a page
of their own, benchmarks-lists.md. Not measured: mending of a large network.
"""
Row = tuple[str, str, int, float, float, int, str]


class Work(NamedTuple):
    """Prefixes in a table: flattened, ready for few look-ups, and for many."""

    size: int
    flat: Callable[[], Any]
    table: Callable[[], Any]
    whole: Callable[[], Any]


def seconds(work: Callable[[], object], runs: int) -> float:
    """The median of some runs."""
    taken = []
    for _ in range(runs):
        start = time.perf_counter()
        work()
        taken.append(time.perf_counter() - start)
    return statistics.median(taken)


def by_masks(
    frame: pd.DataFrame, made: list[tuple[int, list[tuple[str, str, object]]]]
) -> np.ndarray:
    """The baseline: boolean masks on text columns, rule by rule."""
    from fnmatch import translate

    group = np.full(len(frame), -1)
    for give, conditions in made:
        mask = np.ones(len(frame), dtype=bool)
        for attribute, how, what in conditions:
            column = frame[attribute]
            if how == "is":
                mask &= (column == what).to_numpy()
            elif how == "like":
                mask &= column.str.match(translate(str(what))).to_numpy(dtype=bool)
            else:
                mask &= (pd.to_numeric(column) >= what).to_numpy()
        group[mask & (group < 0)] = give
    return group


def assignment(scale: float, seed: int) -> list[Row]:
    made = generate.rules(seed)
    rules = generate.as_rules(made)
    small = generate.endpoint_columns(0.005, seed)
    expected = by_masks(pd.DataFrame(small, dtype="str"), made)
    assert (Assignment(generate.endpoints(small), rules, []).group == expected).all()
    columns = generate.endpoint_columns(scale, seed)
    held = generate.endpoints(columns)
    frame = pd.DataFrame(columns, dtype="str")
    ours = seconds(lambda: Assignment(held, rules, []), 5)
    theirs = seconds(lambda: by_masks(frame, made), 1)
    count = len(held)
    rows: list[Row] = [
        (
            "assign by 500 rules",
            "pandas masks on text, rule by rule",
            count,
            ours,
            theirs,
            1,
            "≥ 20×, then 50×",
        )
    ]
    settled = Assignment(held, rules, [])
    asked = list(range(0, count, max(count // 300, 1)))
    settled.matching(0)
    explain = seconds(lambda: [settled.matching(r) for r in asked], 5) / len(asked)

    def plainly() -> None:
        for row in asked:
            facts = {name: column[row] for name, column in columns.items()}
            for rule in rules:
                all(c.test.holds(facts[c.attribute]) for c in rule.when)

    for row in asked[:20]:
        facts = {name: column[row] for name, column in columns.items()}
        assert settled.matching(row) == [
            n
            for n, rule in enumerate(rules)
            if all(c.test.holds(facts[c.attribute]) for c in rule.when)
        ]

    plain = seconds(plainly, 5) / len(asked)
    rows.append(
        (
            "explain one endpoint",
            "the predicates as Python functions",
            1,
            explain,
            plain,
            5,
            "≥ 40×",
        )
    )
    return rows


def prefix_tables(scale: float, seed: int, family: int) -> tuple[Work, Work]:
    """Our table of distinct prefixes and the baseline's, as work to be timed."""
    starts, lengths = generate.prefixes(scale, seed, family)
    ends = ends_of(family, starts, lengths)
    texts = [
        f"{address_text(family, key_number(family, s))}/{n}"
        for s, n in zip(starts, lengths.tolist(), strict=True)
    ]
    owners = np.arange(len(lengths))

    def flat() -> object:
        return flatten(family, starts, ends, lengths)

    def table() -> Table:
        low, high, owner = flatten(family, starts, ends, lengths)
        return Table(family, low, high, owner, owner, starts, lengths, owners)

    def whole() -> Table:
        """With what many look-ups need; it is built from the prefixes alone."""
        made = Table(family, starts[:1], ends[:1], owners[:1], owners[:1], starts, lengths, owners)
        assert made._levels if family == 4 else made._buckets
        return made

    def tree() -> pytricia.PyTricia:
        held = pytricia.PyTricia({4: 32, 6: 128}[family])
        for number, text in enumerate(texts):
            held[text] = number
        return held

    return Work(len(texts), flat, table, whole), Work(len(texts), tree, tree, tree)


def ends_of(family: int, starts: np.ndarray, lengths: np.ndarray) -> np.ndarray:
    """The last addresses of prefixes."""
    if family == 4:
        last: np.ndarray = starts | (
            (np.uint64(1) << (32 - lengths).astype(np.uint64)) - np.uint64(1)
        )
        return last
    return keys(
        6,
        [key_number(6, s) | (1 << 128 - int(n)) - 1 for s, n in zip(starts, lengths, strict=True)],
    )


def bindings(scale: float, seed: int, family: int) -> list[Row]:
    ours, theirs = prefix_tables(0.005, seed, family)
    asked = generate.addresses(1 << 20, seed, family)
    held, slow = ours.table(), theirs.table()
    found = held.find(asked)
    assert all(
        slow.get(address_text(family, key_number(family, a)), -1) == o
        for a, o in zip(asked[:20_000], found[:20_000], strict=True)
    )
    ours, theirs = prefix_tables(scale, seed, family)
    name, count = f"IPv{family}", ours.size
    plain = seconds(theirs.flat, 3)
    flat, whole = seconds(ours.flat, 5), seconds(ours.whole, 5)
    held, slow = ours.table(), theirs.table()
    asked = generate.addresses(int(10_000_000 * scale), seed, family)
    held.find(asked)
    look = seconds(lambda: held.find(asked), 5)
    part = max(len(asked) // 10, 1)
    some: list[object] = [
        int(a) if family == 4 else bytes(a).ljust(16, b"\0") for a in asked[:part]
    ]
    one_by_one = seconds(lambda: [slow.get(a) for a in some], 3) * len(asked) / part
    rows: list[Row] = [
        (f"flatten {name} prefixes", "pytricia from text", count, flat, plain, 3, "≥ 4×"),
        (f"the {name} table for many look-ups", "pytricia from text", count, whole, plain, 3, "≥ 3×"),
        (
            f"look up {name} addresses", "pytricia in a loop (a tenth, times ten)", len(asked), look,
            one_by_one, 3, {4: "≥ 60×", 6: "≥ 8×"}[family],
        ),
    ]  # fmt: skip
    if family == 4:
        leaves = held._levels[1]
        places = np.random.default_rng(seed).integers(0, len(leaves), len(asked))
        read = seconds(lambda: leaves.take(places), 5)
        rows.append(
            (
                "the same beside", "a plain random read of a table as large", len(asked), look, read, 5,
                "≥ 0.2×",
            )
        )  # fmt: skip
    return rows


def aggregation(scale: float, seed: int) -> list[Row]:
    rows: list[Row] = []
    for kind, room, goal in (("clustered", 1.2, "≥ 100×"), ("sparse", 400.0, "≥ 30×")):
        for size in (2_000, int(1_000_000 * scale)):
            rng = np.random.default_rng(seed)
            top = int(size * room)
            hosts = np.uint64(0x0A000000) + rng.permutation(top)[:size].astype(np.uint64)
            texts = [netaddr.IPAddress(int(a)) for a in hosts]
            ours = seconds(partial(aggregate, hosts, hosts), 5)
            theirs = seconds(partial(netaddr.cidr_merge, texts), 1)
            if size == 2_000:
                merged = [(int(n.first), n.prefixlen) for n in netaddr.cidr_merge(texts)]
                found = aggregate(hosts, hosts)
                assert list(zip(*(side.tolist() for side in found), strict=True)) == merged
        rows.append(
            (f"aggregate addresses, {kind}", "netaddr.cidr_merge", size, ours, theirs, 1, goal)
        )
    return rows


def growth(scale: float, seed: int) -> list[str]:
    """How the cost of ours grows: three sizes, and the exponent of the best fit."""
    sizes = [scale / 16, scale / 4, scale]
    made = generate.as_rules(generate.rules(seed))
    held = {s: generate.endpoints(generate.endpoint_columns(s, seed)) for s in sizes}
    tables = {(s, f): prefix_tables(s, seed, f)[0] for s in sizes for f in (4, 6)}
    policies = {s: generate.policy(s, seed) for s in sizes}
    works: dict[str, Callable[[float], object]] = {
        "assign by 500 rules": lambda s: Assignment(held[s], made, []),
        "flatten IPv4 prefixes": lambda s: tables[s, 4].flat(),
        "flatten IPv6 prefixes": lambda s: tables[s, 6].flat(),
        "paint the matrix": lambda s: paint(policies[s]),
    }
    measured = {name: [seconds(partial(work, s), 3) for s in sizes] for name, work in works.items()}
    measured["reach, all rows"] = [reach_once(s, seed)[1] for s in sizes]
    return grown(measured, scale)


def grown(measured: dict[str, list[float]], scale: float) -> list[str]:
    """The same as a table."""
    sizes = [scale / 16, scale / 4, scale]
    lines = ["", "| growth | " + " | ".join(f"scale {s:g}, s" for s in sizes) + " | exponent |",
             "|---|---|---|---|---|"]  # fmt: skip
    for name, taken in measured.items():
        slope = np.polyfit(np.log(sizes), np.log(taken), 1)[0]
        lines.append(f"| {name} | " + " | ".join(f"{t:.3g}" for t in taken) + f" | {slope:.2f} |")
    return lines


def paint(held: tuple[Groups, Policy]) -> Matrix:
    """All cells of a policy."""
    groups, policy = held
    atoms = Atoms([b for p in policy.permissions for e in p.steps for b in e.boxes])
    made = Matrix(groups, policy, atoms, 0)
    assert made.action_form.shape == made.would_form.shape
    return made


def matrices(scale: float, seed: int) -> list[Row]:
    """Painting beside reading the same lines, and deciding beside a loop over the entries."""
    small = paint(generate.policy(0.001, seed))
    stack_of = slow_cells(small)
    rng = np.random.default_rng(seed)
    for s, d in rng.integers(0, len(small.groups), (300, 2)).tolist():
        expected = stack_of(s, d)
        assert (
            small.forms[int(small.action_form[s, d])],
            small.forms[int(small.would_form[s, d])],
        ) == expected
    held = generate.policy(scale, seed)
    ours = seconds(lambda: paint(held), 3)
    matrix = paint(held)
    theirs_one = slow_cells(matrix)
    cells = rng.integers(0, len(matrix.groups), (200, 2)).tolist()
    plain = (
        seconds(lambda: [theirs_one(s, d) for s, d in cells], 3)
        / len(cells)
        * matrix.action_form.size
    )
    count = 1_000_000
    sources, destinations = (rng.integers(0, len(matrix.groups), count) for _ in range(2))
    atoms = rng.integers(0, matrix.atoms.count, count)
    decide = seconds(lambda: matrix.decide_many(sources, destinations, atoms), 5)
    asked = list(
        zip(sources[:500].tolist(), destinations[:500].tolist(), atoms[:500].tolist(), strict=True)
    )

    def loop() -> list[tuple[bool, bool]]:
        return [entry_by_entry(matrix, *one) for one in asked]

    found = matrix.decide_many(sources[:500], destinations[:500], atoms[:500])
    assert loop() == list(zip(*(side.tolist() for side in found), strict=True))
    looped = seconds(loop, 3) / len(asked) * count
    return [
        ("paint all cells, both answers", "the cells one by one (200, times more)",
         matrix.action_form.size, ours, plain, 3, "—"),
        ("decide packets", "a Python loop over the entries (500, times more)", count, decide, looped, 3, "≥ 200×"),
    ]  # fmt: skip


def comparisons(scale: float, seed: int) -> list[Row]:
    """Two versions that differ in a hundredth of their lines, beside reading the two."""
    groups, policy = generate.policy(scale, seed)
    few = max(len(policy.lines) // 100, 1)
    changed = policy._replace(lines=policy.lines[few:])
    atoms = Atoms([b for p in policy.permissions for e in p.steps for b in e.boxes])
    was, now = (Matrix(groups, p, atoms, 0) for p in (policy, changed))
    for matrix in (was, now):
        assert matrix.action_form.shape == matrix.would_form.shape
    found = compare(was, now)
    rng = np.random.default_rng(seed)
    cells = {(c.source, c.destination): c for c in found}
    for s, d in rng.integers(0, len(groups), (2000, 2)).tolist():
        old, new = (m.forms[int(m.action_form[s, d])] for m in (was, now))
        change = cells.get((groups.all[s].id, groups.all[d].id))
        assert (change.opened, change.closed) == (new & ~old, old & ~new) if change else old == new
    ours = seconds(lambda: compare(was, now), 5)
    reading = seconds(lambda: generate.policy(scale, seed), 1) * 2
    findings = seconds(
        lambda: (find_shadowed(now), find_contradictions(now), find_redundant(now)), 1
    )
    return [
        ("compare two versions", "reading the two (generated too)", was.action_form.size, ours, reading, 1, "≥ 1×"),
        ("review: shadowed, contradicting, redundant", "reading the lines", len(changed.lines), findings, reading / 2, 1, "—"),
    ]  # fmt: skip


def paths(scale: float, seed: int) -> list[Row]:
    """Costs of least-cost paths from each node with a segment, beside networkx from each."""
    small, network = (generate.network(s, seed) for s in (0.004, scale))
    for net in (small, network):
        graph = networkx.Graph()
        graph.add_nodes_from(net.nodes)
        for link in net.links:
            known = graph.get_edge_data(link.a, link.b, {"weight": link.cost})["weight"]
            graph.add_edge(link.a, link.b, weight=min(known, link.cost))
        starts = list(dict.fromkeys(s.node for s in net.segments.values()))
        few = starts[: max(len(starts) // 30, 3)]
        for start in few[:3]:
            costs = Paths(net).costs(start)
            told = networkx.single_source_dijkstra_path_length(graph, start)
            assert all(costs[n] == told.get(name, np.inf) for n, name in enumerate(net.nodes))

    def ours() -> None:
        Paths(network).prepare(starts)

    def theirs() -> None:
        for start in few:
            networkx.single_source_dijkstra_path_length(graph, start)

    plain = seconds(theirs, 3) * len(starts) / len(few)
    return [("costs of paths from every segment", "networkx from each (a thirtieth, times thirty)",
             len(starts), seconds(ours, 3), plain, 3, "≥ 30×")]  # fmt: skip


def write(root: Path, texts: dict[str, str]) -> None:
    """The files of a workspace."""
    for name, text in texts.items():
        path = root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")


#: Reads a workspace and binds its endpoints; said are seconds and MiB.
BIND = """
import resource, sys, time
from pathlib import Path
from oaktag.operations.model import Model
start = time.perf_counter()
model = Model.read(Path(sys.argv[1]))
bound = len(model.registry.winners)
print(time.perf_counter() - start, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, bound)
"""


def inventory(scale: float, seed: int) -> list[Row]:
    """Five times as many rows of CSV as a large network has, read, assigned and bound, beside
    reading them; in a process of their own."""
    texts = generate.people_texts(5 * scale, seed)
    count = texts["inventory/endpoints.csv"].count("\n") - 1
    texts |= generate.policy_texts(scale / 100, seed) | {
        "groups.yaml": "groups:\n"
        + "".join(f"  - {{id: g{n:04d}, tag: {n + 10}}}\n" for n in range(5_000)),
        "oaktag.yaml": "workspace: large\ndefault: deny\nlayers: []\nsources:\n"
        "  - {file: inventory/endpoints.csv, kind: server, id: name, address: address}\n",
    }
    del texts["matrix/10-first.csv"], texts["matrix/20-second.csv"]
    with tempfile.TemporaryDirectory() as place:
        write(Path(place), texts)
        del texts
        told = []
        for _ in range(3):
            done = subprocess.run(
                [sys.executable, "-c", BIND, place], capture_output=True, text=True, check=True
            )
            told.append([float(word) for word in done.stdout.split()])
        assert all(bound == count for _, _, bound in told)
        plain = seconds(lambda: pd.read_csv(Path(place, "inventory/endpoints.csv")), 3)
    taken, memory = statistics.median(t for t, *_ in told), max(m for _, m, _ in told)
    held = f"pandas.read_csv alone; ours in {memory:,.0f} MiB"
    return [("rows of CSV read, assigned, bound", held, count, taken, plain, 3, "≥ 0.17×")]


def workspace(scale: float, seed: int) -> tuple[State, list[Class], Hosts]:
    """A whole workspace, loaded from its files, its bindings known and its hosts placed."""
    with tempfile.TemporaryDirectory() as place:
        write(Path(place), generate.workspace_texts(scale, seed))
        model = Model.read(Path(place))
    assert model.matrix.action_form.size
    return model.state, model.state.classes(model.hosts), model.hosts


@cache
def reach_once(scale: float, seed: int) -> tuple[int, float, float]:
    """Rows, seconds to count all, and seconds that making one of them takes."""
    state, classes, _ = workspace(scale, seed)
    start = time.perf_counter()
    found = count_rows(state, classes, classes)
    taken = time.perf_counter() - start
    some = classes[:: max(len(classes) // 40, 1)]
    start = time.perf_counter()
    made = len(list(state.rows(some, some)))
    return found.effects.total(), taken, (time.perf_counter() - start) / made


def reaching(scale: float, seed: int) -> list[Row]:
    """Reach beside making its rows one by one; all single failures beside one reach."""
    state, classes, hosts = workspace(0.0005, seed)
    flows = list(state.rows(classes, classes))
    assert count_rows(state, classes, classes).effects == Counter(f.effect for f in flows)
    rows, ours, one = reach_once(scale, seed)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    held = f"making its rows one by one (some, times more); memory with loading {peak:,.0f} MiB"
    state, classes, hosts = workspace(scale / 10, seed)
    single = seconds(lambda: count_rows(state, classes, classes), 3)
    start = time.perf_counter()
    failing = len(list(losses(state, hosts)))
    return [
        ("reach, all rows", held, rows, ours, one * rows, 1, "≤ 30 s"),
        (f"all single failures, scale {scale / 10:g}", "one reach", failing,
         time.perf_counter() - start, single, 3, "≥ 0.05×"),
    ]  # fmt: skip


def slow_cells(matrix: Matrix) -> Callable[[int, int], tuple[int, int]]:
    """Both forms of a cell from its ordered lines."""

    def both(source: int, destination: int) -> tuple[int, int]:
        return tuple(
            sum(p.mask for p in matrix.pieces(source, destination, answer) if p.action == "allow")
            for answer in ("action", "would")
        )  # type: ignore[return-value]

    return both


def entry_by_entry(matrix: Matrix, source: int, destination: int, atom: int) -> tuple[bool, bool]:
    """Both decisions of one packet: its cell's lines in order, the first entry that has it."""
    rows = matrix.rows_of(source, destination)
    answers = []
    for answer in ("action", "would"):
        decided = "deny"
        for number in rows:
            row = matrix.rows[number]
            if answer in matrix.answers_of(row):
                steps = matrix.effects[matrix.policy.lines[row.line].permission].steps
                hit = next((a for a, mask in steps if mask >> atom & 1), None)
                if hit is not None:
                    decided = hit
                    break
        answers.append(decided == "allow")
    return answers[0], answers[1]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--scale", type=float, default=1.0)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--out", type=Path)
    parser.add_argument("--only", action="append", help="One part: assignment, IPv4, …")
    options = parser.parse_args()
    parts: dict[str, Callable[[], list[Row]]] = {
        "reach": lambda: reaching(options.scale, options.seed),
        "inventory": lambda: inventory(options.scale, options.seed),
        "assignment": lambda: assignment(options.scale, options.seed),
        "IPv4": lambda: bindings(options.scale, options.seed, 4),
        "IPv6": lambda: bindings(options.scale, options.seed, 6),
        "aggregation": lambda: aggregation(options.scale, options.seed),
        "matrix": lambda: matrices(options.scale, options.seed),
        "comparison": lambda: comparisons(options.scale, options.seed),
        "paths": lambda: paths(options.scale, options.seed),
        "lists": lambda: list_rows.listing(options.scale, options.seed),
    }
    # Lists have a page of their own.
    asked = options.only or [name for name in parts if name != "lists"]
    rows = [row for name in asked for row in parts[name]()]
    lines = [
        f"Scale {options.scale:g}, seed {options.seed}; {platform.machine()}, {platform.system()} "
        f"{platform.release()}, Python {platform.python_version()}, NumPy {np.__version__}, pandas "
        f"{pd.__version__}, pytricia {version('pytricia')}. Medians; ours of 5 runs.",
        "",
        "| work | size | ours, s | baseline in the same run | s (runs) | ratio | goal |",
        "|---|---|---|---|---|---|---|",
    ]
    for work, baseline, size, ours, theirs, runs, goal in rows:
        ratio = f"{theirs / ours:.1f}" if theirs > ours else f"{theirs / ours:.3f}"
        lines.append(
            f"| {work} | {size:,} | {ours:.3g} | {baseline} | {theirs:.3g} ({runs}) | {ratio}× | {goal} |"
        )
    if not options.only:
        lines += growth(options.scale, options.seed)
    if "lists" in asked:
        lines += grown(
            {"lists of a network": list_rows.growing(options.scale, options.seed)}, options.scale
        )
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    lines += ["", f"Memory at its most, baselines and data included: {peak:,.0f} MiB."]
    text = "\n".join(lines) + "\n"
    print(text)
    if options.out:
        options.out.write_text(HEAD + text + ("" if options.only else TAIL), encoding="utf-8")


if __name__ == "__main__":
    main()
