"""Addresses in a kernel's list: the maps from them to tags, read by themselves; sets and pairs."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from functools import lru_cache
from typing import NamedTuple

from oaktag.core.addresses import Range, Span, parse_prefix, span_text
from oaktag.dialects.nftables_lines import NUMBER, ListLines

ADDRESS = r"[0-9a-f.:]+(?:/[0-9]+|-[0-9a-f.:]+)?"
KINDS = {4: "ipv4_addr", 6: "ipv6_addr"}
_BITS = {4: 32, 6: 128}
_SOURCE = re.compile(rf"({ADDRESS}) : 0x1([0-9a-f]{{4}})")
_JUMP = re.compile(rf"({ADDRESS}) : jump is_({NUMBER})")
_TARGET = re.compile(rf'({ADDRESS})(?: : goto to_({NUMBER})| comment "({NUMBER})" : goto outside)')


class Table(NamedTuple):
    """A map of addresses, of one family: their tags, negative where they are led outside; and the
    names of tags."""

    ranges: tuple[Range, ...]
    names: Mapping[int, str]


@lru_cache(maxsize=512)
def table(text: str, word: str, family: int, names: tuple[tuple[int, str], ...] = ()) -> Table:
    """The elements of a map, up to its end.

    Args:
        text: these lines.
        word: ``tags`` of a map to tags, ``is`` of one to what puts them beside the frame's,
            ``to`` of one to chains.
        family: of the addresses.
        names: what tags were called before.

    Raises:
        UnreadableList: text that is none, with its line.
    """
    reader = AddressLines(text.split("\n"))
    reader.names.update(names)
    found: list[Range] = []
    for element, behind in reader.elements("\t\t"):
        asked = {"tags": reader.source, "is": reader.beside, "to": reader.target}[word]
        address, tag = asked(element)
        reader.told(behind, abs(tag))
        found.append(Range(*reader.span(address, family), tag))
    reader.exactly("\t}")
    reader.disjoint(found)
    return Table(tuple(found), reader.names)


@lru_cache(maxsize=1 << 16)
def _span(text: str, family: int) -> Span:
    first, dash, last = text.partition("-")
    low = parse_prefix(first)
    high = parse_prefix(last) if dash else low
    whole = {p.length for p in (low, high)} == {_BITS[family]}
    if {p.family for p in (low, high)} != {family} or (dash and not whole):
        raise ValueError(f"{text!r} is no range of IPv{family} addresses")
    span = Span(family, low.start, high.end)
    if span.start > span.end or span_text(*span) != text:
        raise ValueError(f"{text!r} is not written in its one form")
    return span


class AddressLines(ListLines):
    """Lines with addresses."""

    def bare(self, indent: str) -> Iterator[str]:
        """Elements behind which nothing stands."""
        for element, behind in self.elements(indent):
            if behind:
                raise self.fail(f"{behind.strip()!r} does not belong here")
            yield element

    def span(self, text: str, family: int) -> Span:
        """A range of addresses, in its one form."""
        try:
            return _span(text, family)
        except ValueError as error:
            raise self.fail(str(error)) from None

    def disjoint(self, spans: Iterable[Span | Range]) -> None:
        """That spans are sorted and do not overlap: the kernel refuses others."""
        before: Span | Range | None = None
        for span in spans:
            if before is not None and before.family == span.family and before.end >= span.start:
                said = span_text(*before[:3]), span_text(*span[:3])
                raise self.fail(f"{said[0]} and {said[1]} overlap or are out of order")
            before = span

    def source(self, element: str) -> tuple[str, int]:
        """An address and its tag."""
        match = _SOURCE.fullmatch(element)
        if match is None or int(match[2], 16) == 0:
            raise self.fail(f"{element!r} is no address with its tag")
        return match[1], int(match[2], 16)

    def beside(self, element: str) -> tuple[str, int]:
        """An address and the tag that is put beside its frames'."""
        match = _JUMP.fullmatch(element)
        if match is None or not 0 < int(match[2]) <= 0xFFFF:
            raise self.fail(f"{element!r} is no address with the chain that puts its tag there")
        return match[1], int(match[2])

    def target(self, element: str) -> tuple[str, int]:
        """An address and its tag, negative where it is led outside."""
        match = _TARGET.fullmatch(element)
        tag = 0 if match is None else int(match[2] or match[3])
        if match is None or not 0 < tag <= 0xFFFF:
            raise self.fail(f"{element!r} is no address with a chain for its tag")
        return match[1], tag if match[2] else -tag

    def pairs(self, family: int) -> tuple[tuple[Span, Span], ...]:
        """Pairs of ranges of addresses, of which on either side none overlaps another."""
        found: list[tuple[Span, Span]] = []
        for element in self.bare("\t\t"):
            first, dot, second = element.partition(" . ")
            if not dot:
                raise self.fail(f"{element!r} is no pair of addresses")
            found.append((self.span(first, family), self.span(second, family)))
        if len(set(found)) != len(found):
            raise self.fail("a pair of addresses stands twice")
        for side in (0, 1):
            self.disjoint(sorted({pair[side] for pair in found}))
        return tuple(found)
