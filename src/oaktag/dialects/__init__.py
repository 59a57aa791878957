"""Access lists ↔ text: one row for each dialect."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

from oaktag.core.abilities import EVERYTHING, Abilities
from oaktag.core.accesslist import AccessList, Standing
from oaktag.core.addressed import AddressList, addressed
from oaktag.core.fitting import as_row, check
from oaktag.core.flatlist import FlatList
from oaktag.core.flatten import count
from oaktag.dialects import json_list, json_list_reader, nftables, nftables_reader
from oaktag.errors import UnwritableEntry


class Written(NamedTuple):
    """A list as text, and the entries that it takes of its point."""

    text: str
    entries: int


class Dialect(NamedTuple):
    """How lists are written for a kind of point, and read back, each by itself.

    ``write`` raises UnwritableEntry, ``read`` UnreadableList.
    """

    suffix: str
    #: Protocol numbers that such a point does not see as a packet's protocol on IPv6.
    unseen: frozenset[int]
    #: What such points can do at most; what a list is written for may be less.
    able: Abilities
    #: The limits of a point that count.
    limits: frozenset[str]
    write: Callable[[AccessList, Abilities], Written]
    read: Callable[[str], AccessList]
    standing: Callable[[str], Iterator[Standing]]


def _kernel(held: AccessList, able: Abilities) -> Written:
    check(held, able)
    return Written(nftables.write(held), nftables.entries(held))


def _row(
    write: Callable[[FlatList | AddressList], str],
) -> Callable[[AccessList, Abilities], Written]:
    """For points that hold one row of entries."""

    def written(held: AccessList, able: Abilities) -> Written:
        flat = as_row(held, able)
        entries = count(flat, able)
        if entries > MOST_ENTRIES:
            raise UnwritableEntry(
                f"{held.point}: its list comes to {entries:,} entries, and one is of at most "
                f"{MOST_ENTRIES:,}; narrow its scope, or let the point hold tables of addresses"
            )
        return Written(write(flat if able.tables else addressed(flat)), entries)

    return written


#: What a point can be said not to do.
KERNEL_LIMITS = frozenset({"families", "logging", "observing", "answers"})
ALL_LIMITS = KERNEL_LIMITS | {"tables", "ports", "range_costs", "icmp_types"}
#: The most entries of a row.
MOST_ENTRIES = 1_000_000

DIALECTS = {
    "nftables": Dialect(
        ".nft", nftables.HEADERS, EVERYTHING, KERNEL_LIMITS, _kernel, nftables_reader.read,
        nftables_reader.standing,
    ),
    "json": Dialect(
        ".list.json", frozenset(), EVERYTHING, ALL_LIMITS, _row(json_list.write),
        json_list_reader.read, json_list_reader.standing,
    ),
}  # fmt: skip
