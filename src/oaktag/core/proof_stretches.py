"""All addresses, cut along the ends of all that a list and what is meant of it speak of.

What is cut so are *stretches*; of each it is told in which of some spans it is, and to which tag it
is bound. Where no two spans overlap, as with the segments of most networks, all of this is done for
all of them at once.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktag.core.addresses import Range, Span

Pair = tuple[Span, Span]
_TOPS = (4, 1 << 32), (6, 1 << 128)
#: Link-local and multicast addresses are not judged (semantics, section 5).
NOT_JUDGED = (
    Span(4, 0xA9FE0000, 0xA9FEFFFF),
    Span(4, 0xE0000000, 0xEFFFFFFF),
    Span(6, 0xFE80 << 112, (0xFEC0 << 112) - 1),
    Span(6, 0xFF00 << 112, (1 << 128) - 1),
)
#: Addresses that no host has on a wire; as witnesses they come last.
ODD = (
    *NOT_JUDGED,
    Span(4, 0, 0x00FFFFFF),
    Span(4, 0x7F000000, 0x7FFFFFFF),
    Span(4, 0xF0000000, 0xFFFFFFFF),
    Span(6, 0, (0x2000 << 112) - 1),
    Span(6, 0x4000 << 112, (0xFC00 << 112) - 1),
)


class Inside:
    """Pairs of spans, that of a source and that of a destination, between which nobody judges.

    Attributes:
        cuts: the ends along which they cut addresses, sorted; a family and an address.
        at: of each pair between which of these its spans lie, at either end; int64 [P, 2].
    """

    def __init__(self, pairs: Sequence[Pair]) -> None:
        self.count = len(pairs)
        ends = {cut for pair in pairs for span in pair for cut in _ends(span)}
        self.cuts = sorted({(4, 0), (6, 0), *ends}.difference(_TOPS))
        place = {cut: n for n, cut in enumerate(self.cuts)}
        place |= {_TOPS[0]: place[6, 0], _TOPS[1]: len(self.cuts)}
        self.at = tuple(
            _rows([place[end] for end in _ends(pair[side])] for pair in pairs) for side in (0, 1)
        )
        self._known = frozenset(self.cuts)

    def beside(self, cuts: set[tuple[int, int]]) -> list[tuple[int, int]]:
        """Those of some cuts that are others."""
        return sorted(cuts - self._known)


def _rows(pairs: Iterable[Sequence[int]]) -> NDArray[np.int64]:
    return np.array(list(pairs), dtype=np.int64).reshape(-1, 2)


def _ends(span: Span | Range) -> tuple[tuple[int, int], tuple[int, int]]:
    family, start, end = span[:3]
    return (family, start), (family, end + 1)


class Stretches:
    """All addresses of both families, cut.

    Args:
        inside: pairs of spans whose ends are cuts.
        spans: others.

    Attributes:
        starts: the family and the first address of each stretch, sorted.
        families: the family of each.
        inside: which pairs hold each stretch, at either end.
    """

    def __init__(self, inside: Inside, spans: Iterable[Span | Range]) -> None:
        cuts = {cut for span in (*spans, *ODD) for cut in _ends(span)}
        new = inside.beside(cuts.difference(_TOPS))
        # Two sorted runs are as good as sorted.
        self.starts = sorted([*inside.cuts, *new])
        self.count = len(self.starts)
        self._place = {start: n for n, start in enumerate(self.starts)}
        self._place |= {_TOPS[0]: self._place[6, 0], _TOPS[1]: self.count}
        self.families = np.full(self.count, 6, dtype=np.int64)
        self.families[: self._place[6, 0]] = 4
        before = np.array([bisect_left(inside.cuts, cut) for cut in new], np.int64)
        at = [here + np.searchsorted(before, here, side="right") for here in inside.at]
        ones = Numbers(range(inside.count), at[0], self.count)
        same = np.array_equal(at[0], at[1])
        self.inside = ones, ones if same else Numbers(range(inside.count), at[1], self.count)

    def place(self, span: Span | Range) -> tuple[int, int]:
        """From and to which stretch a span goes along whose ends addresses are cut."""
        one, two = _ends(span)
        return self._place[one], self._place[two]

    def within(self, spans: Sequence[Span]) -> NDArray[np.bool_]:
        """Whether each stretch is in one of some spans."""
        found = np.zeros(self.count, dtype=np.bool_)
        for span in spans:
            found[slice(*self.place(span))] = True
        return found

    def tags(self, bindings: Sequence[Range]) -> NDArray[np.int64]:
        """The tag to which each stretch is bound, 0 for none, by disjoint ranges."""
        found = np.zeros(self.count, dtype=np.int64)
        for one in bindings:
            found[slice(*self.place(one))] = one.tag
        return found

    def numbers(self, spans: Iterable[tuple[Any, Span]]) -> Numbers:
        """Which of some numbered spans hold each stretch."""
        known = list(spans)
        here = _rows(self.place(span) for _, span in known)
        return Numbers([number for number, _ in known], here, self.count)


class Numbers:
    """Which of some numbered spans hold each stretch.

    Args:
        every: their numbers.
        here: from and to which stretch each goes; int64 [S, 2].
        count: of stretches.

    Attributes:
        sets: a number for the set of these, of each stretch.
    """

    def __init__(self, every: Sequence[Any], here: NDArray[np.int64], count: int) -> None:
        self.every = every
        self._here = here
        #: The sets of spans; where none overlap, each is a set by itself.
        self._held: list[frozenset[int]] = []
        sets = _spread(here, count)
        self.sets = self._overlapping(count) if sets is None else sets

    def _overlapping(self, count: int) -> NDArray[np.int64]:
        self._held = [frozenset()]
        known = {self._held[0]: 0}
        sets = [0] * count
        for one, (begin, end) in enumerate(self._here.tolist()):
            before = number = -1
            for n in range(begin, end):
                if sets[n] != before:
                    before = sets[n]
                    both = self._held[before] | {one}
                    number = known.setdefault(both, len(self._held))
                    if number == len(self._held):
                        self._held.append(both)
                sets[n] = number
        return np.array(sets, dtype=np.int64)

    def __getitem__(self, n: int) -> frozenset[Any]:
        which = int(self.sets[n])
        if self._held:
            return frozenset(self.every[one] for one in self._held[which])
        return frozenset([self.every[which - 1]] if which else [])

    def holding(self, number: Any) -> NDArray[np.bool_]:
        """The stretches that a span of a number holds."""
        found = np.zeros(len(self.sets), dtype=np.bool_)
        found[slice(*self._here[self.every.index(number)].tolist())] = True
        return found

    def alike(self, codes: NDArray[np.int64]) -> NDArray[np.int64]:
        """Of each span, as a number, what is told of the stretches in it by a code for each: equal
        ones are told the same."""
        begins, ends = self._here.T
        found: NDArray[np.int64] = codes[begins]
        told: dict[tuple[int, ...], int] = {}
        for one in np.flatnonzero(ends - begins > 1).tolist():
            some = tuple(sorted(set(codes[begins[one] : ends[one]].tolist())))
            found[one] = len(codes) + told.setdefault(some, len(told))
        return found


def _spread(here: NDArray[np.int64], count: int) -> NDArray[np.int64] | None:
    """Of each stretch the number of the span that holds it, from 1, else 0; None where several do.

    Args:
        here: from and to which stretch each span goes; int64 [S, 2].
        count: of stretches.
    """
    order = np.argsort(here[:, 0], kind="stable")
    begins, ends = here[order].T
    if np.any(ends[:-1] > begins[1:]):
        return None
    steps = np.zeros(count + 1, dtype=np.int64)
    np.add.at(steps, begins, order + 1)
    np.subtract.at(steps, ends, order + 1)
    found: NDArray[np.int64] = np.cumsum(steps)[:-1]
    return found


def coded(columns: Sequence[NDArray[Any]]) -> NDArray[np.int64]:
    """A number for each row of some columns; equal rows have the same."""
    code, count = np.zeros(len(columns[0]), dtype=np.int64), 1
    for column in columns:
        held = column.astype(np.int64)
        low = int(held.min(initial=0))
        width = int(held.max(initial=0)) - low + 1
        if count * width >= 1 << 62:
            code = np.unique(code, return_inverse=True)[1]
            count = int(code.max(initial=0)) + 1
        code, count = code * width + held - low, count * width
    return np.unique(code, return_inverse=True)[1]


def gathered(codes: NDArray[np.int64]) -> list[NDArray[np.int64]]:
    """The places of equal codes, in the order of their first."""
    order = np.argsort(codes, kind="stable")
    cuts = np.flatnonzero(np.diff(codes[order])) + 1
    return sorted(np.split(order, cuts), key=lambda places: int(places[0]))
