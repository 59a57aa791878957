"""The smallest change of the lines that allows, or ends, just some packets of one cell.

Rules kept here: a change is one line more, exact on both sides, or one line less; it suffices if
afterwards the cell allows what it did with just these packets more (or less), in ``action``; and
as the line speaks of no other cell, or is the only one that goes, no other cell may change either.
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
    cell: tuple[int, int],
    boxes: tuple[Box, ...],
    action: Action,
    layers: Sequence[int] = (),
) -> Amendment | None:
    """The first change that suffices: a line that can go, else the latest place for a new one.

    Args:
        matrix: cut along the boxes too.
        cell: indices of the source and the destination group.
        boxes: the packets that shall be allowed, or denied.
        action: ``allow`` or ``deny``.
        layers: where a new line would be best, the best first; the others follow.

    Returns:
        None where no single line does it.
    """
    mask = matrix.atoms.mask(boxes)
    before = allowed_in(matrix, cell)
    wanted = before | mask if action == "allow" else before & ~mask
    for change in (*_removals(matrix, cell), *_additions(matrix, cell, boxes, action, layers)):
        after = Matrix(matrix.groups, change.policy, matrix.atoms, matrix.today)
        suffices = allowed_in(after, cell) == wanted
        if suffices and (change.without is None or _same(matrix, after, cell)):
            return change
    return None


def _removals(matrix: Matrix, cell: tuple[int, int]) -> Iterator[Amendment]:
    """The exact lines of the cell, each taken out."""
    names = tuple(matrix.groups.all[g].id for g in cell)
    for number, line in enumerate(matrix.policy.lines):
        if (line.source, line.destination) == names and line.counts(matrix.today):
            kept = matrix.policy.lines[:number] + matrix.policy.lines[number + 1 :]
            yield Amendment(line.layer, None, number, matrix.policy._replace(lines=kept))


def _additions(
    matrix: Matrix,
    cell: tuple[int, int],
    boxes: tuple[Box, ...],
    action: Action,
    layers: Sequence[int],
) -> Iterator[Amendment]:
    """A line more: at the end of each layer, then before each of its lines that apply to the
    cell."""
    policy = matrix.policy
    source, destination = (matrix.groups.all[g].id for g in cell)
    permission = Permission("", (Entry(action, boxes, ""),))
    permissions = (*policy.permissions, permission)
    applied = sorted({matrix.rows[r].line for r in matrix.rows_of(*cell)}, reverse=True)
    for layer in dict.fromkeys([*layers, *reversed(range(len(policy.layers)))]):
        ends = [n for n, line in enumerate(policy.lines) if line.layer <= layer]
        places: list[tuple[int | None, int]] = [(None, ends[-1] + 1 if ends else 0)]
        places += [(n, n) for n in applied if policy.lines[n].layer == layer]
        for before, at in places:
            line = Line(source, destination, len(policy.permissions), layer, _NEW)
            lines = (*policy.lines[:at], line, *policy.lines[at:])
            yield Amendment(
                layer, before, None, policy._replace(lines=lines, permissions=permissions)
            )


def _same(was: Matrix, now: Matrix, but: tuple[int, int]) -> bool:
    """Whether all other cells stay."""
    names = tuple(was.groups.all[g].id for g in but)
    return all((c.source, c.destination) == names for c in compare(was, now))
