"""Groups that fare alike: each may do the same to everybody, everybody may do the same to each, and
they may do to each other what each may do within itself.

Such groups can be one, and nobody's access changes. Rows and columns are told apart by sums over
weighted cells, less the cells of the two groups themselves; what seems alike is looked at whole.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from oaktag.core.matrix import ANSWERS, Matrix


def alike_groups(matrix: Matrix) -> list[tuple[int, ...]]:
    """Groups that fare alike in both answers, by index, two or more of a kind; ``untagged`` too."""
    grids = [getattr(matrix, f"{answer}_form") for answer in ANSWERS]
    size = len(matrix.groups)
    weights = np.random.default_rng(1).integers(1, 1 << 62, size, dtype=np.uint64)
    same = np.ones((size, size), dtype=np.bool_)
    for grid in grids:
        for held in (grid, grid.T):
            same &= _seem_alike(held.astype(np.uint64), weights)
    found: list[tuple[int, ...]] = []
    taken: set[int] = set()
    for first in range(size):
        if first in taken:
            continue
        seem = [n for n in np.flatnonzero(same[first]).tolist() if n > first and n not in taken]
        mine = [n for n in seem if _are_alike(grids, first, n)]
        if mine:
            taken.update(mine)
            found.append((first, *mine))
    return found


def _seem_alike(held: NDArray[np.uint64], weights: NDArray[np.uint64]) -> NDArray[np.bool_]:
    """Whether the rows of each two groups have one sum, less the cells of these two."""
    sums = held @ weights
    own = np.diagonal(held) * weights
    # Of row a is taken out what stands under a and b, of row b likewise.
    less = sums[:, None] - own[:, None] - held * weights[None, :]
    found: NDArray[np.bool_] = less == less.T
    return found


def _are_alike(grids: list[NDArray[np.int32]], one: int, two: int) -> bool:
    """Whether two groups fare alike, cell by cell."""
    ends = [one, two]
    for grid in grids:
        rest = np.delete(np.arange(len(grid)), ends)
        if len(set(grid[np.ix_(ends, ends)].ravel().tolist())) > 1:
            return False
        if np.any(grid[one, rest] != grid[two, rest]) or np.any(grid[rest, one] != grid[rest, two]):
            return False
    return True
