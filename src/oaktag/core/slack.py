"""What no expectation speaks of: cells, and packets allowed that none asks for.

``allowed: none`` and ``exactly`` speak of all packets of a cell; every other expectation of those
that it names. All cells are done at once, by the few distinct sets of packets spoken of.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.expectations import Claim
from oaktag.core.matrix import Matrix


class Loose(NamedTuple):
    """Cells with the same packets allowed that no expectation asks for: a rectangle of sources and
    destinations, by index; ``spoken``: some expectation speaks of other packets in them."""

    sources: tuple[int, ...]
    destinations: tuple[int, ...]
    mask: int
    spoken: bool


class Slack(NamedTuple):
    """Of so many cells so many are spoken of, and so many allow what none asks for."""

    cells: int
    spoken: int
    loose: int
    rows: list[Loose]


def slack(matrix: Matrix, asked: Iterable[tuple[Claim, Sequence[int], Sequence[int]]]) -> Slack:
    """What expectations leave open.

    Args:
        matrix: all decisions.
        asked: what is claimed, of which sources and which destinations.
    """
    size, full = len(matrix.groups), matrix.atoms.full
    held, known = [0], {0: 0}
    code = np.zeros((size, size), dtype=np.int64)
    for claim, sources, destinations in asked:
        mask = full if claim.kind in ("none", "exactly") else claim.mask
        here = np.ix_(sources, destinations)
        before, at = np.unique(code[here], return_inverse=True)
        after = []
        for number in before.tolist():
            both = held[number] | mask
            if known.setdefault(both, len(held)) == len(held):
                held.append(both)
            after.append(known[both])
        code[here] = np.array(after, dtype=np.int64)[at].reshape(code[here].shape)
    pairs = matrix.action_form.astype(np.int64) * len(held) + code
    left: dict[int, int] = {}
    for pair in np.unique(pairs).tolist():
        form, number = divmod(pair, len(held))
        mask = matrix.forms[form] & ~held[number]
        if mask:
            left[pair] = mask
    where = np.isin(pairs, list(left))
    return Slack(
        size * size, int((code > 0).sum()), int(where.sum()), _folded(pairs, where, left, len(held))
    )


def _folded(
    pairs: NDArray[np.int64], where: NDArray[np.bool_], left: dict[int, int], width: int
) -> list[Loose]:
    """Cells of which the same is to be said, as rectangles."""
    columns: dict[tuple[int, bool, tuple[int, ...]], list[int]] = {}
    for d in range(pairs.shape[1]):
        alike: dict[tuple[int, bool], list[int]] = {}
        for s in np.flatnonzero(where[:, d]).tolist():
            pair = int(pairs[s, d])
            alike.setdefault((left[pair], pair % width > 0), []).append(s)
        for (mask, spoken), sources in alike.items():
            columns.setdefault((mask, spoken, tuple(sources)), []).append(d)
    return [
        Loose(sources, tuple(destinations), mask, spoken)
        for (mask, spoken, sources), destinations in columns.items()
    ]
