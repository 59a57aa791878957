"""Pins and ordered rules → a group for each endpoint, and why.

Rules kept here (semantics, sections 2 and 8): a pin wins over every rule; otherwise the first rule
whose conditions all hold, and whose ``unless`` does not hold whole, gives the group; a missing
attribute matches nothing, and one known with less than ``min_confidence`` counts as missing; of a
list any element may match. A near miss is a rule of which exactly one ``when`` condition failed
while another held and ``unless`` did not bar, or which ``unless`` alone barred.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from fnmatch import translate
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from oaktag.core.addresses import Prefix, parse_prefix
from oaktag.core.endpoints import Endpoints, Value
from oaktag.located import Location

Bools = NDArray[np.bool_]
DECIMAL = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)")
COMPARISONS = (">=", ">", "<=", "<")


@dataclass(frozen=True, slots=True)
class Equals:
    """The value as text, or as a number where the condition is one; case counts."""

    value: str | float

    def holds(self, element: str) -> bool:
        """Whether one element of the attribute matches."""
        if isinstance(self.value, str):
            return element == self.value
        return bool(DECIMAL.fullmatch(element)) and float(element) == self.value


@dataclass(frozen=True, slots=True)
class Glob:
    """Text with ``*``, ``?`` or ``[``; the whole value must fit, case counts."""

    pattern: str

    def holds(self, element: str) -> bool:
        """Whether one element of the attribute matches."""
        return re.compile(translate(self.pattern)).match(element) is not None


@dataclass(frozen=True, slots=True)
class Compare:
    """Comparisons with numbers; all must hold for one element."""

    limits: tuple[tuple[str, float], ...]

    def holds(self, element: str) -> bool:
        """Whether one element of the attribute matches."""
        if not DECIMAL.fullmatch(element):
            return False
        number = float(element)
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


@dataclass(frozen=True, slots=True)
class Condition:
    """One attribute against one test; ``text`` is how it was written."""

    attribute: str
    test: Test
    text: str


@dataclass(frozen=True, slots=True)
class Rule:
    """An assignment rule; ``give`` is a group's index, 0 for ``untagged``."""

    give: int
    when: tuple[Condition, ...]
    unless: tuple[Condition, ...]
    location: Location
    min_confidence: float = 0.0


@dataclass(frozen=True, slots=True)
class Pin:
    """An endpoint put into a group by hand, through the day ``until`` (a proleptic ordinal)."""

    endpoint: str
    group: int
    location: Location
    until: int | None = None
    note: str = ""


@dataclass(frozen=True, slots=True)
class NearMiss:
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

    Attributes:
        group: int32 [N], the group's index; -1 where nobody assigned.
        rule: int32 [N], the deciding rule; -1 for none or a pin.
        pin: int32 [N], the deciding pin; -1 for none.
    """

    def __init__(self, endpoints: Endpoints, rules: Sequence[Rule], pins: Sequence[Pin]) -> None:
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
        free = np.flatnonzero(self.pin < 0)
        for number, rule in enumerate(self.rules):
            taken = free[self.matches(rule, free)]
            self.group[taken], self.rule[taken] = rule.give, number
            free = free[self.group[free] < 0]

    def matches(self, rule: Rule, rows: NDArray[np.int64]) -> Bools:
        """Which of the rows the rule would take, whatever other rules say."""
        result = np.ones(len(rows), dtype=np.bool_)
        for condition in rule.when:
            result &= self._holds(condition, rows, rule.min_confidence)
        return result & ~self._barred(rule, rows)

    def _barred(self, rule: Rule, rows: NDArray[np.int64]) -> Bools:
        barred = np.full(len(rows), bool(rule.unless), dtype=np.bool_)
        for condition in rule.unless:
            barred &= self._holds(condition, rows, rule.min_confidence)
        return barred

    def _holds(self, condition: Condition, rows: NDArray[np.int64], surely: float) -> Bools:
        column = self.endpoints.columns.get(condition.attribute)
        if column is None:
            return np.zeros(len(rows), dtype=np.bool_)
        truth = self._truth.get((condition.attribute, condition.test))
        if truth is None:
            truth = np.array([_any(condition.test, v) for v in column.values] + [False])
            self._truth[condition.attribute, condition.test] = truth
        held: Bools = truth[column.codes[rows]]
        if surely > 0:
            held = held & (column.confidence[rows] >= np.float32(surely))
        return held

    @cached_property
    def _truth(self) -> dict[tuple[str, Test], Bools]:
        return {}

    @cached_property
    def match_table(self) -> Bools:
        """Which rule would take which endpoint: shape [rules, N]."""
        rows = np.arange(len(self.endpoints))
        if not self.rules:
            return np.zeros((0, len(rows)), dtype=np.bool_)
        return np.stack([self.matches(rule, rows) for rule in self.rules])

    def also(self, row: int) -> list[int]:
        """Later rules that would have taken it as well; all that would, for one that is pinned."""
        if self.group[row] < 0:
            return []
        return [
            n for n in range(int(self.rule[row]) + 1, len(self.rules)) if self.match_table[n, row]
        ]

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
            elif not barred and held.count(False) == 1 and any(held):
                failed = rule.when[held.index(False)]
                unsure = bool(self._holds(failed, here, 0.0)[0])
                result.append(NearMiss(number, failed.attribute, unsure))
        return result


def _any(test: Test, value: Value) -> bool:
    return any(test.holds(element) for element in value)
