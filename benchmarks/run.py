"""Run the benchmarks, each beside a named, general baseline in the same run, and write one table.

    python benchmarks/run.py [--scale 1.0] [--seed 1] [--out docs/benchmarks.md]

Every benchmark first checks its result against the plain way on a small size. Figures are medians of
five runs (of one, where a run of the baseline takes minutes: the table says so).
"""

from __future__ import annotations

import argparse
import platform
import statistics
import time
from collections.abc import Callable
from importlib.metadata import version
from pathlib import Path

import generate
import numpy as np
import pandas as pd
import pytricia

from oaktag.core.addresses import address_text
from oaktag.core.assignment import Assignment
from oaktag.core.ranges import Table, flatten

HEAD = """# Benchmarks

Made by `make bench`; nothing here is written by hand. Each row is beside a general baseline in the same
run: the ratio is what counts, for machines differ.

"""
TAIL = """
Not measured yet, because not built for this size yet: IPv6 look-up, aggregation of addresses, the
matrix, lists, paths and reach of a large network, and how the cost of each grows.
"""
Row = tuple[str, str, int, float, float, int, str]


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


def bindings(scale: float, seed: int) -> list[Row]:
    def table(starts: np.ndarray, lengths: np.ndarray) -> Table:
        wide = (np.uint64(1) << (32 - lengths).astype(np.uint64)) - np.uint64(1)
        low, high, owner = flatten(4, starts, starts | wide, lengths)
        return Table(4, low, high, owner, owner)

    def tree(texts: list[str]) -> pytricia.PyTricia:
        held = pytricia.PyTricia(32)
        for number, text in enumerate(texts):
            held[text] = number
        return held

    def written(starts: np.ndarray, lengths: np.ndarray) -> list[str]:
        return [f"{address_text(4, int(s))}/{n}" for s, n in zip(starts, lengths, strict=True)]

    starts, lengths = generate.prefixes(0.005, seed)
    rng = np.random.default_rng(seed)
    asked = rng.integers(0x0A000000, 0x0C000000, 1 << 20, dtype=np.uint64)
    found, slow = table(starts, lengths), tree(written(starts, lengths))
    owner = np.concatenate([found.rows, [-1]])[found.find(asked)]
    assert all(
        slow.get(int(a), -1) == o for a, o in zip(asked[:20_000], owner[:20_000], strict=True)
    )
    starts, lengths = generate.prefixes(scale, seed)
    texts = written(starts, lengths)
    build = seconds(lambda: table(starts, lengths), 5)
    plain = seconds(lambda: tree(texts), 3)
    found, slow = table(starts, lengths), tree(texts)
    with_levels = seconds(lambda: table(starts, lengths)._levels, 5)
    asked = rng.integers(0x0A000000, 0x0C000000, int(10_000_000 * scale), dtype=np.uint64)
    found.find(asked)
    look = seconds(lambda: found.find(asked), 5)
    some = [int(a) for a in asked[: max(len(asked) // 10, 1)]]
    one_by_one = seconds(lambda: [slow.get(a) for a in some], 3) * 10
    count = len(starts)
    return [
        ("flatten IPv4 prefixes", "pytricia from text", count, build, plain, 3, "≥ 4×"),
        (
            "flatten, and the two-level table",
            "pytricia from text",
            count,
            with_levels,
            plain,
            3,
            "≥ 3×",
        ),
        (
            "look up IPv4 addresses",
            "pytricia in a loop (a tenth, times ten)",
            len(asked),
            look,
            one_by_one,
            3,
            "≥ 60×",
        ),
    ]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--scale", type=float, default=1.0)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--out", type=Path)
    options = parser.parse_args()
    rows = assignment(options.scale, options.seed) + bindings(options.scale, options.seed)
    lines = [
        f"Scale {options.scale:g}, seed {options.seed}; {platform.machine()}, {platform.system()} "
        f"{platform.release()}, Python {platform.python_version()}, NumPy {np.__version__}, pandas "
        f"{pd.__version__}, pytricia {version('pytricia')}. Medians; ours of 5 runs.",
        "",
        "| work | size | ours, s | baseline in the same run | s (runs) | ratio | goal |",
        "|---|---|---|---|---|---|---|",
    ]
    for work, baseline, size, ours, theirs, runs, goal in rows:
        lines.append(
            f"| {work} | {size:,} | {ours:.3g} | {baseline} | {theirs:.3g} ({runs}) | {theirs / ours:.1f}× | {goal} |"
        )
    text = "\n".join(lines) + "\n"
    print(text)
    if options.out:
        options.out.write_text(HEAD + text + TAIL, encoding="utf-8")


if __name__ == "__main__":
    main()
