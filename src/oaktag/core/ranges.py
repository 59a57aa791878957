"""Prefixes flattened to disjoint ranges, and look-ups of many addresses at once.

All is done on arrays: prefixes are painted from the shortest to the longest over the stretches
between their ends. Many IPv4 addresses are looked up in a two-level table (24 bits, then leaves
of 256), many IPv6 addresses by a hash for each prefix length, the longest first; both in chunks
that fit the cache. Few addresses are found by binary search.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

from oaktag.core.addresses import Keys, halves, joined
from oaktag.core.arrays import Ints, NDArray, Words, np

CHUNK = 1 << 15
#: From so many addresses on, a table for many is worth building.
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
    count = len(starts)
    if not count:
        return starts, ends, np.empty(0, dtype=np.int64)
    cuts, rank = _ranked4(starts, ends) if family == 4 else _ranked6(starts, ends)
    low, high = rank[:count], rank[count:]
    owner = np.full(int(high.max()) + 1, -1, dtype=np.int64)
    for mine in _by_length(lengths):
        single = high[mine] - low[mine] == 1
        owner[low[mine[single]]] = mine[single]
        wide = mine[~single]
        owner[spread(low[wide], high[wide])] = np.repeat(wide, high[wide] - low[wide])
    owned = np.flatnonzero(owner >= 0)
    firsts, lasts = cuts
    return firsts[owned], lasts[owned], owner[owned]


def _by_length(lengths: Ints) -> Iterator[Ints]:
    """The rows of each length, the shortest length first."""
    for length in np.flatnonzero(np.bincount(lengths, minlength=1)):
        yield np.flatnonzero(lengths == length)


def _ranked4(starts: Words, ends: Words) -> tuple[tuple[Keys, Keys], Ints]:
    """The cuts (each stretch's first and last address), and the rank of each start and each end
    plus one among them."""
    points = np.concatenate([starts, ends + np.uint64(1)])
    values, row = _sorted_rows(points)
    fresh = np.empty(len(values), dtype=np.bool_)
    fresh[0] = True
    np.not_equal(values[1:], values[:-1], out=fresh[1:])
    rank = np.empty(len(points), dtype=np.int64)
    rank[row] = np.cumsum(fresh) - 1
    cuts = values[fresh]
    lasts = np.empty_like(cuts)
    lasts[:-1] = cuts[1:] - np.uint64(1)
    lasts[-1] = (1 << 32) - 1
    return (cuts, lasts), rank


def _sorted_rows(values: Words) -> tuple[Words, Ints]:
    """Sorted values of at most 40 bits, and from which rows they come: sorting both in one number
    beats sorting an index."""
    bits = np.uint64(len(values).bit_length())
    packed = (values << bits) | np.arange(len(values), dtype=np.uint64)
    packed.sort()
    return packed >> bits, (packed & ((np.uint64(1) << bits) - np.uint64(1))).view(np.int64)


def _ranked6(starts: Keys, ends: Keys) -> tuple[tuple[Keys, Keys], Ints]:
    (high, low), (high_end, low_end) = halves(starts), halves(ends)
    after = low_end + np.uint64(1)
    carried = high_end + (after == 0)
    # After the family's last address nothing comes: it is sorted last by a mark of its own.
    top = np.concatenate([np.zeros(len(starts), bool), (after == 0) & (carried == 0)])
    highs, lows = np.concatenate([high, carried]), np.concatenate([low, after])
    order = np.lexsort((lows, highs, top))
    h, w, t = highs[order], lows[order], top[order]
    fresh = np.concatenate([[True], (h[1:] != h[:-1]) | (w[1:] != w[:-1]) | (t[1:] != t[:-1])])
    rank = np.empty(len(order), dtype=np.int64)
    rank[order] = np.cumsum(fresh) - 1
    h, w = h[fresh], w[fresh]
    last_w = w[1:] - np.uint64(1)
    last_h = h[1:] - (w[1:] == 0)
    full = np.full(1, np.iinfo(np.uint64).max, dtype=np.uint64)
    lasts = joined(np.concatenate([last_h, full]), np.concatenate([last_w, full]))
    return (joined(h, w), lasts), rank


def distinct(values: Keys) -> Keys:
    """The distinct values, sorted (sorting and comparing neighbours beats ``np.unique``)."""
    ordered = np.sort(values)
    if not len(ordered):
        return ordered
    first: Keys = np.concatenate([[True], ordered[1:] != ordered[:-1]])
    found: Keys = ordered[first]
    return found


def numbered(values: Ints) -> tuple[Ints, Ints]:
    """The distinct values, sorted, and the place of each value among them (numbers from 0 that are
    not large are looked up in a table: that beats sorting)."""
    most = int(values.max(initial=0))
    if most > max(4 * len(values), 1 << 16):
        found, place = np.unique(values, return_inverse=True)
        return found, place.ravel()
    there = np.zeros(most + 1, dtype=np.bool_)
    there[values] = True
    places = np.cumsum(there) - 1
    return np.flatnonzero(there), places.take(values, mode="clip")


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


def aggregate(starts: Words, ends: Words) -> tuple[Words, NDArray[np.int64]]:
    """The fewest IPv4 prefixes that hold just these addresses.

    Args:
        starts, ends: ranges of IPv4 addresses in any order, perhaps overlapping; shape [n].

    Returns:
        first addresses, sorted, and prefix lengths; shape [m].
    """
    if not len(starts):
        return starts, np.empty(0, dtype=np.int64)
    if (starts == ends).all():
        low = distinct(starts)
        high = low
    else:
        order = np.argsort(starts, kind="stable")
        low, high = starts[order], np.maximum.accumulate(ends[order])
    apart = np.concatenate([[True], low[1:] > high[:-1] + np.uint64(1)])
    begins = np.flatnonzero(apart)
    start = low[begins]
    end = high[np.concatenate([begins[1:] - 1, [len(low) - 1]])]
    firsts, lengths = [], []
    while len(start):  # each round takes the largest aligned block at the head of every run
        room = end - start + np.uint64(1)
        aligned = (start & (~start + np.uint64(1))) | (np.uint64(1 << 32) * (start == 0))
        power = np.frexp(room.astype(np.float64))[1].astype(np.uint64) - np.uint64(1)
        size = np.minimum(aligned, np.uint64(1) << power)
        firsts.append(start)
        lengths.append(33 - np.frexp(size.astype(np.float64))[1].astype(np.int64))
        start = start + size
        left = start <= end
        start, end = start[left], end[left]
    first, length = np.concatenate(firsts), np.concatenate(lengths)
    order = np.argsort(first)
    return first[order], length[order]


class Bucketed(NamedTuple):
    """The prefixes of one length, by a hash of their bits: bucket b holds ``first[b] ..
    first[b+1]-1``, and the three columns are in that order."""

    length: int
    shift: np.uint64
    first: NDArray[np.int32]
    high: Words
    low: Words
    row: NDArray[np.int32]


@dataclass(frozen=True)
class Table:
    """Distinct prefixes of one family that won, and the disjoint ranges they come to.

    ``starts, ends`` are the ranges, sorted, and ``rows`` which binding owns each; ``tags``
    theirs; arrays of shape [n]. ``first, lengths, owners`` are the prefixes themselves and their
    binding's numbers, shape [m].
    """

    family: int
    starts: Keys
    ends: Keys
    rows: Ints
    tags: Ints
    first: Keys
    lengths: Ints
    owners: Ints

    def find(self, addresses: Keys) -> NDArray[np.integer[Any]]:
        """For each address key the number of the binding that holds it, or -1; shape [n]."""
        if not len(self.starts):
            return np.full(len(addresses), -1, dtype=np.int64)
        if len(addresses) >= MANY:
            return self._find4(addresses) if self.family == 4 else self._find6(addresses)
        at = np.searchsorted(self.starts, addresses, side="right") - 1
        held = (at >= 0) & (addresses <= self.ends[np.maximum(at, 0)])
        return np.where(held, self.rows[at], -1)

    def _find4(self, addresses: Words) -> NDArray[np.int32]:
        blocks, leaves = self._levels
        result = np.empty(len(addresses), dtype=np.int32)
        for start in range(0, len(addresses), CHUNK):
            part = addresses[start : start + CHUNK].view(np.int64)
            word = blocks.take(part >> 8, mode="clip")
            at = part & word
            at &= 0xFF
            word >>= 8
            at += word
            leaves.take(at, out=result[start : start + CHUNK], mode="clip")
        return result

    @cached_property
    def _levels(self) -> tuple[Ints, NDArray[np.int32]]:
        """For each block of 256 addresses, in one word, where its bindings begin and (in the last
        eight bits) which bits of an address count inside it: all eight, or none where the block is
        bound alike; and the bindings."""
        owner = np.full(1 << 24, -1, dtype=np.int32)
        blocks = (self.first >> np.uint64(8)).astype(np.int64)
        cut = np.zeros(1 << 24, dtype=np.bool_)
        cut[blocks[self.lengths > 24]] = True
        numbered = np.flatnonzero(cut)
        by_length = [(int(self.lengths[mine[0]]), mine) for mine in _by_length(self.lengths)]
        for length, mine in by_length:
            if length <= 24:
                many = 1 << (24 - length)
                spans = (blocks[mine][:, None] + np.arange(many)).ravel()
                owner[spans] = np.repeat(self.owners[mine].astype(np.int32), many)
        # Leaves of the cut blocks, then one place for each binding that holds whole blocks.
        inner = len(numbered) * _LEAF
        leaves = np.empty(inner + int(self.owners.max()) + 2, dtype=np.int32)
        leaves[:inner].reshape(-1, _LEAF)[:] = owner[numbered][:, None]
        leaves[inner:] = np.arange(-1, len(leaves) - inner - 1)
        first = owner
        first += inner + 1
        first[numbered] = np.arange(len(numbered), dtype=np.int32) * _LEAF
        for length, mine in by_length:
            if length > 24:
                many = 1 << (32 - length)
                places = first[blocks[mine]] + (self.first[mine].astype(np.int64) & 255)
                spans = places if many == 1 else (places[:, None] + np.arange(many)).ravel()
                owners = self.owners[mine].astype(np.int32)
                leaves[spans] = owners if many == 1 else np.repeat(owners, many)
        words = first.astype(np.int64)
        words <<= 8
        words[numbered] |= 0xFF
        return words, leaves

    def _find6(self, addresses: Keys) -> NDArray[np.int32]:
        high, low = halves(addresses)
        result = np.full(len(addresses), -1, dtype=np.int32)
        for start in range(0, len(addresses), CHUNK):
            part = slice(start, start + CHUNK)
            self._find_part(high[part], low[part], result[part])
        return result

    def _find_part(self, high: Words, low: Words, found: NDArray[np.int32]) -> None:
        left = np.arange(len(high))
        for b in self._buckets:
            h, w = _masked(high[left], low[left], b.length)
            bucket = _hash(h, w, b.length, b.shift).view(np.int64)
            at, end = b.first.take(bucket), b.first.take(bucket + 1)
            todo = np.flatnonzero(at < end)
            hit = np.zeros(len(left), dtype=np.bool_)
            while len(todo):
                here = at[todo]
                same = b.high.take(here) == h[todo]
                if b.length > 64:
                    same &= b.low.take(here) == w[todo]
                good = todo[same]
                found[left[good]] = b.row.take(here[same])
                hit[good] = True
                todo = todo[~same]
                at[todo] += 1
                todo = todo[at[todo] < end[todo]]
            left = left[~hit]
            if not len(left):
                return

    @cached_property
    def _buckets(self) -> list[Bucketed]:
        high, low = halves(self.first)
        made: list[Bucketed] = []
        for mine in reversed(list(_by_length(self.lengths))):
            length = int(self.lengths[mine[0]])
            bits = max(len(mine).bit_length() + 1, 4)
            shift = np.uint64(64 - bits)
            bucket, order = _sorted_rows(_hash(high[mine], low[mine], length, shift))
            first = np.zeros((1 << bits) + 1, dtype=np.int32)
            np.cumsum(np.bincount(bucket.view(np.int64), minlength=1 << bits), out=first[1:])
            rows = mine[order]
            made.append(
                Bucketed(
                    length, shift, first, high[rows], low[rows], self.owners[rows].astype(np.int32)
                )
            )
        return made


def _masked(high: Words, low: Words, length: int) -> tuple[Words, Words]:
    """The first bits of addresses."""
    if length <= 64:
        mask = np.uint64(((1 << length) - 1) << (64 - length))
        return high & mask, low
    return high, low & np.uint64(((1 << (length - 64)) - 1) << (128 - length))


def _hash(high: Words, low: Words, length: int, shift: np.uint64) -> Words:
    """A bucket by multiplying and taking the upper bits (Fibonacci hashing)."""
    mixed = high * np.uint64(0x9E3779B97F4A7C15)
    if length > 64:
        mixed = (mixed ^ low) * np.uint64(0xC2B2AE3D27D4EB4F)
    return mixed >> shift
