"""Lines painted over the cells they apply to, many at once: backwards, to what is decided in the
end; forwards, to what each still meets.

Rules kept here (semantics, section 4): the first entry that matches decides; ``pass`` leaves the
layer, and what was passed on is undecided again in the next. Rows that share no cell may be
painted in either order, so those of one cell each go together.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from oaktag.core.arrays import Ints, NDArray, np
from oaktag.core.permissions import Effect, Forms

#: An index into cells: of all of them, [G+1, G+1], or of those of one group, [G+1].
Block = Ints | tuple[Ints, Ints]
MOST_CODE = 1 << 62


class Step(NamedTuple):
    """Rows that are painted at once: one over a whole block, or one for each of some cells, all
    different. ``rows`` and ``permissions`` are of shape [1], or of the cells'."""

    layer: int
    rows: Ints
    permissions: Ints
    block: Block


def distinct(*columns: NDArray[np.integer]) -> tuple[list[tuple[int, ...]], Ints]:
    """The distinct rows of columns of whole numbers from 0, and of each row which one it is.

    Args:
        columns: of one shape, or of size 1 where all rows have the same.

    Returns:
        the rows, sorted, and their places, of the shape of the columns.
    """
    shape = max(columns, key=lambda c: (c.size, c.ndim)).shape
    code, most = np.zeros(shape, dtype=np.int64), 1
    for column in columns:
        if column.size > 1:
            values = int(column.max()) + 1
            if most * values > MOST_CODE:
                code = np.unique(code, return_inverse=True)[1].reshape(shape)
                most = code.size
            code, most = code * values + column, most * values
    found, first, place = np.unique(code, return_index=True, return_inverse=True)
    rows = (
        c.ravel()[first].tolist() if c.size > 1 else [int(c.ravel()[0])] * len(found)
        for c in columns
    )
    return list(zip(*rows, strict=True)), place.reshape(shape)


def in_rounds(cells: Ints) -> Iterator[Ints]:
    """Places of some cells, in rounds in which no cell is twice: of each the first one first."""
    order = np.argsort(cells, kind="stable")
    held = cells[order]
    starts = np.flatnonzero(np.r_[True, held[1:] != held[:-1]])
    number = np.arange(len(cells)) - np.repeat(starts, np.diff(np.r_[starts, len(cells)]))
    rounds = np.empty_like(order)
    rounds[order] = number
    by_round = np.argsort(rounds, kind="stable")
    return iter(np.split(by_round, np.cumsum(np.bincount(rounds))[:-1]))


def paint(
    canvas: NDArray[np.int32],
    after: NDArray[np.int32],
    step: Step,
    effects: Sequence[Effect],
    forms: Forms,
    memo: dict[tuple[int, ...], int],
) -> None:
    """Put what rows decide over what is read behind them.

    Args:
        canvas: forms of cells, changed.
        after: what the layers behind decide; what is passed on goes by it.
        memo: what came out before.
    """
    found, place = distinct(canvas[step.block], after[step.block], step.permissions)
    fresh = []
    for case in found:
        if case not in memo:
            below, later, permission = case
            over = effects[permission].over(forms[below], forms[later])
            memo[case] = forms.number(over)
        fresh.append(memo[case])
    canvas[step.block] = np.array(fresh, dtype=np.int32)[place]


class Undecided:
    """For each cell the packets that are not yet decided, as rows are read in their order.

    Args:
        size: the cells of a row and of a column.
        every: the mask of all packets.
        effects: those of the permissions.

    Attributes:
        live: int32 [size, size], numbers into ``forms``: what the next row meets.
    """

    def __init__(self, size: int, every: int, effects: Sequence[Effect]) -> None:
        self.effects = effects
        self.forms = Forms()
        self.live = np.full((size, size), self.forms.number(every), dtype=np.int32)
        self._passed = np.full((size, size), self.forms.number(0), dtype=np.int32)
        self._layer = 0

    def enter(self, layer: int) -> None:
        """Go on to a layer: what was passed on before is undecided again."""
        if self._layer == layer:
            return
        self._layer = layer
        both, place = distinct(self.live, self._passed)
        joined = [self.forms.number(self.forms[a] | self.forms[b]) for a, b in both]
        self.live = np.array(joined, dtype=np.int32)[place]
        self._passed[:] = self.forms.number(0)

    def meet(self, step: Step) -> tuple[list[int], Ints]:
        """Let rows decide.

        Returns:
            which entries of a permission some packet reached, as bits, for each case there was;
            and of each cell which case it is.
        """
        found, place = distinct(self.live[step.block], self._passed[step.block], step.permissions)
        bits, live, passed = [], [], []
        for before, saved, permission in found:
            left, kept, reached = self.forms[before], self.forms[saved], 0
            for number, (action, mask) in enumerate(self.effects[permission].steps):
                hit = left & mask
                if hit:
                    reached |= 1 << number
                    left &= ~hit
                    kept |= hit if action == "pass" else 0
            bits.append(reached)
            live.append(self.forms.number(left))
            passed.append(self.forms.number(kept))
        self.live[step.block] = np.array(live, dtype=np.int32)[place]
        self._passed[step.block] = np.array(passed, dtype=np.int32)[place]
        return bits, place
