"""Attribute values that would fit a rule's condition if one character were another.

One character is missing, too much, or another one; of words with ``*`` and ``?`` the plain letters
count. Case counts, as in rules.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from oaktag.core.assignment import AnyOf, Equals, Glob, Rule, Test, Within

#: Of an attribute with more values words that begin with ``*`` are not tried.
MOST_VALUES = 20_000
_LETTERS = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./ "


class Miss(NamedTuple):
    """An element of an attribute, and what it would be with one character changed."""

    attribute: str
    element: str
    instead: str


def near_misses(rules: Iterable[Rule], values: Mapping[str, Iterable[str]]) -> Iterator[Miss]:
    """All of them, each once, in the order of the rules.

    Args:
        rules: whose conditions count.
        values: the distinct elements of each attribute.
    """
    tests: dict[tuple[str, Test], None] = {}
    for rule in rules:
        for condition in rule.when:
            tests |= dict.fromkeys((condition.attribute, t) for t in _single(condition.test))
    held = {attribute: _Elements(some) for attribute, some in values.items()}
    seen: set[Miss] = set()
    for attribute, test in tests:
        for element in sorted(held[attribute].near(test)) if attribute in held else ():
            if not test.holds(element) and (instead := _instead(element, test)) is not None:
                found = Miss(attribute, element, instead)
                if found not in seen:
                    seen.add(found)
                    yield found


class _Elements:
    """The distinct elements of an attribute, by how they begin."""

    def __init__(self, elements: Iterable[str]) -> None:
        self.every = set(elements)
        self._by: dict[int, dict[str, list[str]]] = {}

    def near(self, test: Test) -> set[str]:
        """Those that may be one character away from what fits; others are not."""
        if isinstance(test, Equals) and isinstance(test.value, str):
            return self.every.intersection(_changed(test.value))
        begins = test.beginning if isinstance(test, Glob) else ""
        if not begins:
            return self.every if len(self.every) <= MOST_VALUES else set()
        found = set(self._beginning(begins))
        for other in _changed(begins):
            found.update(self._beginning(other))
        return found

    def _beginning(self, text: str) -> list[str]:
        """The elements that begin so."""
        size = len(text)
        if size not in self._by:
            by: dict[str, list[str]] = {}
            for element in self.every:
                by.setdefault(element[:size], []).append(element)
            self._by[size] = by
        return self._by[size].get(text, [])


def _changed(word: str) -> Iterator[str]:
    """A word with one character less, more, or another one."""
    for n in range(len(word) + 1):
        head, tail = word[:n], word[n:]
        yield head + tail[1:]
        for letter in _LETTERS:
            yield head + letter + tail
            yield head + letter + tail[1:]


def _single(test: Test) -> Iterator[Test]:
    """The words and numbers of a test; addresses are not taken for misspelt."""
    if isinstance(test, AnyOf):
        for one in test.members:
            yield from _single(one)
    elif not isinstance(test, Within):
        yield test


def _instead(element: str, test: Test) -> str | None:
    """What an element would be that fits, with one character changed; the first there is."""
    if isinstance(test, Equals) and isinstance(test.value, str):
        return test.value if _apart(element, test.value) else None
    letters = sorted(set(test.pattern) - set("*?[]")) if isinstance(test, Glob) else "0123456789"
    for n in range(len(element) + 1):
        head, tail = element[:n], element[n:]
        for other in (tail[1:], *(c + tail[1:] for c in letters), *(c + tail for c in letters)):
            if test.holds(head + other):
                return head + other
    return None


def _apart(one: str, other: str) -> bool:
    """Whether exactly one character tells two words apart."""
    short, long = sorted((one, other), key=len)
    if len(long) - len(short) > 1 or one == other:
        return False
    pairs = enumerate(zip(short, long, strict=False))
    same = next((n for n, (a, b) in pairs if a != b), len(short))
    return short[same + (len(short) == len(long)) :] == long[same + 1 :]
