"""What the network does on a path against what the matrix says of the true groups.

Rules kept here (semantics, section 6): all enforcing points that judge act, a packet passes if each
allows it. The effect is ``exact``, ``leak`` (passes, though denied), ``break`` (dropped, though
allowed) or ``one-way`` (allowed and passes, but the answer to it is dropped on some path back);
with several the worst, in this order: leak, break, one-way, exact. What passes a stateless point
only as an answer to what is allowed the other way is no leak, but open for answers.

What the points of a path let pass is a set of cuts (``judging``); equal sets have one number. What
a set comes to depends only on the forms that its cuts name, and is computed once for each
combination of forms.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from copy import copy
from functools import cached_property
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.judging import NOTHING, TRUE, UNKNOWN, WRONG, Book, Cut
from oaktag.core.matrix import Matrix
from oaktag.core.packets import Region

Ints = NDArray[np.int64]
Bytes = NDArray[np.uint8]
Flags = NDArray[np.bool_]
Effect = Literal["exact", "leak", "break", "one-way"]
#: The codes of effects on arrays, the worst highest.
EFFECTS: tuple[Effect, ...] = ("exact", "one-way", "break", "leak")
#: So many whole matrices of cells are kept; from so many questions on, one is made.
MOST_KEPT, ASKED_OFTEN = 256, 12
#: Outcomes of two groups that are kept, for they are asked for again on other paths.
MOST_OUTCOMES = 100_000


class Outcome(NamedTuple):
    """What becomes of all packets of one family: masks of atoms; regions without answers."""

    leaks: int
    breaks: int
    unanswered: tuple[Region, ...]
    open_for_answers: bool

    @property
    def code(self) -> int:
        """The place in ``EFFECTS``."""
        return 3 if self.leaks else 2 if self.breaks else 1 if self.unanswered else 0


class Member(NamedTuple):
    """One way in which packets of two ends fare: their family, and the numbers of the sets of cuts
    out and back. ``counts`` says that its result is the weakest of its row."""

    family: int
    out: int
    back: int
    counts: bool = True


Mix = tuple[Member, ...]


class MatrixBook:
    """The cells of the matrix, as points hold them that were compiled for."""

    def __init__(self, matrix: Matrix) -> None:
        self.matrix = matrix
        self._allowed: dict[tuple[int, int], int] = {}

    def opening(self, sources: Ints, destinations: Ints) -> Ints:
        """What each cell itself allows."""
        found: Ints = self.matrix.action_form[sources, destinations].astype(np.int64)
        return found

    def allowed(self, sources: Ints, destinations: Ints, *, stateless: bool) -> Ints:
        """The same, with the answers that a stateless point lets pass."""
        mine = self.opening(sources, destinations)
        if not stateless:
            return mine
        opposite = self.opening(destinations, sources)
        size = len(self.matrix.forms)
        codes, inverse = np.unique(mine * size + opposite, return_inverse=True)
        made = [self._with_answers(*divmod(code, size)) for code in codes.tolist()]
        found: Ints = np.array(made, dtype=np.int64)[inverse.reshape(np.shape(mine))]
        return found

    def _with_answers(self, mine: int, opposite: int) -> int:
        key = mine, opposite
        if key not in self._allowed:
            forms = self.matrix.forms
            answers = self.matrix.atoms.exchanged(forms[opposite])
            self._allowed[key] = forms.number(forms[mine] | answers)
        return self._allowed[key]


class Effects:
    """Sets of cuts, and what they come to.

    Args:
        matrix: the true decisions.
        books: the cells that points hold; number 0 is the matrix.
        wrongs: places of tags that somebody is wrongly known by.
        placed: the groups that are somewhere, sorted.
    """

    def __init__(
        self, matrix: Matrix, books: Sequence[Book], wrongs: list[int], placed: Ints
    ) -> None:
        self.matrix = matrix
        self.placed = placed
        self.books = books
        self.wrongs = wrongs
        self.cuts: dict[Cut | None, int] = {None: 0}
        self._sets: list[frozenset[int]] = [frozenset()]
        self._number: dict[frozenset[int], int] = {frozenset(): 0}
        self._joined = np.full((16, 16), -1, dtype=np.int64)
        self._mixes: dict[Mix, int] = {}
        self.mixes: list[Mix] = []
        self._forget()

    def _forget(self) -> None:
        """Nothing is known yet of what sets come to."""
        self._outcomes: dict[tuple[int, int, int, int, int], Outcome] = {}
        self._settled: dict[tuple[object, ...], Outcome] = {}
        self._asked: dict[int, int] = {}
        self._whole: dict[int, tuple[Bytes, Bytes]] = {}

    def under(self, matrix: Matrix) -> Effects:
        """The same sets of cuts where points were compiled for another matrix of the same groups:
        they have the same numbers, and come to something else."""
        other = copy(self)
        other.matrix = matrix
        other.books = [MatrixBook(matrix), *self.books[1:]]
        other._forget()
        return other

    def unlike(self, other: Effects) -> Flags:
        """Between which groups some set of cuts, out or back, names a cell that is another form in
        the matrix of ``other`` (see ``under``); shape [G+1, G+1]. All else fares the same in both.
        """
        found = np.zeros((len(self.matrix.groups),) * 2, dtype=np.bool_)
        g, h = self.placed[:, None], self.placed[None, :]
        number: dict[int, int] = {}
        alike = {Member(0, m.out, m.back) for mix in self.mixes for m in mix}
        columns = [[e._columns(m, g, h) for m in sorted(alike)] for e in (self, other)]
        mine, theirs = (
            np.array([number.setdefault(forms[n], len(number)) for n in range(len(forms))])
            for forms in (self.matrix.forms, other.matrix.forms)
        )
        for one, two in zip(*columns, strict=True):
            for a, b in zip(one, two, strict=True):
                found[np.ix_(self.placed, self.placed)] |= mine[a] != theirs[b]
        return found

    # -- sets of cuts ------------------------------------------------------------------------

    def join(self, sets: Ints, cuts: Ints) -> Ints:
        """The numbers of sets with a cut more each; shape [n]."""
        if not cuts.any():
            return sets
        size = max(len(self._sets), len(self.cuts)) + 1
        if size > len(self._joined):
            larger = np.full((2 * size, 2 * size), -1, dtype=np.int64)
            larger[: len(self._joined), : len(self._joined)] = self._joined
            self._joined = larger
        found = self._joined[sets, cuts]
        if (found < 0).any():
            missing = found < 0
            fresh = {
                (s, c) for s, c in zip(sets[missing].tolist(), cuts[missing].tolist(), strict=True)
            }
            for s, c in sorted(fresh):
                number = self.number(self._sets[s] | {c} if c else self._sets[s])
                self._joined[s, c] = number
            found = self._joined[sets, cuts]
        return found

    def number(self, cuts: frozenset[int]) -> int:
        """The number of a set of cuts."""
        if cuts not in self._number:
            self._number[cuts] = len(self._sets)
            self._sets.append(cuts)
        return self._number[cuts]

    def mix(self, members: Mix) -> int:
        """The number of some members together."""
        if members not in self._mixes:
            self._mixes[members] = len(self.mixes)
            self.mixes.append(members)
        return self._mixes[members]

    @cached_property
    def _listed(self) -> dict[int, Cut]:
        return {}

    def _cuts(self, number: int) -> list[Cut]:
        if len(self._listed) + 1 < len(self.cuts):
            self._listed.update({n: c for c, n in self.cuts.items() if c is not None})
        return [self._listed[n] for n in sorted(self._sets[number])]

    # -- what they come to -------------------------------------------------------------------

    def outcome(self, member: Member, source: int, destination: int) -> Outcome:
        """What becomes of the packets between two groups."""
        key = member.family, member.out, member.back, source, destination
        known = self._outcomes.get(key)
        if known is None:
            g, h = np.array([[source]]), np.array([[destination]])
            columns = self._columns(member, g, h)
            known = self._settle(member, tuple(int(c.ravel()[0]) for c in columns))
            if len(self._outcomes) >= MOST_OUTCOMES:
                self._outcomes.clear()
            self._outcomes[key] = known
        return known

    def should(self, family: int, source: int, destination: int) -> int:
        """What the matrix allows between two groups, of one family."""
        form = self.matrix.form(source, destination)
        return self.matrix.forms[form] & self.matrix.atoms.of_family(family)

    def cells(self, mix: int, sources: Ints, destinations: Ints) -> tuple[Bytes, Bytes]:
        """The effect between groups, and which member of the mix it is blamed on.

        Args:
            mix: its number.
            sources, destinations: groups, of shape [a] and [b].

        Returns:
            codes of effects and places of members, shape [a, b].
        """
        if mix not in self._whole:
            self._asked[mix] = self._asked.get(mix, 0) + 1
            if self._asked[mix] < ASKED_OFTEN:
                return self._between(mix, sources[:, None], destinations[None, :])
            if len(self._whole) >= MOST_KEPT:
                self._whole.pop(next(iter(self._whole)))
            every = self.placed
            self._whole[mix] = self._between(mix, every[:, None], every[None, :])
        effect, blamed = self._whole[mix]
        place = np.ix_(*(np.searchsorted(self.placed, g) for g in (sources, destinations)))
        return effect[place], blamed[place]

    def _between(self, mix: int, g: Ints, h: Ints) -> tuple[Bytes, Bytes]:
        shape = np.broadcast_shapes(g.shape, h.shape)
        worst, blamed = np.zeros(shape, dtype=np.uint8), np.zeros(shape, dtype=np.uint8)
        blame_code = np.full(shape, -1, dtype=np.int16)
        for place, member in enumerate(self.mixes[mix]):
            codes = self._codes(member, g, h, shape)
            np.maximum(worst, codes, out=worst)
            if member.counts:
                better = codes.astype(np.int16) > blame_code
                blame_code[better] = codes[better]
                blamed[better] = place
        return worst, blamed

    def lost(self, member: Member, sources: Ints, destinations: Ints) -> Flags:
        """Between which groups some answer does not come back, shape [a, b]."""
        g, h = sources[:, None], destinations[None, :]
        shape = len(sources), len(destinations)
        return self._codes(member, g, h, shape, lambda o: int(bool(o.unanswered))) > 0

    def _codes(
        self,
        member: Member,
        g: Ints,
        h: Ints,
        shape: tuple[int, ...],
        said: Callable[[Outcome], int] = lambda outcome: outcome.code,
    ) -> Bytes:
        columns = self._columns(member, g, h)
        forms = len(self.matrix.forms)
        code = np.zeros(shape, dtype=np.int64)
        parts: list[Any] = []
        for column in columns:
            if column.size == 1:
                parts.append(int(column.ravel()[0]))
                continue
            parts.append(None)
            if int(code.max(initial=0)) > (1 << 62) // forms:
                code = np.unique(code, return_inverse=True)[1].reshape(shape)
            code = code * forms + column
        _, first, inverse = np.unique(code, return_index=True, return_inverse=True)
        varying = [np.broadcast_to(c, shape).ravel()[first] for c in columns if c.size > 1]
        made = np.empty(len(first), dtype=np.uint8)
        for n in range(len(first)):
            left = iter(varying)
            key = tuple(int(next(left)[n]) if p is None else p for p in parts)
            made[n] = said(self._settle(member, key))
        found: Bytes = made[inverse.reshape(shape)]
        return found

    def _columns(self, member: Member, g: Ints, h: Ints) -> list[Ints]:
        """The numbers of all forms on which the effect depends: of the true cell, of the opposite
        one, of each cut out what it opens and lets pass, of each cut back what it lets pass."""
        book = self.books[0]
        found = [book.opening(g, h)]
        out, back = self._cuts(member.out), self._cuts(member.back)
        if any(c.stateless for c in out):
            found.append(book.opening(h, g))
        for cut in out:
            if cut is not NOTHING:
                s, d = self._places(cut, g, h)
                found.append(self.books[cut.book].opening(s, d))
                if cut.stateless:
                    found.append(self.books[cut.book].allowed(s, d, stateless=True))
        for cut in back:
            if cut is not NOTHING:
                s, d = self._places(cut, h, g)
                found.append(self.books[cut.book].allowed(s, d, stateless=cut.stateless))
        return [np.asarray(c) for c in found]

    def _places(self, cut: Cut, g: Ints, h: Ints) -> tuple[Ints, Ints]:
        """The cell that a cut names, of its own source and destination."""
        found = []
        for known, true in ((cut.source, g), (cut.destination, h)):
            if known == TRUE:
                found.append(true)
            else:
                place = 0 if known == UNKNOWN else self.wrongs[known - WRONG]
                found.append(np.full((1, 1), place, dtype=np.int64))
        return found[0], found[1]

    def _settle(self, member: Member, key: tuple[int, ...]) -> Outcome:
        known = self._settled.get((member.family, member.out, member.back, key))
        if known is None:
            known = self._settled[member.family, member.out, member.back, key] = self._work_out(
                member, list(key)
            )
        return known

    def _work_out(self, member: Member, key: list[int]) -> Outcome:
        forms, atoms = self.matrix.forms, self.matrix.atoms
        mine = atoms.of_family(member.family)
        should = forms[key.pop(0)] & mine
        out, back = self._cuts(member.out), self._cuts(member.back)
        opposite = forms[key.pop(0)] if any(c.stateless for c in out) else 0
        passes = opening = mine
        for cut in out:
            opens = forms[key.pop(0)] if cut is not NOTHING else 0
            opening &= opens
            passes &= forms[key.pop(0)] if cut.stateless else opens
        only = passes & ~opening & ~should
        answers = only & atoms.exchanged(opposite) if only else 0
        returning = atoms.full
        for cut in back:
            returning &= forms[key.pop(0)] if cut is not NOTHING else 0
        arrives = should & passes
        unanswered = atoms.unanswered(arrives, returning) if arrives and back else ()
        return Outcome(
            passes & ~should & ~answers,
            should & ~passes,
            tuple(
                r._replace(families=(member.family,))
                for r in unanswered
                if member.family in r.families
            ),
            bool(answers),
        )


def either(a: Mapping[int, int], b: Mapping[int, int]) -> dict[int, int]:
    """Masks by family, of two rows together."""
    return {family: a.get(family, 0) | b.get(family, 0) for family in sorted({*a, *b})}
