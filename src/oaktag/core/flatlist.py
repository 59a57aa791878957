"""The access list as one row of entries: source tags, destination tags, packets, what is done.

The form for points that know no chains: the first entry that matches a packet of a cell in the list
decides; the last one matches all of them. What is no cell of the list meets ``outside``. A list of
this form and a tree are the same list: ``tree`` gathers of every cell the entries that match it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from hashlib import blake2b
from typing import NamedTuple

from oaktag.core.accesslist import AccessList, End, ListEntry, PassKnown, Step, entries_in
from oaktag.core.addresses import Range, Span
from oaktag.core.lines import Action
from oaktag.core.packets import Region


class FlatEntry(NamedTuple):
    """One entry; None for the sources or the destinations of all cells in the list."""

    sources: frozenset[int] | None
    destinations: frozenset[int] | None
    entry: ListEntry

    def holds(self, source: End, destination: End) -> bool:
        """Whether it is tried for a cell of its list."""
        ends = (self.sources, source), (self.destinations, destination)
        return all(some is None or end.tag in some for some, end in ends)


@dataclass(frozen=True, slots=True)
class FlatList:
    """What one point holds; the fields that it shares with ``AccessList`` mean the same.

    Attributes:
        sources, destinations: the tags whose cells it holds.
        entries: in order.
    """

    point: str
    head: tuple[Step, ...]
    restores: bool
    source_bindings: tuple[Range, ...]
    destination_bindings: tuple[Range, ...]
    sources: tuple[int, ...]
    destinations: tuple[int, ...]
    entries: tuple[FlatEntry, ...]
    outside: tuple[Action, Action]
    own: tuple[Span, ...] = ()
    names: Mapping[int, str] = field(default_factory=dict)

    @property
    def stateful(self) -> bool:
        """Whether the rest of a flow passes once its first packet did."""
        return PassKnown() in self.head

    def tries(self, one: FlatEntry, source: End, destination: End) -> bool:
        """Whether an entry of the list is tried for a cell, which must be one of its cells."""
        return (
            one.holds(source, destination)
            and source.tag in self.sources
            and destination.tag in self.destinations
        )

    def tree(self) -> AccessList:
        """The same list, of every cell the entries that match it, up to the first that matches all
        packets."""
        chains: dict[tuple[int, ...], str] = {}
        blocks: dict[int, dict[int, str]] = {}
        for destination in self.destinations:
            toward = [
                (n, e) for n, e in enumerate(self.entries)
                if e.destinations is None or destination in e.destinations
            ]  # fmt: skip
            row = blocks.setdefault(destination, {})
            for source in self.sources:
                mine = _up_to_all(
                    (n, e.entry) for n, e in toward if e.sources is None or source in e.sources
                )
                row[source] = chains.setdefault(mine, _name(mine))
        held = {
            name: tuple(self.entries[n].entry for n in numbers) for numbers, name in chains.items()
        }
        return AccessList(
            self.point, self.head, self.restores, self.source_bindings, self.destination_bindings,
            blocks, held, self.outside, self.own, self.names, cites_for="cells",
        )  # fmt: skip


def _up_to_all(some: Iterable[tuple[int, ListEntry]]) -> tuple[int, ...]:
    numbers: list[int] = []
    for number, entry in some:
        numbers.append(number)
        if entry.region is None:
            break
    return tuple(numbers)


def _name(numbers: tuple[int, ...]) -> str:
    return "p" + blake2b(repr(numbers).encode(), digest_size=5).hexdigest()


Parts = Callable[[Region], Iterable[Region]]


def plain(held: AccessList, parts: Parts = lambda region: (region,)) -> FlatList:
    """The list with every entry of every cell for itself.

    Args:
        held: the list.
        parts: the regions of entries that its point can hold, of one region.
    """
    alone = len(held.blocks) == 1, len(next(iter(held.blocks.values()), ())) == 1
    entries: list[FlatEntry] = []
    for d, row in held.blocks.items():
        shared, cited = entries_in(held, row)
        chains = {name: tuple(_parted(chain, parts)) for name, chain in shared.items()}
        for s, chain in row.items():
            ends = (
                None if alone[1] else frozenset({s}),
                None if alone[0] else frozenset({d}),
            )
            mine = _parted(cited[s], parts) if s in cited else chains[chain]
            entries += [FlatEntry(*ends, entry) for entry in mine]
    # What is left for the last one is of its cell alone.
    entries[-1:] = [FlatEntry(None, None, last.entry) for last in entries[-1:]]
    return of(held, tuple(entries))


def _parted(chain: Iterable[ListEntry], parts: Parts) -> Iterator[ListEntry]:
    for entry in chain:
        for region in (None,) if entry.region is None else parts(entry.region):
            yield replace(entry, region=region)


def of(held: AccessList, entries: tuple[FlatEntry, ...]) -> FlatList:
    """A list that differs from another in its form alone."""
    rows: list[Mapping[int, str]] = list(held.blocks.values())
    return FlatList(
        held.point, held.head, held.restores, held.source_bindings, held.destination_bindings,
        tuple(rows[0]) if rows else (), tuple(held.blocks), entries, held.outside,
        held.own, held.names,
    )  # fmt: skip
