"""Prefixes flattened to disjoint ranges, and look-ups of many addresses at once.

All is done on arrays: prefixes are painted from the shortest to the longest over the stretches
between their ends. IPv4 addresses are looked up in a two-level table (24 bits, then leaves of
256), in chunks that fit the cache; fewer addresses, and IPv6, by binary search.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from oaktag.core.addresses import WIDTH, Keys, key_number, keys

Ints = NDArray[np.int64]
CHUNK = 1 << 16
#: From so many addresses on, the two-level table is worth building.
MANY = 1 << 20
_LEAF = 256


def flatten(family: int, starts: Keys, ends: Keys, lengths: Ints) -> tuple[Keys, Keys, Ints]:
    """Disjoint sorted ranges of distinct prefixes, the longest winning.

    Args:
        family: 4 or 6.
        starts: first addresses as keys, shape [n].
        ends: last addresses as keys, shape [n].
        lengths: prefix lengths, shape [n].

    Returns:
        starts and ends of the ranges, and for each the index of the prefix that owns it, shape [m].
    """
    after = _after(family, ends)
    cuts = distinct(np.concatenate([starts, after]))
    low = np.searchsorted(cuts, starts)
    high = np.searchsorted(cuts, ends, side="right")
    owner = np.full(len(cuts), -1, dtype=np.int64)
    for length in np.unique(lengths):
        mine = np.flatnonzero(lengths == length)
        owner[spread(low[mine], high[mine])] = np.repeat(mine, high[mine] - low[mine])
    owned = np.flatnonzero(owner >= 0)
    last = np.empty(len(cuts), dtype=cuts.dtype)
    if len(cuts):
        last[:-1] = _before(family, cuts[1:])
        last[-1] = keys(family, [(1 << WIDTH[family]) - 1])[0]
    return cuts[owned], last[owned], owner[owned]


def distinct(values: Keys) -> Keys:
    """The distinct values, sorted (sorting and comparing neighbours beats ``np.unique``)."""
    ordered = np.sort(values)
    if not len(ordered):
        return ordered
    first: Keys = np.concatenate([[True], ordered[1:] != ordered[:-1]])
    found: Keys = ordered[first]
    return found


def spread(low: Ints, high: Ints) -> Ints:
    """All numbers of the spans ``low .. high-1``, span after span."""
    counts = high - low
    steps = np.ones(int(counts.sum()), dtype=np.int64)
    filled = counts > 0
    begin = np.concatenate([[0], np.cumsum(counts[filled])[:-1]]).astype(np.int64)
    if len(steps):
        steps[begin] = low[filled]
        steps[begin[1:]] -= high[filled][:-1] - 1
    return np.cumsum(steps)


def _after(family: int, ends: Keys) -> Keys:
    """The addresses after some, but for the last of the family."""
    top = (1 << WIDTH[family]) - 1
    if family == 4:
        return ends[ends < top] + np.uint64(1)
    return keys(6, [n + 1 for n in (key_number(6, e) for e in ends) if n < top])


def _before(family: int, cuts: Keys) -> Keys:
    if family == 4:
        return cuts - np.uint64(1)
    return keys(6, [key_number(6, c) - 1 for c in cuts])


@dataclass(frozen=True)
class Table:
    """Disjoint ranges of one family, sorted; arrays of shape [n].

    ``rows`` are the numbers of the bindings that won; ``tags`` theirs.
    """

    family: int
    starts: Keys
    ends: Keys
    rows: Ints
    tags: Ints

    def find(self, addresses: Keys) -> Ints:
        """For each address key the range that holds it, or -1; shape [n]."""
        if not len(self.starts):
            return np.full(len(addresses), -1, dtype=np.int64)
        if self.family == 4 and len(addresses) >= MANY:
            return self._find_many(addresses.astype(np.uint32))
        at = np.searchsorted(self.starts, addresses, side="right") - 1
        held = (at >= 0) & (addresses <= self.ends[np.maximum(at, 0)])
        return np.where(held, at, -1)

    def _find_many(self, addresses: NDArray[np.uint32]) -> Ints:
        top, leaves = self._levels
        result = np.empty(len(addresses), dtype=np.int64)
        for start in range(0, len(addresses), CHUNK):
            part = addresses[start : start + CHUNK]
            found = top[part >> np.uint32(8)]
            deeper = np.flatnonzero(found < -1)
            if len(deeper):
                leaf = (-2 - found[deeper].astype(np.int64)) * _LEAF
                found[deeper] = leaves[leaf + (part[deeper] & np.uint32(255))]
            result[start : start + CHUNK] = found
        return result

    @cached_property
    def _levels(self) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
        """For each block of 256 addresses its range, -1 for none, or -2-k for leaf k."""
        starts, ends = self.starts.astype(np.int64), self.ends.astype(np.int64)
        first, last = (starts + 255) >> 8, ((ends + 1) >> 8)
        whole = last > first
        top = np.full(1 << 24, -1, dtype=np.int32)
        blocks = spread(first[whole], last[whole])
        top[blocks] = np.repeat(np.flatnonzero(whole), (last - first)[whole])
        cut = distinct(
            np.concatenate([starts[starts & 255 != 0] >> 8, ends[(ends + 1) & 255 != 0] >> 8])
        )
        leaves = np.full(len(cut) * _LEAF, -1, dtype=np.int32)
        top[cut] = -2 - np.arange(len(cut), dtype=np.int32)
        # Ranges inside cut blocks: clip each to the blocks it only partly covers.
        every = np.arange(len(starts))
        longer = np.flatnonzero(starts >> 8 != ends >> 8)
        head = every, starts, np.minimum(ends, starts | 255)
        tail = longer, np.maximum(starts[longer], ends[longer] & ~255), ends[longer]
        for numbers, low, high in (head, tail) if len(cut) else ():
            number = np.searchsorted(cut, low >> 8)
            inside = (number < len(cut)) & (cut[np.minimum(number, len(cut) - 1)] == low >> 8)
            here = np.flatnonzero(inside)
            base = number[here] * _LEAF
            span = spread(base + (low[here] & 255), base + (high[here] & 255) + 1)
            leaves[span] = np.repeat(numbers[here], high[here] - low[here] + 1)
        return top, leaves
