"""Access lists ↔ text: one row for each dialect."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from oaktag.core.accesslist import AccessList
from oaktag.dialects import nftables, nftables_reader


class Dialect(NamedTuple):
    """How lists are written for a kind of point, and read back, each by itself.

    ``write`` raises UnwritableEntry, ``read`` UnreadableList.
    """

    suffix: str
    #: Protocol numbers that such a point does not see as a packet's protocol on IPv6.
    unseen: frozenset[int]
    write: Callable[[AccessList], str]
    read: Callable[[str], AccessList]


DIALECTS = {"nftables": Dialect(".nft", nftables.HEADERS, nftables.write, nftables_reader.read)}
