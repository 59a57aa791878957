"""Feeds of the lab: bindings travel as JSON lines over TCP from node to node, and fill tables."""

from __future__ import annotations

import asyncio
import json
import socket

from oaktag.core.addresses import Range, parse_prefix
from oaktag.core.bindings import Binding, Lookup
from oaktag.dialects import nftables_live
from oaktag.lab.build import ENTRY_TABLE, REGISTRY, feed_address, node_name
from oaktag.lab.namespaces import inside, load
from oaktag.lab.plan import LabPlan

FIRST_PORT = 47_000
PATIENCE = 5.0
Row = tuple[str, int, str, int | None]


async def run_feeds(plan: LabPlan) -> tuple[list[int], dict[int, list[Row]]]:
    """Let every feed bring what it brings, and fill the tables of nodes with what arrived.

    Returns:
        For each feed, how many bindings arrived; and for each node all that it knows then.
    """
    servers = [
        await _serve(number, feed.sender, feed.brings) for number, feed in enumerate(plan.feeds)
    ]
    try:
        arrived = await asyncio.gather(
            *(_fetch(number, f.sender, f.receiver) for number, f in enumerate(plan.feeds))
        )
    finally:
        for server in servers:
            server.close()
    known: dict[int, list[Row]] = {n: list(node.binds) for n, node in enumerate(plan.nodes)}
    for feed, rows in zip(plan.feeds, arrived, strict=True):
        known[feed.receiver] += rows
    for number, rows in known.items():
        ranges = _ranges(rows, plan.order)
        with inside(node_name(number)):
            if plan.nodes[number].marks:
                load(nftables_live.refill_tags(ENTRY_TABLE, ranges, flag=0))
            for point in plan.points:
                if point.node == number:
                    load(nftables_live.refill(point.name, ranges, point.tags))
    return [len(rows) for rows in arrived], known


def _ranges(rows: list[Row], order: list[str]) -> list[Range]:
    bindings = [Binding(parse_prefix(p), tag, source, since) for p, tag, source, since in rows]
    return Lookup(bindings, order).ranges()


async def _serve(number: int, sender: int, rows: list[Row]) -> asyncio.Server:
    with inside(REGISTRY if sender < 0 else node_name(sender)):
        listening = socket.create_server((feed_address(sender), FIRST_PORT + number))

    async def answer(_: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        writer.write("".join(json.dumps(row) + "\n" for row in rows).encode())
        await writer.drain()
        writer.close()

    return await asyncio.start_server(answer, sock=listening)


async def _fetch(number: int, sender: int, receiver: int) -> list[Row]:
    with inside(node_name(receiver)):
        calling = socket.socket()
    calling.setblocking(False)
    loop = asyncio.get_running_loop()
    await asyncio.wait_for(
        loop.sock_connect(calling, (feed_address(sender), FIRST_PORT + number)), PATIENCE
    )
    reader, writer = await asyncio.open_connection(sock=calling)
    data = await asyncio.wait_for(reader.read(-1), PATIENCE)
    writer.close()
    rows = [json.loads(line) for line in data.decode().splitlines()]
    return [(prefix, tag, source, since) for prefix, tag, source, since in rows]
