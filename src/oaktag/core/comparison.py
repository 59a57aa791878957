"""Two versions of a matrix: exactly which packets change, cell by cell.

Rules kept here (semantics, section 4): cells are compared by their canonical forms, so nothing is
sampled; groups are told apart by their ids, but one whose id changed and whose tag did not is
renamed, not gone and come. A group that one version lacks has nobody there, and its cells are taken
to be that version's default.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.groups import Groups
from oaktag.core.matrix import Answer, Matrix
from oaktag.core.ranges import distinct


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
