"""Feeds of the lab: bindings travel as JSON lines over TCP from node to node.

Rules kept here (semantics, section 6): a feed passes on what its sender learned itself, and more
only if the sender relays; what it may bring is filtered by prefix and by tag; what a feed brought
is lost with it. With each binding travels the way it came by, and nobody takes what has been with
him before: so what is gone at its origin does not go round in a circle.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import socket
from collections.abc import Callable, Iterable, Iterator
from time import monotonic
from typing import Any

from oaktag.core.addresses import parse_prefix
from oaktag.lab.namespaces import inside
from oaktag.lab.plan import REGISTRY, LabFeed, Row

FIRST_PORT = 10_000
#: Seconds until a feed calls again whose sender did not answer.
AGAIN = 0.05
Way = tuple[str, ...]


class Knower:
    """What a node, or the registry, knows: its own, and what each feed brought, by which way."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.relays = name == REGISTRY
        self.own: frozenset[Row] = frozenset()
        self.heard: dict[str, dict[Row, Way]] = {}
        self.version = 0
        self._woken: list[asyncio.Event] = []

    def rows(self) -> set[Row]:
        """All that it knows."""
        return {*self.own, *(row for by in self.heard.values() for row in by)}

    def passed_on(self) -> dict[Row, Way]:
        """What it passes on, each binding with the shortest way that it came by."""
        best: dict[Row, Way] = dict.fromkeys(self.own, ())
        for by in self.heard.values() if self.relays else ():
            for row, way in by.items():
                if row not in best or (len(way), way) < (len(best[row]), best[row]):
                    best[row] = way
        return {row: (*way, self.name) for row, way in best.items()}

    def changed(self) -> None:
        """Tell all that wait for it."""
        self.version += 1
        for event in self._woken:
            event.set()

    @contextlib.contextmanager
    def waking(self, event: asyncio.Event) -> Iterator[None]:
        """Set an event at each change."""
        self._woken.append(event)
        try:
            yield
        finally:
            self._woken.remove(event)


class Feed:
    """One feed in being: its sender's socket listens, its receiver calls."""

    def __init__(
        self, name: str, feed: LabFeed, sender: Knower, receiver: Knower,
        ends: tuple[str, str], place: tuple[str, int],
    ) -> None:  # fmt: skip
        self.name, self.feed = name, feed
        self.sender, self.receiver = sender, receiver
        self._ends, self._place = ends, place
        self._within = None if feed.prefixes is None else [parse_prefix(p) for p in feed.prefixes]
        self._tags = None if feed.tags is None else set(feed.tags)
        self._sent, self._taken, self._said = -1, 0, 0
        self._tasks: list[asyncio.Task[None]] = []
        self._server: asyncio.Server | None = None
        self._lines: set[asyncio.Task[None]] = set()

    async def start(self) -> None:
        """Begin to send."""
        with inside(self._ends[0]):
            listening = socket.create_server(self._place)
        self._server = await asyncio.start_server(self._answer, sock=listening)
        self._tasks.append(asyncio.create_task(self._call()))

    async def stop(self) -> None:
        """End both ends; the receiver loses what only this feed brought."""
        for task in (*self._tasks, *self._lines):
            task.cancel()
        if self._server is not None:
            self._server.close()
        await asyncio.gather(*self._tasks, *self._lines, return_exceptions=True)
        self._lose()

    @property
    def settled(self) -> bool:
        """Whether all that the sender has to say has arrived."""
        return self._sent == self.sender.version and self._taken == self._said

    def _passes(self, row: Row) -> bool:
        if self._tags is not None and row[1] not in self._tags:
            return False
        if self._within is None:
            return True
        prefix = parse_prefix(row[0])
        return any(p.holds(prefix) for p in self._within)

    async def _answer(self, _: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        assert task is not None
        self._lines.add(task)
        task.add_done_callback(self._lines.discard)
        told: dict[Row, Way] = {}
        self._taken = self._said = 0
        event = asyncio.Event()
        try:
            with self.sender.waking(event):
                while True:
                    event.clear()
                    version = self.sender.version
                    now = {r: w for r, w in self.sender.passed_on().items() if self._passes(r)}
                    come = [[*row, way] for row, way in now.items() if told.get(row) != way]
                    gone = [list(row) for row in told if row not in now]
                    if come or gone:
                        writer.write(json.dumps({"come": come, "gone": gone}).encode() + b"\n")
                        self._said += 1
                        await writer.drain()
                    told, self._sent = now, version
                    await event.wait()
        finally:
            writer.close()

    async def _call(self) -> None:
        while True:
            with contextlib.suppress(OSError, ValueError):
                await self._listen()
            self._lose()
            await asyncio.sleep(AGAIN)

    async def _listen(self) -> None:
        with inside(self._ends[1]):
            calling = socket.socket()
        calling.setblocking(False)
        try:
            await asyncio.get_running_loop().sock_connect(calling, self._place)
            reader, writer = await asyncio.open_connection(sock=calling, limit=1 << 28)
        except BaseException:
            calling.close()
            raise
        try:
            while line := await reader.readline():
                self._take(json.loads(line))
                self._taken += 1
        finally:
            writer.close()

    def _take(self, said: dict[str, list[list[Any]]]) -> None:
        held = self.receiver.heard.setdefault(self.name, {})
        before = dict(held)
        for prefix, tag, source, since in said["gone"]:
            held.pop((prefix, tag, source, since), None)
        for prefix, tag, source, since, way in said["come"]:
            row: Row = prefix, tag, source, since
            if self.receiver.name in way:
                held.pop(row, None)
            else:
                held[row] = tuple(way)
        if held != before:
            self.receiver.changed()

    def _lose(self) -> None:
        self._sent = -1
        if self.receiver.heard.pop(self.name, None):
            self.receiver.changed()


class Exchange:
    """All feeds of a lab, and what everybody knows by them.

    Args:
        place_of: the namespace of a name, and its address on the network of feeds.
    """

    def __init__(self, place_of: Callable[[str], tuple[str, str]]) -> None:
        self._place_of = place_of
        self.knowers: dict[str, Knower] = {REGISTRY: Knower(REGISTRY)}
        self.feeds: dict[str, Feed] = {}

    def known(self, name: str) -> Knower:
        """What somebody knows."""
        if name not in self.knowers:
            self.knowers[name] = Knower(name)
        return self.knowers[name]

    def learn(self, name: str, rows: Iterable[Row], *, relays: bool) -> None:
        """Let somebody know some bindings himself, in place of those that he knew."""
        held, own = self.known(name), frozenset(rows)
        if (held.own, held.relays) != (own, relays):
            held.own, held.relays = own, relays
            held.changed()

    async def start(self, name: str, feed: LabFeed, number: int) -> None:
        """Begin a feed."""
        ends = [self._place_of(end) for end in (feed.sender, feed.receiver)]
        self.feeds[name] = Feed(
            name, feed, self.known(feed.sender), self.known(feed.receiver),
            (ends[0][0], ends[1][0]), (ends[0][1], FIRST_PORT + number),
        )  # fmt: skip
        await self.feeds[name].start()

    async def stop(self, name: str) -> None:
        """End a feed."""
        await self.feeds.pop(name).stop()

    def forget(self, name: str) -> None:
        """Somebody is gone."""
        self.knowers.pop(name, None)

    async def settled(self, patience: float) -> bool:
        """Wait until nothing is on its way any more; false where that takes too long."""
        end = monotonic() + patience
        while monotonic() < end:
            if all(feed.settled for feed in self.feeds.values()):
                return True
            await asyncio.sleep(0.002)
        return False

    async def close(self) -> None:
        """End all feeds."""
        for name in list(self.feeds):
            await self.stop(name)
