"""Findings about the matrix: what no packet reaches, what contradicts, what changes nothing.

Rules kept here (semantics, section 4): a line or an entry is shadowed when no packet reaches it in
either answer. A line that applies to no cell is unused, not shadowed. The closing ``otherwise``
of a permission counts as reach of its line, not as an entry of its own. Two lines contradict
where they are equally specific in one layer, neither mirrors the other, and one allows what the
other denies. A line is redundant if packets reach it and no decision changes without it; one
whose entries ask for a log or an answer does something.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Container, Iterable, Iterator
from dataclasses import dataclass
from itertools import islice

import numpy as np
from numpy.typing import NDArray

from oaktag.core.arrays import Ints
from oaktag.core.lines import Action
from oaktag.core.matrix import ANSWERS, Answer, Matrix, Piece, Row, rank_of
from oaktag.core.painting import Step, Undecided, distinct
from oaktag.core.permissions import Forms


@dataclass(frozen=True, slots=True)
class Shadowed:
    """A line, or one entry of it (``entry`` counts from 0), that no packet reaches.

    ``cell`` is the first that it applies to, ``mask`` what it would speak of there, and ``by`` the
    lines that decide those packets before it, in all of its cells (of very many: the first ones).
    """

    line: int
    entry: int | None
    cell: tuple[int, int]
    mask: int
    by: tuple[int, ...]


def find_shadowed(matrix: Matrix) -> list[Shadowed]:
    """All shadowed lines and entries, in the order of the lines."""
    reached: Counter[int] = Counter()
    for answer in ANSWERS:
        undecided = _undecided(matrix)
        for step in matrix.acting(answer):
            undecided.enter(step.layer)
            cases, place = undecided.meet(step)
            for row, case in _by_row(step, place):
                reached[matrix.rows[row].line] |= cases[case]
    result: list[Shadowed] = []
    rows = _applied(matrix)
    for number in sorted(rows):
        line = matrix.policy.lines[number]
        steps = matrix.effects[line.permission].steps
        if not reached[number]:
            whole = 0
            for _, mask in steps:
                whole |= mask
            result.append(_shadowed(matrix, rows[number], None, whole))
            continue
        for entry in range(len(matrix.policy.permissions[line.permission].entries)):
            if not reached[number] >> entry & 1:
                result.append(_shadowed(matrix, rows[number], entry, steps[entry][1]))
    return result


def _undecided(matrix: Matrix) -> Undecided:
    return Undecided(matrix.square(), matrix.atoms.full, matrix.effects)


def _by_row(step: Step, place: Ints) -> list[tuple[int, ...]]:
    """Each row of a step with each case that it has among its cells."""
    return distinct(step.rows, place)[0]


def _applied(matrix: Matrix) -> dict[int, list[Row]]:
    """The rows of each line that apply to some cell."""
    applied: dict[int, list[Row]] = {}
    for row in matrix.rows:
        if matrix.block(row) is not None:
            applied.setdefault(row.line, []).append(row)
    return applied


#: In so many cells of a line it is looked for who decides before it.
MOST_CELLS = 2_000


def _cells_of(matrix: Matrix, rows: Iterable[Row]) -> list[tuple[int, int]]:
    """The cells of some rows, each once, at most so many."""
    return list(islice(dict.fromkeys(c for row in rows for c in matrix.cells(row)), MOST_CELLS))


def _answer(matrix: Matrix, line: int) -> Answer:
    return "action" if matrix.policy.lines[line].mode == "enforce" else "would"


def _shadowed(matrix: Matrix, rows: list[Row], entry: int | None, mask: int) -> Shadowed:
    line, cells = rows[0].line, _cells_of(matrix, rows)
    answer = _answer(matrix, line)
    by = [
        matrix.rows[p.row].line
        for cell in cells
        for p in matrix.pieces(*cell, answer)
        if p.row >= 0 and p.mask & mask
    ]
    return Shadowed(line, entry, cells[0], mask, tuple(dict.fromkeys(by)))


@dataclass(frozen=True, slots=True)
class Overruled:
    """Packets that a line speaks of, and that a line before it decides: ``action`` is what that
    one says; ``otherwise`` that the line itself says another thing; ``cells`` are where."""

    by: int
    action: Action
    otherwise: bool
    mask: int
    cells: tuple[tuple[int, int], ...]


def find_overruled(matrix: Matrix, line: int) -> list[Overruled]:
    """Which packets of a line other lines decide before it, line by line, those of which it says
    another thing first; of very many cells the first ones are looked at."""
    rows = _applied(matrix).get(line, [])
    answer = _answer(matrix, line)
    effect = matrix.effects[matrix.policy.lines[line].permission]
    found: dict[tuple[int, Action, bool, int], list[tuple[int, int]]] = {}
    for cell in _cells_of(matrix, rows):
        for piece in matrix.pieces(*cell, answer):
            if piece.row < 0 or matrix.rows[piece.row].line == line:
                continue
            mine = {"allow": effect.allows, "deny": effect.denies}
            for action, mask in mine.items():
                if both := piece.mask & mask:
                    key = matrix.rows[piece.row].line, piece.action, action != piece.action, both
                    found.setdefault(key, []).append(cell)
    overruled = [Overruled(*key, tuple(cells)) for key, cells in found.items()]
    return sorted(overruled, key=lambda o: (not o.otherwise, o.by, o.cells))


@dataclass(frozen=True, slots=True)
class Contradiction:
    """Two lines (``first`` is read first), a cell they share, and what they disagree on."""

    first: int
    second: int
    cell: tuple[int, int]
    mask: int


def find_contradictions(matrix: Matrix) -> list[Contradiction]:
    """All contradicting lines, each once with the first that it contradicts."""
    classes: dict[tuple[int, int, int], list[int]] = {}
    for number, row in enumerate(matrix.rows):
        rank = matrix.policy.lines[row.line].layer, *rank_of(row, matrix.groups)
        classes.setdefault(rank, []).append(number)
    conflicts = [c for rows in classes.values() if len(rows) > 1 for c in _conflicts(matrix, rows)]
    found: dict[int, Contradiction] = {}
    for _, conflict in sorted(conflicts):
        found.setdefault(conflict.second, conflict)
    return [found[line] for line in sorted(found)]


def _conflicts(matrix: Matrix, rows: list[int]) -> Iterator[tuple[int, Contradiction]]:
    """Which of some equally specific rows contradicts one before it, in its first such cell."""
    size, told, same = matrix.square(), Forms(), set(rows)
    allowed, denied = (np.full((size, size), told.number(0), dtype=np.int32) for _ in range(2))
    first: dict[int, tuple[int, int]] = {}
    for step in matrix.steps(rows):
        block = step.block
        cases, place = distinct(allowed[block], denied[block], step.permissions)
        effects = [matrix.effects[permission] for _, _, permission in cases]
        masks = [(told[allows], told[denies]) for allows, denies, _ in cases]
        pairs = list(zip(effects, masks, strict=True))
        wrong = np.array([bool(e.allows & m[1] | e.denies & m[0]) for e, m in pairs])
        allowed[block] = np.array([told.number(m[0] | e.allows) for e, m in pairs])[place]
        denied[block] = np.array([told.number(m[1] | e.denies) for e, m in pairs])[place]
        for row, cell in _first_cells(step, wrong[place]):
            first[row] = min(cell, first.get(row, cell))
    return ((row, _conflict(matrix, row, cell, same)) for row, cell in first.items())


def _first_cells(step: Step, where: NDArray[np.bool_]) -> Iterator[tuple[int, tuple[int, int]]]:
    """The rows of a step that have a cell where something is so, each with the first one."""
    at = np.flatnonzero(where)
    sources, destinations = (np.broadcast_to(end, where.shape).ravel() for end in step.block)
    rows = np.broadcast_to(step.rows, where.size)[at]
    for row, place in zip(*np.unique(rows, return_index=True), strict=True):
        yield int(row), (int(sources[at[place]]), int(destinations[at[place]]))


def _conflict(
    matrix: Matrix, number: int, cell: tuple[int, int], same: Container[int]
) -> Contradiction:
    """A row with the first of its class before it that says otherwise in a cell."""
    line = matrix.rows[number].line
    mine = matrix.effects[matrix.policy.lines[line].permission]
    for before in matrix.rows_of(*cell):
        other = matrix.rows[before].line
        theirs = matrix.effects[matrix.policy.lines[other].permission]
        common = (mine.allows & theirs.denies) | (mine.denies & theirs.allows)
        if before < number and before in same and common:
            return Contradiction(other, line, cell, common)
    raise AssertionError("a row before it says otherwise")


def find_redundant(matrix: Matrix) -> list[int]:
    """The lines that packets reach and that change no decision in either answer, in order."""
    reached: set[int] = set()
    changing: set[int] = set()
    for answer in ANSWERS:
        steps = matrix.acting(answer)
        behind = matrix.behind(answer, steps)
        undecided = _undecided(matrix)
        for step, (below, later) in zip(steps, behind, strict=True):
            undecided.enter(step.layer)
            if len(step.rows) > 1 or matrix.rows[step.rows[0]].line not in changing:
                live = undecided.live[step.block]
                found, place = distinct(live, below, later, step.permissions)
                differs = [
                    _differs(matrix, permission, undecided.forms[left], under, after)
                    for left, under, after, permission in found
                ]
                for row, case in _by_row(step, place) if any(differs) else ():
                    if differs[case]:
                        changing.add(matrix.rows[row].line)
            bits, place = undecided.meet(step)
            reached |= {matrix.rows[row].line for row, case in _by_row(step, place) if bits[case]}
    speaking = {
        number
        for number, permission in enumerate(matrix.policy.permissions)
        if any(e.log or e.answer for e in permission.entries)
    }
    rows: dict[int, list[Row]] = {}
    for applied in matrix.rows:
        rows.setdefault(applied.line, []).append(applied)
    return [
        n
        for n in sorted(reached - changing)
        if matrix.policy.lines[n].permission not in speaking
        and _idle_as_a_whole(matrix, n, rows[n])
    ]


def _idle_as_a_whole(matrix: Matrix, number: int, rows: list[Row]) -> bool:
    """Whether a line changes nothing with its mirror: of one that is its own mirror in some cells
    each half alone changes nothing, for the other is still there."""
    return len(rows) < 2 or all(
        _allowed(matrix.pieces(*cell, answer)) == _allowed(matrix.pieces(*cell, answer, number))
        for cell in set(matrix.cells(rows[0])) & set(matrix.cells(rows[1]))
        for answer in ANSWERS
    )


def _allowed(pieces: list[Piece]) -> int:
    return sum(p.mask for p in pieces if p.action == "allow")


def _differs(matrix: Matrix, permission: int, left: int, below: int, later: int) -> bool:
    """Whether a permission decides some packet that reaches it otherwise than what is behind."""
    under, after = matrix.forms[below], matrix.forms[later]
    for action, mask in matrix.effects[permission].steps:
        hit = left & mask
        left &= ~mask
        rest = {"allow": matrix.atoms.full, "deny": 0, "pass": after}[action]
        if hit & (under ^ rest):
            return True
    return False


@dataclass(frozen=True, slots=True)
class Unheard:
    """A line that denies in a cell what routers would tell its sources, and the packets of it."""

    line: int
    cell: tuple[int, int]
    mask: int


def find_unheard(matrix: Matrix, told: int, flows: int) -> list[Unheard]:
    """The lines that deny some of ``told`` where the other way allows some of ``flows``, which it
    answers; each with its first such cell, in the order of the lines."""
    denying = np.array([bool(effect.denies & told) for effect in matrix.effects], dtype=np.bool_)
    if not any(denying[line.permission] for line in matrix.policy.lines):
        return []
    forms = matrix.forms
    cases, place = distinct(matrix.action_form, matrix.action_form.T)
    wrong = np.array([bool(forms[b] & flows) and forms[a] & told != told for a, b in cases])[place]
    undecided, found = _undecided(matrix), dict[int, Unheard]()
    for step in matrix.acting("action") if wrong.any() else ():
        undecided.enter(step.layer)
        at = wrong[step.block] & denying[step.permissions]
        if at.any():
            left, where = distinct(undecided.live[step.block], step.permissions)
            denied = [_denied(matrix, undecided.forms[live], p) & told for live, p in left]
            hit = at & np.array([bool(mask) for mask in denied])[where]
            for row, cell in _first_cells(step, hit):
                line = matrix.rows[row].line
                if line not in found or cell < found[line].cell:
                    live = undecided.forms[int(undecided.live[cell])]
                    permission = matrix.policy.lines[line].permission
                    found[line] = Unheard(line, cell, _denied(matrix, live, permission) & told)
        undecided.meet(step)
    return [found[line] for line in sorted(found)]


def _denied(matrix: Matrix, left: int, permission: int) -> int:
    """Of packets that reach a permission those that it denies."""
    denied = 0
    for action, mask in matrix.effects[permission].steps:
        denied |= left & mask if action == "deny" else 0
        left &= ~mask
    return denied
