"""RADIUS: accounting (RFC 2866), log-ins (RFC 2865), changes of authorization (RFC 5176).

Rules kept here: a packet counts only if whoever sent it knows the secret that is shared with its
address. An accounting request proves it by its authenticator (RFC 2866, section 3), a log-in and
the answer to a change by a Message-Authenticator (RFC 3579, section 3.2), which a log-in must have:
without it nothing in a request would be signed. What is malformed changes nothing.
"""

from __future__ import annotations

import ipaddress
import struct
from collections import OrderedDict
from collections.abc import Iterable, Mapping, Sequence
from functools import cache
from importlib import resources
from io import StringIO
from typing import NamedTuple

from pyrad.dictionary import Dictionary
from pyrad.packet import (
    AccessAccept,
    AccessReject,
    AccessRequest,
    AccountingRequest,
    AccountingResponse,
    AcctPacket,
    AuthPacket,
    CoAACK,
    CoANAK,
    CoAPacket,
    CoARequest,
    DisconnectACK,
    DisconnectNAK,
    DisconnectRequest,
    Packet,
    PacketError,
)

from oaktag.core.addresses import Prefix, parse_prefix
from oaktag.core.session_records import Kind, Record

#: A packet has at least a header, and at most so many octets (RFC 2865, section 3).
LEAST, MOST = 20, 4096
#: A node's clock may be ahead of ours by so many microseconds; what says more is taken as said now.
AHEAD = 300_000_000
SECOND = 1_000_000

_KINDS: dict[int, Kind] = {1: "start", 2: "stop", 3: "interim", 7: "restart", 8: "restart"}
#: What is kept of a session besides: attributes by their numbers, with texts or numbers in them.
_TEXTS = {30: "called-station-id", 31: "calling-station-id", 32: "nas-identifier",
          77: "connect-info", 87: "nas-port-id"}  # fmt: skip
_NUMBERS = {5: "nas-port", 6: "service-type", 61: "nas-port-type"}
#: Addresses that say that the node is to choose (RFC 2865, section 5.8).
_NO_ADDRESS = {0, 0xFFFFFFFE, 0xFFFFFFFF}


class Refused(Exception):
    """A packet that changes nothing; ``why`` is one of a few words, to be counted by."""

    def __init__(self, why: str) -> None:
        super().__init__(why)
        self.why = why


class Told(NamedTuple):
    """An accounting request: what it says, or None where that is none of our business; and the
    answer, to be sent when that is kept."""

    record: Record | None
    answer: bytes


class Login(NamedTuple):
    """A request of one who is authenticated already: by what names, where, and what else is told.

    Attributes:
        names: the user's name, and the address of the device, as far as they are told.
        node: the name, or the address, by which the node calls itself; "" where it does not.
    """

    names: tuple[str, ...]
    node: str
    told: tuple[tuple[str, str], ...]
    packet: Packet


class Given(NamedTuple):
    """An attribute of an answer: its number, that of the vendor whose own it is (0: of everybody),
    and its value: text, or a number of four octets (RFC 2865, section 5)."""

    number: int
    vendor: int
    value: str | int


@cache
def _dictionary() -> Dictionary:
    held = resources.files("oaktag").joinpath("protocols/radius.dictionary")
    return Dictionary(StringIO(held.read_text(encoding="ascii")))


def accounting(data: bytes, secret: bytes, sender: str, arrived: int) -> Told:
    """An accounting request, verified.

    Args:
        data: the datagram.
        secret: what is shared with its sender.
        sender: the sender's address, which is the node's name where it has none.
        arrived: when it came, in microseconds of the Unix epoch.

    Raises:
        Refused: it is none, or its sender does not know the secret.
    """
    packet = _decoded(data, AccountingRequest, secret, AcctPacket)
    if not packet.VerifyAcctRequest():
        raise Refused("wrong secret")
    if _raw(packet, 80) and not _signed(packet, secret):
        raise Refused("wrong secret")
    return Told(_record(packet, sender, arrived), _answer(packet))


def login(data: bytes, secret: bytes) -> Login:
    """An access request, verified.

    Raises:
        Refused: it is none, is not signed, or its sender does not know the secret.
    """
    packet = _decoded(data, AccessRequest, secret, AuthPacket)
    if not _raw(packet, 80):
        raise Refused("no Message-Authenticator")
    if not _signed(packet, secret):
        raise Refused("wrong secret")
    names = [_text(packet, 1), _text(packet, 31)]
    return Login(tuple(n for n in names if n), _node(packet, ""), _told(packet), packet)


def answered(asked: Login, given: Sequence[Given], *, accept: bool) -> bytes:
    """The answer to a log-in, signed."""
    reply = asked.packet.CreateReply()
    reply.code = AccessAccept if accept else AccessReject
    _pass_on(asked.packet, reply)
    _put(reply, given if accept else ())
    reply.add_message_authenticator()
    return bytes(reply.ReplyPacket())


def change(
    number: int, secret: bytes, named: Mapping[int, str], given: Sequence[Given]
) -> CoAPacket:
    """A change of authorization for a session (RFC 5176, section 2.2); its bytes are those of its
    ``RequestPacket()``.

    Args:
        number: by which the answer is known, 0 to 255.
        secret: what is shared with the node.
        named: what the session is known by, attributes by their numbers.
        given: what it is to have from now on.
    """
    packet = CoAPacket(
        code=CoARequest, id=number, secret=secret, dict=_dictionary(), message_authenticator=True
    )
    _put(packet, [Given(code, 0, value) for code, value in sorted(named.items())])
    _put(packet, given)
    return packet


def end(number: int, secret: bytes, named: Mapping[int, str]) -> CoAPacket:
    """A request to end a session (RFC 5176, section 2.1); arguments as of :func:`change`."""
    packet = CoAPacket(
        code=DisconnectRequest, id=number, secret=secret, dict=_dictionary(),
        message_authenticator=True,
    )  # fmt: skip
    _put(packet, [Given(code, 0, value) for code, value in sorted(named.items())])
    return packet


def acknowledged(asked: CoAPacket, data: bytes) -> bool:
    """Whether an answer to a change, or to the request to end a session, says that it was done.

    Raises:
        Refused: it is no answer to it, or not of one who knows the secret.
    """
    try:
        reply = Packet(packet=data, dict=_dictionary(), secret=asked.secret)
    except PacketError:
        raise Refused("malformed") from None
    done, refused = (CoAACK, CoANAK) if asked.code == CoARequest else (DisconnectACK, DisconnectNAK)
    if reply.code not in (done, refused) or reply.id != asked.id:
        raise Refused("no answer")
    if not asked.VerifyReply(reply, data):
        raise Refused("wrong secret")
    return bool(reply.code == done)


def asked_login(secret: bytes, named: Mapping[int, str]) -> AuthPacket:
    """A request to log in, signed, of one who is authenticated already: as a node, or the server
    that authenticates for it, sends it; its bytes are those of its ``RequestPacket()``.

    Args:
        secret: what is shared with whoever answers.
        named: what it says, texts by the numbers of their attributes.
    """
    packet = AuthPacket(secret=secret, dict=_dictionary())
    _put(packet, [Given(code, 0, value) for code, value in sorted(named.items())])
    packet.add_message_authenticator()
    return packet


def asked_accounting(
    secret: bytes, kind: Kind, named: Mapping[int, str], address: Prefix
) -> AcctPacket:
    """An accounting request: the session of somebody at an address begins, or is over.

    Args:
        secret: what is shared with whoever keeps it.
        kind: ``start``, ``stop`` or ``interim``.
        named: what it says, texts by the numbers of their attributes.
        address: one address of either family.
    """
    packet = AcctPacket(secret=secret, dict=_dictionary())
    _put(packet, [Given(code, 0, value) for code, value in sorted(named.items())])
    _put(packet, [Given(40, 0, next(n for n, k in _KINDS.items() if k == kind))])
    code, size = (8, 4) if address.family == 4 else (168, 16)
    OrderedDict.__setitem__(packet, code, [address.start.to_bytes(size, "big")])
    return packet


def replied(asked: AuthPacket | AcctPacket, data: bytes) -> tuple[bool, list[Given]]:
    """Whether an answer to a request says yes, and what it gives.

    Raises:
        Refused: it is no answer to it, or not of one who knows the secret.
    """
    try:
        reply = Packet(packet=data, dict=_dictionary(), secret=asked.secret)
    except (PacketError, struct.error, ValueError, IndexError, KeyError):
        raise Refused("malformed") from None
    if reply.code not in (AccessAccept, AccessReject, AccountingResponse) or reply.id != asked.id:
        raise Refused("no answer")
    if not asked.VerifyReply(reply, data):
        raise Refused("wrong secret")
    given: list[Given] = []
    for key in OrderedDict.keys(reply):
        vendor, number = key if isinstance(key, tuple) else (0, key)
        for held in OrderedDict.__getitem__(reply, key):
            value = int.from_bytes(held, "big") if vendor else held.decode("utf-8", "replace")
            given.append(Given(number, vendor, value))
    return bool(reply.code != AccessReject), given


def _decoded(data: bytes, code: int, secret: bytes, kind: type[Packet]) -> Packet:
    if not LEAST <= len(data) <= MOST:
        raise Refused("malformed")
    length = int.from_bytes(data[2:4], "big")
    if not LEAST <= length <= len(data):
        raise Refused("malformed")
    if data[0] != code:
        raise Refused("another kind of packet")
    try:
        return kind(packet=data, secret=secret, dict=_dictionary())
    except (PacketError, struct.error, ValueError, IndexError, KeyError):
        raise Refused("malformed") from None


def _signed(packet: Packet, secret: bytes) -> bool:
    held = _raw(packet, 80)
    if len(held) != 1 or len(held[0]) != 16:
        return False
    try:
        return bool(packet.verify_message_authenticator(secret=secret))
    except (PacketError, struct.error, ValueError):
        return False


def _raw(packet: Packet, code: int) -> list[bytes]:
    held: list[bytes] = dict.get(packet, code, [])
    return held


def _text(packet: Packet, code: int) -> str:
    """An attribute's first value as text, without what is no letter; "" where it has none."""
    held = _raw(packet, code)
    text = held[0].decode("utf-8", "replace") if held else ""
    return "".join(c if c.isprintable() else "\ufffd" for c in text).strip()


def _number(packet: Packet, code: int) -> int | None:
    held = _raw(packet, code)
    return int.from_bytes(held[0], "big") if held and len(held[0]) == 4 else None


def _told(packet: Packet) -> tuple[tuple[str, str], ...]:
    found = {name: _text(packet, code) for code, name in _TEXTS.items()}
    for code, name in _NUMBERS.items():
        if (number := _number(packet, code)) is not None:
            found[name] = str(number)
    return tuple(sorted((name, text) for name, text in found.items() if text))


def _addresses(packet: Packet) -> tuple[Prefix, ...]:
    found: list[Prefix] = []
    four = _number(packet, 8)
    if four is not None and four not in _NO_ADDRESS:
        found.append(Prefix(4, four, 32))
    six = [held for held in _raw(packet, 168) if len(held) == 16]
    for held in _raw(packet, 97):  # a reserved octet, the length, and as much as it needs
        if len(held) >= 2 and held[1] == 128 and len(held) == 18:
            six.append(held[2:])
    # As text and back: an IPv4-mapped address is the IPv4 one.
    found += (parse_prefix(str(ipaddress.IPv6Address(held))) for held in six if any(held))
    return tuple(sorted(set(found)))


def _node(packet: Packet, sender: str) -> str:
    """What the node calls itself: by address, or else by name."""
    for code, size in ((4, 4), (95, 16)):
        held = _raw(packet, code)
        if held and len(held[0]) == size and any(held[0]):
            return str(ipaddress.ip_address(held[0]))
    return _text(packet, 32) or sender


def _record(packet: Packet, sender: str, arrived: int) -> Record | None:
    kind = _KINDS.get(_number(packet, 40) or 0)
    if kind is None:
        return None
    stamp, late = _number(packet, 55), _number(packet, 41) or 0
    time = arrived - late * SECOND if stamp is None else stamp * SECOND
    if time > arrived + AHEAD:
        time = arrived
    node = _node(packet, sender)
    if kind == "restart":
        return Record(time, kind, node)
    session, who = _text(packet, 44), _text(packet, 1) or _text(packet, 31)
    if not session or not who:
        raise Refused("names no session or nobody")
    return Record(time, kind, node, session, who, _addresses(packet), _told(packet))


def _answer(packet: Packet) -> bytes:
    reply = packet.CreateReply()
    _pass_on(packet, reply)
    return bytes(reply.ReplyPacket())


def _pass_on(packet: Packet, reply: Packet) -> None:
    """What a proxy put there goes back as it is (RFC 2865, section 5.33)."""
    if held := _raw(packet, 33):
        OrderedDict.__setitem__(reply, 33, list(held))


def _put(packet: Packet, given: Iterable[Given]) -> None:
    for number, vendor, value in given:
        octets = value.to_bytes(4, "big") if isinstance(value, int) else value.encode()[:253]
        key: int | tuple[int, int] = (vendor, number) if vendor else number
        if not OrderedDict.__contains__(packet, key):
            OrderedDict.__setitem__(packet, key, [])
        OrderedDict.__getitem__(packet, key).append(octets)
