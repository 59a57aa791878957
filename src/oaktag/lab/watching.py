"""What opens flows at the points of a lab, as it happens: which point does what, by which entry.

What a list records is told as the kernel records it. What is denied without a record is told as
well: a packet that opened a flow before the points of its node and did not come out behind them;
the list that was loaded says which entry that was. So it says what let a packet pass that did come
out, of which nothing is recorded: that is a ``quiet`` event.
"""

from __future__ import annotations

import asyncio
import contextlib
import re
import socket
import time
from collections.abc import Callable, Collection, Iterator
from typing import Any

from oaktag.core.accesslist import AccessList
from oaktag.core.acting import Acted, act
from oaktag.core.addresses import parse_address
from oaktag.dialects.nftables import LOG_GROUP
from oaktag.lab.marks import BEFORE
from oaktag.lab.records import GROUPS, Record, listen, read

#: Seconds after which a packet that went in and did not come out was dropped.
LOST = 0.1
#: So long it is remembered what was recorded as denied: records of one packet are read one group
#: after the other, and on a busy machine much later.
REMEMBERED = 5.0
_PREFIX = re.compile(
    r"oaktag (?:(\d+)>(\d+)|outside) (allow|deny)(?: (?!would)[a-z]+)?(?: would (allow|deny))?"
    r"((?: (?:[0-9a-f]{16}|default))*)"
)
Event = dict[str, Any]


class Watcher:
    """Records of all nodes with points, as events.

    Args:
        told: called with each event.
    """

    def __init__(self, told: Callable[[Event], None]) -> None:
        self._told = told
        self._lists: dict[str, dict[str, AccessList]] = {}
        self._lines: dict[str, list[socket.socket]] = {}
        self._open: dict[tuple[str, object], tuple[float, Record]] = {}
        self._denied: dict[tuple[str, object], float] = {}

    def watch(self, lists: dict[str, dict[str, AccessList]], spaces: dict[str, str]) -> None:
        """Go by the lists of some nodes from now on.

        Args:
            lists: node → point → its list.
            spaces: the namespaces of nodes.
        """
        self._lists = lists
        self._leave(self._lines.keys() - lists.keys())
        loop = asyncio.get_running_loop()
        for node in lists.keys() - self._lines.keys():
            lines = self._lines[node] = []
            for group in GROUPS:
                line = listen(spaces[node], group)
                lines.append(line)
                loop.add_reader(line, self._read, line, group, node)

    def close(self) -> None:
        """Stop watching."""
        self._leave(list(self._lines))

    def _leave(self, nodes: Collection[str]) -> None:
        loop = asyncio.get_running_loop()
        for node in nodes:
            for line in self._lines.pop(node):
                loop.remove_reader(line)
                line.close()

    def overdue(self) -> None:
        """Tell of packets that did not come out."""
        now = time.monotonic()
        # What the kernel has recorded meanwhile of what went in so long ago is there to be read.
        for node, lines in self._lines.items():
            for line, group in zip(lines, GROUPS, strict=True):
                self._read(line, group, node)
        self._denied = {
            key: since for key, since in self._denied.items() if now - since <= REMEMBERED
        }
        for key, (since, record) in list(self._open.items()):
            if now - since > LOST:
                del self._open[key]
                self._dropped(key[0], record)

    def _read(self, line: socket.socket, group: int, node: str) -> None:
        with contextlib.suppress(BlockingIOError, OSError):  # ENOBUFS: too many at once
            while True:
                for record in read(line.recv(1 << 16), group):
                    self._take(node, record)

    def _take(self, node: str, record: Record) -> None:
        key = node, record.flow
        if record.group == BEFORE:
            if key not in self._denied:  # records of several groups come in any order
                self._open[key] = time.monotonic(), record
        elif record.group == LOG_GROUP:
            self._recorded(node, record)
        else:
            self._open.pop(key, None)
            self._passed(node, record)

    def _recorded(self, node: str, record: Record) -> None:
        told = _PREFIX.fullmatch(record.prefix)
        if told is None:
            return
        source, target, action, would, keys = told.groups()
        if action == "deny":
            self._denied[node, record.flow] = time.monotonic()
            self._open.pop((node, record.flow), None)
        point, acted = self._by(node, record, action)
        tags = (acted.source, acted.destination) if acted else (0, 0)
        if source is not None:
            tags = int(source), int(target)
        done = action, would or action
        self._tell(node, point, record, done, tags, keys.split())

    def _dropped(self, node: str, record: Record) -> None:
        point, acted = self._by(node, record, "deny")
        if acted is None:
            return  # not by a list: it was on its way to nobody, or to the node itself
        keys = list(acted.entry.keys) if acted.entry else []
        would = acted.entry.would if acted.entry else self._lists[node][point].outside[1]
        tags = acted.source, acted.destination
        self._tell(node, point, record, ("deny", would), tags, keys)

    def _passed(self, node: str, record: Record) -> None:
        """Every point of the node that judges the packet let it pass."""
        for point, acted in self._each(node, record, record.mark & 0xFFFF):
            if acted.judged and acted.entry is not None and not acted.entry.recorded:
                done = acted.entry.action, acted.entry.would
                tags = acted.source, acted.destination
                keys = list(acted.entry.keys)
                self._tell(node, point, record, done, tags, keys, quiet=True)

    def _by(self, node: str, record: Record, action: str) -> tuple[str, Acted | None]:
        """The point of a node that does something with a packet, and by what."""
        frame = self._open.get((node, record.flow), (0.0, record))[1].mark & 0xFFFF
        for point, acted in self._each(node, record, frame):
            if acted.judged and acted.action == action:
                return point, acted
        return "", None

    def _each(self, node: str, record: Record, frame: int) -> Iterator[tuple[str, Acted]]:
        """What each point of a node does with a packet."""
        ends = [parse_address(a)[1] for a in (record.source, record.destination)]
        for point, held in self._lists.get(node, {}).items():
            yield point, act(held, record.packet, ends[0], ends[1], frame)

    def _tell(
        self, node: str, point: str, record: Record, done: tuple[str, str], tags: tuple[int, int],
        keys: list[str], *, quiet: bool = False,
    ) -> None:  # fmt: skip
        packet, (action, would) = record.packet, done
        verdict = "denied" if action == "deny" else "would-deny" if would == "deny" else "allowed"
        self._told(
            {
                "time": time.time(), "node": node, "point": point, "verdict": verdict,
                "action": action, "would": would, "quiet": quiet,
                "source": record.source, "destination": record.destination,
                "source_tag": tags[0], "destination_tag": tags[1],
                "packet": list(packet), "keys": keys,
            }
        )  # fmt: skip
