"""Findings about the matrix: what no packet reaches, what contradicts, what changes nothing.

Rules kept here (semantics, section 4): a line or an entry is shadowed when no packet reaches it in
either answer. A line that applies to no cell is unused, not shadowed. The closing ``otherwise``
of a permission counts as reach of its line, not as an entry of its own. Two lines contradict
where they are equally specific in one layer, neither mirrors the other, and one allows what the
other denies. A line is redundant if packets reach it and no decision changes without it; one
whose entries ask for a log or an answer does something.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from oaktag.core.groups import ITSELF, STAR, UNTAGGED
from oaktag.core.matrix import ANSWERS, Answer, Matrix, Row
from oaktag.core.permissions import Forms


@dataclass(frozen=True, slots=True)
class Shadowed:
    """A line, or one entry of it (``entry`` counts from 0), that no packet reaches.

    ``cell`` is one it applies to, ``mask`` what it would speak of there, and ``by`` the lines
    that decide those packets before it.
    """

    line: int
    entry: int | None
    cell: tuple[int, int]
    mask: int
    by: tuple[int, ...]


class _Undecided:
    """For each cell the packets not yet decided, as painting goes forward through the rows."""

    def __init__(self, matrix: Matrix) -> None:
        self.forms = Forms()
        size = len(matrix.groups)
        self.live = np.full((size, size), self.forms.number(matrix.atoms.full), dtype=np.int32)
        self.passed = np.full((size, size), self.forms.number(0), dtype=np.int32)

    def leave_layer(self) -> None:
        """What was passed on is undecided again."""
        both, inverse = _distinct(self.live, self.passed)
        joined = [self.forms.number(self.forms[a] | self.forms[b]) for a, b in both]
        self.live = np.array(joined, dtype=np.int32)[inverse]
        self.passed[:] = self.forms.number(0)

    def meet(self, matrix: Matrix, row: Row) -> int:
        """Apply a row; returns the steps that some packet reached, as bits."""
        block = matrix.block(row)
        if block is None:
            return 0
        effect = matrix.effects[matrix.policy.lines[row.line].permission]
        both, inverse = _distinct(self.live[block], self.passed[block])
        reached, live, passed = 0, [], []
        for before, saved in both:
            left, kept = self.forms[before], self.forms[saved]
            for number, (action, mask) in enumerate(effect.steps):
                hit = left & mask
                if hit:
                    reached |= 1 << number
                    left &= ~hit
                    kept |= hit if action == "pass" else 0
            live.append(self.forms.number(left))
            passed.append(self.forms.number(kept))
        self.live[block] = np.array(live, dtype=np.int32)[inverse]
        self.passed[block] = np.array(passed, dtype=np.int32)[inverse]
        return reached


def _distinct(
    first: NDArray[np.int32], second: NDArray[np.int32]
) -> tuple[list[tuple[int, int]], NDArray[np.int64]]:
    pairs, inverse = np.unique((first.astype(np.int64) << 32) | second, return_inverse=True)
    return [(int(p) >> 32, int(p) & 0xFFFFFFFF) for p in pairs], inverse.reshape(first.shape)


def find_shadowed(matrix: Matrix) -> list[Shadowed]:
    """All shadowed lines and entries, in the order of the lines."""
    reached: dict[int, int] = {}
    for answer in ANSWERS:
        undecided, layer = _Undecided(matrix), 0
        for row in matrix.rows:
            line = matrix.policy.lines[row.line]
            while layer < line.layer:
                undecided.leave_layer()
                layer += 1
            reached.setdefault(row.line, 0)
            if answer in matrix.answers_of(row):
                reached[row.line] |= undecided.meet(matrix, row)
    result: list[Shadowed] = []
    applied = _applied(matrix)
    for number in sorted(applied):
        line = matrix.policy.lines[number]
        steps = matrix.effects[line.permission].steps
        if not reached[number]:
            whole = 0
            for _, mask in steps:
                whole |= mask
            result.append(_shadowed(matrix, applied[number], None, whole))
            continue
        for entry in range(len(matrix.policy.permissions[line.permission].entries)):
            if not reached[number] >> entry & 1:
                result.append(_shadowed(matrix, applied[number], entry, steps[entry][1]))
    return result


def _applied(matrix: Matrix) -> dict[int, Row]:
    """The first row of each line that applies to some cell."""
    applied: dict[int, Row] = {}
    for row in matrix.rows:
        if row.line not in applied and matrix.block(row) is not None:
            applied[row.line] = row
    return applied


def _shadowed(matrix: Matrix, row: Row, entry: int | None, mask: int) -> Shadowed:
    source = matrix.groups.members(row.source)[0]
    destination = source if row.destination == ITSELF else matrix.groups.members(row.destination)[0]
    line = matrix.policy.lines[row.line]
    answer: Answer = "action" if line.mode == "enforce" else "would"
    by = [
        matrix.rows[p.row].line
        for p in matrix.pieces(source, destination, answer)
        if p.row >= 0 and p.mask & mask
    ]
    return Shadowed(row.line, entry, (source, destination), mask, tuple(dict.fromkeys(by)))


@dataclass(frozen=True, slots=True)
class Contradiction:
    """Two lines (``first`` is read first), a cell they share, and what they disagree on."""

    first: int
    second: int
    cell: tuple[int, int]
    mask: int


def find_contradictions(matrix: Matrix) -> list[Contradiction]:
    """All pairs of contradicting lines, each line once with the first that it contradicts."""
    classes: dict[tuple[int, int, int], list[Row]] = {}
    for row in matrix.rows:
        ends = row.source if row.destination == ITSELF else row.destination, row.source
        toward, start = (_width(matrix, word) for word in ends)
        rank = matrix.policy.lines[row.line].layer, toward, start
        classes.setdefault(rank, []).append(row)
    found: dict[int, Contradiction] = {}
    for rows in classes.values():
        if len(rows) > 1:
            for conflict in _conflicts(matrix, rows):
                found.setdefault(conflict.second, conflict)
    return [found[line] for line in sorted(found)]


def _width(matrix: Matrix, word: str) -> int:
    if word == STAR:
        return 2
    return 0 if word == UNTAGGED or word in matrix.groups.index else 1


def _conflicts(matrix: Matrix, rows: list[Row]) -> Iterator[Contradiction]:
    """Among equally specific rows: for each cell what rows so far allow, and what they deny."""
    allowed: dict[tuple[int, int], int] = {}
    denied: dict[tuple[int, int], int] = {}
    spoken: dict[tuple[int, int], list[Row]] = {}
    for row in rows:
        effect = matrix.effects[matrix.policy.lines[row.line].permission]
        for cell in _cells(matrix, row):
            against = (effect.allows & denied.get(cell, 0)) | (effect.denies & allowed.get(cell, 0))
            if against:
                for other in spoken[cell]:
                    held = matrix.effects[matrix.policy.lines[other.line].permission]
                    common = (effect.allows & held.denies) | (effect.denies & held.allows)
                    if common and other.line != row.line:
                        first, second = sorted((other.line, row.line))
                        yield Contradiction(first, second, cell, common)
                        break
            allowed[cell] = allowed.get(cell, 0) | effect.allows
            denied[cell] = denied.get(cell, 0) | effect.denies
            spoken.setdefault(cell, []).append(row)


def _cells(matrix: Matrix, row: Row) -> Iterator[tuple[int, int]]:
    for source in matrix.groups.members(row.source):
        if row.destination == ITSELF:
            yield source, source
        else:
            for destination in matrix.groups.members(row.destination):
                yield source, destination


def find_redundant(matrix: Matrix) -> list[int]:
    """The lines that packets reach and that change no decision in either answer, in order."""
    reached: set[int] = set()
    changing: set[int] = set()
    for answer in ANSWERS:
        behind = matrix.behind(answer)
        undecided, layer = _Undecided(matrix), 0
        for number, row in enumerate(matrix.rows):
            line = matrix.policy.lines[row.line]
            while layer < line.layer:
                undecided.leave_layer()
                layer += 1
            block = matrix.block(row)
            if block is None or answer not in matrix.answers_of(row):
                continue
            if row.line not in changing:
                live = undecided.live[block]
                for left, below, later in _triples(live, *behind[number]):
                    if _differs(matrix, row, undecided.forms[left], below, later):
                        changing.add(row.line)
                        break
            if undecided.meet(matrix, row):
                reached.add(row.line)
    speaking = {
        number
        for number, permission in enumerate(matrix.policy.permissions)
        if any(e.log or e.answer for e in permission.entries)
    }
    return [
        n
        for n in sorted(reached - changing)
        if matrix.policy.lines[n].permission not in speaking and _idle_as_a_whole(matrix, n)
    ]


def _idle_as_a_whole(matrix: Matrix, number: int) -> bool:
    """Whether a line changes nothing with its mirror: of one that is its own mirror in some cells
    each half alone changes nothing, for the other is still there."""
    rows = [row for row in matrix.rows if row.line == number]
    if len(rows) < 2:
        return True
    policy = matrix.policy
    kept = policy.lines[number]._replace(mode="off")
    lines = (*policy.lines[:number], kept, *policy.lines[number + 1 :])
    without = Matrix(matrix.groups, policy._replace(lines=lines), matrix.atoms, matrix.today)
    first, second = (set(_cells(matrix, row)) for row in rows)
    return all(
        _allowed(matrix, cell, answer) == _allowed(without, cell, answer)
        for cell in first & second
        for answer in ANSWERS
    )


def _allowed(matrix: Matrix, cell: tuple[int, int], answer: Answer) -> int:
    return sum(p.mask for p in matrix.pieces(*cell, answer) if p.action == "allow")


def _triples(
    live: NDArray[np.int32], below: NDArray[np.int32], later: NDArray[np.int32]
) -> set[tuple[int, int, int]]:
    return set(
        zip(live.ravel().tolist(), below.ravel().tolist(), later.ravel().tolist(), strict=True)
    )


def _differs(matrix: Matrix, row: Row, left: int, below: int, later: int) -> bool:
    """Whether a row decides some packet that reaches it otherwise than what comes behind it."""
    under, after = matrix.forms[below], matrix.forms[later]
    for action, mask in matrix.effects[matrix.policy.lines[row.line].permission].steps:
        hit = left & mask
        left &= ~mask
        rest = {"allow": matrix.atoms.full, "deny": 0, "pass": after}[action]
        if hit & (under ^ rest):
            return True
    return False
