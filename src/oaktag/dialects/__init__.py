"""Access lists ↔ text: one row for each dialect."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

from oaktag.core.accesslist import AccessList, Standing
from oaktag.core.flatlist import FlatList
from oaktag.core.flatten import flattened
from oaktag.dialects import json_list, json_list_reader, nftables, nftables_reader


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
    write: Callable[[AccessList], Written]
    read: Callable[[str], AccessList]
    standing: Callable[[str], Iterator[Standing]]


def _kernel(held: AccessList) -> Written:
    return Written(nftables.write(held), nftables.entries(held))


def _row(write: Callable[[FlatList], str]) -> Callable[[AccessList], Written]:
    """For points that hold one row of entries."""

    def written(held: AccessList) -> Written:
        flat = flattened(held)
        return Written(write(flat), len(flat.entries))

    return written


DIALECTS = {
    "nftables": Dialect(
        ".nft", nftables.HEADERS, _kernel, nftables_reader.read,
        nftables_reader.standing,
    ),
    "json": Dialect(
        ".list.json", frozenset(), _row(json_list.write), json_list_reader.read,
        json_list_reader.standing,
    ),
}  # fmt: skip
