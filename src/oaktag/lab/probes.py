"""Probes: real TCP, UDP and ICMP between two namespaces; whether each arrives, and is answered.

What arrives at a host is seen on its wire (packet(7)); what arrives at a node itself, behind what
its points judge, as a program there would get it (raw(7)). An answer is one that the sender's own
socket gets.
"""

from __future__ import annotations

import asyncio
import contextlib
import errno
import socket
import struct
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import cycle, islice
from typing import NamedTuple, cast

from oaktag.errors import OakTagError
from oaktag.lab.marks import PROBE_CLASS
from oaktag.lab.namespaces import inside
from oaktag.lab.plan import Probe

#: Seconds to wait where an answer is expected, and where none is. Both end before TCP tries its
#: opening packet a second time (RFC 6298, section 2: after one second), which would count twice.
PATIENCE, SHORT = 0.9, 0.35
AT_ONCE = 1000
#: The ports that probes are sent from, one after the other.
FRESH = range(32_768, 61_000)


class Pace(NamedTuple):
    """How many probes are sent at once, and for how many seconds each is waited for."""

    at_once: int
    seconds: float


CLOSING = 64
_SOCKETS = {"tcp": socket.SOCK_STREAM, "udp": socket.SOCK_DGRAM, "icmp": socket.SOCK_DGRAM}
_PROTOCOLS = {6: "tcp", 17: "udp", 1: "icmp", 58: "icmp"}
#: ICMP's echo request and reply (RFC 792; RFC 4443, section 4).
_ECHO = {4: (8, 0), 6: (128, 129)}
_ALL, _OUTGOING = 0x0003, 4
#: IPv6 headers that may stand before what is carried (RFC 8200, section 4).
_BEFORE = frozenset({0, 43, 44, 60})


class Seen(NamedTuple):
    """What tells a probe's packets: protocol, the sender's address and port (ICMP: identifier), the
    other's."""

    protocol: str
    source: bytes
    source_port: int
    destination: bytes
    port: int

    @property
    def answer(self) -> Seen:
        """The packet that answers it."""
        return Seen(self.protocol, self.destination, self.port, self.source, self.source_port)


def seen(data: bytes) -> Seen | None:
    """What tells a packet, from its IP header on; None for what no probe sends."""
    try:
        if data[0] >> 4 == 4:
            protocol, at, ends = data[9], 4 * (data[0] & 15), (data[12:16], data[16:20])
            family = 4
        else:
            protocol, at, ends = data[6], 40, (data[8:24], data[24:40])
            family = 6
            while protocol in _BEFORE:
                protocol, at = data[at], at + 8 + 8 * (data[at + 1] if protocol != 44 else 0)
        name = _PROTOCOLS[protocol]
        if name == "icmp":
            request, reply = _ECHO[family]
            (number,) = struct.unpack_from("!H", data, at + 4)
            ports = {request: (number, 0), reply: (0, number)}[data[at]]
        else:
            ports = struct.unpack_from("!HH", data, at)
    except (IndexError, KeyError, struct.error):
        return None
    return Seen(name, ends[0], ports[0], ends[1], ports[1])


class Watching:
    """Packets seen in some namespaces while it goes on.

    Args:
        spaces: their names.
        told: called with the namespace, whether the packet goes out, and what tells it.
        behind: of these, those where only counts what programs there get.
    """

    def __init__(
        self, spaces: Iterable[str], told: Callable[[str, bool, Seen], None],
        behind: Collection[str] = (),
    ) -> None:  # fmt: skip
        self._told = told
        self._lines: list[socket.socket] = []
        self._spaces = list(dict.fromkeys(spaces))
        self._behind = behind

    def __enter__(self) -> Watching:
        loop = asyncio.get_running_loop()
        for space in self._spaces:
            with inside(space):
                for line, read in self._opened(space):
                    line.setblocking(False)
                    self._lines.append(line)
                    loop.add_reader(line, read, line, space)
        return self

    def _opened(
        self, space: str
    ) -> Iterator[tuple[socket.socket, Callable[[socket.socket, str], None]]]:
        if space not in self._behind:
            kind = socket.SOCK_DGRAM
            yield socket.socket(socket.AF_PACKET, kind, socket.htons(_ALL)), self._read
            return
        for number in _PROTOCOLS:
            if number != socket.IPPROTO_ICMPV6:
                yield socket.socket(socket.AF_INET, socket.SOCK_RAW, number), self._read_own
            if number != socket.IPPROTO_ICMP:
                line = socket.socket(socket.AF_INET6, socket.SOCK_RAW, number)
                line.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_RECVPKTINFO, 1)
                yield line, self._read_own

    def __exit__(self, *_: object) -> None:
        loop = asyncio.get_running_loop()
        for line in self._lines:
            loop.remove_reader(line)
        # Each end waits until the kernel is done with it everywhere; together they wait once.
        with ThreadPoolExecutor(CLOSING) as pool:
            list(pool.map(socket.socket.close, self._lines))

    def _read_own(self, line: socket.socket, space: str) -> None:
        with contextlib.suppress(BlockingIOError, OSError):
            while True:
                data, beside, _, place = line.recvmsg(128, 64)
                if (
                    line.family == socket.AF_INET6
                ):  # comes without its head, which is told beside it
                    ends = [
                        socket.inet_pton(line.family, place[0].partition("%")[0]),
                        beside[0][2][:16],
                    ]
                    data = struct.pack("!IHBB", 6 << 28, len(data), line.proto, 0) + b"".join(
                        (*ends, data)
                    )
                if (found := seen(data)) is not None:
                    self._told(space, False, found)

    def _read(self, line: socket.socket, space: str) -> None:
        with contextlib.suppress(BlockingIOError, OSError):
            while True:
                data, place = line.recvfrom(128)
                found = seen(data)
                if found is not None:
                    self._told(space, place[2] == _OUTGOING, found)


class Listeners:
    """Something that answers on every port that a probe asked for, as long as the lab is up."""

    def __init__(self) -> None:
        self._held: dict[tuple[str, str, str, int], asyncio.Server | asyncio.DatagramTransport] = {}

    async def listen(self, space: str, address: str, protocol: str, port: int) -> None:
        """Open a port, if it is not open."""
        key = space, address, protocol, port
        if protocol == "icmp" or key in self._held:
            return
        family = socket.AF_INET6 if ":" in address else socket.AF_INET
        with inside(space), _told_in_use(address, protocol, port):
            if protocol == "tcp":
                sock = socket.create_server(
                    (address, port), family=family, backlog=512, reuse_port=True
                )
                self._held[key] = await asyncio.start_server(_greet, sock=sock)
                return
            sock = socket.socket(family, socket.SOCK_DGRAM)
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
            sock.bind((address, port))
        sock.setblocking(False)
        loop = asyncio.get_running_loop()
        self._held[key], _ = await loop.create_datagram_endpoint(_Echo, sock=sock)

    def close(self, spaces: Iterable[str]) -> None:
        """Close all ports of namespaces that are gone."""
        gone = set(spaces)
        for key in [k for k in self._held if k[0] in gone]:
            self._held.pop(key).close()


async def _greet(_: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    writer.close()


class _Echo(asyncio.DatagramProtocol):
    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport = cast(asyncio.DatagramTransport, transport)

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        self.transport.sendto(data, addr)


@contextlib.contextmanager
def _told_in_use(address: str, protocol: str, port: int) -> Iterator[None]:
    """Say so where another program has the port.

    Raises:
        OakTagError: it has.
    """
    try:
        yield
    except OSError as error:
        if error.errno != errno.EADDRINUSE:
            raise
        told = f"another program of the lab uses {port}/{protocol} at {address}"
        raise OakTagError(f"{told}: end it, or probe another port") from None


def rounds(probes: Sequence[Probe]) -> list[list[int]]:
    """The numbers of probes that are sent together: of two that would be the answers to each other,
    for they are sent from fixed ports, the second is sent after the first."""
    ways: set[tuple[str, int, str, int, str]] = set()
    first: list[int] = []
    second: list[int] = []
    for number, p in enumerate(probes):
        back = p.destination_address, p.port, p.source_address, p.source_port, p.protocol
        if p.source_port and back in ways:
            second.append(number)
        else:
            first.append(number)
            ways.add((p.source_address, p.source_port, p.destination_address, p.port, p.protocol))
    return [numbers for numbers in (first, second) if numbers]


class Fared(NamedTuple):
    """What became of a probe."""

    arrived: bool
    answered: bool


class Lost(NamedTuple):
    """Where a probe's packet was seen last and where its answer was: namespaces of nodes that it
    came into and did not leave; empty where there is none."""

    request: str
    answer: str


class Prober:
    """Sends probes between namespaces.

    Args:
        space_of: the namespace of a host or a node by its name.
        is_node: whether a name is a node's.
    """

    def __init__(self, space_of: Callable[[str], str], is_node: Callable[[str], bool]) -> None:
        self._space_of, self._is_node = space_of, is_node
        self._fresh = cycle(FRESH)
        self.listeners = Listeners()

    async def send(
        self, probes: Sequence[Probe], meant: Sequence[bool], pace: Pace | None = None
    ) -> list[Fared]:
        """Send each probe once.

        Args:
            probes: what to send.
            meant: of which an answer is expected.
            pace: how many at once, and for how long each is waited for.
        """
        arrivals: set[tuple[str, bool, Seen | None]] = set()
        spaces = {self._space_of(p.destination) for p in probes}
        own = {self._space_of(p.destination) for p in probes if self._is_node(p.destination)}
        keys, answered = await self._watched(probes, meant, spaces, arrivals, own, pace)
        return [
            Fared((self._space_of(p.destination), False, key) in arrivals, got)
            for p, key, got in zip(probes, keys, answered, strict=True)
        ]

    async def follow(self, probes: Sequence[Probe], nodes: Iterable[str]) -> list[Lost]:
        """Send each probe once more, and see at which node it, or its answer, is lost."""
        spaces = list(nodes)
        met: set[tuple[str, bool, Seen | None]] = set()
        keys, _ = await self._watched(probes, [True] * len(probes), spaces, met)
        found = []
        for probe, key in zip(probes, keys, strict=True):
            ends = {self._space_of(probe.source), self._space_of(probe.destination)}
            ways = (key, key.answer) if key else ()
            at = [
                next((s for s in spaces if s not in ends and (s, False, way) in met
                      and (s, True, way) not in met), "")
                for way in ways
            ]  # fmt: skip
            found.append(Lost(*at) if at else Lost("", ""))
        return found

    async def _watched(
        self, probes: Sequence[Probe], meant: Sequence[bool], spaces: Iterable[str],
        met: set[tuple[str, bool, Seen | None]], behind: Collection[str] = (),
        pace: Pace | None = None,
    ) -> tuple[list[Seen | None], list[bool]]:  # fmt: skip
        for p in probes:
            space = self._space_of(p.destination)
            await self.listeners.listen(space, p.destination_address, p.protocol, p.port)
        gate = asyncio.Semaphore(pace.at_once if pace else AT_ONCE)

        async def one(probe: Probe, expected: bool) -> tuple[Seen | None, bool]:
            async with gate:
                usual = PATIENCE if expected else SHORT
                return await self._send(probe, pace.seconds if pace else usual)

        with Watching(spaces, lambda space, out, key: met.add((space, out, key)), behind):
            told = await asyncio.gather(*map(one, probes, meant))
        return [key for key, _ in told], [got for _, got in told]

    async def _send(self, probe: Probe, patience: float) -> tuple[Seen | None, bool]:
        six = ":" in probe.source_address
        family = socket.AF_INET6 if six else socket.AF_INET
        number = 0
        if probe.protocol == "icmp":
            number = socket.IPPROTO_ICMPV6 if six else socket.IPPROTO_ICMP
        with inside(self._space_of(probe.source)):
            sock = socket.socket(family, _SOCKETS[probe.protocol], number)
        key = None
        try:
            sock.setblocking(False)
            if six:
                sock.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_TCLASS, PROBE_CLASS << 2)
            else:
                sock.setsockopt(socket.IPPROTO_IP, socket.IP_TOS, PROBE_CLASS << 2)
            self._bind(sock, probe)
            ends = [
                socket.inet_pton(family, a)
                for a in (probe.source_address, probe.destination_address)
            ]
            key = Seen(probe.protocol, ends[0], sock.getsockname()[1], ends[1], probe.port)
            return key, await asyncio.wait_for(_ask(sock, probe, six), patience)
        except (TimeoutError, OSError):
            return key, False
        finally:
            sock.close()

    def _bind(self, sock: socket.socket, probe: Probe) -> None:
        """Give a socket the port that a probe asks for, or one that none had for a long time: a
        packet from the port of an earlier probe may pass as part of that one's flow, uncounted."""
        if probe.source_port:  # where its own host may listen
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
            with _told_in_use(probe.source_address, probe.protocol, probe.source_port):
                sock.bind((probe.source_address, probe.source_port))
            return
        for port in islice(self._fresh, len(FRESH)):
            try:
                sock.bind((probe.source_address, port))
            except OSError as error:
                if error.errno != errno.EADDRINUSE:
                    raise
            else:
                return


async def _ask(sock: socket.socket, probe: Probe, six: bool) -> bool:
    loop = asyncio.get_running_loop()
    place = probe.destination_address, probe.port
    if probe.protocol == "tcp":
        await loop.sock_connect(sock, place)
        return True
    sock.connect(place)
    message = b"oak tag"
    if probe.protocol == "icmp":
        # Echo request; the kernel fills in identifier and sum.
        message = struct.pack("!BBHHH", _ECHO[6 if six else 4][0], 0, 0, 0, 1) + message
    await loop.sock_sendall(sock, message)
    return bool(await loop.sock_recv(sock, 64))
