"""Netlink messages of the packet filter (RFC 3549): their attributes, written and read."""

from __future__ import annotations

import struct
from collections.abc import Iterator

#: The family of sockets of the packet filter (linux/netlink.h).
NETFILTER = 12
NESTED = 0x8000


def attribute(kind: int, value: bytes) -> bytes:
    """One attribute, padded to whole words."""
    size = 4 + len(value)
    return struct.pack("=HH", size, kind) + value + bytes(-size % 4)


def attributes(data: bytes) -> Iterator[tuple[int, bytes]]:
    """The attributes of a netlink message, as (kind, value)."""
    at = 0
    while at + 4 <= len(data):
        size, kind = struct.unpack_from("=HH", data, at)
        if size < 4:
            return
        yield kind & ~NESTED, data[at + 4 : at + size]
        at += size + (-size % 4)
