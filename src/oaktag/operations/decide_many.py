"""Many packets decided at once, from arrays or a frame."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from oaktag.core.packets import ICMP_OF, PORTED, PROTOCOL_NAMES
from oaktag.errors import UsageError
from oaktag.operations.frames import pandas
from oaktag.operations.model import Model

if TYPE_CHECKING:
    import pandas as pd

COLUMNS = ("source", "destination", "family", "protocol", "source_port", "destination_port")
#: So many faulty rows are named.
NAMED = 8


@dataclass(frozen=True, eq=False)
class Decisions:
    """The answers to n questions.

    Attributes:
        allowed: bool [n], the answer that acts.
        would: bool [n], the answer if observed lines were enforced.
        line: int64 [n], the number of the deciding line in ``Workspace.model.lines``; -1 for the
            default.
        questions: what was asked, by column.
        places: of each line the file and the line in it.
    """

    allowed: NDArray[np.bool_]
    would: NDArray[np.bool_]
    line: NDArray[np.int64]
    questions: Mapping[str, Any] | pd.DataFrame
    places: tuple[tuple[str, int], ...]

    def __len__(self) -> int:
        return len(self.allowed)

    def __repr__(self) -> str:
        return f"<Decisions: {int(self.allowed.sum()):,} of {len(self):,} allowed>"

    def frame(self) -> pd.DataFrame:
        """The questions with ``action``, ``would``, ``file`` and ``line``.

        Raises:
            NotPossibleHere: pandas is not installed.
        """
        words = np.array(["deny", "allow"], dtype=object)
        files = np.array([*(f for f, _ in self.places), ""], dtype=object)
        lines = np.array([*(n for _, n in self.places), 0], dtype=np.int64)
        held = {name: np.asarray(self.questions[name]) for name in COLUMNS}
        return pandas().DataFrame(  # type: ignore[no-any-return]
            {
                **held, "action": words[self.allowed.astype(np.int64)],
                "would": words[self.would.astype(np.int64)],
                "file": files[self.line], "line": lines[self.line],
            }
        )  # fmt: skip


def decide_many(model: Model, questions: Mapping[str, Any] | pd.DataFrame) -> Decisions:
    """What the matrix says of n packets.

    Args:
        model: the workspace.
        questions: a mapping of columns, or a pandas DataFrame: ``source`` and ``destination`` as in
            ``decide``; ``family`` 4 or 6; ``protocol`` a number or a name (``tcp``, ``icmp`` …);
            ``source_port`` and ``destination_port`` (ICMP's type and code), each of length n.

    Raises:
        UsageError: a column is missing or of another length, or rows are no packets: the first of
            them are named.
    """
    missing = [name for name in COLUMNS if name not in questions]
    if missing:
        raise UsageError(
            f"the column {missing[0]!r} is missing; there must be {', '.join(COLUMNS)}"
        )
    held = {name: np.asarray(questions[name]) for name in COLUMNS}
    lengths = {len(column) for column in held.values()}
    if len(lengths) > 1:
        raise UsageError(f"the columns are of different lengths: {sorted(lengths)}")
    faults: dict[int, str] = {}
    ends = [_groups(model, held[name], faults) for name in COLUMNS[:2]]
    packets = _packets(held, faults)
    if faults:
        first = "; ".join(f"row {row}: {told}" for row, told in sorted(faults.items())[:NAMED])
        more = f"; and {len(faults) - NAMED:,} more" if len(faults) > NAMED else ""
        raise UsageError(f"{first}{more}")
    matrix = model.matrix
    atoms = model.atoms.atoms(*packets)
    allowed, would = matrix.decide_many(ends[0], ends[1], atoms)
    size = len(model.groups)
    key = (ends[0] * size + ends[1]) * max(model.atoms.count, 1) + atoms
    distinct, first_at, inverse = np.unique(key, return_index=True, return_inverse=True)
    lines = np.full(len(distinct), -1, dtype=np.int64)
    for number, row in enumerate(first_at.tolist()):
        piece = matrix.parts(int(ends[0][row]), int(ends[1][row]), 1 << int(atoms[row]))[0].action
        if piece.row >= 0:
            lines[number] = matrix.rows[piece.row].line
    places = tuple((line.location.file, line.location.line) for line in model.lines)
    return Decisions(allowed, would, lines[inverse], questions, places)


def _groups(model: Model, words: NDArray[Any], faults: dict[int, str]) -> NDArray[np.int64]:
    known: dict[Any, int] = {}
    found = np.zeros(len(words), dtype=np.int64)
    for row, word in enumerate(words.tolist()):
        if word not in known:
            try:
                known[word] = model.one_group(str(word))
            except UsageError as error:
                faults.setdefault(row, str(error))
                continue
        found[row] = known[word]
    return found


def _packets(held: Mapping[str, NDArray[Any]], faults: dict[int, str]) -> list[NDArray[np.int64]]:
    family = _numbers(held["family"], "family", faults)
    names = {**{str(n): n for n in range(256)}, **PROTOCOL_NAMES}
    words = [str(word) for word in held["protocol"].tolist()]
    protocol = np.array([names.get(word, -1) for word in words], dtype=np.int64)
    six = np.array([word == "icmp" for word in words], dtype=np.bool_) & (family == 6)
    protocol[six] = ICMP_OF[6]
    ports = [_numbers(held[name], name, faults) for name in COLUMNS[4:]]
    icmp = np.where(family == 4, ICMP_OF[4], ICMP_OF[6])
    top = np.where(np.isin(protocol, PORTED), 65535, np.where(protocol == icmp, 255, 0))
    for wrong, told in (
        (~np.isin(family, (4, 6)), "the family is neither 4 nor 6"),
        (protocol < 0, "the protocol is no number from 0 to 255 and no name"),
        *(((p < 0) | (p > top), "its protocol has no such port") for p in ports),
    ):
        for row in np.flatnonzero(wrong).tolist():
            faults.setdefault(row, told)
    return [family, protocol, *ports]


def _numbers(column: NDArray[Any], name: str, faults: dict[int, str]) -> NDArray[np.int64]:
    try:
        return column.astype(np.int64)
    except (TypeError, ValueError):
        found = np.full(len(column), -1, dtype=np.int64)
        for row, value in enumerate(column.tolist()):
            try:
                found[row] = int(value)
            except (TypeError, ValueError):
                faults.setdefault(row, f"{name} is {value!r}, no number")
        return found
