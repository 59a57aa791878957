"""What nodes report of themselves: one JSON file a node, ``NODE.json``, in a folder.

    {"form": 1, "node": "hall-edge", "at": "2026-11-25T08:00:00Z",
     "bindings": [{"prefix": "10.20.1.11/32", "tag": 310, "source": "session"}],
     "points": [{"point": "hall-edge", "mode": "enforce", "sha256": "…", "list": "hall-edge.nft"}],
     "feeds": [{"feed": "registry>hall-edge", "state": "up"}],
     "groups": {"310": "librarians"},
     "counters": [{"point": "hall-edge", "source": 310, "destination": 510, "packets": 12}]}

``list`` is a file beside, the text of the list that the point holds; ``sha256`` is of that text.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Sequence
from hashlib import sha256
from pathlib import Path
from typing import Any, NamedTuple, TypeGuard

from oaktag.core.addresses import Prefix, parse_prefix
from oaktag.core.bindings import BINDING_SOURCES
from oaktag.errors import UsageError
from oaktag.located import Location
from oaktag.workspace.folder import inside, read_plain
from oaktag.workspace.textfile import Problems, exact_text
from oaktag.workspace.times import parse_instant

MODES = ("enforce", "observe", "off")
KEYS = ("form", "node", "at", "bindings", "points", "feeds", "groups", "counters")
ITEM_KEYS = {
    "bindings": ("prefix", "tag", "source"),
    "points": ("point", "mode", "sha256", "list"),
    "feeds": ("feed", "state"),
    "counters": ("point", "source", "destination", "packets"),
}
#: The largest report, in bytes.
LARGEST = 1 << 26


class HeldList(NamedTuple):
    """What a point says of its list; ``text`` is None where it only gave a hash."""

    point: str
    mode: str | None
    sha256: str | None
    text: str | None


class Report(NamedTuple):
    """What one node reports; None where it says nothing about it."""

    node: str
    at: str
    bindings: tuple[tuple[Prefix, int, str], ...] | None
    points: tuple[HeldList, ...]
    feeds: dict[str, str]
    groups: dict[int, str]
    counters: tuple[tuple[str, int, int, int], ...]


def read_reports(
    folder: Path, nodes: Iterable[str], lists: Sequence[str] = ()
) -> dict[str, Report]:
    """All reports of a folder, by node.

    Args:
        folder: where they are.
        nodes: the nodes that there are.
        lists: what files of lists end in, which may lie beside them.

    Raises:
        UsageError: there is no such folder, or no report in it.
        WorkspaceError: with every fault of the files.
    """
    if not folder.is_dir():
        raise UsageError(f"{folder} is no folder; nodes' reports are files NODE.json in one")
    problems = Problems()
    known = set(nodes)
    found: dict[str, Report] = {}
    files = sorted(p for p in folder.glob("*.json") if not p.name.endswith(tuple(lists)))
    for path in files:
        report = _Reader(path, problems).read()
        if report is None:
            continue
        if report.node not in known:
            problems.clash(Location(path.name), f"there is no node {report.node!r}", "a node")
        elif report.node in found:
            problems.clash(Location(path.name), f"{report.node} reports twice", "one file a node")
        found[report.node] = report
    if not files:
        raise UsageError(f"{folder} holds no report; each is a file NODE.json")
    if problems.count:
        raise problems.error()
    return found


class _Reader:
    """One report; every fault is a problem at its file."""

    def __init__(self, path: Path, problems: Problems) -> None:
        self.path = path
        self.problems = problems
        self.faults = 0

    def fault(self, message: str, expected: str, line: int = 0) -> None:
        self.faults += 1
        self.problems.form(Location(self.path.name, line), message, expected)

    def read(self) -> Report | None:
        try:
            data = read_plain(inside(self.path.parent, self.path.name), LARGEST)[0]
            raw = json.loads(data.decode("utf-8"), object_pairs_hook=self.once)
        except OSError as error:
            self.fault(f"it cannot be read: {error.strerror}", "a plain file")
            return None
        except UnicodeDecodeError:
            self.fault("the file is not UTF-8", "JSON in UTF-8")
            return None
        except json.JSONDecodeError as error:
            self.fault(f"this is not JSON: {error.msg}", "a report", error.lineno)
            return None
        except (RecursionError, ValueError):  # ValueError: a number of thousands of digits
            self.fault("this is nested too deep, or holds a number beyond measure", "a report")
            return None
        if (
            not isinstance(raw, dict)
            or raw.get("form") != 1
            or not isinstance(raw.get("node"), str)
        ):
            self.fault("this is no report", '{"form": 1, "node": …}')
            return None
        self.keys(raw, "a report", KEYS)
        at = raw.get("at", "")
        if not isinstance(at, str) or (at and parse_instant(at) is None):
            self.fault(f"at is {at!r}", "a time, as in 2026-11-25T08:00:00Z")
        bindings = self.items(raw, "bindings", self.binding)
        report = Report(
            raw["node"], str(at),
            None if "bindings" not in raw else tuple(bindings),
            tuple(self.items(raw, "points", self.point)),
            dict(self.items(raw, "feeds", self.feed)),
            dict(self.groups(raw.get("groups", {}))),
            tuple(self.items(raw, "counters", self.counter)),
        )  # fmt: skip
        return None if self.faults else report

    def once(self, pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        """An object, each of whose keys stands once."""
        for key, number in Counter(key for key, _ in pairs).items():
            if number > 1:
                self.fault(f"the key {key!r} stands {number} times in one object", "each key once")
        return dict(pairs)

    def keys(self, item: dict[str, Any], what: str, known: Collection[str]) -> None:
        for odd in sorted(set(item) - set(known)):
            self.fault(f"{what} has no key {odd!r}", f"some of {', '.join(known)}")

    def items(
        self, raw: dict[str, Any], key: str, read: Callable[[dict[str, Any]], Any]
    ) -> list[Any]:
        given = raw.get(key, [])
        if not isinstance(given, list) or any(not isinstance(item, dict) for item in given):
            self.fault(f"{key} is no list of objects", "[{…}, …]")
            return []
        for item in given:
            self.keys(item, f"one of {key}", ITEM_KEYS[key])
        made = (read(item) for item in given)
        return [item for item in made if item is not None]

    def binding(self, item: dict[str, Any]) -> tuple[Prefix, int, str] | None:
        source = item.get("source", "inventory")
        try:
            prefix = parse_prefix(str(item.get("prefix")))
        except ValueError as error:
            self.fault(str(error), "a prefix")
            return None
        tag = item.get("tag")
        if not _number(tag, 65535) or source not in BINDING_SOURCES:
            self.fault(f"the binding of {prefix} has no tag or source",
                       f"tag 0 to 65535, source one of {', '.join(BINDING_SOURCES)}")  # fmt: skip
            return None
        return prefix, tag, source

    def point(self, item: dict[str, Any]) -> HeldList | None:
        name, mode = item.get("point"), item.get("mode")
        if not isinstance(name, str) or mode not in (None, *MODES):
            self.fault("a point without name, or in no known mode", f"one of {', '.join(MODES)}")
            return None
        text, digest = None, item.get("sha256")
        if digest is not None and not (
            isinstance(digest, str) and re.fullmatch(r"[0-9a-f]{64}", digest)
        ):
            self.fault(f"the sha256 of {name} is {digest!r}", "64 hexadecimal digits, lower case")
            return None
        if "list" in item:
            beside = self.path.parent / Path(str(item["list"])).name
            try:
                text = exact_text(beside)
            except (OSError, UnicodeDecodeError, ValueError):
                self.fault(f"the list {item['list']!r} cannot be read", "a text file beside")
            else:
                if digest not in (None, sha256(text.encode()).hexdigest()):
                    told = f"the sha256 of {name} is not that of {item['list']!r}"
                    self.fault(told, "the hash of the list's bytes")
        return HeldList(name, mode, digest, text)

    def feed(self, item: dict[str, Any]) -> tuple[str, str] | None:
        if not isinstance(item.get("feed"), str) or item.get("state") not in ("up", "down"):
            self.fault("a feed without name or state", '{"feed": …, "state": "up" or "down"}')
            return None
        return item["feed"], item["state"]

    def groups(self, given: Any) -> Iterable[tuple[int, str]]:
        if not isinstance(given, dict) or not all(
            re.fullmatch(r"[0-9]{1,5}", k) and isinstance(v, str) for k, v in given.items()
        ):
            self.fault("groups is no table of numbers and names", '{"310": "librarians"}')
            return []
        return [(int(k), v) for k, v in given.items()]

    def counter(self, item: dict[str, Any]) -> tuple[str, int, int, int] | None:
        name = item.get("point")
        source, destination, packets = (item.get(k) for k in ("source", "destination", "packets"))
        if (
            isinstance(name, str)
            and _number(source, 65535)
            and _number(destination, 65535)
            and _number(packets, 1 << 64)
        ):
            return name, source, destination, packets
        self.fault(
            "a counter without point, source, destination and packets",
            "tags from 0 to 65535, and how many packets",
        )
        return None


def _number(value: Any, most: int) -> TypeGuard[int]:
    """Whether a value is a whole number from 0 to ``most``; true and false are none."""
    return type(value) is int and 0 <= value <= most
