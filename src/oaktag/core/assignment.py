"""Pins and ordered rules → a group for each endpoint, and why.

Rules kept here (semantics, sections 2 and 8): a pin wins over every rule; otherwise the first rule
whose conditions all hold, and whose ``unless`` does not hold whole, gives the group; a missing
attribute matches nothing, and one known with less than ``min_confidence`` counts as missing; of a
list any element may match. A near miss is a rule of which exactly one ``when`` condition failed
while another held and ``unless`` did not bar, or which ``unless`` alone barred.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from fnmatch import translate
from functools import cache, cached_property
from typing import NamedTuple

from oaktag.core.addresses import Prefix, parse_prefix
from oaktag.core.arrays import Flags, Ints, NDArray, np
from oaktag.core.endpoints import Endpoints, Values
from oaktag.core.ranges import spread
from oaktag.located import Location

DECIMAL = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)", re.ASCII)
#: A number with a decimal comma, and perhaps points between thousands; and what may be either.
COMMA = re.compile(r"([+-]?\d{1,3}(?:\.\d{3})+|[+-]?\d+),(\d+)", re.ASCII)
EITHER = re.compile(r"[+-]?[1-9]\d{0,2},\d{3}", re.ASCII)
COMPARISONS = (">=", ">", "<=", "<")
NAMED = re.compile(r"\{([^{}]+)\}")


def number_of(element: str) -> Decimal | None:
    """A value as a number, also as office programs of other countries write it; None for what is
    none, or may be either of two."""
    if DECIMAL.fullmatch(element):
        return Decimal(element)
    found = None if EITHER.fullmatch(element) else COMMA.fullmatch(element)
    return Decimal(f"{found[1].replace('.', '')}.{found[2]}") if found else None


@dataclass(frozen=True, slots=True)
class Equals:
    """The value as text, or as a number where the condition is one; case counts."""

    value: str | float | Decimal

    def holds(self, element: str) -> bool:
        """Whether one element of the attribute matches."""
        if isinstance(self.value, str):
            return element == self.value
        return number_of(element) == self.value


@dataclass(frozen=True, slots=True)
class Glob:
    """Text with ``*``, ``?`` or ``[``; the whole value must fit, case counts."""

    pattern: str

    def holds(self, element: str) -> bool:
        """Whether one element of the attribute matches."""
        return _compiled(self.pattern).match(element) is not None

    @property
    def beginning(self) -> str:
        """The plain text that every match begins with."""
        return re.split(r"[*?\[]", self.pattern, maxsplit=1)[0]


@cache
def _compiled(pattern: str) -> re.Pattern[str]:
    return re.compile(translate(pattern))


@dataclass(frozen=True, slots=True)
class Compare:
    """Comparisons with numbers; all must hold for one element."""

    limits: tuple[tuple[str, float | Decimal], ...]

    def holds(self, element: str) -> bool:
        """Whether one element of the attribute matches."""
        number = number_of(element)
        if number is None:
            return False
        tests = {
            ">=": number.__ge__, ">": number.__gt__, "<=": number.__le__, "<": number.__lt__
        }  # fmt: skip
        return all(tests[sign](limit) for sign, limit in self.limits)


@dataclass(frozen=True, slots=True)
class Within:
    """An address or prefix that lies in one of these."""

    prefixes: tuple[Prefix, ...]

    def holds(self, element: str) -> bool:
        """Whether one element of the attribute matches."""
        try:
            prefix = parse_prefix(element)
        except ValueError:
            return False
        return any(wide.holds(prefix) for wide in self.prefixes)


@dataclass(frozen=True, slots=True)
class AnyOf:
    """A list: any of its members."""

    members: tuple[Test, ...]

    def holds(self, element: str) -> bool:
        """Whether one element of the attribute matches."""
        return any(m.holds(element) for m in self.members)


Test = Equals | Glob | Compare | Within | AnyOf


class Condition(NamedTuple):
    """One attribute against one test; ``text`` is how it was written."""

    attribute: str
    test: Test
    text: str


class Rule(NamedTuple):
    """An assignment rule.

    ``give`` is a group's index, 0 for ``untagged``; -1 where ``template`` makes the group's name
    of attributes, as in ``{site}-{role}``.
    """

    give: int
    when: tuple[Condition, ...]
    unless: tuple[Condition, ...]
    location: Location
    min_confidence: float = 0.0
    template: str = ""

    @property
    def named(self) -> tuple[str, ...]:
        """The attributes in the template."""
        return tuple(NAMED.findall(self.template))


class Pin(NamedTuple):
    """An endpoint put into a group by hand, through the day ``until`` (a proleptic ordinal)."""

    endpoint: str
    group: int
    location: Location = Location("assignments.yaml")
    until: int | None = None
    note: str = ""


class NearMiss(NamedTuple):
    """A rule that nearly took an endpoint: the attribute that failed, or ``unless``.

    ``unsure`` says that the attribute would have matched, had it been known surely enough.
    """

    rule: int
    attribute: str
    unsure: bool = False


class Assignment:
    """Who is in which group, and why.

    Args:
        endpoints: N endpoints.
        rules: in order.
        pins: those that count on the day; at most one an endpoint.
        groups: name → index, for rules that make the name.

    Attributes:
        group: int32 [N], the group's index; -1 where nobody assigned.
        rule: int32 [N], the deciding rule; -1 for none or a pin.
        pin: int32 [N], the deciding pin; -1 for none.
        lost: rows that a rule took for a group which does not exist → (rule, the name).
    """

    def __init__(
        self,
        endpoints: Endpoints,
        rules: Sequence[Rule],
        pins: Sequence[Pin],
        groups: Mapping[str, int] | None = None,
    ) -> None:
        self.endpoints = endpoints
        self.rules = tuple(rules)
        self.pins = tuple(pins)
        size = len(endpoints)
        self.group = np.full(size, -1, dtype=np.int32)
        self.rule = np.full(size, -1, dtype=np.int32)
        self.pin = np.full(size, -1, dtype=np.int32)
        for number, pin in enumerate(self.pins):
            row = endpoints.index[pin.endpoint]
            self.pin[row], self.group[row] = number, pin.group
        self._groups = groups or {}
        self.lost: dict[int, tuple[int, str]] = {}
        free = self.pin < 0
        for number, rule in enumerate(self.rules):
            rows = self._candidates(rule)
            rows = rows[free[rows]]
            taken = rows[self.matches(rule, rows)]
            free[taken] = False
            if rule.template:
                for row in taken.tolist():
                    name = self.given(rule, row)
                    if name in self._groups:
                        self.group[row], self.rule[row] = self._groups[name], number
                    else:
                        self.lost[row] = number, name
            else:
                self.group[taken], self.rule[taken] = rule.give, number

    def _candidates(self, rule: Rule) -> NDArray[np.int64]:
        """Rows among which are all that the rule could match: those of its rarest condition."""
        best: tuple[int, str, NDArray[np.int64]] | None = None
        for condition in rule.when:
            if condition.attribute not in self.endpoints.columns:
                return np.zeros(0, dtype=np.int64)
            codes = self._codes(condition)
            _, starts = self._rows_of(condition.attribute)
            size = int((starts[codes + 1] - starts[codes]).sum())
            if best is None or size < best[0]:
                best = size, condition.attribute, codes
        if best is None:
            return np.arange(len(self.endpoints))
        order, starts = self._rows_of(best[1])
        return order[spread(starts[best[2]], starts[best[2] + 1])]

    def _rows_of(self, attribute: str) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """The rows ordered by their value of an attribute, and where each value's rows start."""
        if attribute not in self._orders:
            column = self.endpoints.columns[attribute]
            order = np.argsort(column.codes, kind="stable")
            order = order[np.searchsorted(column.codes[order], 0) :]
            counts = np.bincount(column.codes[order], minlength=len(column.values))
            self._orders[attribute] = order, np.concatenate([[0], np.cumsum(counts)])
        return self._orders[attribute]

    @cached_property
    def _orders(self) -> dict[str, tuple[NDArray[np.int64], NDArray[np.int64]]]:
        return {}

    def given(self, rule: Rule, row: int) -> str:
        """The name that a rule with a template makes for an endpoint that it matches."""
        first = {a: self.endpoints.value(row, a)[0] for a in rule.named}
        return NAMED.sub(lambda part: first[part[1]], rule.template)

    def matches(self, rule: Rule, rows: NDArray[np.int64]) -> Flags:
        """Which of the rows the rule would take, whatever other rules say."""
        result = np.ones(len(rows), dtype=np.bool_)
        for attribute in rule.named:
            column = self.endpoints.columns.get(attribute)
            result &= False if column is None else column.codes[rows] >= 0
        for condition in rule.when:
            result &= self._holds(condition, rows, rule.min_confidence)
        return result & ~self._barred(rule, rows)

    def _barred(self, rule: Rule, rows: NDArray[np.int64]) -> Flags:
        barred = np.full(len(rows), bool(rule.unless), dtype=np.bool_)
        for condition in rule.unless:
            barred &= self._holds(condition, rows, rule.min_confidence)
        return barred

    def _holds(self, condition: Condition, rows: NDArray[np.int64], surely: float) -> Flags:
        column = self.endpoints.columns.get(condition.attribute)
        if column is None:
            return np.zeros(len(rows), dtype=np.bool_)
        truth = self._truth.get((condition.attribute, condition.test))
        if truth is None:
            truth = np.zeros(len(column.values) + 1, dtype=np.bool_)
            truth[self._codes(condition)] = True
            self._truth[condition.attribute, condition.test] = truth
        held: Flags = truth[column.codes[rows]]
        if surely > 0:
            held = held & (column.confidence[rows] >= np.float32(surely))
        return held

    def _codes(self, condition: Condition) -> NDArray[np.int64]:
        """The distinct values of a condition's attribute that it holds for."""
        key = condition.attribute, condition.test
        if key not in self._matched:
            self._matched[key] = self._index(condition.attribute).matching(condition.test)
        return self._matched[key]

    @cached_property
    def _matched(self) -> dict[tuple[str, Test], NDArray[np.int64]]:
        return {}

    def _index(self, attribute: str) -> _Index:
        if attribute not in self._indices:
            self._indices[attribute] = _Index(self.endpoints.columns[attribute].values)
        return self._indices[attribute]

    @cached_property
    def _indices(self) -> dict[str, _Index]:
        return {}

    @cached_property
    def _truth(self) -> dict[tuple[str, Test], Flags]:
        return {}

    def rows_of(self, number: int) -> NDArray[np.int64]:
        """The rows that a rule would take, whatever other rules say, in order."""
        rows = self._candidates(self.rules[number])
        return np.sort(rows[self.matches(self.rules[number], rows)])

    def matching(self, row: int) -> list[int]:
        """The rules that would take an endpoint, in order."""
        possible = (1 << len(self.rules)) - 1
        for attribute, (free, bits) in self._rule_bits.items():
            code = int(self.endpoints.columns[attribute].codes[row])
            possible &= free | bits.get(code, 0)
        here = np.array([row])
        found: list[int] = []
        while possible:
            number = (possible & -possible).bit_length() - 1
            possible &= possible - 1
            rule = self.rules[number]
            plain = not (rule.unless or rule.template or rule.min_confidence)
            if plain or self.matches(rule, here)[0]:
                found.append(number)
        return found

    @cached_property
    def _rule_bits(self) -> dict[str, tuple[int, dict[int, int]]]:
        """For each attribute: the rules that do not ask for it, and by value those it satisfies."""
        asked: dict[str, int] = {}
        bits: dict[str, dict[int, int]] = {}
        for number, rule in enumerate(self.rules):
            for condition in rule.when:
                attribute = condition.attribute
                if attribute in self.endpoints.columns:
                    asked[attribute] = asked.get(attribute, 0) | 1 << number
                    held = bits.setdefault(attribute, {})
                    for code in self._codes(condition).tolist():
                        held[code] = held.get(code, 0) | 1 << number
        every = (1 << len(self.rules)) - 1
        found = {a: (every & ~asked[a], bits[a]) for a in asked}
        unknown = 0
        for number, rule in enumerate(self.rules):
            if any(c.attribute not in self.endpoints.columns for c in rule.when):
                unknown |= 1 << number
        if unknown:  # rules that ask for what nobody has match nobody
            found["id"] = found.get("id", (every, {}))
            free, held = found["id"]
            found["id"] = free & ~unknown, {c: b & ~unknown for c, b in held.items()}
        return found

    def also(self, row: int) -> list[int]:
        """Later rules that would have taken it as well; all that would, for one that is pinned."""
        if self.group[row] < 0:
            return []
        return [n for n in self.matching(row) if n > self.rule[row]]

    def held(self, row: int) -> tuple[Condition, ...]:
        """The conditions of the deciding rule, which all hold."""
        return self.rules[self.rule[row]].when if self.rule[row] >= 0 else ()

    def near(self, row: int) -> list[NearMiss]:
        """Near misses of an endpoint without a group."""
        if self.group[row] >= 0:
            return []
        here = np.array([row])
        result: list[NearMiss] = []
        for number, rule in enumerate(self.rules):
            held = [bool(self._holds(c, here, rule.min_confidence)[0]) for c in rule.when]
            barred = bool(self._barred(rule, here)[0])
            if all(held) and barred:
                result.append(NearMiss(number, "unless"))
            elif not barred and held.count(False) == 1:
                failed = rule.when[held.index(False)]
                unsure = bool(self._holds(failed, here, 0.0)[0])
                if unsure or any(held):
                    result.append(NearMiss(number, failed.attribute, unsure))
        return result


class _Index:
    """The distinct values of one attribute, found by their elements.

    A test is evaluated once for each distinct element; one that begins with plain text only for
    those elements that begin alike, neighbours in the order of their first letters.
    """

    def __init__(self, values: Values) -> None:
        self._elements, self._starts = values.elements
        self._one_each = len(self._elements) == len(values)

    def matching(self, test: Test) -> Ints:
        """Numbers of the values of which some element matches, sorted."""
        found = self._matching(test)
        if not self._one_each:
            found = np.searchsorted(self._starts, found, side="right") - 1
        return np.unique(found)

    def _matching(self, test: Test) -> Ints:
        if isinstance(test, AnyOf):
            return np.concatenate([self._matching(member) for member in test.members])
        if isinstance(test, Equals) and isinstance(test.value, str):
            return np.array(self._places.get(test.value, ()), dtype=np.int64)
        some: Ints | range = range(len(self._elements))
        if isinstance(test, Glob) and test.beginning and self._elements:
            some = self._beginning(test.beginning)
        element, holds = self._elements.__getitem__, test.holds
        return np.array([n for n in some if holds(element(n))], dtype=np.int64)

    @cached_property
    def _places(self) -> dict[str, list[int]]:
        places: dict[str, list[int]] = {}
        for number, element in enumerate(self._elements):
            places.setdefault(element, []).append(number)
        return places

    def _beginning(self, text: str) -> Ints:
        """Elements among which are all that begin with a text."""
        common, letters, order = self._ordered
        if not text.startswith(common):
            return order if common.startswith(text) else order[:0]
        rest = text[len(common) :]
        low, high = _letters([rest, rest + chr(0xFF) * LETTERS]).tolist()
        return order[np.searchsorted(letters, low) : np.searchsorted(letters, high, side="right")]

    @cached_property
    def _ordered(self) -> tuple[str, NDArray[np.uint64], Ints]:
        """What all elements begin with; their next letters, sorted; and whose they are."""
        first, last = min(self._elements), max(self._elements)
        alike = (n for n, (a, b) in enumerate(zip(first, last, strict=False)) if a != b)
        common = first[: next(alike, min(len(first), len(last)))]
        letters = _letters([e[len(common) :] for e in self._elements] if common else self._elements)
        order = np.argsort(letters, kind="stable")
        return common, letters[order], order


#: How many letters of a text are looked at to find those that begin alike.
LETTERS = 8


def _letters(texts: Sequence[str]) -> NDArray[np.uint64]:
    """The first letters of texts as numbers that are ordered as they are; letters beyond Latin-1
    count as the last of it."""
    points = np.array(texts, dtype=f"U{LETTERS}").view(np.uint32).reshape(len(texts), LETTERS)
    return np.minimum(points, 0xFF).astype(np.uint8).view(">u8").ravel().astype(np.uint64)
