"""Packets, boxes of packets, and the atoms into which a workspace's entries cut them.

Rules kept here (semantics, sections 4 and 8):

* tcp, udp and sctp have ports 0-65535; ICMP (protocol 1 on IPv4, 58 on IPv6) has its type in
  place of the source port and its code in place of the destination port, 0-255 each; every
  other protocol has 0 for both.
* A form is a set of atoms, one Python integer as a bit mask.
* For showing, atoms are merged maximally in the order family, protocol, destination ports,
  source ports.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

from oaktag.core.arrays import NDArray, np

Ranges = tuple[tuple[int, int], ...]

FAMILIES = (4, 6)
PORTED = (6, 17, 132)
ICMP_OF = {4: 1, 6: 58}
#: Echo request and echo reply: the types of ICMP (RFC 792) and ICMPv6 (RFC 4443, section 4).
ECHO = {4: (8, 0), 6: (128, 129)}
PROTOCOL_NAMES = {"icmp": 1, "tcp": 6, "udp": 17, "icmp6": 58, "sctp": 132}
PROTOCOL_WORDS = {number: name for name, number in PROTOCOL_NAMES.items()}
TOP = 65535
EPHEMERAL = 50_000  # what examples are sent from


class Packet(NamedTuple):
    """One packet's five facts: family 4 or 6, protocol number, ports (or ICMP type and code)."""

    family: int
    protocol: int
    source_port: int
    destination_port: int

    def answered(self) -> bool:
        """Whether it has an answer: TCP, UDP, SCTP and echo requests have."""
        echo = self.protocol == ICMP_OF[self.family] and self.source_port == ECHO[self.family][0]
        return self.protocol in PORTED or echo

    def exchanged(self) -> Packet:
        """The packet that answers: ports swapped, echo-reply for echo-request."""
        family, protocol, source, destination = self
        if protocol != ICMP_OF[family]:
            return Packet(family, protocol, destination, source)
        request, reply = ECHO[family]
        return Packet(
            family, protocol, {request: reply, reply: request}.get(source, source), destination
        )


class Box(NamedTuple):
    """All packets in a product of ranges; ends belong to them; family 0 stands for both.

    Ports beyond what a protocol has (``span_of``) are cut off, so the full range means
    "all there are".
    """

    family: int = 0
    protocols: tuple[int, int] = (0, 255)
    sources: tuple[int, int] = (0, TOP)
    destinations: tuple[int, int] = (0, TOP)

    def holds(self, packet: Packet) -> bool:
        """Whether the packet is in the box."""
        return (
            self.family in (0, packet.family)
            and self.protocols[0] <= packet.protocol <= self.protocols[1]
            and self.sources[0] <= packet.source_port <= self.sources[1]
            and self.destinations[0] <= packet.destination_port <= self.destinations[1]
        )


EVERYTHING = Box()


def span_of(family: int, protocol: int) -> int:
    """The highest port (or ICMP type or code) that packets of this protocol can have."""
    if protocol in PORTED:
        return TOP
    return 255 if ICMP_OF[family] == protocol else 0


class Region(NamedTuple):
    """A product of lists of ranges, as shown to people and in JSON."""

    families: tuple[int, ...]
    protocols: Ranges
    sources: Ranges
    destinations: Ranges

    def holds(self, packet: Packet) -> bool:
        """Whether a packet is in it."""
        numbers = packet.protocol, packet.source_port, packet.destination_port
        return packet.family in self.families and all(
            any(low <= number <= high for low, high in ranges)
            for number, ranges in zip(numbers, self[1:], strict=True)
        )

    def first(self) -> Packet:
        """The lowest packet in it."""
        return Packet(
            self.families[0], self.protocols[0][0], self.sources[0][0], self.destinations[0][0]
        )

    def usual(self, family: int) -> Packet:
        """A packet in it as people meet them: of a family, from a high port if there is one."""
        (protocol, _), *_ = self.protocols
        ports = self.sources
        high = any(low <= EPHEMERAL <= top for low, top in ports)
        source = EPHEMERAL if high else ports[0][0]
        low, top = self.destinations[0]
        return Packet(family, protocol, source, max(low, 1) if top > 255 else low)


def regions_of(
    families: Iterable[int], protocols: Ranges, sources: Ranges | None, destinations: Ranges | None
) -> list[Region]:
    """Packets as regions of one family and kind each: with ports, ICMP, or neither; None for all
    ports, or types and codes. What has no such ports is in none of them."""
    found: list[Region] = []
    for family in families:
        kinds: dict[int, list[int]] = {}
        for number in (p for low, high in protocols for p in range(low, high + 1)):
            kinds.setdefault(span_of(family, number), []).append(number)
        for top, numbers in kinds.items():
            axes = [
                ((0, top),) if axis is None
                else tuple((low, min(high, top)) for low, high in axis if low <= top)
                for axis in ((None, None) if not top else (sources, destinations))
            ]  # fmt: skip
            if all(axes) and (top or sources is destinations is None):
                found.append(Region((family,), runs(numbers), axes[0], axes[1]))
    return found


@dataclass(frozen=True, slots=True)
class Plane:
    """Protocols that all boxes treat alike, with their ports cut into intervals.

    ``pairs`` are (family, protocol); interval i of an axis is ``cuts[i] .. cuts[i+1]-1``.
    """

    pairs: tuple[tuple[int, int], ...]
    top: int
    source_cuts: tuple[int, ...]
    destination_cuts: tuple[int, ...]
    offset: int

    @property
    def rows(self) -> int:
        """How many source-port intervals there are."""
        return len(self.source_cuts) - 1

    @property
    def columns(self) -> int:
        """How many destination-port intervals there are."""
        return len(self.destination_cuts) - 1

    @property
    def full(self) -> int:
        """The mask of all atoms of the plane."""
        return ((1 << (self.rows * self.columns)) - 1) << self.offset

    def parts(self, box: Box) -> bool:
        """Whether no atom here holds packets of the box and others."""
        low, high = box.protocols
        told = {box.family in (0, f) and low <= p <= high for f, p in self.pairs}
        if told == {False}:
            return True
        cut = all(
            (first <= 0 or first in cuts) and (last >= self.top or last + 1 in cuts)
            for cuts, (first, last) in (
                (self.source_cuts, box.sources), (self.destination_cuts, box.destinations),
            )
        )  # fmt: skip
        return told == {True} and cut

    def touched(self, box: Box) -> int:
        """The atoms of which the box (whose protocols hold here) has at least one packet."""
        rows = _interval(self.source_cuts, box.sources, self.top)
        columns = _interval(self.destination_cuts, box.destinations, self.top)
        if rows is None or columns is None:
            return 0
        stripe = ((1 << (columns[1] - columns[0])) - 1) << columns[0]
        mask = 0
        for row in range(*rows):
            mask |= stripe << (row * self.columns)
        return mask << self.offset


def _interval(cuts: tuple[int, ...], span: tuple[int, int], top: int) -> tuple[int, int] | None:
    low, high = max(span[0], 0), min(span[1], top)
    if low > high:
        return None
    return bisect_right(cuts, low) - 1, bisect_right(cuts, high)


def _covers(box: Box, family: int, protocol: int) -> bool:
    return box.family in (0, family) and box.protocols[0] <= protocol <= box.protocols[1]


class Atoms:
    """The packet space cut once, so that none of the given boxes tells packets of one atom apart.

    Args:
        boxes: every box that will be asked of as a whole (``mask``).
    """

    def __init__(self, boxes: Iterable[Box]) -> None:
        distinct = list(dict.fromkeys(boxes))
        told: dict[tuple[int, int], int] = {(f, p): 0 for f in FAMILIES for p in range(256)}
        for number, (family, (low, high)) in enumerate({(b.family, b.protocols) for b in distinct}):
            for pair in ((f, p) for f in FAMILIES for p in range(low, high + 1)):
                if family in (0, pair[0]):
                    told[pair] |= 1 << number
        kinds: dict[tuple[int, int], list[tuple[int, int]]] = {}
        for pair, told_by in told.items():
            kinds.setdefault((span_of(*pair), told_by), []).append(pair)
        planes: list[Plane] = []
        offset = 0
        for (top, _), pairs in kinds.items():
            here = [b for b in distinct if _covers(b, *pairs[0])]
            sources, destinations = (
                _cuts((getattr(b, axis) for b in here), top) for axis in ("sources", "destinations")
            )
            planes.append(Plane(tuple(pairs), top, sources, destinations, offset))
            offset += planes[-1].rows * planes[-1].columns
        self.planes = tuple(planes)
        self.count = offset
        self.full = (1 << offset) - 1
        self._plane_of = {pair: n for n, p in enumerate(self.planes) for pair in p.pairs}
        self._masks: dict[Box, int] = {}
        self._cut: set[Box] = set(distinct)
        self._regions: dict[int, list[Region]] = {}
        self._exchanged: dict[int, int] = {}

    def mask(self, boxes: Iterable[Box]) -> int:
        """The atoms of the boxes: exactly their packets.

        Raises:
            ValueError: the atoms are not cut along a box, so that one holds packets of it and
                others; give it to ``Atoms``, or ask for what it touches.
        """
        every = tuple(boxes)
        for box in every:
            if not self.parts((box,)):
                raise ValueError(f"the atoms are not cut along {box}")
        return self.touched(every)

    def parts(self, boxes: Iterable[Box]) -> bool:
        """Whether no atom holds packets of one of the boxes and others."""
        for box in boxes:
            if box not in self._cut:
                if not all(plane.parts(box) for plane in self.planes):
                    return False
                self._cut.add(box)
        return True

    def touched(self, boxes: Iterable[Box]) -> int:
        """The atoms of which the boxes hold at least one packet."""
        result = 0
        for box in boxes:
            known = self._masks.get(box)
            if known is None:
                known = 0
                low, high = max(box.protocols[0], 0), min(box.protocols[1], 255)
                families = (box.family,) if box.family else FAMILIES
                pairs = ((f, p) for f in families for p in range(low, high + 1))
                for number in {self._plane_of[pair] for pair in pairs}:
                    known |= self.planes[number].touched(box)
                self._masks[box] = known
            result |= known
        return result

    def of_family(self, family: int) -> int:
        """The atoms that hold packets of the family."""
        return self._families[family]

    @cached_property
    def _families(self) -> dict[int, int]:
        return {
            family: sum(p.full for p in self.planes if any(f == family for f, _ in p.pairs))
            for family in FAMILIES
        }

    def atom(self, packet: Packet) -> int:
        """The number of the atom that holds the packet."""
        plane = self.planes[self._plane_of[packet.family, packet.protocol]]
        row = bisect_right(plane.source_cuts, packet.source_port) - 1
        column = bisect_right(plane.destination_cuts, packet.destination_port) - 1
        return plane.offset + row * plane.columns + column

    def atoms(
        self,
        families: NDArray[np.int64],
        protocols: NDArray[np.int64],
        sources: NDArray[np.int64],
        destinations: NDArray[np.int64],
    ) -> NDArray[np.int64]:
        """The atom of each packet; all arrays have shape [n]."""
        plane_at = np.zeros((2, 256), dtype=np.int64)
        for number, plane in enumerate(self.planes):
            for family, protocol in plane.pairs:
                plane_at[family // 6, protocol] = number
        which = plane_at[families // 6, protocols]
        result = np.zeros(len(which), dtype=np.int64)
        for number in np.unique(which):
            plane, here = self.planes[number], np.flatnonzero(which == number)
            row = np.searchsorted(plane.source_cuts, sources[here], side="right") - 1
            column = np.searchsorted(plane.destination_cuts, destinations[here], side="right") - 1
            result[here] = plane.offset + row * plane.columns + column
        return result

    def packet(self, mask: int, family: int | None = None) -> Packet:
        """A packet of the set as people meet them: tcp before udp before the rest, sent from a
        high port where the set has one; of the family, if one is given.
        """
        if family is not None:
            mask &= self.of_family(family)
        for plane in self._natural:
            bits = (mask & plane.full) >> plane.offset
            if bits:
                break
        stripe = (1 << plane.columns) - 1
        usual = bisect_right(plane.source_cuts, min(EPHEMERAL, plane.top)) - 1
        if plane.top == TOP and bits >> (usual * plane.columns) & stripe:
            bits &= stripe << (usual * plane.columns)
        row, column = divmod((bits & -bits).bit_length() - 1, plane.columns)
        pairs = [p for p in plane.pairs if family in (None, p[0])]
        pair = min(pairs, key=lambda p: (_natural_rank(p), p))
        first, last = plane.source_cuts[row], plane.source_cuts[row + 1] - 1
        source = EPHEMERAL if first <= EPHEMERAL <= last else first
        first, last = plane.destination_cuts[column], plane.destination_cuts[column + 1] - 1
        return Packet(*pair, source, max(first, 1) if plane.top == TOP and last else first)

    @cached_property
    def _natural(self) -> list[Plane]:
        return sorted(self.planes, key=lambda p: (min(map(_natural_rank, p.pairs)), p.offset))

    def any_sender(self, mask: int) -> int:
        """Of the set, what it holds whatever the source port (or, for ICMP, whatever the type)."""
        result = 0
        for plane in self.planes:
            bits = (mask & plane.full) >> plane.offset
            every = (1 << plane.columns) - 1
            for row in range(plane.rows):
                every &= bits >> (row * plane.columns)
            for row in range(plane.rows):
                result |= every << (plane.offset + row * plane.columns)
        return result

    def exchanged(self, mask: int) -> int:
        """The packets whose exchanged form is in the set: ports swapped, an echo reply for an echo
        request; all else is its own. Atoms must be cut along ``exchanged`` boxes too."""
        if mask not in self._exchanged:
            result = 0
            for plane in self.planes:
                bits = (mask & plane.full) >> plane.offset
                result |= _turned(plane, bits) << plane.offset
            self._exchanged[mask] = result
        return self._exchanged[mask]

    def unanswered(self, mask: int, back: int) -> list[Region]:
        """Of the packets of a set those that have an answer (TCP, UDP, SCTP and echo requests)
        which is not in the set ``back``, as disjoint regions in normal form. The atoms need not be
        cut along the exchanged boxes.
        """
        found: dict[tuple[Ranges, Ranges], list[tuple[int, int]]] = {}
        for plane in self.planes:
            bits = (mask & plane.full) >> plane.offset
            if not bits:
                continue
            if plane.pairs[0][1] in PORTED:
                for shape in _unanswered(plane, bits, (back & plane.full) >> plane.offset):
                    found.setdefault(shape, []).extend(plane.pairs)
                continue
            for family, protocol in plane.pairs:
                if protocol == ICMP_OF[family]:
                    for shape in self._unechoed(plane, family, bits, back):
                        found.setdefault(shape, []).append((family, protocol))
        return _normal(found)

    def _unechoed(
        self, plane: Plane, family: int, bits: int, back: int
    ) -> list[tuple[Ranges, Ranges]]:
        """Echo requests of which no reply is in the set."""
        protocol, (request, reply) = ICMP_OF[family], ECHO[family]
        row = bisect_right(plane.source_cuts, request) - 1
        stripe = (1 << plane.columns) - 1
        asked = bits >> (row * plane.columns) & stripe
        lost = [
            column
            for column in range(plane.columns)
            if asked >> column & 1
            and not back
            >> self.atom(Packet(family, protocol, reply, plane.destination_cuts[column]))
            & 1
        ]
        return [(((request, request),), _spread(plane.destination_cuts, lost))] if lost else []

    def regions(self, mask: int) -> list[Region]:
        """The set as disjoint regions in the one normal form: equal sets give equal lists."""
        if mask not in self._regions:
            self._regions[mask] = self._regions_of(mask)
        return list(self._regions[mask])

    def _regions_of(self, mask: int) -> list[Region]:
        by_shape: dict[tuple[Ranges, Ranges], list[tuple[int, int]]] = {}
        for plane in self.planes:
            for shape in _shapes(plane, mask):
                by_shape.setdefault(shape, []).extend(plane.pairs)
        return _normal(by_shape)


def _normal(by_shape: dict[tuple[Ranges, Ranges], list[tuple[int, int]]]) -> list[Region]:
    """Regions in the one normal form, from ports and the protocols that have them."""
    result: list[Region] = []
    for (sources, destinations), pairs in by_shape.items():
        protocols = {
            family: runs(sorted(p for f, p in pairs if f == family)) for family in FAMILIES
        }
        alike = protocols[4] == protocols[6]
        for families in ((4, 6),) if alike else ((4,), (6,)):
            if protocols[families[0]]:
                result.append(Region(families, protocols[families[0]], sources, destinations))
    return sorted(result)


def _unanswered(plane: Plane, bits: int, back: int) -> list[tuple[Ranges, Ranges]]:
    """Of one plane with ports: the packets of a set whose exchanged form is not in another."""
    if plane.rows == 1:  # no entry asks for a sender's port
        sent, lost = (
            [c for c in range(plane.columns) if (m >> c & 1) == wanted]
            for m, wanted in ((bits, 1), (back, 0))
        )
        edges = plane.destination_cuts
        return [(_spread(edges, lost), _spread(edges, sent))] if sent and lost else []
    cuts = sorted({*plane.source_cuts, *plane.destination_cuts})
    rows = np.searchsorted(plane.source_cuts, cuts[:-1], side="right") - 1
    columns = np.searchsorted(plane.destination_cuts, cuts[:-1], side="right") - 1
    size = plane.rows * plane.columns
    there, answers = (
        np.unpackbits(
            np.frombuffer(m.to_bytes(size // 8 + 1, "little"), dtype=np.uint8), bitorder="little"
        )[:size].reshape(plane.rows, plane.columns)[np.ix_(rows, columns)]
        for m in (bits, back)
    )
    missing = there & ~answers.T & 1
    patterns: dict[bytes, list[int]] = {}
    for row in np.flatnonzero(missing.any(axis=1)).tolist():
        patterns.setdefault(missing[row].tobytes(), []).append(row)
    edges = tuple(cuts)
    return [
        (
            _spread(edges, mine),
            _spread(edges, np.flatnonzero(np.frombuffer(p, dtype=np.uint8)).tolist()),
        )
        for p, mine in patterns.items()
    ]


def exchanged(boxes: Iterable[Box]) -> list[Box]:
    """Boxes to cut along as well, so that the exchanged form of every atom is an atom."""
    result: list[Box] = []
    for box in boxes:
        low, high = box.protocols
        for number in sorted(p for p in PORTED if low <= p <= high):
            result.append(Box(box.family, (number, number), box.destinations, box.sources))
            result.append(Box(box.family, (number, number), box.sources, box.destinations))
    for family, kinds in ECHO.items():
        number = ICMP_OF[family]
        result += [Box(family, (number, number), (kind, kind), (0, 255)) for kind in kinds]
    return result


def _turned(plane: Plane, bits: int) -> int:
    """One plane's bits with every packet's exchanged form in its place."""
    family, protocol = plane.pairs[0]
    columns = plane.columns
    if protocol in PORTED:
        if plane.rows == columns == 1:
            return bits
        if plane.source_cuts != plane.destination_cuts:
            raise ValueError("the atoms are not cut along the exchanged boxes")
        pairs = ((r, c) for r in range(plane.rows) for c in range(columns))
        return sum((bits >> (r * columns + c) & 1) << (c * columns + r) for r, c in pairs)
    if protocol != ICMP_OF[family]:
        return bits
    stripe = (1 << columns) - 1
    swap = dict(zip(ECHO[family], reversed(ECHO[family]), strict=True))
    result = 0
    for row in range(plane.rows):
        kind = swap.get(plane.source_cuts[row])
        to = row if kind is None else plane.source_cuts.index(kind)
        result |= (bits >> (row * columns) & stripe) << (to * columns)
    return result


def boxes_of(region: Region) -> list[Box]:
    """A region as boxes: one for each run of protocols, sender's and destination's ports."""
    families = (0,) if len(region.families) == 2 else region.families
    return [
        Box(f, p, s, d)
        for f in families
        for p in region.protocols
        for s in region.sources
        for d in region.destinations
    ]


def _natural_rank(pair: tuple[int, int]) -> int:
    family, protocol = pair
    usual = (6, 17, ICMP_OF[family], 132)
    return usual.index(protocol) if protocol in usual else len(usual)


def _shapes(plane: Plane, mask: int) -> Iterator[tuple[Ranges, Ranges]]:
    bits = (mask & plane.full) >> plane.offset
    stripe = (1 << plane.columns) - 1
    rows_of: dict[int, list[int]] = {}
    for row in range(plane.rows):
        pattern = (bits >> (row * plane.columns)) & stripe
        if pattern:
            rows_of.setdefault(pattern, []).append(row)
    for pattern, rows in rows_of.items():
        columns = [c for c in range(plane.columns) if pattern >> c & 1]
        yield _spread(plane.source_cuts, rows), _spread(plane.destination_cuts, columns)


def _spread(cuts: tuple[int, ...], numbers: list[int]) -> Ranges:
    return tuple((cuts[low], cuts[high + 1] - 1) for low, high in runs(numbers))


def runs(numbers: list[int]) -> Ranges:
    """Sorted numbers as ranges without gaps."""
    found: list[tuple[int, int]] = []
    for number in numbers:
        if found and found[-1][1] == number - 1:
            found[-1] = (found[-1][0], number)
        else:
            found.append((number, number))
    return tuple(found)


def _cuts(spans: Iterable[tuple[int, int]], top: int) -> tuple[int, ...]:
    cuts = {0, top + 1}
    for low, high in spans:
        cuts.update(cut for cut in (low, high + 1) if 0 < cut <= top)
    return tuple(sorted(cuts))
