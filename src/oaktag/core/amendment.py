"""The smallest change of the lines that allows, or ends, just some packets of one cell, or of all
cells of sets.

Rules kept here: a change is one line more, that speaks of just these cells, or one line less; it
suffices if afterwards each of them allows what it did with just these packets more (or less), in
``action``; and as the line speaks of no other cell, or is the only one that goes, no other cell
may change either.
A candidate is tried by resolving the cell again, never guessed.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from oaktag.core.comparison import compare
from oaktag.core.lines import Action, Entry, Line, Permission, Policy
from oaktag.core.matrix import Matrix
from oaktag.core.packets import Box
from oaktag.located import Location

_NEW = Location("")


class Amendment(NamedTuple):
    """A line more in a layer (before the line ``before``, or at its end), or the line ``without``
    less; ``policy`` is what the lines are then, with the permission added last."""

    layer: int
    before: int | None
    without: int | None
    policy: Policy


def allowed_in(matrix: Matrix, cell: tuple[int, int]) -> int:
    """The packets that a cell allows, resolved from its lines."""
    return sum(p.mask for p in matrix.pieces(*cell, "action") if p.action == "allow")


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
    additions = _additions(matrix, words, cells, boxes, action, layers)
    for change in (*_removals(matrix, words), *additions):
        after = Matrix(matrix.groups, change.policy, matrix.atoms, matrix.today)
        suffices = all(allowed_in(after, cell) == wanted[cell] for cell in cells)
        if suffices and (change.without is None or _same(matrix, after, cells)):
            return change
    return None


def _removals(matrix: Matrix, words: tuple[str, str]) -> Iterator[Amendment]:
    """The lines that speak of just these ends, each taken out."""
    for number, line in enumerate(matrix.policy.lines):
        if (line.source, line.destination) == words and line.counts(matrix.today):
            kept = matrix.policy.lines[:number] + matrix.policy.lines[number + 1 :]
            yield Amendment(line.layer, None, number, matrix.policy._replace(lines=kept))


def _additions(
    matrix: Matrix,
    words: tuple[str, str],
    cells: Sequence[tuple[int, int]],
    boxes: tuple[Box, ...],
    action: Action,
    layers: Sequence[int],
) -> Iterator[Amendment]:
    """A line more: at the end of each layer, then before each of its lines that apply to the
    cells."""
    policy = matrix.policy
    permission = Permission("", (Entry(action, boxes, ""),))
    permissions = (*policy.permissions, permission)
    rows = {row for cell in cells for row in matrix.rows_of(*cell)}
    applied = sorted({matrix.rows[r].line for r in rows}, reverse=True)
    for layer in dict.fromkeys([*layers, *reversed(range(len(policy.layers)))]):
        ends = [n for n, line in enumerate(policy.lines) if line.layer <= layer]
        places: list[tuple[int | None, int]] = [(None, ends[-1] + 1 if ends else 0)]
        places += [(n, n) for n in applied if policy.lines[n].layer == layer]
        for before, at in places:
            line = Line(*words, len(policy.permissions), layer, _NEW)
            lines = (*policy.lines[:at], line, *policy.lines[at:])
            yield Amendment(
                layer, before, None, policy._replace(lines=lines, permissions=permissions)
            )


def _same(was: Matrix, now: Matrix, but: Sequence[tuple[int, int]]) -> bool:
    """Whether all other cells stay."""
    names = {tuple(was.groups.all[g].id for g in cell) for cell in but}
    return all((c.source, c.destination) in names for c in compare(was, now))
