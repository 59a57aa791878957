"""Services: protocol and ports, written as people write them.

Written forms (semantics, section 4; vocabulary): ``443/tcp``, ``1024-2047/udp``, ``https``,
``domain/udp``, ``icmp``, ``icmp/echo-request``, ``icmp4/8``, ``icmp6/1/4``, ``proto/47``,
``any``. Numbers of protocols and ICMP types are IANA's ("Protocol Numbers", "ICMP Parameters",
RFC 792, RFC 4443, RFC 4861); names of ports are in ``service_names.py``.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from oaktag.core.packets import (
    EVERYTHING,
    FAMILIES,
    ICMP_OF,
    PORTED,
    PROTOCOL_WORDS,
    TOP,
    Atoms,
    Box,
    Ranges,
    Region,
    boxes_of,
    runs,
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
FORMS = "e.g. 443/tcp, 1024-2047/udp, https, icmp, icmp/echo-request, proto/47 or any"


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
    if "," in text:
        raise UsageError(f"{text!r} holds a comma; write a list, as in [80/tcp, 443/tcp]")
    if head in ("icmp", "icmp4", "icmp6"):
        return _parse_icmp(text, head, tail, bool(slash))
    if head == "proto":
        return (Box(protocols=(_number(tail, 255, text),) * 2),)
    if not slash:
        if own and text in own:
            return own[text]
        if text in NAMED:
            return tuple(b for form in NAMED[text] for b in parse_service(form))
        raise UsageError(f"{text!r} is no service known here; {FORMS}")
    if tail not in TRANSPORTS:
        raise UsageError(f"{text!r} does not end in /tcp, /udp or /sctp; {FORMS}")
    protocol = (TRANSPORTS[tail],) * 2
    if SERVICE_NAME.fullmatch(head):
        return tuple(Box(protocols=protocol, destinations=p) for p in _ports_of(head, own))
    return (Box(protocols=protocol, destinations=parse_ports(head)),)


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


def ranges_text(ranges: Ranges) -> str:
    """Ranges as people write them: ``80,443,1024-2047``."""
    return ",".join(str(a) if a == b else f"{a}-{b}" for a, b in ranges)


def packet_text(family: int, protocol: int, source: int, destination: int) -> str:
    """One packet in a line, the way findings show it."""
    if protocol in PORTED:
        name = PROTOCOL_WORDS[protocol]
        return f"IPv{family} {name} from port {source} to port {destination}"
    if ICMP_OF[family] == protocol:
        return f"IPv{family} {icmp_text(family, source)}, code {destination}"
    return f"IPv{family} protocol {protocol}"


def icmp_text(family: int, kind: int) -> str:
    """An ICMP type by its name, or its number where it has none."""
    for name, types in ICMP_TYPES.items():
        if types.get(family) == kind:
            return f"icmp/{name}"
    return f"icmp{family}/{kind}"


def set_text(atoms: Atoms, mask: int) -> str:
    """A set of packets as services, for people: ``any`` for all, ``none`` for the empty set, and
    ``any but …`` where that is far shorter."""
    plain = ", ".join(set_words(atoms, mask)) or "none"
    if len(plain) < 60:
        return plain
    but = f"any but {', '.join(set_words(atoms, atoms.full & ~mask))}"
    return but if 2 * len(but) < len(plain) else plain


def regions_text(regions: Sequence[Region]) -> str:
    """Packets in regions as services, for people."""
    boxes = [box for region in regions for box in boxes_of(region)]
    atoms = Atoms(boxes)
    return set_text(atoms, atoms.mask(boxes))


def set_words(atoms: Atoms, mask: int) -> list[str]:
    """A set of packets as a list of services: ``any`` for all, no word for the empty set.

    What does not depend on the sender's port is said first, then the rest with its ports.
    """
    if mask == atoms.full:
        return ["any"]
    plain = atoms.any_sender(mask)
    ports: dict[tuple[str, str], set[tuple[int, int]]] = {}
    words: list[str] = []
    for part in (plain, mask & ~plain):
        for region in atoms.regions(part):
            words += _collect(region, ports)
    return _ordered(words, ports)


def _ordered(words: list[str], ports: dict[tuple[str, str], set[tuple[int, int]]]) -> list[str]:
    for (head, tail), ranges in ports.items():
        shown = "any" if ranges == {(0, TOP)} else ranges_text(tuple(sorted(ranges)))
        words.append(f"proto/{shown}{tail}" if head == "proto" else f"{shown}/{head}{tail}")
    # A name speaks of every family that has it, so it is only said where all of them are meant.
    names = {"icmp": {"icmp4", "icmp6"}}
    names |= {
        f"icmp/{name}": {f"icmp{family}/{kind}" for family, kind in types.items()}
        for name, types in ICMP_TYPES.items()
    }
    for name, whole in names.items():
        if whole <= set(words):
            words = [name, *(w for w in words if w not in whole)]
    return sorted(dict.fromkeys(words), key=_word_order)


def _collect(region: Region, ports: dict[tuple[str, str], set[tuple[int, int]]]) -> list[str]:
    """Gather a region's ports by protocol and by what narrows them; returns its ICMP words."""
    words: list[str] = []
    only = "" if len(region.families) == 2 else f" on IPv{region.families[0]}"
    sender = ""
    if region.sources not in (((0, TOP),), ((0, 0),)):
        sender = f" from ports {ranges_text(region.sources)}"
    spoken: set[int] = set()
    for protocol in PORTED:
        if any(low <= protocol <= high for low, high in region.protocols):
            spoken.add(protocol)
            key = PROTOCOL_WORDS[protocol], only + sender
            ports.setdefault(key, set()).update(region.destinations)
    for family in region.families:
        protocol = ICMP_OF[family]
        inside = any(low <= protocol <= high for low, high in region.protocols)
        if inside and region.destinations != ((0, 0),):
            spoken.add(protocol)
            words += _icmp_words(family, region.sources, region.destinations)
    numbers = (range(low, high + 1) for low, high in region.protocols)
    rest = [p for some in numbers for p in some if p not in spoken]
    if rest:
        ports.setdefault(("proto", only), set()).update(runs(rest))
    return words


def _icmp_words(family: int, kinds: Ranges, codes: Ranges) -> list[str]:
    every = ((0, 255),)
    if kinds == codes == every:
        return [f"icmp{family}"]
    if codes == every:
        numbers = [n for low, high in kinds for n in range(low, high + 1)]
        if len(numbers) <= 3:
            return [f"icmp{family}/{n}" for n in numbers]
        return [f"icmp{family}/{ranges_text(kinds)}"]
    first = "any" if kinds == every else ranges_text(kinds)
    return [f"icmp{family}/{first}/{ranges_text(codes)}"]


def _word_order(word: str) -> tuple[int, str]:
    kinds = ("icmp", "/tcp", "/udp", "/sctp", "proto")
    return next((n for n, k in enumerate(kinds) if k in word), len(kinds)), word
