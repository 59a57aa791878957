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

from collections import Counter
from collections.abc import Iterator, Sequence
from copy import copy
from functools import cached_property
from typing import Literal, NamedTuple

from oaktag.core.arrays import Codes, Flags, Ints, np
from oaktag.core.groups import ITSELF, STAR, Groups
from oaktag.core.lines import Action, Line, Order, Policy
from oaktag.core.packets import Atoms
from oaktag.core.painting import Step, in_rounds, paint
from oaktag.core.permissions import Effect, Forms, effect_of
from oaktag.errors import OakTagError, UsageError

Answer = Literal["action", "would"]
ANSWERS: tuple[Answer, Answer] = ("action", "would")
#: The most cells that are worked out at once; each takes 16 bytes while that goes on.
MOST_CELLS = 1 << 27
#: Rows of at most so many cells are painted together, up to so many cells at once.
SMALL, AT_ONCE = 1 << 12, 1 << 21
#: So many cells of one group are worked out alone before all of it are.
FEW = 32
Canvases = dict[Answer, Codes]


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
    # As they stand rows are in file order, a mirror right behind its line.
    ranked: dict[tuple[int, int, int], list[Row]] = {}
    for row in rows:
        toward, start = rank_of(row, groups)
        key = lines[row.line].layer, sign * toward, sign * start
        ranked.setdefault(key, []).append(row)
    return [row for key in sorted(ranked) for row in ranked[key]]


def rank_of(row: Row, groups: Groups) -> tuple[int, int]:
    """How narrow a row is: its destination, then its source; 0 a group, 1 a set, 2 ``*``."""
    start = _rank(row.source, groups)
    return start if row.destination == ITSELF else _rank(row.destination, groups), start


def _rank(word: str, groups: Groups) -> int:
    return 0 if word in groups.index else 2 if word == STAR else 1


def _check(groups: Groups, policy: Policy) -> None:
    known = {*groups.index, *groups.sets, STAR}
    words = {line.source for line in policy.lines} - known
    words |= {line.destination for line in policy.lines} - known - {ITSELF}
    if words:
        listed = ", ".join(repr(word) for word in sorted(words)[:8])
        raise UsageError(f"lines name what is no group or set: {listed}")
    if any(not 0 <= line.permission < len(policy.permissions) for line in policy.lines):
        raise UsageError(f"a line has a permission that is none of {len(policy.permissions)}")
    if any(not 0 <= line.layer < len(policy.layers) for line in policy.lines):
        raise UsageError(f"a line is in a layer that is none of {len(policy.layers)}")


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
        UsageError: a line names no group or set, or no permission.
        OakTagError: too many distinct forms.
    """

    def __init__(self, groups: Groups, policy: Policy, atoms: Atoms, today: int) -> None:
        _check(groups, policy)
        self.groups = groups
        self.policy = policy
        self.atoms = atoms
        self.today = today
        self.rows = ordered_rows(policy.lines, groups, policy.order, today)
        self.effects: list[Effect] = [effect_of(p, atoms) for p in policy.permissions]
        self.forms = Forms()
        self._words: dict[int, set[str]] = {}
        self._acting: dict[Answer, list[Step]] = {}
        self._strips: dict[tuple[int | None, int | None], Canvases] = {}
        self._asked: Counter[tuple[int | None, int | None]] = Counter()

    @property
    def action_form(self) -> Codes:
        """The enforced answer of every cell."""
        return self._painted["action"]

    @property
    def would_form(self) -> Codes:
        """The answer of every cell if observed lines were enforced."""
        return self._painted["would"]

    @cached_property
    def _painted(self) -> Canvases:
        shape = (self.square(),) * 2
        return {answer: self._paint_all(shape, answer, self.acting(answer)) for answer in ANSWERS}

    @cached_property
    def _number(self) -> dict[Row, int]:
        return {row: number for number, row in enumerate(self.rows)}

    def _paint_all(self, shape: tuple[int, ...], answer: Answer, steps: Sequence[Step]) -> Codes:
        """The cells of a part of the matrix."""
        canvas = self._blank(shape, answer)
        for _ in self._backwards(canvas, steps):
            pass
        return canvas

    def _blank(self, shape: tuple[int, ...], answer: Answer) -> Codes:
        empty = self.forms.number(self.atoms.full if self.default(answer) == "allow" else 0)
        return np.full(shape, empty, dtype=np.int32)

    def _backwards(self, canvas: Codes, steps: Sequence[Step]) -> Iterator[tuple[int, Codes]]:
        """Paint steps, the last first; before each its number, and what the layers behind it
        decide."""
        memo: dict[tuple[int, ...], int] = {}
        layer, after = -1, canvas
        for number in reversed(range(len(steps))):
            if steps[number].layer != layer:
                layer, after = steps[number].layer, canvas.copy()
            yield number, after
            paint(canvas, after, steps[number], self.effects, self.forms, memo)

    def acting(self, answer: Answer) -> list[Step]:
        """The rows that act in an answer, as steps."""
        if answer not in self._acting:
            rows = [n for n, row in enumerate(self.rows) if answer in self.answers_of(row)]
            self._acting[answer] = self.steps(rows)
        return self._acting[answer]

    def steps(self, rows: Sequence[int]) -> list[Step]:
        """Some rows that speak of any cell, in their order; at once those of few cells each that
        are next to each other, as long as no cell is among them twice."""
        holds, sources, destinations = self._holds
        acting = np.array(rows, dtype=np.int64)
        sources, destinations = sources[acting], destinations[acting]
        lines = [self.policy.lines[self.rows[n].line] for n in rows]
        layers = np.array([line.layer for line in lines], dtype=np.int64)
        permissions = np.array([line.permission for line in lines], dtype=np.int64)
        sizes = np.r_[holds[:-1].sum(axis=1), 1]
        sets = (np.where(end < -1, -2 - end, len(sizes) - 1) for end in (sources, destinations))
        wide, high = (sizes[end] for end in sets)
        cells = wide * high
        large = cells > SMALL
        chunk = np.cumsum(cells) // AT_ONCE
        cut = large[1:] | large[:-1] | (layers[1:] != layers[:-1]) | (chunk[1:] != chunk[:-1])
        found: list[Step] = []
        for run in np.split(np.arange(len(acting)), np.flatnonzero(cut) + 1):
            run = run[cells[run] > 0]
            if not run.size:
                continue
            layer, block = int(layers[run[0]]), self.block(self.rows[acting[run[0]]])
            if len(run) == 1 and block is not None:
                found.append(Step(layer, acting[run], permissions[run], block))
                continue
            row = np.repeat(run, cells[run])
            s, d = sources[row], destinations[row]
            d[d == -1] = s[d == -1]
            ends = np.cumsum(cells[run])
            for n in np.flatnonzero((sources[run] < 0) | (destinations[run] < -1)).tolist():
                block = self.block(self.rows[acting[run[n]]])
                part = slice(int(ends[n] - cells[run[n]]), int(ends[n]))
                assert block is not None, "it has cells"
                s[part], d[part] = (end.ravel() for end in np.broadcast_arrays(*block))
            for at in in_rounds(s * len(self.groups) + d):
                here = row[at]
                found.append(Step(layer, acting[here], permissions[here], (s[at], d[at])))
        return found

    def form(self, source: int, destination: int, answer: Answer = "action") -> int:
        """One cell's form. Where all cells are too many to be held it is worked out alone."""
        if len(self.groups) ** 2 <= MOST_CELLS:
            return int(self._painted[answer][source, destination])
        for strip, place in (((source, None), destination), ((None, destination), source)):
            if strip not in self._strips:
                self._asked[strip] += 1
                if self._asked[strip] <= FEW:
                    continue
                self._strips[strip] = self._strip(*strip)
            return int(self._strips[strip][answer][place])
        pieces = self.pieces(source, destination, answer)
        return self.forms.number(sum(p.mask for p in pieces if p.action == "allow"))

    def _strip(self, source: int | None, destination: int | None) -> Canvases:
        """All cells of one source, or of one destination."""
        fixed, axis = (source, 0) if source is not None else (destination, 1)
        assert fixed is not None, "one of the two is asked for"
        ends = self._holds[2] if axis else self._holds[1]
        speaks = self._speak_of(ends, fixed)

        def cells(row: Row) -> Ints | None:
            if row.destination == ITSELF:
                here = fixed in self.groups.members(row.source)
                return np.array([fixed]) if here else None
            if not speaks[self._number[row]]:
                return None
            return np.array(self.groups.members(row.source if axis else row.destination))

        steps: dict[Answer, list[Step]] = {answer: [] for answer in ANSWERS}
        for number, row in enumerate(self.rows):
            where = cells(row)
            if where is not None and where.size:
                line = self.policy.lines[row.line]
                at, permission = np.array([number]), np.array([line.permission])
                for answer in self.answers_of(row):
                    steps[answer].append(Step(line.layer, at, permission, where))
        shape = (len(self.groups),)
        return {answer: self._paint_all(shape, answer, steps[answer]) for answer in ANSWERS}

    def spoken(self, group: int, axis: Literal[0, 1]) -> Flags:
        """Of which destinations of a source (0), or sources of a destination (1), any row speaks;
        bool [G+1]."""
        found = np.zeros(len(self.groups), dtype=np.bool_)
        _, sources, destinations = self._holds
        itself = self._speak_of(sources, group) & (destinations == -1)
        found[group] = itself.any()
        ends = destinations if axis else sources
        for number in np.flatnonzero(self._speak_of(ends, group) & (destinations != -1)).tolist():
            word = self.rows[number].source if axis else self.rows[number].destination
            found[list(self.groups.members(word))] = True
        return found

    def block_of(
        self, sources: Sequence[int], destinations: Sequence[int], answer: Answer
    ) -> Codes:
        """The forms of some sources and destinations, int32 [sources, destinations].

        Raises:
            OakTagError: these are too many cells.
        """
        if len(self.groups) ** 2 <= MOST_CELLS or len(sources) * len(destinations) > 1 << 18:
            self.square()
            return self._painted[answer][np.ix_(sources, destinations)]
        return np.array(
            [[self.form(s, d, answer) for d in destinations] for s in sources], dtype=np.int32
        ).reshape(len(sources), len(destinations))

    def square(self) -> int:
        """The number of groups, if the square of it can be held.

        Raises:
            OakTagError: it cannot.
        """
        size = len(self.groups)
        if size * size > MOST_CELLS:
            raise OakTagError(
                f"the matrix of {size - 1:,} groups has {size * size:,} cells, and at most "
                f"{MOST_CELLS:,} are worked out at once; ask about one cell (decide, cell), or let "
                "groups of equal policy be one group"
            )
        return size

    def behind(self, answer: Answer, steps: Sequence[Step]) -> list[tuple[Codes, Codes]]:
        """For each step the forms of its cells without it and what is read before it: what the
        rest of its layer and all behind decides, and what the layers behind alone decide."""
        canvas = self._blank((self.square(),) * 2, answer)
        none = np.empty(0, dtype=np.int32)
        found = [(none, none)] * len(steps)
        for number, after in self._backwards(canvas, steps):
            block = steps[number].block
            found[number] = canvas[block].copy(), after[block].copy()
        return found

    def default(self, answer: Answer) -> Action:
        """What decides where no line does."""
        return self.policy.default if answer == "action" else self._watched_default

    @property
    def _watched_default(self) -> Action:
        return self.policy.observed_default or self.policy.default

    def answers_of(self, row: Row) -> tuple[Answer, ...]:
        """The answers in which the row acts."""
        return ANSWERS if self.policy.lines[row.line].mode == "enforce" else ("would",)

    def block(self, row: Row) -> tuple[Ints, Ints] | None:
        """The cells of a row as an index into [G+1, G+1]; None where it applies to no cell."""
        sources = np.array(self.groups.members(row.source), dtype=np.int64)
        if row.destination == ITSELF:
            return (sources, sources) if sources.size else None
        destinations = np.array(self.groups.members(row.destination), dtype=np.int64)
        if not sources.size or not destinations.size:
            return None
        return sources[:, None], destinations[None, :]

    def cells(self, row: Row) -> list[tuple[int, int]]:
        """The cells of a row, in order."""
        block = self.block(row)
        if block is None:
            return []
        sources, destinations = (end.ravel().tolist() for end in np.broadcast_arrays(*block))
        return list(zip(sources, destinations, strict=True))

    def recut(self, atoms: Atoms) -> Matrix:
        """The same lines over other atoms; what follows from lines alone is kept."""
        _ = self._holds, self._starting
        other = copy(self)
        other.atoms = atoms
        other.effects = [effect_of(p, atoms) for p in self.policy.permissions]
        other.forms = Forms()
        other._strips, other._asked = {}, Counter()
        other.__dict__.pop("_painted", None)
        return other

    @cached_property
    def _holds(self) -> tuple[Flags, Ints, Ints]:
        """Which groups each set holds, [sets+1, G+1], the last row none; and each row's ends: a
        group's number, or below -1 a set's, from the end; -1 is ``itself``."""
        words: dict[str, int] = {}
        for word in (w for row in self.rows for w in (row.source, row.destination)):
            if word != ITSELF and word not in self.groups.index:
                words.setdefault(word, len(words))
        holds = np.zeros((len(words) + 1, len(self.groups)), dtype=np.bool_)
        for word, number in words.items():
            holds[number, list(self.groups.members(word))] = True

        code = {word: -2 - n for word, n in words.items()} | self.groups.index | {ITSELF: -1}
        sources = np.array([code[row.source] for row in self.rows], dtype=np.int64)
        destinations = np.array([code[row.destination] for row in self.rows], dtype=np.int64)
        return holds, sources, destinations

    def _speak_of(self, ends: Ints, group: int) -> Flags:
        """Which of some ends are a group, or a set that holds it."""
        in_sets = self._holds[0][:, group]
        held: Flags = in_sets[np.where(ends < -1, -2 - ends, len(in_sets) - 1)]
        held |= ends == group
        return held

    def rows_of(self, source: int, destination: int) -> list[int]:
        """Numbers of the rows that apply to one cell, in order."""
        words = self._words_of(destination)
        found = []
        for word in self._words_of(source):
            for number in self._starting.get(word, ()):
                other = self.rows[number].destination
                if other in words or (other == ITSELF and source == destination):
                    found.append(number)
        return sorted(found)

    def rows_toward(self, destination: int) -> dict[int, list[int]]:
        """Of every source that rows speak of, toward a destination, the numbers of these in
        order."""
        numbers = [n for word in self._words_of(destination) for n in self._ending.get(word, ())]
        for number in self._ending.get(ITSELF, ()):
            if destination in self.groups.members(self.rows[number].source):
                numbers.append(number)
        found: dict[int, list[int]] = {}
        for number in sorted(numbers):
            row = self.rows[number]
            itself = row.destination == ITSELF
            for source in (destination,) if itself else self.groups.members(row.source):
                found.setdefault(source, []).append(number)
        return found

    def rows_from(self, source: int) -> dict[int, list[int]]:
        """The same of every destination, from a source."""
        numbers = [n for word in self._words_of(source) for n in self._starting.get(word, ())]
        found: dict[int, list[int]] = {}
        for number in sorted(numbers):
            row = self.rows[number]
            itself = row.destination == ITSELF
            for destination in (source,) if itself else self.groups.members(row.destination):
                found.setdefault(destination, []).append(number)
        return found

    @cached_property
    def _ending(self) -> dict[str, list[int]]:
        """The rows of each destination, by its word."""
        return self._by_word([row.destination for row in self.rows])

    @cached_property
    def _starting(self) -> dict[str, list[int]]:
        """The rows of each source, by its word."""
        return self._by_word([row.source for row in self.rows])

    @staticmethod
    def _by_word(words: Sequence[str]) -> dict[str, list[int]]:
        found: dict[str, list[int]] = {}
        for number, word in enumerate(words):
            found.setdefault(word, []).append(number)
        return found

    def _words_of(self, group: int) -> set[str]:
        """All words that speak of a group."""
        if group not in self._words:
            sets = (word for word in self.groups.sets if group in self._members[word])
            self._words[group] = {self.groups.all[group].id, STAR, *sets}
        return self._words[group]

    @cached_property
    def _members(self) -> dict[str, frozenset[int]]:
        return {word: frozenset(self.groups.members(word)) for word in self.groups.sets}

    def denied_to_itself(self) -> list[int]:
        """The groups, but for untagged, between whose members some line might deny something."""
        found: set[int] = set()
        denying = [
            n
            for n, row in enumerate(self.rows)
            if self.effects[self.policy.lines[row.line].permission].denies
        ]
        for step in self.steps(denying):
            sources, destinations = (e.ravel() for e in np.broadcast_arrays(*step.block))
            found.update(sources[sources == destinations].tolist())
        return sorted(found - {0})

    def pieces(
        self, source: int, destination: int, answer: Answer, without: int | None = None
    ) -> list[Piece]:
        """Who decides what in one cell: disjoint pieces in order, the default last; as if a line
        (``without``) were not there."""
        return self.pieces_of(self.rows_of(source, destination), answer, without)

    def pieces_of(
        self, rows: Sequence[int], answer: Answer, without: int | None = None
    ) -> list[Piece]:
        """The same in a cell to which some rows apply."""
        live, passed, layer = self.atoms.full, 0, 0
        result: list[Piece] = []
        for number in rows:
            row = self.rows[number]
            line = self.policy.lines[row.line]
            if answer not in self.answers_of(row) or row.line == without:
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
        return self.parts_of(self.rows_of(source, destination), mask)

    def parts_of(self, rows: Sequence[int], mask: int | None = None) -> list[Part]:
        """The same of a cell to which some rows apply."""
        asked = self.atoms.full if mask is None else mask
        acts = [p for p in self.pieces_of(rows, "action") if p.mask & asked]
        woulds = [p for p in self.pieces_of(rows, "would") if p.mask & asked]
        return [
            Part(common, a, w) for a in acts for w in woulds if (common := a.mask & w.mask & asked)
        ]

    def decide_many(self, sources: Ints, destinations: Ints, atoms: Ints) -> tuple[Flags, Flags]:
        """``action`` and ``would`` as true for allow, for n packets given by cell and atom."""
        return (
            self._bits(self.action_form[sources, destinations], atoms),
            self._bits(self.would_form[sources, destinations], atoms),
        )

    def _bits(self, forms: Codes, atoms: Ints) -> Flags:
        distinct, inverse = np.unique(forms, return_inverse=True)
        width = (self.atoms.count + 7) // 8
        table = np.frombuffer(
            b"".join(self.forms[int(f)].to_bytes(width, "little") for f in distinct), dtype=np.uint8
        ).reshape(len(distinct), width)
        bits = table[inverse, atoms >> 3] >> (atoms & 7).astype(np.uint8)
        return np.asarray(bits & 1, dtype=np.bool_)
