"""Packets in words: sets of them as services, and those words read again.

Rules kept here: what is printed can be typed back in (:func:`parse_asked`). ``any but 25/tcp`` is
all else; `` on IPv4`` and `` from ports 1024-65535`` narrow a service; ``proto/1-5,47`` are
protocol numbers; ``icmp4/3,11`` types and ``icmp4/3/0-4`` codes.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from oaktag.core.packets import (
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
from oaktag.core.services import ICMP_TYPES, parse_service
from oaktag.errors import UsageError

BUT = "any but "
_NARROWED = re.compile(r"(.*?)(?: from ports ([0-9,-]+)| on IPv([46]))")


def parse_asked(text: str, own: Mapping[str, tuple[Box, ...]] | None = None) -> tuple[Box, ...]:
    """The packets of what a question names: services in any written form, several parted by a comma
    and a blank, and all that is printed of packets.

    Args:
        text: as :func:`set_text` writes it, or as the files do.
        own: the workspace's named services.

    Raises:
        UsageError: it is none of these.
    """
    but = text.startswith(BUT)
    parts = text.removeprefix(BUT).split(", ")
    boxes = tuple(box for part in parts for box in _asked(part.strip(), own))
    if but:
        atoms = Atoms(boxes)
        rest = atoms.regions(atoms.full & ~atoms.mask(boxes))
        boxes = tuple(box for region in rest for box in boxes_of(region))
    return boxes


def _asked(text: str, own: Mapping[str, tuple[Box, ...]] | None) -> tuple[Box, ...]:
    match = _NARROWED.fullmatch(text)
    if match is None:
        return _numbers(text) or parse_service(text, own)
    inner = _asked(match[1], own)
    if match[3]:
        family = int(match[3])
        return tuple(b._replace(family=family) for b in inner if b.family in (0, family))
    if any(b.protocols[0] not in PORTED or b.protocols[0] != b.protocols[1] for b in inner):
        raise UsageError(f"{text!r}: of these packets not all have a sender's port")
    return tuple(b._replace(sources=s) for b in inner for s in _ranges(match[2], TOP, text))


def _numbers(text: str) -> tuple[Box, ...]:
    """Numbers of protocols, and of types and codes of ICMP, as they are printed; none for all
    else."""
    head, *tails = text.split("/")
    if head == "proto" and len(tails) == 1 and re.search("[,-]", tails[0]):
        return tuple(Box(protocols=p) for p in _ranges(tails[0], 255, text))
    if head not in ("icmp4", "icmp6") or len(tails) > 2:
        return ()
    family = int(head[-1])
    kinds, codes = (
        _ranges(tails[n], 255, text) if n < len(tails) and tails[n] != "any" else ((0, 255),)
        for n in (0, 1)
    )
    number = ICMP_OF[family]
    return tuple(Box(family, (number, number), k, c) for k in kinds for c in codes)


def _ranges(text: str, top: int, whole: str) -> Ranges:
    found: list[tuple[int, int]] = []
    for part in text.split(","):
        match = re.fullmatch(r"(\d{1,5})(?:-(\d{1,5}))?", part)
        low, high = (int(match[1]), int(match[2] or match[1])) if match else (1, 0)
        if not low <= high <= top:
            raise UsageError(f"{whole!r}: {part!r} is no number or range from 0 to {top}")
        found.append((low, high))
    return tuple(found)


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


def set_text(atoms: Atoms, mask: int, own: Mapping[str, Sequence[Box]] | None = None) -> str:
    """A set of packets as services, for people: ``any`` for all, ``none`` for the empty set, and
    ``any but …`` where that is far shorter.

    Args:
        atoms, mask: the packets.
        own: the workspace's named services; one is called by its name where all of its packets are
            in the set.
    """
    plain = _named(atoms, mask, own or {}) or "none"
    if len(plain) < 60:
        return plain
    but = BUT + _named(atoms, atoms.full & ~mask, own or {})
    return but if 2 * len(but) < len(plain) else plain


def _named(atoms: Atoms, mask: int, own: Mapping[str, Sequence[Box]]) -> str:
    names: list[str] = []
    held = {} if mask == atoms.full else {n: b for n, b in own.items() if atoms.parts(b)}
    masks = {name: atoms.mask(boxes) for name, boxes in held.items()}
    for name, whole in sorted(masks.items(), key=lambda item: -item[1].bit_count()):
        if whole & mask == whole != 0:
            names.append(name)
            mask &= ~whole
    return ", ".join([*sorted(names), *set_words(atoms, mask)])


def regions_text(regions: Sequence[Region], own: Mapping[str, Sequence[Box]] | None = None) -> str:
    """Packets in regions as services, for people."""
    boxes = [box for region in regions for box in boxes_of(region)]
    atoms = Atoms([*boxes, *(box for named in (own or {}).values() for box in named)])
    return set_text(atoms, atoms.mask(boxes), own)


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
        shown = ranges_text(tuple(sorted(ranges)))
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
        if any(low <= protocol <= high for low, high in region.protocols):
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
