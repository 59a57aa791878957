"""Frames on a node's links, and the tags in them.

On a link that carries tags they stand in the header of VXLAN with the group extension (RFC 7348,
section 5; draft-smith-vxlan-group-policy, section 2.1): frames are taken from the wire below it.
"""

from __future__ import annotations

import asyncio
import socket
import struct
import time
from typing import NamedTuple

from oaktag.lab.namespaces import inside
from oaktag.lab.records import packet_of

_ALL, _OUTGOING = 0x0003, 4
_ETHERNET, _TYPES = 14, (0x0800, 0x86DD)
_UDP, _VXLAN_PORT, _VXLAN, _GROUP_THERE = 17, 4789, 8, 0x80
#: Of each frame so much is kept.
SNAP = 4096


class Frame(NamedTuple):
    """One frame on a link: when, which device, whether it goes out, the tag in it (0: none), what
    it carries (packet, source, destination), and its bytes."""

    time: float
    device: str
    out: bool
    tag: int
    carried: tuple[list[int], str, str]
    data: bytes


async def capture(
    space: str, devices: dict[str, bool], seconds: float, count: int, tag: int | None
) -> list[Frame]:
    """Frames with packets in them, for some time or until they are so many.

    Args:
        space: the node's namespace.
        devices: those to listen on; true: tags stand in their frames.
        seconds, count: when to end.
        tag: only frames with it; 0: without any.
    """
    found: list[Frame] = []
    full = asyncio.Event()
    with inside(space):
        line = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(_ALL))
    line.setblocking(False)

    def take() -> None:
        try:
            while len(found) < count:
                data, place = line.recvfrom(SNAP)
                device = place[0]
                if device not in devices:
                    continue
                read = _read(data, tagged=devices[device])
                if read is not None and tag in (None, read[0]):
                    packet, *ends = read[1]
                    carried = list(packet), ends[0], ends[1]
                    out = place[2] == _OUTGOING
                    found.append(Frame(time.time(), device, out, read[0], carried, data))
            full.set()
        except BlockingIOError:
            pass

    loop = asyncio.get_running_loop()
    loop.add_reader(line, take)
    try:
        await asyncio.wait_for(full.wait(), seconds)
    except TimeoutError:
        pass
    finally:
        loop.remove_reader(line)
        line.close()
    return found


def _read(data: bytes, *, tagged: bool) -> tuple[int, tuple[tuple[int, ...], str, str]] | None:
    """The tag in a frame, and what packet it carries; None where it carries none."""
    tag = 0
    try:
        if tagged:
            inner = _payload(data)
            if inner is None or inner[0] >> 4 != 4 or inner[9] != _UDP:
                return None
            at = 4 * (inner[0] & 15)
            if struct.unpack_from("!H", inner, at + 2)[0] != _VXLAN_PORT:
                return None
            flags, _, group = struct.unpack_from("!BBH", inner, at + 8)
            tag = group if flags & _GROUP_THERE else 0
            data = inner[at + 8 + _VXLAN :]
        inner = _payload(data)
        carried = None if inner is None else packet_of(inner)
    except (IndexError, struct.error):
        return None
    return None if carried is None else (tag, carried)


def _payload(data: bytes) -> bytes | None:
    """What an Ethernet frame carries, if that is IP."""
    (kind,) = struct.unpack_from("!H", data, 12)
    return data[_ETHERNET:] if kind in _TYPES else None


def pcap(frames: list[tuple[float, bytes]]) -> bytes:
    """Frames as a file that open tools read (the classic format, of Ethernet)."""
    parts = [struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, SNAP, 1)]
    for moment, data in frames:
        whole = int(moment)
        head = struct.pack("<IIII", whole, int((moment - whole) * 1e6), len(data), len(data))
        parts += [head, data]
    return b"".join(parts)
