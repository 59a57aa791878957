"""The process inside the user namespace that holds a lab, and does what it is told.

It is started by ``lab.handle.start``, makes the network of a plan, and then answers requests, a
JSON line each, on a Unix socket, one after the other. With it the namespaces end; it ends when its
folder is gone, or after a stated time.
"""

from __future__ import annotations

import asyncio
import json
import os
import shutil
import socket
import sys
import time
from base64 import b64encode
from collections.abc import Awaitable, Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

from oaktag.lab.capturing import capture
from oaktag.lab.namespaces import NETNS, PLACE, run, socket_of, with_tools
from oaktag.lab.network import LabNetwork
from oaktag.lab.plan import LabHost, LabPlan, Probe
from oaktag.lab.probes import Fared, Lost, Pace, Prober, rounds
from oaktag.lab.watching import LOST, Watcher

Answer = dict[str, Any]
Found = TypeVar("Found")


class Keeper:
    """A lab in being.

    Attributes:
        version: the version of the workspace that it is made as; its folder holds the files.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.network = LabNetwork()
        self.prober = Prober(self.network.space, lambda name: name in self.network.plan.nodes)
        self.version, self.lists = "", False
        self.half: str | None = None
        self.stopped = asyncio.Event()
        self._one = asyncio.Lock()
        self._watcher = Watcher(self._tell)
        self._watching: set[asyncio.StreamWriter] = set()

    async def apply(self, request: Answer) -> Answer:
        """Make it the network of another version, whose plan lies in the lab's folder."""
        version, lists = request["version"], request["lists"]
        plan = LabPlan.loads((self.folder / version / "plan.json").read_text(encoding="utf-8"))
        spaces = {n: self.network.space(n) for n in self.network.plan.hosts}
        spaces |= {n: self.network.space(n) for n in self.network.plan.nodes}
        self.half = "it is being changed"
        try:
            restore = bool(request.get("restore"))
            done = await self.network.become(plan, lists=lists, restore=restore)
        except BaseException as error:
            self.half = str(error) or type(error).__name__
            raise
        self.half, self.version, self.lists = None, version, lists
        if self._watching:
            self._watched()
        self.prober.listeners.close(
            space for n, space in spaces.items() if n not in plan.hosts and n not in plan.nodes
        )
        return done

    async def held(self, _: Answer) -> Answer:
        """Which version it is made as, and whether its points hold lists."""
        return {"version": self.version, "lists": self.lists}

    async def probe(self, request: Answer) -> Answer:
        """Send probes: of each whether it arrived, and whether it was answered."""
        pace = Pace(*request["pace"]) if request.get("pace") else None
        meant = request["meant"]

        async def send(numbers: list[int], probes: list[Probe]) -> list[Fared]:
            return await self.prober.send(probes, [meant[n] for n in numbers], pace)

        with self._guests(request):
            return {"fared": await self._in_rounds(_probes(request), send)}

    async def follow(self, request: Answer) -> Answer:
        """Send probes, and see at which node each, or its answer, was lost."""
        name_of = {self.network.node(n): n for n in self.network.plan.nodes}

        async def follow(_: list[int], probes: list[Probe]) -> list[Lost]:
            return await self.prober.follow(probes, name_of)

        with self._guests(request):
            lost = await self._in_rounds(_probes(request), follow)
        return {"lost": [[name_of.get(space, "") for space in one] for one in lost]}

    async def _in_rounds(
        self, probes: list[Probe], send: Callable[[list[int], list[Probe]], Awaitable[list[Found]]]
    ) -> list[Found]:
        """What becomes of probes, none of which passes as part of a flow that another one, or an
        earlier run, has opened."""
        found: dict[int, Found] = {}
        for numbers in rounds(probes):
            some = [probes[n] for n in numbers]
            self.network.forget(some)
            found |= zip(numbers, await send(numbers, some), strict=True)
        return [found[n] for n in range(len(probes))]

    @contextmanager
    def _guests(self, request: Answer) -> Iterator[None]:
        """The hosts that are there for one request alone."""
        guests = {name: LabHost(**row) for name, row in request.get("guests", {}).items()}
        with self.network.guests(guests):
            spaces = [self.network.space(name) for name in guests]
            try:
                yield
            finally:
                self.prober.listeners.close(spaces)

    async def space(self, request: Answer) -> Answer:
        """The namespace of a node or a host, by the name that it is shown with."""
        plan, name = self.network.plan, request["name"]
        known = [n for n, host in plan.hosts.items() if name in (n, host.name)]
        known += [n for n in plan.nodes if n == name]
        if not known:
            raise KeyError(f"nobody in the lab is called {name!r}")
        if len(known) > 1:
            raise KeyError(f"{name!r} is at several places: {', '.join(known)}")
        return {"space": self.network.space(known[0])}

    async def counters(self, _: Answer) -> Answer:
        """Packets of every cell of every point: point → destination tag → source tag → count."""
        return {"cells": {p: self.network.counts(p) for p in self.network.loaded}}

    async def state(self, _: Answer) -> Answer:
        """What every node knows by now, what feeds brought, and which lists the kernel holds."""
        network = self.network
        return {
            "known": {n: network.knows(n) for n in network.plan.nodes},
            "brought": network.brought(),
            "texts": {p: network.holds(p) for p in network.loaded},
            "loaded": network.loaded,
        }

    async def touched(self, _: Answer) -> Answer:
        """The points whose list in the kernel is not the one that was loaded."""
        return {"points": [p for p in self.network.loaded if self.network.touched(p)]}

    async def capture(self, request: Answer) -> Answer:
        """Frames on a node's links, for some time or until they are so many."""
        network, node = self.network, request["node"]
        if node not in network.plan.nodes:
            raise KeyError(f"there is no node {node!r} in the lab")
        links = network.devices(node)
        frames = await capture(
            network.node(node), {d: tagged for d, (_, tagged) in links.items()},
            request["seconds"], request["count"], request["tag"],
        )  # fmt: skip
        return {
            "frames": [
                [f.time, links[f.device][0], f.out, f.tag, *f.carried, b64encode(f.data).decode()]
                for f in frames
            ]
        }

    async def stop(self, _: Answer) -> Answer:
        """End the lab."""
        self.stopped.set()
        return {}

    async def watch(self, hours: float) -> None:
        """End the lab when its folder is gone, or its time is over."""
        end = time.monotonic() + hours * 3600
        while time.monotonic() < end and self.folder.is_dir():
            await asyncio.sleep(0.5)
        self.stopped.set()

    async def serve(self) -> None:
        """Answer requests until told to stop."""
        known: dict[str, Callable[[Answer], Awaitable[Answer]]] = {
            "apply": self.apply, "held": self.held, "probe": self.probe, "follow": self.follow,
            "counters": self.counters, "space": self.space, "capture": self.capture,
            "state": self.state, "touched": self.touched, "stop": self.stop,
        }  # fmt: skip

        async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            line = await reader.readline()
            if not line:
                writer.close()
                return
            request = json.loads(line)
            if request["do"] == "watch":
                await self._watch(reader, writer)
                return
            try:
                reply = await self._answer(known, request)
            except Exception as error:
                said = error.args[0] if isinstance(error, KeyError) else error
                reply = {"error": str(said) or type(error).__name__}
            writer.write(json.dumps(reply).encode() + b"\n")
            await writer.drain()
            writer.close()

        with socket_of(self.folder) as path:
            server = await asyncio.start_unix_server(answer, path, limit=1 << 28)
        async with server:
            await self.stopped.wait()

    async def _watch(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Tell of flows that are opened, an event a line, until the other end closes."""
        ended = asyncio.create_task(reader.read(1))
        self._watching.add(writer)
        try:
            if len(self._watching) == 1:
                self._watched()
            writer.write(b"{}\n")
            while not ended.done() and not self.stopped.is_set():
                await asyncio.wait({ended}, timeout=LOST / 2)
                self._watcher.overdue()
        except OSError as error:
            writer.write(json.dumps({"error": error.strerror or str(error)}).encode() + b"\n")
        finally:
            self._watching.discard(writer)
            if not self._watching:
                self._watcher.close()
            writer.close()

    def _tell(self, event: Answer) -> None:
        line = json.dumps({**event, "version": self.version}).encode() + b"\n"
        for writer in self._watching:
            writer.write(line)

    def _watched(self) -> None:
        network = self.network
        nodes = {network.plan.points[p].node for p in network.loaded}
        lists = {n: network.lists_at(n) for n in nodes}
        self._watcher.watch(lists, {n: network.node(n) for n in nodes})

    async def _answer(
        self, known: dict[str, Callable[[Answer], Awaitable[Answer]]], request: Answer
    ) -> Answer:
        if request["do"] in ("stop", "capture"):  # while something else goes on
            return await known[request["do"]](request)
        async with self._one:
            if self.half is not None and request["do"] != "apply":
                raise RuntimeError(
                    f"it is half changed ({self.half}); oaktag lab up builds it anew"
                )
            return await known[request["do"]](request)


def _probes(request: Answer) -> list[Probe]:
    return [Probe(**p) for p in request["probes"]]


def own_namespace() -> bool:
    """Whether this process is the first one of namespaces made for it, with nothing in them."""
    try:
        users = Path("/proc/self/uid_map").read_text(encoding="ascii").split()
    except OSError:
        return False
    return os.getpid() == 1 and users[2:] == ["1"] and socket.if_nameindex() == [(1, "lo")]


async def _main(place: Path, hours: float) -> None:
    # Its path may lie under /run, which is hidden by a folder of our own.
    above = os.open(place.parent, os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)
    folder = Path(f"/proc/self/fd/{above}", place.name)
    keeper = Keeper(folder)
    try:
        run(["mount", "-t", "tmpfs", "tmpfs", "/run"])
        NETNS.mkdir()
        PLACE.mkdir()
        ours = f"/proc/{os.getpid()}/fd/{above}/{place.name}"  # as another process sees it
        run(["mount", "--no-canonicalize", "--bind", ours, str(PLACE)])
        first = json.loads((folder / "first.json").read_text(encoding="utf-8"))
        await keeper.apply(first)
    except Exception as error:
        (folder / "failed").write_text(f"{error}\n", encoding="utf-8")
        raise
    watching = asyncio.create_task(keeper.watch(hours))
    await keeper.serve()
    watching.cancel()
    await keeper.network.close()
    shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    if not own_namespace():
        sys.exit("the keeper of a lab runs in namespaces of its own only; oaktag lab up starts it")
    os.environ.update(with_tools())
    asyncio.run(_main(Path(sys.argv[1]), float(sys.argv[2])))
