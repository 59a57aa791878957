"""Services: protocol and ports, written as people write them.

Written forms (semantics, section 4; vocabulary): ``443/tcp``, ``1024-2047/udp``,
``80,443,8000-8010/tcp``, ``https``, ``domain/udp``, ``icmp``, ``icmp/echo-request``,
``icmp4/8``, ``icmp6/1/4``, ``proto/47``, ``any``. Numbers of protocols and ICMP types are IANA's
("Protocol Numbers", "ICMP Parameters", RFC 792, RFC 4443, RFC 4861); names of ports are in
``service_names.py``.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from oaktag.core.packets import (
    EVERYTHING,
    FAMILIES,
    ICMP_OF,
    PORTED,
    TOP,
    Box,
)
from oaktag.core.service_names import NAMED
from oaktag.errors import UsageError

TRANSPORTS = {"tcp": 6, "udp": 17, "sctp": 132}

#: name → its type in each family that has it.
ICMP_TYPES: dict[str, dict[int, int]] = {
    "echo-reply": {4: 0, 6: 129},
    "destination-unreachable": {4: 3, 6: 1},
    "source-quench": {4: 4},
    "redirect": {4: 5, 6: 137},
    "echo-request": {4: 8, 6: 128},
    "router-advertisement": {4: 9, 6: 134},
    "router-solicitation": {4: 10, 6: 133},
    "time-exceeded": {4: 11, 6: 3},
    "parameter-problem": {4: 12, 6: 4},
    "timestamp-request": {4: 13},
    "timestamp-reply": {4: 14},
    "packet-too-big": {6: 2},
    "neighbor-solicitation": {6: 135},
    "neighbor-advertisement": {6: 136},
}

SERVICE_NAME = re.compile(r"[a-z][a-z0-9-]*")
RESERVED = frozenset({"any", "icmp", "icmp4", "icmp6", "proto", *TRANSPORTS})
FORMS = "e.g. 443/tcp, 80,8000-8010/tcp, https, icmp, icmp/echo-request, proto/47 or any"


def parse_ports(text: str) -> tuple[int, int]:
    """A port or a range ``low-high`` of ports.

    Raises:
        UsageError: not a port or range from 0 to 65535.
    """
    match = re.fullmatch(r"(\d{1,5})(?:-(\d{1,5}))?", text)
    if not match:
        raise UsageError(f"{text!r} is not a port or a range of ports")
    low, high = int(match[1]), int(match[2] or match[1])
    if low > high or high > TOP:
        raise UsageError(f"{text!r} is not a range from low to high within 0-{TOP}")
    return low, high


def parse_service(text: str, own: Mapping[str, tuple[Box, ...]] | None = None) -> tuple[Box, ...]:
    """The packets of one service as boxes.

    Args:
        text: a written form, see the head of this file.
        own: the workspace's named services.

    Raises:
        UsageError: the text is none of the written forms, or names nothing known.
    """
    head, slash, tail = text.partition("/")
    if text == "any":
        return (EVERYTHING,)
    if head in ("icmp", "icmp4", "icmp6"):
        return _parse_icmp(text, head, tail, bool(slash))
    if head == "proto":
        return (Box(protocols=(_number(tail, 255, text),) * 2),)
    if not slash:
        if own and text in own:
            return own[text]
        if text in NAMED:
            return tuple(b for form in NAMED[text] for b in parse_service(form))
        if re.fullmatch(r"[0-9,-]+", text):
            raise UsageError(
                f"{text!r} is no service without its protocol: {text}/tcp, and of several ports "
                'in a list quotes about them: ["80,443/tcp"]'
            )
        raise UsageError(f"{text!r} is no service known here; {FORMS}")
    if tail not in TRANSPORTS:
        raise UsageError(f"{text!r} does not end in /tcp, /udp or /sctp; {FORMS}")
    protocol = (TRANSPORTS[tail],) * 2
    if SERVICE_NAME.fullmatch(head):
        return tuple(Box(protocols=protocol, destinations=p) for p in _ports_of(head, own))
    return tuple(Box(protocols=protocol, destinations=parse_ports(p)) for p in head.split(","))


def _ports_of(name: str, own: Mapping[str, tuple[Box, ...]] | None) -> list[tuple[int, int]]:
    boxes = own[name] if own and name in own else None
    if boxes is None:
        if name not in NAMED:
            raise UsageError(f"{name!r} is no service known here; {FORMS}")
        boxes = parse_service(name)
    if not has_ports(boxes):
        raise UsageError(f"the service {name!r} has no ports of its own")
    return list(dict.fromkeys(b.destinations for b in boxes))


def _parse_icmp(text: str, head: str, tail: str, slash: bool) -> tuple[Box, ...]:
    families = FAMILIES if head == "icmp" else (int(head[-1]),)
    if not slash:
        if head != "icmp":
            raise UsageError(f"{text!r} needs a type, as in {head}/3 or {head}/3/4")
        return tuple(Box(f, (ICMP_OF[f],) * 2) for f in families)
    if head == "icmp":
        if tail not in ICMP_TYPES:
            raise UsageError(f"{tail!r} is no ICMP type name; numbers are icmp4/{tail} or icmp6/…")
        return tuple(Box(f, (ICMP_OF[f],) * 2, (t, t)) for f, t in ICMP_TYPES[tail].items())
    kind, second, code = tail.partition("/")
    protocol = (ICMP_OF[families[0]],) * 2
    type_ = (_number(kind, 255, text),) * 2
    codes = (_number(code, 255, text),) * 2 if second else (0, TOP)
    return (Box(families[0], protocol, type_, codes),)


def _number(text: str, top: int, whole: str) -> int:
    if not re.fullmatch(r"\d{1,3}", text) or int(text) > top:
        raise UsageError(f"{whole!r} needs a number from 0 to {top}, not {text!r}")
    return int(text)


def has_ports(boxes: tuple[Box, ...]) -> bool:
    """Whether every packet of the boxes has a source port."""
    return all(b.protocols[0] == b.protocols[1] and b.protocols[0] in PORTED for b in boxes)


def with_sender_ports(
    boxes: tuple[Box, ...], ports: tuple[tuple[int, int], ...]
) -> tuple[Box, ...]:
    """The boxes narrowed to packets sent from one of the ports."""
    return tuple(b._replace(sources=p) for b in boxes for p in ports)
