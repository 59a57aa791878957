"""Bindings: address prefix → tag; the look-up in bulk; a group's bindings.

Rules kept here (semantics, section 3): the longest prefix wins; among equal prefixes the order of
sources, then the newest, then the lower tag. An IPv4-mapped IPv6 address is the IPv4 one.
Prefixes are flattened once to disjoint ranges, and look-ups are binary searches.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Iterable, Sequence
from functools import cached_property
from typing import Any, NamedTuple

from oaktag.core.addresses import Prefix, Range, key_number, keys
from oaktag.core.arrays import Ints, NDArray, np
from oaktag.core.columns import Columns
from oaktag.core.prefixes import Prefixes
from oaktag.core.ranges import Table, flatten
from oaktag.core.sessions import UNKNOWN
from oaktag.located import Location

BINDING_SOURCES = ("pinned", "session", "inventory", "adopted", "segment")
FAMILIES = (4, 6)


class Binding(NamedTuple):
    """One prefix → tag.

    ``since`` is in microseconds of the Unix epoch, None where unknown (older than any time known);
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


#: Makes one binding of a part, by its number there.
Part = Callable[[int], Binding]


class Bindings(Columns[Binding]):
    """Many bindings as columns; one of them is made when it is asked for.

    Attributes:
        prefixes: of each, [n].
        tags: int64 [n].
        sources: uint8 [n], places in ``BINDING_SOURCES``.
        since: int64 [n], ``UNKNOWN`` where no time is known.
    """

    def __init__(
        self,
        prefixes: Prefixes,
        tags: Ints,
        sources: NDArray[np.uint8],
        since: Ints,
        parts: Sequence[Part],
        part: NDArray[np.int32],
        row: Ints,
    ) -> None:
        self.prefixes, self.tags, self.sources, self.since = prefixes, tags, sources, since
        self._parts, self._part, self._row = tuple(parts), part, row

    @classmethod
    def of(cls, bindings: Iterable[Binding]) -> Bindings:
        """The columns of some bindings."""
        if isinstance(bindings, Bindings):
            return bindings
        every = list(bindings)
        return cls(
            Prefixes.of([b.prefix for b in every]),
            np.array([b.tag for b in every], dtype=np.int64),
            np.array([BINDING_SOURCES.index(b.source) for b in every], dtype=np.uint8),
            np.array([UNKNOWN if b.since is None else b.since for b in every], dtype=np.int64),
            [every.__getitem__], np.zeros(len(every), dtype=np.int32), np.arange(len(every)),
        )  # fmt: skip

    @classmethod
    def join(cls, some: Sequence[Bindings]) -> Bindings:
        """All of several, one after the other."""
        held = [b for b in some if len(b)]
        if len(held) < 2:
            return held[0] if held else cls.of(())
        before = np.cumsum([0, *(len(b._parts) for b in held)])
        return cls(
            Prefixes.join([b.prefixes for b in held]),
            np.concatenate([b.tags for b in held]),
            np.concatenate([b.sources for b in held]),
            np.concatenate([b.since for b in held]),
            [part for b in held for part in b._parts],
            np.concatenate([b._part + n for b, n in zip(held, before, strict=False)]).astype(
                np.int32
            ),
            np.concatenate([b._row for b in held]),
        )

    def __len__(self) -> int:
        return len(self.tags)

    def one(self, at: int) -> Binding:
        """One of them, made."""
        part: Part = self._parts[self._part[at]]
        return part(int(self._row[at]))

    def take(self, rows: Ints | NDArray[np.bool_]) -> Bindings:
        """Those of some rows."""
        return Bindings(
            self.prefixes.take(rows), self.tags[rows], self.sources[rows], self.since[rows],
            self._parts, self._part[rows], self._row[rows],
        )  # fmt: skip


class Lookup:
    """Bindings in force: who wins each prefix, and the tag of any address.

    Args:
        bindings: B of them.
        order: source names, the strongest first.

    Attributes:
        bindings: all of them.
        winners: int64, numbers of the bindings that win their prefix, by family and prefix.
    """

    def __init__(self, bindings: Iterable[Binding], order: Sequence[str] = BINDING_SOURCES) -> None:
        self.bindings = every = Bindings.of(bindings)
        rank = np.array([order.index(s) if s in order else len(order) for s in BINDING_SOURCES])
        # The newest is the first: turning all bits round turns the order round.
        rows = every.prefixes.order(rank[every.sources], ~every.since, every.tags)
        self.winners = rows[every.prefixes.fresh(rows)]
        self.tables = {family: self._flatten(family) for family in FAMILIES}

    def _flatten(self, family: int) -> Table:
        every = self.bindings
        rows = self.winners[every.prefixes.family[self.winners] == family]
        prefixes = every.prefixes.take(rows)
        first, lengths = prefixes.starts(family), prefixes.length.astype(np.int64)
        starts, ends, owner = flatten(family, first, prefixes.ends(family), lengths)
        held = rows[owner]
        return Table(family, starts, ends, held, every.tags[held], first, lengths, rows)

    @cached_property
    def in_force(self) -> Bindings:
        """Those that win, in the order of their prefixes."""
        return self.bindings.take(self.winners)

    def find(self, family: int, addresses: Sequence[int]) -> NDArray[np.integer[Any]]:
        """The number of the binding that holds each address, or -1; shape [n]."""
        return self.tables[family].find(keys(family, addresses))

    def of_prefix(self, prefix: Prefix) -> int:
        """The number of the binding of just this prefix, else of what holds its first address;
        -1 where nothing does."""
        at = bisect_left(self.winners, prefix, key=lambda n: self.bindings[n].prefix)
        if at < len(self.winners) and self.bindings[self.winners[at]].prefix == prefix:
            return int(self.winners[at])
        return int(self.find(prefix.family, [prefix.start])[0])

    def tag(self, family: int, address: int) -> int:
        """The tag of one address; 0 where nothing is bound."""
        found = int(self.find(family, [address])[0])
        return self.bindings[found].tag if found >= 0 else 0

    def tags(self, family: int, addresses: Sequence[int]) -> NDArray[np.int64]:
        """The tag of each address, 0 where nothing is bound; shape [n]."""
        found = self.find(family, addresses)
        tags = np.zeros(len(found), dtype=np.int64)
        tags[found >= 0] = self.bindings.tags[found[found >= 0]]
        return tags

    def tags_of(self, prefixes: Prefixes) -> Ints:
        """The tag of the first address of each prefix, 0 where nothing is bound; shape [n]."""
        tags = np.zeros(len(prefixes), dtype=np.int64)
        for family, table in self.tables.items():
            here = np.flatnonzero(prefixes.family == family)
            found = table.find(prefixes.take(here).starts(family))
            tags[here[found >= 0]] = self.bindings.tags[found[found >= 0]]
        return tags

    @cached_property
    def ranges(self) -> tuple[Range, ...]:
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
        return tuple(result)


def differing(bindings: Iterable[Binding]) -> list[tuple[Binding, Binding]]:
    """Pairs of bindings with one prefix and source but different tags: the first, and another."""
    every = Bindings.of(bindings)
    rows = every.prefixes.order(every.sources.astype(np.int64))
    fresh = every.prefixes.fresh(rows)
    fresh[1:] |= every.sources[rows[1:]] != every.sources[rows[:-1]]
    first = rows[np.maximum.accumulate(np.where(fresh, np.arange(len(rows)), 0))]
    other = every.tags[rows] != every.tags[first]
    return [(every[a], every[b]) for a, b in zip(first[other], rows[other], strict=True)]
