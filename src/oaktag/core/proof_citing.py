"""Which line decides each packet of a cell, and whether the entry of a list that meets it says so.

Rules kept here (semantics, section 5): an entry cites, for every cell that it serves, the line that
decides; ``default`` where none does. For each packet two lines are asked for: the one behind
``action`` and the one behind ``would`` (at a point that observes, the first alone). What passes a
stateless point as an answer alone was decided by a line of the opposite cell. An entry without keys
says nothing, and is no lie; what a dialect has no room for is ``UNSAID_KEY``.

No entry may cite a line that does not decide. Of a list that is chains this is asked packet by
packet. An entry of a list that is one row may serve many cells and be written as several: there
each key must belong to a line that decides some packet of a cell that the entry serves, as the
entry does. One entry for addresses is written for each pair of prefixes: there it must decide some
packet of any cell in the list.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from itertools import product
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.accesslist import DEFAULT_KEY, OUTSIDE_KEY, UNJUDGED_KEY, UNSAID_KEY, ListEntry
from oaktag.core.groups import ITSELF
from oaktag.core.lines import SYSLOG_SEVERITIES, Action
from oaktag.core.proof_lines import Lines

Ints = NDArray[np.int64]
#: What is done with a packet: action, would, severity, whether the sender is answered.
Outcome = tuple[Action, Action, str | None, bool]
#: The lines of a cell and of the opposite cell, each as the number of a trail.
Cell = tuple[int, int]
#: So many columns of trails are kept.
_MOST_COLUMNS = 1 << 12


class _Piece(NamedTuple):
    """Packets that one line decides: its place in the trail, -1 for the default."""

    place: int
    mask: int
    action: Action
    log: str | None = None
    answer: bool = False


class _Part(NamedTuple):
    """Packets of a cell with which the same is done because of the same lines, by their places:
    those of the opposite cell behind those of the cell."""

    places: tuple[int, ...]
    mask: int
    outcome: Outcome


class Citations:
    """The lines that decide, for points that act alike.

    Args:
        lines: what the matrix is written as.
        keys: the key of each line of the policy.
        families: those that the point judges.
        answers: whether answers to the opposite cell pass as well.
        observes: whether the point lets all pass and records what it would deny.
    """

    def __init__(
        self, lines: Lines, keys: Sequence[str], families: Collection[int], *,
        answers: bool, observes: bool,
    ) -> None:  # fmt: skip
        self.lines, self._answers, self._observes = lines, answers, observes
        self._judged = 0
        for family in families:
            self._judged |= lines.of_family(family)
        numbers = {id(line): n for n, line in enumerate(lines.policy.lines)}
        self._keys = [keys[numbers[id(line)]] for line, _ in lines.ordered]
        self._trails: list[tuple[int, ...]] = [()]
        self._onward: dict[tuple[int, int], int] = {}
        self._shapes: dict[tuple[tuple[int, int, bool], ...], int] = {}
        self._shape_of: dict[int, int] = {}
        self._columns: dict[int, Ints] = {}
        self._decided: dict[int, tuple[list[_Piece], list[_Piece]]] = {}
        self._parts: dict[Cell, list[_Part]] = {}

    # -- cells -----------------------------------------------------------------------------------

    def column(self, target: int) -> Ints:
        """The trail of lines that apply to each source and a destination; int64 [G]."""
        if target not in self._columns:
            if len(self._columns) >= _MOST_COLUMNS:
                self._columns.clear()
            self._columns[target] = self._column(target)
        return self._columns[target]

    def _column(self, target: int) -> Ints:
        groups = self.lines.groups
        found = [0] * len(groups)
        for place in self.lines.places(target):
            line, mirrored = self.lines.ordered[place]
            word = line.destination if mirrored else line.source
            for source in (target,) if line.destination == ITSELF else groups.members(word):
                found[source] = self._after(found[source], place)
        return np.array(found, dtype=np.int64)

    def _after(self, trail: int, place: int) -> int:
        """The trail with one line more."""
        known = self._onward.get((trail, place))
        if known is None:
            known = self._onward[trail, place] = len(self._trails)
            self._trails.append((*self._trails[trail], place))
        return known

    def cells(self, sources: Ints, target: int) -> list[Cell]:
        """The cells of some sources toward a destination, by the lines that apply."""
        own = self.column(target)[sources].tolist()
        if not self._answers:
            return [(trail, 0) for trail in own]
        return [
            (trail, int(self.column(source)[target]))
            for trail, source in zip(own, sources.tolist(), strict=True)
        ]

    # -- who decides -----------------------------------------------------------------------------

    def parts(self, cell: Cell) -> list[_Part]:
        """All packets of a cell that the point judges, by the lines that decide."""
        shapes = self._shape(cell[0]), self._shape(cell[1])
        if shapes not in self._parts:
            self._parts[shapes] = list(self._made(*shapes, len(self._trails[cell[0]])))
        return self._parts[shapes]

    def key(self, cell: Cell, place: int) -> str:
        """The key of a line of a cell, by its place in it."""
        if place < 0:
            return DEFAULT_KEY
        own = self._trails[cell[0]]
        back = self._trails[cell[1]]
        return self._keys[own[place] if place < len(own) else back[place - len(own)]]

    def _shape(self, trail: int) -> int:
        """Trails of one shape differ in the names of their lines alone."""
        if trail not in self._shape_of:
            lines = [self.lines.ordered[place][0] for place in self._trails[trail]]
            shape = tuple((x.layer, x.permission, x.mode == "enforce") for x in lines)
            number = self._shapes.setdefault(shape, len(self._shapes))
            self._shape_of[trail] = number
            if number not in self._decided:
                self._decided[number] = self._walked(shape, 0), self._walked(shape, 1)
        return self._shape_of[trail]

    def _walked(self, shape: tuple[tuple[int, int, bool], ...], answer: int) -> list[_Piece]:
        """Who decides by ``action`` (0) or by ``would`` (1)."""
        found: list[_Piece] = []
        policy = self.lines.policy
        here, passed, layer = self.lines.full, 0, 0
        for place, (mine, permission, enforced) in enumerate(shape):
            if not enforced and not answer:
                continue
            if mine != layer:
                here, passed, layer = here | passed, 0, mine
            for step in self.lines.steps(permission):
                hit = here & step.mask
                here &= ~hit
                if step.action == "pass":
                    passed |= hit
                elif hit:
                    answers = step.answers and step.action == "deny"
                    log = None if step.severity < 0 else SYSLOG_SEVERITIES[step.severity]
                    found.append(_Piece(place, hit, step.action, log, answers))
        default = policy.default
        if answer:
            default = policy.observed_default or default
        return [*found, _Piece(-1, here | passed, default)]

    def _made(self, own: int, back: int, behind: int) -> Iterator[_Part]:
        acts, woulds = (
            self._answered(self._decided[own][n], self._decided[back][n], behind) for n in (0, 1)
        )
        if self._observes:
            for piece in acts:
                if mask := piece.mask & self._judged:
                    yield _Part((piece.place,), mask, ("allow", piece.action, piece.log, False))
            return
        for act, would in product(acts, woulds):
            if mask := act.mask & would.mask & self._judged:
                places = tuple(dict.fromkeys((act.place, would.place)))
                yield _Part(places, mask, (act.action, would.action, act.log, act.answer))

    def _answered(
        self, own: Sequence[_Piece], back: Sequence[_Piece], behind: int
    ) -> Sequence[_Piece]:
        """What a cell denies and the opposite cell allows is decided there."""
        if not self._answers:
            return own
        found: list[_Piece] = []
        for piece in own:
            left = piece.mask
            for opposite in back if piece.action == "deny" else ():
                hit = left & self.lines.exchanged(opposite.mask)
                if hit and opposite.action == "allow":
                    left &= ~hit
                    place = -1 if opposite.place < 0 else opposite.place + behind
                    found.append(opposite._replace(place=place, mask=hit))
            found.append(piece._replace(mask=left))
        return found


class Wrong(NamedTuple):
    """Packets of a cell whose entry cites the wrong lines, with what it cites and what decides."""

    mask: int
    cited: tuple[str, ...]
    deciding: tuple[str, ...]


class Citing:
    """What the chains of a list cite, held against what decides.

    Args:
        chains: the chains of the list.
        citations: who decides.
    """

    def __init__(self, chains: Mapping[str, tuple[ListEntry, ...]], citations: Citations) -> None:
        self._chains, self.citations = chains, citations
        self._met: dict[str, list[int]] = {}
        self._served: dict[tuple[str, int], list[tuple[int, int, int]]] = {}
        #: Entries, by chain and place, that cite lines which decide nothing there; the keys.
        self._strange: dict[str, dict[int, tuple[str, ...]]] = {}
        self._known: dict[tuple[str, Cell, int], Wrong | None] = {}

    def wrong(self, chain: str, cell: Cell, family: int) -> Wrong | None:
        """Packets of a cell and a family that the chain decides and says a wrong line for."""
        key = chain, cell, family
        if key not in self._known:
            mine = self.citations.lines.of_family(family)
            self._known[key] = self._wrong(chain, cell, mine)
        return self._known[key]

    def _wrong(self, chain: str, cell: Cell, mine: int) -> Wrong | None:
        entries = self._chains[chain]
        strange = self._strange.get(chain, {})
        missing: dict[int, set[str]] = {}
        found = None
        for at, place, every in self._serving(chain, cell):
            mask = every & mine
            if not mask:
                continue
            key, cited = self.citations.key(cell, place), entries[at].keys
            if cited and key not in cited:
                missing.setdefault(at, set()).add(key)
                if len(missing[at]) > cited.count(UNSAID_KEY):
                    return Wrong(mask, cited, (key,))
            if at in strange and found is None:
                found = Wrong(mask, strange[at], (key,))
        return found

    def _serving(self, chain: str, cell: Cell) -> list[tuple[int, int, int]]:
        """Which entry of a chain meets which packets that the line of a place decides."""
        parts = self.citations.parts(cell)
        key = chain, id(parts)
        if key not in self._served:
            self._served[key] = [
                (at, place, mask & part.mask)
                for at, mask in enumerate(self._masks(chain))
                for part in parts if mask & part.mask
                for place in part.places
            ]  # fmt: skip
        return self._served[key]

    def _masks(self, chain: str) -> list[int]:
        """The packets that each entry of a chain is the first to match."""
        if chain not in self._met:
            lines = self.citations.lines
            left, found = lines.full, list[int]()
            for entry in self._chains[chain]:
                mine = lines.matched(entry) & left
                left &= ~mine
                found.append(mine)
            self._met[chain] = found
        return self._met[chain]

    # -- lines that decide nothing ---------------------------------------------------------------

    def look_for_strangers(self, cells: Mapping[str, set[Cell]], by: str) -> None:
        """Find the entries that cite lines which decide nothing there.

        Args:
            cells: the cells of each chain; under "" those of the list.
            by: what is asked of: ``packets``, ``cells`` or ``list``.
        """
        everywhere = self._outcomes(cells.get("", ()))
        serving: dict[int, set[str]] = {}
        for chain, entries in self._chains.items():
            mine = cells.get(chain, set())
            outcomes = self._outcomes(mine) if by == "cells" else everywhere
            if by == "packets":
                for cell in mine:
                    for at, place, _ in self._serving(chain, cell):
                        key = self.citations.key(cell, place)
                        serving.setdefault(id(entries[at]), set()).add(key)
                continue
            for entry in entries:
                done = (entry.action, entry.would, entry.log,
                        entry.answer and entry.action == "deny")  # fmt: skip
                serving.setdefault(id(entry), set()).update(outcomes.get(done, ()))
        for chain, entries in self._chains.items():
            for at, entry in enumerate(entries):
                odd = set(entry.keys) - serving.get(id(entry), set()) - {UNSAID_KEY}
                if by == "list" and len(entry.keys) == 1:
                    odd -= {UNJUDGED_KEY, OUTSIDE_KEY}
                if odd:
                    self._strange.setdefault(chain, {})[at] = tuple(sorted(odd))

    def _outcomes(self, cells: Collection[Cell]) -> dict[Outcome, set[str]]:
        """The lines that decide some packet of some cells, by what is done with it."""
        found: dict[Outcome, set[str]] = {}
        for cell in cells:
            for part in self.citations.parts(cell):
                keys = (self.citations.key(cell, place) for place in part.places)
                found.setdefault(part.outcome, set()).update(keys)
        return found
