"""The matrix: layers and lines → the forms of all cells → decisions.

Rules kept here (semantics, section 4):

* The cell (s, d) is the ordered list of the entries of all lines that apply: layers in order;
  inside a layer by destination rank, then source rank (exact, set, ``*``), then file order;
  ``broad-first`` turns the ranks round, ``as-listed`` drops them. Then the default.
* ``both`` adds the mirrored line in the same place, not where both ends are the same word;
  ``itself`` pairs each source group with itself, ranks as its source and is never mirrored.
* ``observe`` counts in the answer ``would`` only; ``off`` and expired lines in neither.

All lines have one global order, so cells are painted backwards, each line over its whole block.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.groups import ITSELF, STAR, UNTAGGED, Groups
from oaktag.core.lines import Action, Line, Order, Policy
from oaktag.core.packets import Atoms
from oaktag.core.permissions import Effect, Forms, effect_of

Answer = Literal["action", "would"]
ANSWERS: tuple[Answer, Answer] = ("action", "would")
IntArray = NDArray[np.int64]


class Row(NamedTuple):
    """A line as it applies: as written, or mirrored."""

    line: int
    source: str
    destination: str
    mirrored: bool


class Piece(NamedTuple):
    """Packets that one entry decides; ``row`` and ``entry`` are -1 for the default."""

    mask: int
    row: int
    entry: int
    action: Action


class Part(NamedTuple):
    """Packets with the same deciding lines in both answers."""

    mask: int
    action: Piece
    would: Piece


def ordered_rows(lines: Sequence[Line], groups: Groups, order: Order, today: int) -> list[Row]:
    """All lines that count on the day, with mirrors, in the one order that every cell follows."""
    rows: list[Row] = []
    for number, line in enumerate(lines):
        if not line.counts(today):
            continue
        rows.append(Row(number, line.source, line.destination, False))
        if line.way == "both" and line.destination not in (line.source, ITSELF):
            rows.append(Row(number, line.destination, line.source, True))
    sign = {"specific-first": 1, "broad-first": -1, "as-listed": 0}[order]

    def rank(word: str) -> int:
        if word == STAR:
            return 2
        return 0 if word == UNTAGGED or word in groups.index else 1

    def key(row: Row) -> tuple[int, int, int, int, bool]:
        source = rank(row.source)
        destination = source if row.destination == ITSELF else rank(row.destination)
        line = lines[row.line]
        return line.layer, sign * destination, sign * source, row.line, row.mirrored

    return sorted(rows, key=key)


class Matrix:
    """Every cell's decision over all packets.

    Args:
        groups: G groups; indices run from 0 (``untagged``) to G.
        policy: lines, permissions and defaults.
        atoms: cut along every entry of the policy.
        today: the day as a proleptic ordinal, UTC.

    Attributes:
        rows: the lines as they apply, in the one order.
        action_form, would_form: int32 [G+1, G+1], numbers into ``forms``.

    Raises:
        OakTagError: too many distinct forms.
    """

    def __init__(self, groups: Groups, policy: Policy, atoms: Atoms, today: int) -> None:
        self.groups = groups
        self.policy = policy
        self.atoms = atoms
        self.today = today
        self.rows = ordered_rows(policy.lines, groups, policy.order, today)
        self.effects: list[Effect] = [effect_of(p, atoms) for p in policy.permissions]
        self.forms = Forms()

    @property
    def action_form(self) -> NDArray[np.int32]:
        """The enforced answer of every cell."""
        return self._painted["action"]

    @property
    def would_form(self) -> NDArray[np.int32]:
        """The answer of every cell if observed lines were enforced."""
        return self._painted["would"]

    @cached_property
    def _painted(self) -> dict[Answer, NDArray[np.int32]]:
        size = len(self.groups)
        canvases: dict[Answer, NDArray[np.int32]] = {}
        for answer in ANSWERS:
            empty = self.forms.number(self.atoms.full if self.default(answer) == "allow" else 0)
            canvases[answer] = np.full((size, size), empty, dtype=np.int32)
        memo: dict[tuple[int, int, int], int] = {}
        for layer in reversed(range(len(self.policy.layers))):
            after = {answer: canvas.copy() for answer, canvas in canvases.items()}
            for row in reversed(self._of_layer[layer]):
                for answer in self.answers_of(row):
                    self._paint(canvases[answer], after[answer], row, memo)
        return canvases

    def behind(self, answer: Answer) -> list[tuple[NDArray[np.int32], NDArray[np.int32]]]:
        """For each row the forms of its cells without it and what is read before it: what the
        rest of its layer and all behind decides, and what the layers behind alone decide."""
        empty = self.forms.number(self.atoms.full if self.default(answer) == "allow" else 0)
        canvas = np.full((len(self.groups),) * 2, empty, dtype=np.int32)
        none = np.empty(0, dtype=np.int32)
        found = [(none, none)] * len(self.rows)
        memo: dict[tuple[int, int, int], int] = {}
        layer, after = len(self.policy.layers), canvas
        for number in reversed(range(len(self.rows))):
            row = self.rows[number]
            if self.policy.lines[row.line].layer < layer:
                layer, after = self.policy.lines[row.line].layer, canvas.copy()
            block = self.block(row)
            if block is not None and answer in self.answers_of(row):
                found[number] = canvas[block].copy(), after[block]
                self._paint(canvas, after, row, memo)
        return found

    def default(self, answer: Answer) -> Action:
        """What decides where no line does."""
        return self.policy.default if answer == "action" else self._watched_default

    @property
    def _watched_default(self) -> Action:
        return self.policy.observed_default or self.policy.default

    @cached_property
    def _of_layer(self) -> list[list[Row]]:
        layers: list[list[Row]] = [[] for _ in self.policy.layers]
        for row in self.rows:
            layers[self.policy.lines[row.line].layer].append(row)
        return layers

    def answers_of(self, row: Row) -> tuple[Answer, ...]:
        """The answers in which the row acts."""
        return ANSWERS if self.policy.lines[row.line].mode == "enforce" else ("would",)

    def _paint(
        self,
        canvas: NDArray[np.int32],
        after: NDArray[np.int32],
        row: Row,
        memo: dict[tuple[int, int, int], int],
    ) -> None:
        permission = self.policy.lines[row.line].permission
        effect = self.effects[permission]

        def painted(below: int, later: int) -> int:
            key = (below, later if effect.passes else -1, permission)
            if key not in memo:
                memo[key] = self.forms.number(effect.over(self.forms[below], self.forms[later]))
            return memo[key]

        if row.source in self.groups.index and row.destination in self.groups.index:
            cell = self.groups.index[row.source], self.groups.index[row.destination]
            canvas[cell] = painted(int(canvas[cell]), int(after[cell]))
            return
        block = self.block(row)
        if block is None:
            return
        below, later = canvas[block], after[block]
        pairs = (below.astype(np.int64) << 32) | (later if effect.passes else 0)
        distinct, inverse = np.unique(pairs, return_inverse=True)
        fresh = [painted(int(p) >> 32, int(p) & 0xFFFFFFFF) for p in distinct]
        canvas[block] = np.array(fresh, dtype=np.int32)[inverse.reshape(below.shape)]

    def block(self, row: Row) -> tuple[IntArray, IntArray] | None:
        """The cells of a row as an index into [G+1, G+1]; None where it applies to no cell."""
        sources = np.array(self.groups.members(row.source), dtype=np.int64)
        if row.destination == ITSELF:
            return (sources, sources) if sources.size else None
        destinations = np.array(self.groups.members(row.destination), dtype=np.int64)
        if not sources.size or not destinations.size:
            return None
        return sources[:, None], destinations[None, :]

    @cached_property
    def _holds(self) -> tuple[NDArray[np.bool_], IntArray, IntArray]:
        words: dict[str, int] = {}
        for row in self.rows:
            words.setdefault(row.source, len(words))
            words.setdefault(row.destination, len(words))
        holds = np.zeros((len(words) + 1, len(self.groups)), dtype=np.bool_)
        for word, number in words.items():
            if word != ITSELF:
                holds[number, list(self.groups.members(word))] = True
        sources = np.array([words[r.source] for r in self.rows], dtype=np.int64)
        destinations = np.array(
            [-2 if r.destination == ITSELF else words[r.destination] for r in self.rows],
            dtype=np.int64,
        )
        return holds, sources, destinations

    def rows_of(self, source: int, destination: int) -> list[int]:
        """Numbers of the rows that apply to one cell, in order."""
        holds, sources, destinations = self._holds
        if not len(sources):
            return []
        itself = destinations == -2
        toward = np.where(itself, source == destination, holds[destinations, destination])
        return [int(r) for r in np.flatnonzero(holds[sources, source] & toward)]

    def pieces(self, source: int, destination: int, answer: Answer) -> list[Piece]:
        """Who decides what in one cell: disjoint pieces in order, the default last."""
        live, passed, layer = self.atoms.full, 0, 0
        result: list[Piece] = []
        for number in self.rows_of(source, destination):
            row = self.rows[number]
            line = self.policy.lines[row.line]
            if answer not in self.answers_of(row):
                continue
            if line.layer != layer:
                live, passed, layer = live | passed, 0, line.layer
            for entry, (action, mask) in enumerate(self.effects[line.permission].steps):
                hit = live & mask
                live &= ~hit
                if action == "pass":
                    passed |= hit
                elif hit:
                    result.append(Piece(hit, number, entry, action))
        default = self.default(answer)
        if live | passed:
            result.append(Piece(live | passed, -1, -1, default))
        return result

    def parts(self, source: int, destination: int, mask: int | None = None) -> list[Part]:
        """Both answers of one cell for the packets asked of: disjoint parts."""
        asked = self.atoms.full if mask is None else mask
        acts = [p for p in self.pieces(source, destination, "action") if p.mask & asked]
        woulds = [p for p in self.pieces(source, destination, "would") if p.mask & asked]
        return [
            Part(common, a, w) for a in acts for w in woulds if (common := a.mask & w.mask & asked)
        ]

    def decide_many(
        self, sources: IntArray, destinations: IntArray, atoms: IntArray
    ) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
        """``action`` and ``would`` as true for allow, for n packets given by cell and atom."""
        return (
            self._bits(self.action_form[sources, destinations], atoms),
            self._bits(self.would_form[sources, destinations], atoms),
        )

    def _bits(self, forms: NDArray[np.int32], atoms: IntArray) -> NDArray[np.bool_]:
        distinct, inverse = np.unique(forms, return_inverse=True)
        width = (self.atoms.count + 7) // 8
        table = np.frombuffer(
            b"".join(self.forms[int(f)].to_bytes(width, "little") for f in distinct), dtype=np.uint8
        ).reshape(len(distinct), width)
        bits = table[inverse, atoms >> 3] >> (atoms & 7).astype(np.uint8)
        return np.asarray(bits & 1, dtype=np.bool_)
