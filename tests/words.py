"""A plain reader of packets as they are printed, packet by packet."""

from __future__ import annotations

import re

from oaktag.core.services import ICMP_TYPES

PROTOCOLS = {"tcp": 6, "udp": 17, "sctp": 132}
ICMP = {4: 1, 6: 58}
WORD = re.compile(
    r"(?P<what>any|proto/[\d,-]+|icmp/[a-z-]+|icmp(?:[46](?:/[^/ ]+){0,2})?|[^/ ]+/(?:tcp|udp|sctp))"
    r"(?: on IPv(?P<family>[46]))?(?: from ports (?P<sources>[\d,-]+))?"
)


def among(number: int, ranges: str) -> bool:
    """Whether a number is in ranges such as ``80,443,1024-2047``, or ``any``."""
    if ranges == "any":
        return True
    spans = [part.partition("-") for part in ranges.split(",")]
    return any(int(low) <= number <= int(high or low) for low, _, high in spans)


def word_holds(word: str, packet: tuple[int, int, int, int]) -> bool:
    """Whether one printed word speaks of a packet."""
    found = WORD.fullmatch(word)
    assert found, word
    family, protocol, source, destination = packet
    if found["family"] and family != int(found["family"]):
        return False
    if found["sources"] and not among(source, found["sources"]):
        return False
    head, _, rest = found["what"].partition("/")
    if head == "any" and not rest:
        return True
    if head == "proto":
        return among(protocol, rest)
    if head.startswith("icmp"):
        if protocol != ICMP[family] or head[4:] not in ("", str(family)):
            return False
        if head == "icmp" and rest:
            return ICMP_TYPES[rest].get(family) == source
        kinds, _, codes = rest.partition("/")
        return among(source, kinds or "any") and among(destination, codes or "any")
    return protocol == PROTOCOLS[rest] and among(destination, head)


def words_hold(words: list[str], packet: tuple[int, int, int, int]) -> bool:
    """Whether some of the words speak of a packet."""
    return any(word_holds(word, packet) for word in words)
