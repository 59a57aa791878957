"""Addresses and prefixes, IPv4 and IPv6 alike; an IPv4-mapped IPv6 address is the IPv4 one.

Text forms are those of RFC 4632 (section 3.1) and RFC 4291 (section 2.2); IPv6 is written back
as RFC 5952 asks.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence
from typing import Any, NamedTuple

from oaktag.core.arrays import NDArray, np

WIDTH = {4: 32, 6: 128}

#: Sorted keys of one family: uint64 for IPv4, 16 bytes in network order for IPv6.
Keys = NDArray[Any]


class Prefix(NamedTuple):
    """A prefix: family 4 or 6, first address as a number, length in bits."""

    family: int
    start: int
    length: int

    @property
    def end(self) -> int:
        """The last address, as a number."""
        return self.start | ((1 << (WIDTH[self.family] - self.length)) - 1)

    def holds(self, other: Prefix) -> bool:
        """Whether the other equals it or lies inside it."""
        return (
            self.family == other.family
            and self.length <= other.length
            and self.start <= other.start <= self.end
        )

    def __str__(self) -> str:
        return f"{address_text(self.family, self.start)}/{self.length}"


class Span(NamedTuple):
    """Addresses first to last of one family."""

    family: int
    start: int
    end: int


class Range(NamedTuple):
    """Addresses first to last of one family, and their tag."""

    family: int
    start: int
    end: int
    tag: int


def parse_prefix(text: str) -> Prefix:
    """A prefix, or an address as the prefix of all its bits.

    Raises:
        ValueError: not an address or prefix, or with host bits set; the message says which.
    """
    number = _dotted(text)
    if number is not None:
        return Prefix(4, number, 32)
    if "%" in text:
        raise ValueError(f"{text!r} names an interface; an address without it is meant")
    try:
        network = ipaddress.ip_network(text)
    except ValueError as error:
        if "host bits" in str(error):
            fixed = ipaddress.ip_network(text, strict=False)
            raise ValueError(f"{text!r} has host bits set; the prefix is {fixed}") from None
        raise ValueError(f"{text!r} is no address or prefix") from None
    start, length = int(network.network_address), network.prefixlen
    if network.version == 6 and length >= 96 and start >> 32 == 0xFFFF:
        return Prefix(4, start & 0xFFFFFFFF, length - 96)
    return Prefix(network.version, start, length)


#: The numbers of a dotted address as they are written, without leading zeros.
_BYTES = {str(n): n for n in range(256)}


def _dotted(text: str) -> int | None:
    """The number of a plain IPv4 address, None for all else: most texts by far are one, and the
    standard library takes many times as long."""
    try:
        a, b, c, d = text.split(".")
        return _BYTES[a] << 24 | _BYTES[b] << 16 | _BYTES[c] << 8 | _BYTES[d]
    except (ValueError, KeyError):
        return None


def parse_address(text: str) -> tuple[int, int]:
    """One address as (family, number).

    Raises:
        ValueError: not an address.
    """
    prefix = parse_prefix(text)
    if prefix.length != WIDTH[prefix.family]:
        raise ValueError(f"{text!r} is a prefix; one address is meant")
    return prefix.family, prefix.start


def is_address(text: str) -> bool:
    """Whether the text is one address."""
    try:
        parse_address(text)
    except ValueError:
        return False
    return True


def address_text(family: int, number: int) -> str:
    """An address as people write it."""
    if family == 4:
        return str(ipaddress.IPv4Address(number))
    return str(ipaddress.IPv6Address(number))


#: Link-local and multicast addresses (RFC 3927; RFC 5771; RFC 4291, sections 2.5.6 and 2.7).
UNJUDGED = (
    Span(4, 0xA9FE0000, 0xA9FEFFFF),
    Span(4, 0xE0000000, 0xEFFFFFFF),
    Span(6, 0xFE80 << 112, (0xFEC0 << 112) - 1),
    Span(6, 0xFF00 << 112, (1 << 128) - 1),
)


#: Addresses that no host has: this network, of which 0.0.0.0 is "unspecified"; loopback;
#: link-local; multicast; limited broadcast (RFC 6890, section 2.2; RFC 4291, sections 2.5.2, 2.5.3,
#: 2.5.6 and 2.7).
HOSTLESS = (
    Span(4, 0, 0x00FFFFFF),
    Span(4, 0x7F000000, 0x7FFFFFFF),
    Span(4, 0xFFFFFFFF, 0xFFFFFFFF),
    Span(6, 0, 1),
    *UNJUDGED,
)


def is_judged(family: int, address: int) -> bool:
    """Whether points judge packets of an address: not if it is link-local or multicast."""
    return not any(s.family == family and s.start <= address <= s.end for s in UNJUDGED)


def may_be_a_host(family: int, address: int) -> bool:
    """Whether a host may have an address."""
    return not any(s.family == family and s.start <= address <= s.end for s in HOSTLESS)


def span_text(family: int, start: int, end: int) -> str:
    """A range of addresses: one address, a prefix where it is one, else ``first-last``."""
    if start == end:
        return address_text(family, start)
    size = end - start + 1
    if size & (size - 1) == 0 and start % size == 0:
        return f"{address_text(family, start)}/{WIDTH[family] - size.bit_length() + 1}"
    return f"{address_text(family, start)}-{address_text(family, end)}"


def prefixes_of(family: int, start: int, end: int) -> list[Prefix]:
    """The fewest prefixes that hold just a range."""
    width, found = WIDTH[family], []
    while start <= end:
        size = start & -start if start else 1 << width
        while size > end - start + 1:
            size //= 2
        found.append(Prefix(family, start, width - size.bit_length() + 1))
        start += size
    return found


def keys(family: int, numbers: Sequence[int]) -> Keys:
    """Numbers as sortable keys of their family, shape [n]."""
    if family == 4:
        return np.array(numbers, dtype=np.uint64)
    return np.array([n.to_bytes(16, "big") for n in numbers], dtype="S16")


def halves(keys: Keys) -> tuple[NDArray[np.uint64], NDArray[np.uint64]]:
    """IPv6 keys as their upper and lower 64 bits, shape [n] each."""
    pairs = np.ascontiguousarray(keys).view(">u8").reshape(-1, 2)
    return pairs[:, 0].astype(np.uint64), pairs[:, 1].astype(np.uint64)


def joined(high: NDArray[np.uint64], low: NDArray[np.uint64]) -> Keys:
    """IPv6 keys from their halves, shape [n]."""
    pairs = np.stack([high, low], axis=1).astype(">u8")
    return np.ascontiguousarray(pairs).view("S16").ravel()


def key_number(family: int, key: Any) -> int:
    """A key as a number again."""
    return int(key) if family == 4 else int.from_bytes(bytes(key).ljust(16, b"\0"), "big")
