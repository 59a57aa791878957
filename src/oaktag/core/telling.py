"""The fewest packets that tell a matrix from the same with one line changed.

A *change* is a line taken out, or an observed one enforced. In each cell packets are put together
that the same changes decide otherwise; of these kinds the fewest are chosen that tell every change
(a least set cover: exact by integer programming where there are not too many, else the one that
tells most first, and none that is not needed).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Literal, NamedTuple

import numpy as np

from oaktag.core.matrix import Matrix

#: So many kinds of packets are chosen from exactly.
MOST_EXACT = 3_000


class Change(NamedTuple):
    """One line changed: taken out, or enforced though it is only observed."""

    kind: Literal["without", "enforced"]
    line: int


class Kind(NamedTuple):
    """Packets of one cell that the same changes decide otherwise."""

    source: int
    destination: int
    mask: int
    tells: frozenset[Change]


def changes(matrix: Matrix) -> list[Change]:
    """All that are told apart: every line that applies somewhere, in file order."""
    lines = sorted({row.line for row in matrix.rows})
    modes = [matrix.policy.lines[n].mode for n in lines]
    return [
        Change("without" if mode == "enforce" else "enforced", n)
        for n, mode in zip(lines, modes, strict=True)
    ]


class Telling:
    """What each change decides otherwise, cell by cell."""

    def __init__(self, matrix: Matrix) -> None:
        self.matrix = matrix
        self._known: dict[tuple[int, ...], dict[Change, int]] = {}
        self._enforced: dict[int, Matrix] = {}

    def otherwise(self, source: int, destination: int) -> Mapping[Change, int]:
        """Change → the packets of a cell that it decides otherwise."""
        rows = tuple(self.matrix.rows_of(source, destination))
        if rows not in self._known:
            held = _allowed(self.matrix, rows)
            found: dict[Change, int] = {}
            for line in dict.fromkeys(self.matrix.rows[n].line for n in rows):
                if self.matrix.policy.lines[line].mode == "enforce":
                    change, then = Change("without", line), _allowed(self.matrix, rows, line)
                else:
                    change, then = Change("enforced", line), _allowed(self._with(line), rows)
                if held != then:
                    found[change] = held ^ then
            self._known[rows] = found
        return self._known[rows]

    def _with(self, line: int) -> Matrix:
        """The matrix with an observed line enforced; its rows are the same."""
        if line not in self._enforced:
            policy = self.matrix.policy
            lines = list(policy.lines)
            lines[line] = lines[line]._replace(mode="enforce")
            changed = policy._replace(lines=tuple(lines))
            held = Matrix(self.matrix.groups, changed, self.matrix.atoms, self.matrix.today)
            self._enforced[line] = held
        return self._enforced[line]

    def kinds(self, source: int, destination: int, among: int) -> Iterator[Kind]:
        """The packets of a cell that tell something, among some, put together by what they tell."""
        parts: list[tuple[int, frozenset[Change]]] = [(among, frozenset())]
        for change, mask in self.otherwise(source, destination).items():
            parts = [
                (part, tells)
                for old, told in parts
                for part, tells in ((old & mask, told | {change}), (old & ~mask, told))
                if part
            ]
        yield from (Kind(source, destination, mask, tells) for mask, tells in parts if tells)


def _allowed(matrix: Matrix, rows: Sequence[int], without: int | None = None) -> int:
    """The packets allowed in a cell to which some rows apply."""
    pieces = matrix.pieces_of(rows, "action", without)
    return sum(piece.mask for piece in pieces if piece.action == "allow")


def fewest(kinds: Sequence[Kind]) -> list[Kind]:
    """The fewest of some kinds that tell all that they tell together."""
    by_tells: dict[frozenset[Change], Kind] = {}
    for kind in kinds:
        by_tells.setdefault(kind.tells, kind)
    left = _undominated(list(by_tells.values()))
    if len(left) <= MOST_EXACT:
        return _exactly(left)
    return _one_after_another(left)


def _undominated(kinds: list[Kind]) -> list[Kind]:
    """Kinds of which no other tells all that they tell."""
    kinds = sorted(kinds, key=lambda k: -len(k.tells))
    holding: dict[Change, list[frozenset[Change]]] = {}
    found: list[Kind] = []
    for kind in kinds:
        rarest = min((holding.get(c, []) for c in kind.tells), key=len)
        if not any(kind.tells <= other for other in rarest):
            found.append(kind)
            for change in kind.tells:
                holding.setdefault(change, []).append(kind.tells)
    return found


def _exactly(kinds: Sequence[Kind]) -> list[Kind]:
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import lil_array

    every = sorted({change for kind in kinds for change in kind.tells})
    if not every:
        return []
    place = {change: n for n, change in enumerate(every)}
    rows = lil_array((len(every), len(kinds)))
    for number, kind in enumerate(kinds):
        for change in kind.tells:
            rows[place[change], number] = 1
    solved = milp(
        np.ones(len(kinds)), integrality=np.ones(len(kinds), dtype=np.int64),
        bounds=Bounds(0, 1),
        constraints=LinearConstraint(rows.tocsc(), np.ones(len(every)), np.inf),
    )  # fmt: skip
    if not solved.success:
        return _one_after_another(kinds)
    return [kinds[n] for n in np.flatnonzero(solved.x > 0.5).tolist()]


def _one_after_another(kinds: Sequence[Kind]) -> list[Kind]:
    """Always the one that tells most that is not told yet; then none that the others make idle."""
    left = {change for kind in kinds for change in kind.tells}
    chosen: list[Kind] = []
    while left:
        best = max(kinds, key=lambda kind: len(kind.tells & left))
        chosen.append(best)
        left -= best.tells
    for kind in list(chosen):
        rest = [other for other in chosen if other is not kind]
        if kind.tells <= frozenset().union(*(other.tells for other in rest)):
            chosen = rest
    return chosen
