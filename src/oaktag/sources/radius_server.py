"""Who tells of sessions, and asks for log-ins, by RADIUS: the sockets, and what is told of them.

Rules kept here (live.md, Sessions): what is acknowledged is kept before; when more comes than can
be kept, it is left unanswered, and its sender says it again. What comes twice is answered twice,
and counts once. What is malformed, unsigned or from nobody we know is counted and changes nothing.
"""

from __future__ import annotations

import asyncio
import contextlib
import ipaddress
import socket
import time
from collections import Counter, OrderedDict, deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any, NamedTuple, TypeVar, cast

from pyrad.packet import CoAPacket

from oaktag.core.addresses import Prefix
from oaktag.core.session_records import Record
from oaktag.errors import OakTagError
from oaktag.protocols.radius import (
    Given,
    Login,
    Refused,
    accounting,
    acknowledged,
    answered,
    login,
)

#: So many datagrams wait at most; what comes then is left.
WAITING = 20_000
#: So many are worked on at once.
TOGETHER = 256
#: So many answers are kept for those who ask again, and so long (seconds; RFC 5080, section 2.2.2).
ANSWERS, KEPT_FOR = 50_000, 30.0
#: The kernel holds so many octets for us.
BUFFER = 8 << 20
#: A change is sent so often, and waited for so long, in seconds (RFC 5080, section 2.2.1).
SENT, PATIENCE = 3, 2.0

#: What keeps records: it returns when they are kept, and raises OakTagError where they are not.
Keep = Callable[[Sequence[Record], int], None]
#: What answers a log-in of a sender: what it is given, and whether it is accepted.
Answer = Callable[[Login, str], tuple[Sequence[Given], bool]]


#: What is made of an answer.
Said = TypeVar("Said")


class Client(NamedTuple):
    """Those who share a secret with us, by their addresses."""

    prefix: Prefix
    secret: bytes


class _Waiting(NamedTuple):
    kind: str
    transport: asyncio.DatagramTransport
    sender: Any
    data: bytes
    arrived: int


@dataclass(slots=True)
class Listener:
    """Takes in what comes.

    Args:
        clients: who may tell and ask.
        keep: what keeps records.
        answer: what answers log-ins.

    Attributes:
        counts: how much of everything there was, by a few words each.
        complain: called with a sentence where something cannot be kept.
    """

    clients: Sequence[Client]
    keep: Keep
    answer: Answer
    complain: Callable[[str], None] = lambda _: None
    counts: Counter[str] = field(default_factory=Counter)
    _waiting: deque[_Waiting] = field(default_factory=deque)
    _come: asyncio.Event = field(default_factory=asyncio.Event)
    _answers: OrderedDict[tuple[Any, bytes], tuple[float, bytes]] = field(
        default_factory=OrderedDict
    )
    _begun: asyncio.Task[None] | None = None
    _transports: list[asyncio.DatagramTransport] = field(default_factory=list)

    async def open(self, kind: str, address: str, port: int) -> tuple[str, int]:
        """Listen at an address, for ``accounting`` or ``login``; returns where.

        Raises:
            OakTagError: that cannot be had.
        """
        family = socket.AF_INET6 if ":" in address else socket.AF_INET
        one = socket.socket(family, socket.SOCK_DGRAM)
        try:
            if family == socket.AF_INET6:
                one.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
            one.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, BUFFER)
            one.bind((address, port))
        except OSError as error:
            one.close()
            raise OakTagError(f"{address} port {port}: {error.strerror}") from None
        loop = asyncio.get_running_loop()
        transport, _ = await loop.create_datagram_endpoint(lambda: _Protocol(self, kind), sock=one)
        self._transports.append(transport)
        where = transport.get_extra_info("sockname")
        return where[0], where[1]

    def close(self) -> None:
        """Listen no more."""
        for transport in self._transports:
            transport.close()

    @property
    def waiting(self) -> int:
        """How many datagrams wait to be worked on."""
        return len(self._waiting)

    def came(
        self, kind: str, transport: asyncio.DatagramTransport, data: bytes, sender: Any
    ) -> None:
        """A datagram came."""
        self.counts[f"{kind} received"] += 1
        if len(self._waiting) >= WAITING:
            self.counts["left: too many wait"] += 1
            return
        self._waiting.append(_Waiting(kind, transport, sender, data, time.time_ns() // 1000))
        self._come.set()

    async def work(self) -> None:
        """Work on what comes, until cancelled; what has been taken up by then is finished."""
        while True:
            await self._come.wait()
            some = [self._waiting.popleft() for _ in range(min(len(self._waiting), TOGETHER))]
            if not self._waiting:
                self._come.clear()
            self._begun = asyncio.create_task(self._batch(some))
            await asyncio.shield(self._begun)
            await asyncio.sleep(0)

    async def finish(self) -> None:
        """Wait for what was taken up before :meth:`work` was cancelled."""
        if self._begun is not None:
            await asyncio.gather(self._begun, return_exceptions=True)

    async def _batch(self, some: list[_Waiting]) -> None:
        records: list[Record] = []
        replies: list[tuple[_Waiting, bytes]] = []
        for one in some:
            key = one.sender, one.data[:20]
            if key in self._answers:
                self.counts["asked again"] += 1
                one.transport.sendto(self._answers[key][1], one.sender)
                continue
            try:
                reply = self._worked(one, records)
            except Refused as error:
                self.counts[f"refused: {error.why}"] += 1
                continue
            replies.append((one, reply))
        if records:
            try:
                await asyncio.to_thread(self.keep, records, some[-1].arrived)
            except OakTagError as error:
                # Who logs in need not wait for that.
                logins = [(one, reply) for one, reply in replies if one.kind == "login"]
                self.counts["left: not kept"] += len(replies) - len(logins)
                self.complain(str(error))
                replies = logins
            else:
                self.counts["records kept"] += len(records)
        now = time.monotonic()
        for one, reply in replies:
            self._answers[one.sender, one.data[:20]] = now, reply
            one.transport.sendto(reply, one.sender)
            self.counts[f"{one.kind} answered"] += 1
        while self._answers and (
            len(self._answers) > ANSWERS or next(iter(self._answers.values()))[0] < now - KEPT_FOR
        ):
            self._answers.popitem(last=False)

    def _worked(self, one: _Waiting, records: list[Record]) -> bytes:
        sender = str(one.sender[0]).partition("%")[0]
        secret = self.secret_of(sender)
        if secret is None:
            raise Refused("no client of ours")
        if one.kind == "accounting":
            told = accounting(one.data, secret, sender, one.arrived)
            if told.record is not None:
                records.append(told.record)
            return told.answer
        asked = login(one.data, secret)
        given, accept = self.answer(asked, sender)
        self.counts["log-ins accepted" if accept else "log-ins rejected"] += 1
        return answered(asked, given, accept=accept)

    def secret_of(self, address: str) -> bytes | None:
        """What is shared with an address: by the longest prefix that holds it."""
        held = ipaddress.ip_address(address)
        number, family = int(held), held.version
        best: Client | None = None
        for client in self.clients:
            prefix = client.prefix
            inside = prefix.family == family and prefix.start <= number <= prefix.end
            if inside and (best is None or prefix.length > best.prefix.length):
                best = client
        return None if best is None else best.secret


class _Protocol(asyncio.DatagramProtocol):
    def __init__(self, listener: Listener, kind: str) -> None:
        self.listener, self.kind = listener, kind

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport = cast("asyncio.DatagramTransport", transport)

    def datagram_received(self, data: bytes, addr: Any) -> None:
        self.listener.came(self.kind, self.transport, data, addr)

    def error_received(self, exc: Exception) -> None:
        self.listener.counts["answers that did not arrive"] += 1


async def ask_change(packet: CoAPacket, address: str, port: int) -> str:
    """Send a change of authorization, again if nothing comes back.

    Returns:
        ``acknowledged``, ``refused`` or ``no answer``.
    """
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    with socket.socket(family, socket.SOCK_DGRAM) as one, contextlib.suppress(OSError):
        one.connect((address, port))
        done = await asked(one, packet.RequestPacket(), partial(acknowledged, packet))
        if done is not None:
            return "acknowledged" if done else "refused"
    return "no answer"


async def asked(one: socket.socket, data: bytes, read: Callable[[bytes], Said]) -> Said | None:
    """Send a request on a connected socket, again if nothing comes back, and read what does; None
    where nothing came. What ``read`` refuses is no answer."""
    loop = asyncio.get_running_loop()
    one.setblocking(False)
    for _ in range(SENT):
        await loop.sock_sendall(one, data)
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(PATIENCE):
                while True:
                    said = await loop.sock_recv(one, 4096)
                    with contextlib.suppress(Refused):
                        return read(said)
    return None
