"""Values of attributes of which one changed character makes rules decide otherwise.

One character is missing, too much, or another one. Whatever a rule asks counts: what such a change
makes fit, and what it makes fit no more, in ``when`` and ``unless``, and in the name of a group
that is made of attributes. Of all changes of a value one is told for each outcome of the tests.
Addresses are not taken for misspelt. Case counts, as in rules.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from oaktag.core.assignment import AnyOf, Equals, Glob, Rule, Test, Within

#: Of an attribute with more values the first so many are tried.
MOST_VALUES = 2_000
#: What a number is written with.
_NUMERIC = "0123456789.,+-"
_STRANGERS = "xqzjkvXQZ~"


class Miss(NamedTuple):
    """An element of an attribute, and what it would be with one character changed."""

    attribute: str
    element: str
    instead: str


def near_misses(
    rules: Iterable[Rule], values: Mapping[str, Iterable[str]], names: Iterable[str] = ()
) -> Iterator[Miss]:
    """All of them, each once, attribute by attribute.

    Args:
        rules: whose conditions count.
        values: the distinct elements of each attribute.
        names: the groups that rules may make of attributes.
    """
    asked: dict[str, dict[Test, None]] = {}
    made: set[str] = set()
    for rule in rules:
        made.update(rule.named)
        for condition in (*rule.when, *rule.unless):
            tests = _single(condition.test)
            asked.setdefault(condition.attribute, {}).update(dict.fromkeys(tests))
    groups = tuple(names)
    for attribute in dict.fromkeys([*asked, *sorted(made)]):
        if attribute == "kind":
            continue  # the workspace says it of a whole source
        outcomes = _Outcomes(asked.get(attribute, ()), groups if attribute in made else ())
        if not outcomes.asks:
            continue
        for element in sorted(values.get(attribute, ()))[:MOST_VALUES]:
            told = {outcomes.of(element)}
            for instead in _changed(element, outcomes.alphabet):
                outcome = outcomes.of(instead)
                if outcome not in told and instead:
                    told.add(outcome)
                    yield Miss(attribute, element, instead)


class _Outcomes:
    """What all tests of one attribute say of a text, and the letters that can matter to them."""

    def __init__(self, tests: Iterable[Test], names: tuple[str, ...]) -> None:
        self._names = names
        self._equal: dict[str, list[int]] = {}
        self._other: list[tuple[int, Test]] = []
        letters: set[str] = set()
        for number, test in enumerate(tests):
            if isinstance(test, Equals) and isinstance(test.value, str):
                self._equal.setdefault(test.value, []).append(number)
                letters |= set(test.value)
            else:
                self._other.append((number, test))
                letters |= set(_letters(test.pattern) if isinstance(test, Glob) else _NUMERIC)
        for name in names:
            letters |= set(name)
        stranger = next(c for c in _STRANGERS if c not in letters)
        self.asks = bool(self._equal or self._other or names)
        self.alphabet = [*sorted(letters), stranger]

    def of(self, text: str) -> tuple[tuple[int, ...], str]:
        """The tests that hold, and the text where it may be part of a group's name."""
        held = [*self._equal.get(text, ()), *(n for n, test in self._other if test.holds(text))]
        part = text if any(text in name for name in self._names) else ""
        return tuple(sorted(held)), part


def _letters(pattern: str) -> Iterator[str]:
    """The letters of a glob, those of its ranges included."""
    yield from (c for c in pattern if c not in "*?[]")
    for low, high in re.findall(r"(.)-(.)", pattern, re.DOTALL):
        yield from map(chr, range(ord(low), min(ord(high), ord(low) + 256) + 1))


def _changed(word: str, alphabet: Iterable[str]) -> Iterator[str]:
    """A word with one character less, another one, or one more of some."""
    letters = list(alphabet)
    for n in range(len(word) + 1):
        head, tail = word[:n], word[n:]
        if tail:
            yield head + tail[1:]
            yield from (head + letter + tail[1:] for letter in letters if letter != tail[0])
        yield from (head + letter + tail for letter in letters)


def _single(test: Test) -> Iterator[Test]:
    """The words and numbers of a test."""
    if isinstance(test, AnyOf):
        for one in test.members:
            yield from _single(one)
    elif not isinstance(test, Within):
        yield test
