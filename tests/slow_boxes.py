"""The fewest ordered boxes that say what a small table says: every row of boxes is tried."""

from __future__ import annotations

import itertools
from collections.abc import Iterable

Table = list[list[list[int]]]


def fewest(table: Table) -> int:
    """How many boxes the shortest row has; any set of kinds is one box.

    From the front: a box may hold places of one outcome and those that a box before it holds. Of
    boxes of which one holds the other the larger is as good, and of sets of places that are held so
    far the larger is as good too.
    """
    size = len(table), len(table[0]), len(table[0][0])
    places = list(itertools.product(*map(range, size)))
    bit = {place: 1 << n for n, place in enumerate(places)}
    full = (1 << len(places)) - 1
    sides = [
        [c for k in range(1, n + 1) for c in itertools.combinations(range(n), k)] for n in size
    ]
    boxes = sorted(
        (sum(bit[p] for p in itertools.product(*of)) for of in itertools.product(*sides)),
        key=lambda held: -held.bit_count(),
    )
    outcomes: dict[int, int] = {}
    for s, d, k in places:
        outcomes[table[s][d][k]] = outcomes.get(table[s][d][k], 0) | bit[s, d, k]
    held, depth = [0], 1
    while all(full & ~(some | mine) for some in held for mine in outcomes.values()):
        fresh: set[int] = set()
        for some in held:
            for mine in outcomes.values():
                fresh.update(
                    some | box for box in _largest(b for b in boxes if not b & ~(mine | some))
                )
        held = _largest(sorted(fresh, key=lambda x: -x.bit_count()))
        depth += 1
    return depth


def _largest(some: Iterable[int]) -> list[int]:
    """Those that none before them holds; the larger ones come first."""
    kept: list[int] = []
    for one in some:
        if all(one & ~other for other in kept):
            kept.append(one)
    return kept
