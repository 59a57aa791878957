"""Probes: real TCP, UDP and ICMP from one host's namespace to another's."""

from __future__ import annotations

import asyncio
import socket
import struct
from typing import cast

from oaktag.lab.build import host_name
from oaktag.lab.namespaces import inside
from oaktag.lab.plan import LabPlan, Probe

#: Seconds to wait where an answer is expected, and where none is. Both end before TCP tries its
#: opening packet a second time (RFC 6298, section 2: after one second), which would count twice.
PATIENCE, SHORT = 0.9, 0.5
AT_ONCE = 400
_SOCKETS = {"tcp": socket.SOCK_STREAM, "udp": socket.SOCK_DGRAM, "icmp": socket.SOCK_DGRAM}


class Listeners:
    """Something that answers on every port that probes ask for."""

    def __init__(self) -> None:
        self._servers: list[asyncio.Server | asyncio.DatagramTransport] = []

    async def start(self, plan: LabPlan) -> None:
        """Open all ports."""
        loop = asyncio.get_running_loop()
        for host, protocol, port in plan.listening:
            for address in plan.hosts[host].addresses:
                family = socket.AF_INET6 if ":" in address else socket.AF_INET
                place = address.split("/")[0], port
                with inside(host_name(host)):
                    if protocol == "tcp":
                        sock = socket.create_server(place, family=family, backlog=512)
                        self._servers.append(await asyncio.start_server(_greet, sock=sock))
                        continue
                    sock = socket.socket(family, socket.SOCK_DGRAM)
                    sock.bind(place)
                sock.setblocking(False)
                transport, _ = await loop.create_datagram_endpoint(_Echo, sock=sock)
                self._servers.append(transport)


async def _greet(_: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    writer.close()


class _Echo(asyncio.DatagramProtocol):
    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport = cast(asyncio.DatagramTransport, transport)

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        self.transport.sendto(data, addr)


async def send(probes: list[Probe], meant: list[bool]) -> list[bool]:
    """Whether each probe was answered in time; ``meant`` says for which an answer is expected."""
    gate = asyncio.Semaphore(AT_ONCE)

    async def one(probe: Probe, expected: bool) -> bool:
        async with gate:
            return await _send(probe, PATIENCE if expected else SHORT)

    return list(await asyncio.gather(*map(one, probes, meant)))


async def _send(probe: Probe, patience: float) -> bool:
    six = ":" in probe.source_address
    family = socket.AF_INET6 if six else socket.AF_INET
    number = 0
    if probe.protocol == "icmp":
        number = socket.IPPROTO_ICMPV6 if six else socket.IPPROTO_ICMP
    with inside(host_name(probe.source)):
        sock = socket.socket(family, _SOCKETS[probe.protocol], number)
    try:
        sock.setblocking(False)
        sock.bind((probe.source_address, 0))
        return await asyncio.wait_for(_ask(sock, probe, six), patience)
    except (TimeoutError, OSError):
        return False
    finally:
        sock.close()


async def _ask(sock: socket.socket, probe: Probe, six: bool) -> bool:
    loop = asyncio.get_running_loop()
    place = probe.destination_address, probe.port
    if probe.protocol == "tcp":
        await loop.sock_connect(sock, place)
        return True
    sock.connect(place)
    message = b"oak tag"
    if probe.protocol == "icmp":
        # Echo request (RFC 792; RFC 4443, section 4.1); the kernel fills in identifier and sum.
        message = struct.pack("!BBHHH", 128 if six else 8, 0, 0, 0, 1) + message
    await loop.sock_sendall(sock, message)
    return bool(await loop.sock_recv(sock, 64))
