"""The smallest change of the lines that allows, or ends, just some packets of one cell, or of all
cells of sets.

Rules kept here: a change is one line more, that speaks of just these cells, or one line less; it
suffices if afterwards each of them allows what it did with just these packets more (or less), in
``action``; and as the line speaks of no other cell, or is the only one that goes, no other cell
may change either.
A candidate is tried by resolving the cell again, never guessed.
"""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence
from typing import NamedTuple

from oaktag.core.lines import Action, Entry, Line, Permission, Policy
from oaktag.core.matrix import Matrix
from oaktag.core.packets import Box
from oaktag.located import Location

_NEW = Location("")


class Amendment(NamedTuple):
    """A line more in a layer (before the line ``before``, or at its end), or the line ``without``
    less."""

    layer: int
    before: int | None
    without: int | None


def allowed_in(matrix: Matrix, cell: tuple[int, int], without: int | None = None) -> int:
    """The packets that a cell allows, resolved from its lines, or as if one were not there."""
    return sum(p.mask for p in matrix.pieces(*cell, "action", without) if p.action == "allow")


def smallest(
    matrix: Matrix,
    words: tuple[str, str],
    boxes: tuple[Box, ...],
    action: Action,
    layers: Sequence[int] = (),
) -> Amendment | None:
    """The first change that suffices: a line that can go, else the latest place for a new one.

    Args:
        matrix: cut along the boxes too.
        words: the source and the destination of the line, groups or sets.
        boxes: the packets that shall be allowed, or denied.
        action: ``allow`` or ``deny``.
        layers: where a new line would be best, the best first; the others follow.

    Returns:
        None where no single line does it.
    """
    sides = [matrix.groups.members(word) for word in words]
    cells = [(s, d) for s in sides[0] for d in sides[1]]
    mask = matrix.atoms.mask(boxes)
    before = {cell: allowed_in(matrix, cell) for cell in cells}
    wanted = {c: m | mask if action == "allow" else m & ~mask for c, m in before.items()}
    for number, line in enumerate(matrix.policy.lines):
        if (line.source, line.destination) == words and line.counts(matrix.today):
            suffices = all(allowed_in(matrix, c, number) == m for c, m in wanted.items())
            if suffices and _same(matrix, number, wanted):
                return Amendment(line.layer, None, number)
    for change, policy in _additions(matrix, words, cells, boxes, action, layers):
        after = Matrix(matrix.groups, policy, matrix.atoms, matrix.today)
        if all(allowed_in(after, cell) == wanted[cell] for cell in cells):
            return change
    return None


def _additions(
    matrix: Matrix,
    words: tuple[str, str],
    cells: Sequence[tuple[int, int]],
    boxes: tuple[Box, ...],
    action: Action,
    layers: Sequence[int],
) -> Iterator[tuple[Amendment, Policy]]:
    """A line more: at the end of each layer, then before each of its lines that apply to the
    cells; with the policy of the lines that apply to them then."""
    policy = matrix.policy
    permissions = (*policy.permissions, Permission("", (Entry(action, boxes, ""),)))
    rows = {row for cell in cells for row in matrix.rows_of(*cell)}
    applied = sorted({matrix.rows[r].line for r in rows})
    for layer in dict.fromkeys([*layers, *reversed(range(len(policy.layers)))]):
        line = Line(*words, len(policy.permissions), layer, _NEW)
        here = [n for n in applied if policy.lines[n].layer == layer]
        for before in (None, *reversed(here)):
            lines = [n for n in applied if policy.lines[n].layer <= layer]
            at = len(lines) if before is None else applied.index(before)
            fresh = [policy.lines[n] for n in applied]
            fresh.insert(at, line)
            held = policy._replace(lines=tuple(fresh), permissions=permissions)
            yield Amendment(layer, before, None), held


def _same(matrix: Matrix, number: int, but: Container[tuple[int, int]]) -> bool:
    """Whether all other cells that a line speaks of stay without it."""
    return all(
        allowed_in(matrix, cell) == allowed_in(matrix, cell, number)
        for row in matrix.rows
        if row.line == number
        for cell in matrix.cells(row)
        if cell not in but
    )
