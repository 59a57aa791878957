"""The process inside the user namespace that holds a lab, and does what it is told.

It is started by ``lab.handle.start``, builds the plan, and then answers requests, a JSON line
each, on a Unix socket: ``load``, ``unload``, ``probe``, ``counters``, ``state``, ``stop``. With it
the namespaces end; it ends when its folder is gone, or after a stated time.
"""

from __future__ import annotations

import asyncio
import json
import os
import shutil
import socket
import sys
import time
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

from oaktag.dialects import nftables, nftables_live
from oaktag.lab.build import build, node_name
from oaktag.lab.feeds import Row, run_feeds
from oaktag.lab.namespaces import NETNS, inside, load, run, socket_of
from oaktag.lab.plan import LabPlan, Probe
from oaktag.lab.probes import Listeners, send

Answer = dict[str, Any]


class Keeper:
    """A lab in being."""

    def __init__(self, plan: LabPlan) -> None:
        self.plan = plan
        self.loaded = False
        self.known: dict[int, list[Row]] = {n: list(at.binds) for n, at in enumerate(plan.nodes)}
        self.stopped = asyncio.Event()

    async def load(self, _: Answer) -> Answer:
        """Load every point's list without bindings; then let the feeds fill the tables."""
        for point in self.plan.points:
            with inside(node_name(point.node)):
                load(point.text + nftables_live.refill(point.name, [], point.tags))
        self.loaded = True
        arrived, self.known = await run_feeds(self.plan)
        return {"arrived": arrived}

    async def state(self, _: Answer) -> Answer:
        """What every node knows by now: what it learned, and what its feeds brought."""
        return {"loaded": self.loaded, "known": [self.known[n] for n in sorted(self.known)]}

    async def unload(self, _: Answer) -> Answer:
        """Take every list away."""
        if self.loaded:
            for point in self.plan.points:
                with inside(node_name(point.node)):
                    load(f"delete table inet {nftables.table_name(point.name)}\n")
        self.loaded = False
        return {}

    async def probe(self, request: Answer) -> Answer:
        """Send probes."""
        probes = [Probe(**p) for p in request["probes"]]
        return {"answered": await send(probes, request["meant"])}

    async def counters(self, _: Answer) -> Answer:
        """Packets of every cell of every point: point → destination tag → source tag → count."""
        found: Answer = {}
        for point in self.plan.points:
            with inside(node_name(point.node)):
                table = nftables.table_name(point.name)
                found[point.name] = nftables_live.cell_counts(
                    run(["nft", "-j", "list", "table", "inet", table])
                )
        return {"cells": found}

    async def stop(self, _: Answer) -> Answer:
        """End the lab."""
        self.stopped.set()
        return {}

    async def watch(self, folder: Path, hours: float) -> None:
        """End the lab when its folder is gone, or its time is over."""
        end = time.monotonic() + hours * 3600
        while time.monotonic() < end and folder.is_dir():
            await asyncio.sleep(0.5)
        self.stopped.set()

    async def serve(self, folder: Path) -> None:
        """Answer requests until told to stop."""
        known: dict[str, Callable[[Answer], Awaitable[Answer]]] = {
            "load": self.load, "unload": self.unload, "probe": self.probe,
            "counters": self.counters, "state": self.state, "stop": self.stop,
        }  # fmt: skip

        async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            request = json.loads(await reader.readline())
            try:
                reply = await known[request["do"]](request)
            except Exception as error:
                reply = {"error": f"{type(error).__name__}: {error}"}
            writer.write(json.dumps(reply).encode() + b"\n")
            await writer.drain()
            writer.close()

        with socket_of(folder) as path:
            server = await asyncio.start_unix_server(answer, path, limit=1 << 26)
        async with server:
            await self.stopped.wait()


def own_namespace() -> bool:
    """Whether this process is the first one of namespaces made for it, with nothing in them."""
    try:
        users = Path("/proc/self/uid_map").read_text(encoding="ascii").split()
    except OSError:
        return False
    return os.getpid() == 1 and users[2:] == ["1"] and socket.if_nameindex() == [(1, "lo")]


async def _main(folder: Path, hours: float) -> None:
    plan = LabPlan.loads((folder / "plan.json").read_text(encoding="utf-8"))
    keeper = Keeper(plan)
    try:
        run(["mount", "-t", "tmpfs", "tmpfs", "/run"])
        NETNS.mkdir()
        build(plan)
        listeners = Listeners()
        await listeners.start(plan)
    except Exception as error:
        (folder / "failed").write_text(f"{error}\n", encoding="utf-8")
        raise
    watching = asyncio.create_task(keeper.watch(folder, hours))
    await keeper.serve(folder)
    watching.cancel()
    shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    if not own_namespace():
        sys.exit("the keeper of a lab runs in namespaces of its own only; oaktag lab up starts it")
    os.environ["PATH"] = f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin"
    asyncio.run(_main(Path(sys.argv[1]), float(sys.argv[2])))
