"""Bindings: address prefix → tag; the look-up in bulk; a group's bindings.

Rules kept here (semantics, section 3): the longest prefix wins; among equal prefixes the order of
sources, then the newest, then the lower tag. An IPv4-mapped IPv6 address is the IPv4 one.
Prefixes are flattened once to disjoint ranges, and look-ups are binary searches.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.addresses import Prefix, Range, key_number, keys
from oaktag.core.ranges import Table, flatten
from oaktag.located import Location

BINDING_SOURCES = ("pinned", "session", "inventory", "adopted", "segment")
FAMILIES = (4, 6)


class Binding(NamedTuple):
    """One prefix → tag.

    ``since`` is in seconds of the Unix epoch, None where unknown (older than any time known);
    ``node`` is where it was learned, None for the registry; ``who`` is the endpoint, segment or
    node that it speaks of.
    """

    prefix: Prefix
    tag: int
    source: str
    since: int | None = None
    location: Location = Location("")
    who: str = ""
    node: str | None = None


class Lookup:
    """Bindings in force: who wins each prefix, and the tag of any address.

    Args:
        bindings: B of them.
        order: source names, the strongest first.

    Attributes:
        winners: numbers of the bindings that win their prefix, by family and prefix.
    """

    def __init__(self, bindings: Sequence[Binding], order: Sequence[str] = BINDING_SOURCES) -> None:
        self.bindings = tuple(bindings)
        rank = {source: i for i, source in enumerate(order)}
        best: dict[Prefix, tuple[tuple[int, float, int], int]] = {}
        for number, binding in enumerate(self.bindings):
            since = float("-inf") if binding.since is None else binding.since
            strength = (rank[binding.source], -since, binding.tag)
            known = best.get(binding.prefix)
            if known is None or strength < known[0]:
                best[binding.prefix] = (strength, number)
        self.winners = [best[prefix][1] for prefix in sorted(best)]
        self.tables = {family: self._flatten(family) for family in FAMILIES}

    def _flatten(self, family: int) -> Table:
        rows = np.array(
            [n for n in self.winners if self.bindings[n].prefix.family == family], dtype=np.int64
        )
        prefixes = [self.bindings[n].prefix for n in rows]
        first = keys(family, [p.start for p in prefixes])
        lengths = np.array([p.length for p in prefixes], dtype=np.int64)
        starts, ends, owner = flatten(
            family, first, keys(family, [p.end for p in prefixes]), lengths
        )
        tags = np.array([self.bindings[n].tag for n in rows[owner]], dtype=np.int64)
        return Table(family, starts, ends, rows[owner], tags, first, lengths, rows)

    def find(self, family: int, addresses: Sequence[int]) -> NDArray[np.integer[Any]]:
        """The number of the binding that holds each address, or -1; shape [n]."""
        return self.tables[family].find(keys(family, addresses))

    def of_prefix(self, prefix: Prefix) -> int:
        """The number of the binding of just this prefix, else of what holds its first address;
        -1 where nothing does."""
        at = bisect_left(self.winners, prefix, key=lambda n: self.bindings[n].prefix)
        if at < len(self.winners) and self.bindings[self.winners[at]].prefix == prefix:
            return self.winners[at]
        return int(self.find(prefix.family, [prefix.start])[0])

    def tag(self, family: int, address: int) -> int:
        """The tag of one address; 0 where nothing is bound."""
        found = int(self.find(family, [address])[0])
        return self.bindings[found].tag if found >= 0 else 0

    def tags(self, family: int, addresses: Sequence[int]) -> NDArray[np.int64]:
        """The tag of each address, 0 where nothing is bound; shape [n]."""
        found = self.find(family, addresses)
        of = np.array([b.tag for b in self.bindings] + [0], dtype=np.int64)
        tags: NDArray[np.int64] = of[found]
        return tags

    def ranges(self) -> list[Range]:
        """The whole table as disjoint ranges, neighbours of one tag joined, tag 0 left out.

        Tag 0 counts as not known, so a range without a binding says the same.
        """
        result: list[Range] = []
        for family, table in self.tables.items():
            for start, end, tag in zip(
                (key_number(family, k) for k in table.starts),
                (key_number(family, k) for k in table.ends),
                table.tags.tolist(),
                strict=True,
            ):
                before = result[-1] if result else None
                if not tag:
                    continue
                if before and before[0] == family and before.end + 1 == start and before.tag == tag:
                    result[-1] = before._replace(end=end)
                else:
                    result.append(Range(family, start, end, tag))
        return result


def differing(bindings: Iterable[Binding]) -> list[tuple[Binding, Binding]]:
    """Pairs of bindings with one prefix and source but different tags."""
    first: dict[tuple[Any, ...], Binding] = {}
    result: list[tuple[Binding, Binding]] = []
    for binding in bindings:
        known = first.setdefault((binding.prefix, binding.source, binding.node), binding)
        if known.tag != binding.tag:
            result.append((known, binding))
    return result
