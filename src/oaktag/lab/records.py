"""What the kernel records of packets: the log socket (linux/netfilter/nfnetlink_log.h).

The lists record to one group, with the cell and the keys of the entry before each record. Beside
them each node records the packets that open a flow before its points have judged them, and after:
what is in the first and not in the second was dropped there.
"""

from __future__ import annotations

import socket
import struct
from typing import NamedTuple

from oaktag.core.addresses import address_text
from oaktag.core.packets import ICMP_OF, Packet
from oaktag.dialects.nftables import LOG_GROUP
from oaktag.lab.marks import AFTER, BEFORE
from oaktag.lab.namespaces import inside
from oaktag.lab.netlink import NETFILTER, attribute, attributes

#: NFNL_SUBSYS_ULOG with NFULNL_MSG_CONFIG and NFULNL_MSG_PACKET.
_CONFIG, _PACKET, _FLAGS = 4 << 8 | 1, 4 << 8, 1 | 4
_COMMAND, _MODE, _TIMEOUT, _BIND, _COPY_PACKET = 1, 2, 4, 1, 2
#: Hundredths of a second for which the kernel gathers records before it tells them; by itself it
#: does so for a whole second, of each group by its own clock.
_GATHERED = 1
_MARK, _PAYLOAD, _PREFIX = 2, 9, 10
#: So much of a packet is enough to tell it.
_COPIED = 128
GROUPS = (LOG_GROUP, BEFORE, AFTER)


class Record(NamedTuple):
    """One record: its group, what stands before it, the packet and its addresses, its mark."""

    group: int
    prefix: str
    packet: Packet
    source: str
    destination: str
    mark: int

    @property
    def flow(self) -> tuple[Packet, str, str]:
        """What tells the flow that it opens."""
        return self.packet, self.source, self.destination


def listen(space: str, group: int) -> socket.socket:
    """A socket that gets the records of one group in a namespace.

    Raises:
        OSError: the kernel refuses, or somebody else reads them.
    """
    with inside(space):
        line = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, NETFILTER)
    line.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 22)
    line.bind((0, 0))
    mode = struct.pack("!IBx", _COPIED, _COPY_PACKET)
    gathered = struct.pack("!I", _GATHERED)
    for kind, value in ((_COMMAND, bytes([_BIND])), (_MODE, mode), (_TIMEOUT, gathered)):
        body = struct.pack("=BB", socket.AF_UNSPEC, 0) + struct.pack("!H", group)
        body += attribute(kind, value)
        line.send(struct.pack("=IHHII", 16 + len(body), _CONFIG, _FLAGS, kind, 0) + body)
        (error,) = struct.unpack_from("=i", line.recv(1 << 16), 16)
        if error:
            raise OSError(-error, f"records of group {group} cannot be read")
    line.setblocking(False)
    return line


def read(data: bytes, group: int) -> list[Record]:
    """The records in what a socket got."""
    found: list[Record] = []
    at = 0
    while at + 16 <= len(data):
        size, kind = struct.unpack_from("=IH", data, at)
        if size < 16:
            break
        if kind == _PACKET:
            held = dict(attributes(data[at + 20 : at + size]))
            record = _record(held, group)
            if record is not None:
                found.append(record)
        at += size + (-size % 4)
    return found


def _record(held: dict[int, bytes], group: int) -> Record | None:
    told = packet_of(held.get(_PAYLOAD, b""))
    if told is None:
        return None
    prefix = held.get(_PREFIX, b"").rstrip(b"\0").decode("ascii", "replace")
    mark = int.from_bytes(held.get(_MARK, b"\0"), "big")
    return Record(group, prefix, *told, mark)


def packet_of(data: bytes) -> tuple[Packet, str, str] | None:
    """A packet and its two addresses, from its IP header on; None for what is cut off."""
    try:
        if data[0] >> 4 == 4:
            family, protocol, at, ends = 4, data[9], 4 * (data[0] & 15), (data[12:16], data[16:20])
        else:
            family, protocol, at, ends = 6, data[6], 40, (data[8:24], data[24:40])
            while protocol in (0, 43, 60):  # headers before what is carried (RFC 8200, section 4)
                protocol, at = data[at], at + 8 + 8 * data[at + 1]
        ports = (0, 0)
        if protocol == ICMP_OF[family]:
            ports = data[at], data[at + 1]
        elif protocol in (6, 17, 132):
            ports = struct.unpack_from("!HH", data, at)
    except (IndexError, struct.error):
        return None
    source, destination = (address_text(family, int.from_bytes(e, "big")) for e in ends)
    return Packet(family, protocol, *ports), source, destination
