"""Two versions of a matrix: exactly which packets change, cell by cell.

Rules kept here (semantics, section 4): cells are compared by their canonical forms, so nothing is
sampled; groups are told apart by their ids, but one whose id changed and whose tag did not is
renamed, not gone and come. A group that one version lacks has nobody there, and its cells are taken
to be that version's default.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.groups import ITSELF, Groups
from oaktag.core.matrix import Answer, Matrix
from oaktag.core.permissions import Effect
from oaktag.core.ranges import distinct

#: Up to so many cells are looked at one by one, where the others cannot differ.
FEW_CELLS = 256


class CellChange(NamedTuple):
    """A cell by its groups' ids: the packets that are allowed now, and those that no longer are."""

    source: str
    destination: str
    opened: int
    closed: int


def compare(
    was: Matrix, now: Matrix, answers: tuple[Answer, Answer] = ("action", "action")
) -> list[CellChange]:
    """All cells that differ, in the order of the newer version's groups, then of the older's.

    Args:
        was, now: two matrices over the same atoms.
        answers: which answer of each is compared.

    Raises:
        ValueError: the two are cut along different atoms.
    """
    if was.atoms is not now.atoms:
        raise ValueError("both matrices must be cut along the same atoms")
    spoken = spoken_cells(was, now) if answers[0] == answers[1] else None
    if spoken is not None and len(spoken) <= FEW_CELLS:
        return _of_cells(was, now, answers[0], spoken)
    new = renamed(was.groups, now.groups)
    names = [g.id for g in now.groups.all]
    names += [g.id for g in was.groups.all if g.id not in now.groups.index and g.id not in new]
    old = {now_: was_ for was_, now_ in new.items()}
    before = _painted(was, [old.get(n, n) for n in names], answers[0])
    after = _painted(now, names, answers[1])
    pairs = (before.astype(np.int64) << 32) | after
    changed: dict[int, tuple[int, int]] = {}
    for pair in distinct(pairs.ravel()).tolist():
        held, holds = _mask(was, pair >> 32), _mask(now, pair & 0xFFFFFFFF)
        if held != holds:
            changed[pair] = holds & ~held, held & ~holds
    where = np.argwhere(np.isin(pairs, list(changed)))
    return [CellChange(names[s], names[d], *changed[int(pairs[s, d])]) for s, d in where.tolist()]


def spoken_cells(was: Matrix, now: Matrix) -> set[tuple[int, int]] | None:
    """The cells of which rows speak that only one of two versions has, if all that is else is the
    same in both; no other cell differs. None where it is not, or these are many."""
    one, two = was.policy, now.policy
    if was.groups is not now.groups:
        return None
    if (one.default, one.observed_default) != (two.default, two.observed_default):
        return None
    kinds: dict[Effect, int] = {}
    said = []
    for matrix in (was, now):
        kind = [kinds.setdefault(effect, len(kinds)) for effect in matrix.effects]
        lines = ((row, matrix.policy.lines[row.line]) for row in matrix.rows)
        said.append(
            [(r.source, r.destination, n.layer, kind[n.permission], n.mode) for r, n in lines]
        )
    counts = Counter(said[0])
    counts.subtract(said[1])
    other = {row for row, number in counts.items() if number}
    rest = [[row for row in rows if row not in other] for rows in said]
    if rest[0] != rest[1]:
        return None
    cells: set[tuple[int, int]] = set()
    for matrix, rows in zip((was, now), said, strict=True):
        for number in (n for n, row in enumerate(rows) if row in other):
            row = matrix.rows[number]
            wide = 1 if row.destination == ITSELF else len(was.groups.members(row.destination))
            size = wide * len(was.groups.members(row.source))
            if size > FEW_CELLS or len(cells) > FEW_CELLS:
                return None
            cells.update(matrix.cells(row))
    return cells


def _of_cells(
    was: Matrix, now: Matrix, answer: Answer, cells: Iterable[tuple[int, int]]
) -> list[CellChange]:
    """Those of some cells that differ."""
    names = [group.id for group in now.groups.all]
    found = []
    for s, d in sorted(cells):
        held, holds = (
            sum(p.mask for p in matrix.pieces(s, d, answer) if p.action == "allow")
            for matrix in (was, now)
        )
        if held != holds:
            found.append(CellChange(names[s], names[d], holds & ~held, held & ~holds))
    return found


def renamed(was: Groups, now: Groups) -> dict[str, str]:
    """The groups whose id changed and whose number in the files did not: old id → new id."""
    gone = {g.tag: g.id for g in was.all if g.tag and g.id not in now.index}
    come = {g.tag: g.id for g in now.all if g.tag and g.id not in was.index}
    return {gone[tag]: come[tag] for tag in gone if tag in come}


#: Stands for the default of a version that lacks a group; never a form's number.
_DEFAULT = (1 << 31) - 1


def _painted(matrix: Matrix, names: Sequence[str], answer: Answer) -> NDArray[np.int32]:
    painted = matrix.action_form if answer == "action" else matrix.would_form
    rows = np.array([matrix.groups.index.get(n, len(painted)) for n in names])
    wider = np.full((len(painted) + 1,) * 2, _DEFAULT, dtype=np.int32)
    wider[:-1, :-1] = painted
    found: NDArray[np.int32] = wider[np.ix_(rows, rows)]
    return found


def _mask(matrix: Matrix, form: int) -> int:
    if form != _DEFAULT:
        return matrix.forms[form]
    return matrix.atoms.full if matrix.policy.default == "allow" else 0
