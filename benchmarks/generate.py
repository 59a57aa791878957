"""Make the parts of a large network, always the same for one seed.

At scale 1: a million endpoints, 500 assignment rules, a million bindings. Other parts of a large
network (the matrix, the paths) are not made here yet.
"""

from __future__ import annotations

import numpy as np

from oaktag.core.assignment import Compare, Condition, Equals, Glob, Rule
from oaktag.core.endpoints import Endpoints, SourceTable, Value
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
    values: dict[str, list[Value]] = {
        name: [(v,) for v in column] for name, column in columns.items()
    }
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


def prefixes(scale: float, seed: int) -> tuple[np.ndarray, np.ndarray]:
    """Distinct IPv4 prefixes, most of them hosts, as (first addresses, lengths)."""
    rng = np.random.default_rng(seed + 2)
    count = int(PREFIXES * scale)
    lengths = rng.choice([16, 20, 24, 28, 32], count, p=[0.001, 0.009, 0.05, 0.04, 0.9])
    wide = (np.uint64(1) << (32 - lengths).astype(np.uint64)) - np.uint64(1)
    starts = (rng.integers(0x0A000000, 0x0C000000, count, dtype=np.uint64)) & ~wide
    _, first = np.unique(starts << np.uint64(6) | lengths.astype(np.uint64), return_index=True)
    return starts[first], lengths[first]
