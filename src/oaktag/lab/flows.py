"""The flows that a node's kernel knows, and their end: the connection tracking table.

It is read from /proc/net/nf_conntrack; a flow is ended by netlink (linux/netfilter/nfnetlink.h and
nfnetlink_conntrack.h). The next packet of a flow that was ended is judged as one that opens a flow.
"""

from __future__ import annotations

import re
import socket
import struct
from pathlib import Path
from typing import NamedTuple

from oaktag.core.addresses import parse_address
from oaktag.core.packets import ICMP_OF, Packet
from oaktag.lab.netlink import NESTED, NETFILTER, attribute

TABLE = Path("/proc/thread-self/net/nf_conntrack")
_FAMILIES = {"ipv4": 4, "ipv6": 6}
_FAMILY_OF = {4: socket.AF_INET, 6: socket.AF_INET6}
_FIELD = re.compile(r"([a-z]+)=([^ ]+)")
#: NFNL_SUBSYS_CTNETLINK with IPCTNL_MSG_CT_DELETE; NLM_F_REQUEST and NLM_F_ACK.
_DELETE, _FLAGS, _ERROR = 1 << 8 | 2, 1 | 4, 2
_TUPLE_ORIG, _TUPLE_IP, _TUPLE_PROTO = 1, 1, 2
_ADDRESSES = {4: (1, 2), 6: (3, 4)}
_NUMBER, _SOURCE_PORT, _DESTINATION_PORT = 1, 2, 3
#: For each family the attributes of ICMP's identifier, type and code.
_ICMP = {4: (4, 5, 6), 6: (7, 8, 9)}
_NO_SUCH = 2


class Flow(NamedTuple):
    """A flow by the packet that opened it; ``frame`` is the tag that came in its frame, ``number``
    the identifier of an ICMP query."""

    packet: Packet
    source: str
    destination: str
    frame: int
    number: int


def flows() -> list[Flow]:
    """The flows that are known in the namespace that we are in."""
    try:
        text = TABLE.read_text(encoding="ascii")
    except FileNotFoundError:
        return []  # nothing there asks for flows
    return [found for line in text.splitlines() if (found := _flow(line)) is not None]


def _flow(line: str) -> Flow | None:
    words = line.split()
    family, protocol = _FAMILIES.get(words[0]), int(words[3])
    fields: dict[str, str] = {}
    for name, value in _FIELD.findall(line):
        fields.setdefault(name, value)  # those of the way out come first
    if family is None:
        return None
    if protocol == ICMP_OF[family]:
        ports = int(fields.get("type", 0)), int(fields.get("code", 0))
    else:
        ports = int(fields.get("sport", 0)), int(fields.get("dport", 0))
    return Flow(
        Packet(family, protocol, *ports), fields["src"], fields["dst"],
        int(fields.get("mark", 0)) & 0xFFFF, int(fields.get("id", 0)),
    )  # fmt: skip


def end(gone: list[Flow]) -> None:
    """Let the namespace that we are in forget some flows.

    Raises:
        OSError: the kernel refuses.
    """
    if not gone:
        return
    with socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, NETFILTER) as line:
        line.bind((0, 0))
        for number, flow in enumerate(gone):
            line.send(_deletion(flow, number))
            said = line.recv(1 << 16)
            (kind,) = struct.unpack_from("=H", said, 4)
            if kind == _ERROR:
                (error,) = struct.unpack_from("=i", said, 16)
                if -error not in (0, _NO_SUCH):
                    raise OSError(-error, "a flow could not be ended")


def _deletion(flow: Flow, number: int) -> bytes:
    packet = flow.packet
    source, destination = _ADDRESSES[packet.family]
    width = 4 if packet.family == 4 else 16
    ends = [parse_address(a)[1].to_bytes(width, "big") for a in (flow.source, flow.destination)]
    addresses = attribute(source, ends[0]) + attribute(destination, ends[1])
    fields = [(_NUMBER, bytes([packet.protocol]))]
    if packet.protocol == ICMP_OF[packet.family]:
        values = (
            flow.number.to_bytes(2, "big"), bytes([packet.source_port]),
            bytes([packet.destination_port]),
        )  # fmt: skip
        fields += zip(_ICMP[packet.family], values, strict=True)
    else:
        fields += [
            (_SOURCE_PORT, packet.source_port.to_bytes(2, "big")),
            (_DESTINATION_PORT, packet.destination_port.to_bytes(2, "big")),
        ]
    protocol = b"".join(attribute(kind, value) for kind, value in fields)
    body = struct.pack("=BBH", _FAMILY_OF[packet.family], 0, 0) + attribute(
        _TUPLE_ORIG | NESTED,
        attribute(_TUPLE_IP | NESTED, addresses) + attribute(_TUPLE_PROTO | NESTED, protocol),
    )
    return struct.pack("=IHHII", 16 + len(body), _DELETE, _FLAGS, number, 0) + body
