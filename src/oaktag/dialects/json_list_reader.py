"""Access lists in our neutral form: JSON text → the tree.

It accepts the forms that the writer writes, byte for byte, and refuses everything else with its
line. What the keys mean is written down here again.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from functools import partial
from typing import Any, TypeVar

from oaktag.core.accesslist import (
    DEFAULT_KEY,
    OUTSIDE_KEY,
    UNJUDGED_KEY,
    AccessList,
    ListEntry,
    Standing,
    Step,
)
from oaktag.core.addressed import AddressEntry, AddressList
from oaktag.core.addresses import Range, Span
from oaktag.core.flatlist import FlatEntry, FlatList
from oaktag.core.lines import SYSLOG_SEVERITIES
from oaktag.core.packets import Ranges, Region
from oaktag.dialects.json_lines import Path, parsed
from oaktag.dialects.json_reading import (
    GROUP_NAME,
    POINT_NAME,
    SOURCE_TAGS,
    JsonReading,
    head,
    overlap,
)

KEYS = (
    "access_list", "point", "matches", "stateful", "source_tag", "from", "toward", "not_inside",
    "own", "outside", "groups", "source_bindings", "destination_bindings", "sources",
    "destinations", "entries",
)  # fmt: skip
ADDRESSED = ("access_list", "point", "matches", "stateful", "own", "groups", "entries")
ENTRY = (
    "from", "to", "packets", "readable", "action", "would", "log", "answer", "keys", "permissions",
)  # fmt: skip
PACKETS = ("families", "protocols", "source_ports", "destination_ports")
Item = TypeVar("Item")


def read_form(text: str) -> tuple[AccessList, FlatList | AddressList]:
    """The tree of a list in this form, and the row of entries that the writer must make the same
    text of.

    Raises:
        UnreadableList: text that is not such a list, with its line.
    """
    held = _read(text)[0]
    return held.tree(), held


def standing(text: str) -> Iterator[Standing]:
    """Where each entry of a list stands.

    Raises:
        UnreadableList: text that is not such a list, with its line.
    """
    held, lines = _read(text)
    if isinstance(held, FlatList):
        for number, flat in enumerate(held.entries):
            yield Standing(lines["entries", number], flat.entry, partial(held.tries, flat))
        return
    for number, one in enumerate(held.entries):
        yield Standing(lines["entries", number], one.entry, one.holds)


def _read(text: str) -> tuple[FlatList | AddressList, dict[Path, int]]:
    """The list, and the lines of its keys and their elements."""
    document, lines = parsed(text)
    return _Reader(document, lines).whole(), lines


class _Reader(JsonReading):
    """The parts of a document; every complaint names the line of what is read."""

    def whole(self) -> FlatList | AddressList:
        """The list."""
        by_address = self.document.get("matches") == "addresses"
        self.keys(self.document, ADDRESSED if by_address else KEYS)
        if self._of("access_list") != 2:
            self.fail("this form of access lists is not known here")
        if self._of("matches") not in ("tags", "addresses"):
            self.fail("entries match tags or addresses")
        point = self._of("point")
        if not isinstance(point, str) or not POINT_NAME.fullmatch(point):
            self.fail("a point has a name of letters, digits, ., - and _")
        own = self.spans(self._of("own"))
        if any(span.start != span.end for span in own):
            self.fail("a node has single addresses of its own")
        names = dict(self._each("groups", self._group))
        if list(names) != sorted(names) or len(names) != len(self.document["groups"]):
            self.fail("groups stand in the order of their tags, each once")
        if by_address:
            return self._addressed(point, own, names)
        head, restores = self._head()
        bindings = [self._bindings(f"{end}_bindings") for end in ("source", "destination")]
        sources, destinations = (self.tags(self._of(key)) for key in ("sources", "destinations"))
        outside = self._of("outside")
        self.keys(outside, ("action", "would"))
        meets = self.action(outside["action"]), self.action(outside["would"])
        entries = self._each("entries", lambda e: self._flat(e, sources, destinations))
        cells = bool(sources and destinations)
        if cells and (not entries or not _all(entries[-1])):
            self.fail("the last entry is for everything")
        if any(map(_all, entries[:-1])) or (entries and not cells):
            self.fail("nothing can match what stands behind this")
        return FlatList(
            point, head, restores, bindings[0], bindings[1], sources, destinations, tuple(entries),
            meets, own, names,
        )  # fmt: skip

    def _addressed(self, point: str, own: tuple[Span, ...], names: dict[int, str]) -> AddressList:
        """A list whose entries match addresses."""
        stateful = self.flag(self._of("stateful"))
        entries = self._each("entries", self._address_entry)
        whole = [(e.source, e.destination, e.entry.region) == (None, None, None) for e in entries]
        if not entries or not whole[-1]:
            self.fail("the last entry is for everything")
        if any(whole[:-1]):
            self.fail("nothing can match what stands behind an entry for everything")
        return AddressList(point, stateful, tuple(entries), own, names)

    def _of(self, key: str) -> Any:
        return self.of(key)

    def _each(self, key: str, read: Callable[[Any], Item]) -> list[Item]:
        found = []
        for number, element in enumerate(self.items(self._of(key))):
            self.at = self.lines.get((key, number), self.at)
            found.append(read(element))
        return found

    # -- the head --------------------------------------------------------------------------------

    def _head(self) -> tuple[tuple[Step, ...], bool]:
        """What is done with a packet first; whether its frame's tag is put back behind."""
        stateful = self.flag(self._of("stateful"))
        sides = [
            None if self._of(key) == "any" else self.spans(self.document[key])
            for key in ("from", "toward")
        ]
        pairs = self._each("not_inside", self._pair)
        if pairs != sorted(pairs, key=lambda p: p[0].family):
            self.fail("pairs of IPv4 come before those of IPv6")
        by = self._of("source_tag")
        if by not in SOURCE_TAGS:
            self.fail(f"{by!r} is none of frame, bindings and address")
        return head(stateful, sides[0], sides[1], pairs, by), by != "frame"

    def _pair(self, pair: Any) -> tuple[Span, Span]:
        if not isinstance(pair, list) or len(pair) != 2:
            self.fail("two ranges of addresses are a pair")
        a, b = (self.span(word) for word in pair)
        if a.family != b.family:
            self.fail("the two are of one family")
        return a, b

    def _group(self, held: Any) -> tuple[int, str]:
        self.keys(held, ("tag", "group"))
        if not isinstance(held["group"], str) or not GROUP_NAME.fullmatch(held["group"]):
            self.fail(f"{held['group']!r} is no group's name")
        return self.tag(held["tag"]), held["group"]

    def _bindings(self, key: str) -> tuple[Range, ...]:
        found = self._each(key, self._binding)
        if found != sorted(found) or overlap(found):
            self.fail("bindings stand in the order of their addresses, which do not overlap")
        return tuple(found)

    def _binding(self, held: Any) -> Range:
        self.keys(held, ("addresses", "tag"))
        return Range(*self.span(held["addresses"]), self.tag(held["tag"], 1))

    # -- entries ---------------------------------------------------------------------------------

    def _address_entry(self, held: Any) -> AddressEntry:
        self.keys(held, ENTRY)
        ends = [None if held[k] == "any" else self.prefix(held[k]) for k in ("from", "to")]
        families = tuple({p.family for p in ends if p is not None})
        entry = self._entry(held, (DEFAULT_KEY, UNJUDGED_KEY, OUTSIDE_KEY))
        of = families if entry.region is None else entry.region.families
        if families and (len(families) > 1 or of != families):
            self.fail("an entry that names an address is for packets of its family alone")
        return AddressEntry(ends[0], ends[1], entry)

    def _flat(
        self, held: Any, sources: tuple[int, ...], destinations: tuple[int, ...]
    ) -> FlatEntry:
        self.keys(held, ENTRY)
        ends = []
        for key, known in (("from", sources), ("to", destinations)):
            tags = None if held[key] == "any" else self.tags(held[key])
            if tags is not None and (not tags or not set(tags) < set(known)):
                self.fail(f"{key} names some of the tags of the list, or any for all of them")
            ends.append(None if tags is None else frozenset(tags))
        return FlatEntry(ends[0], ends[1], self._entry(held, (DEFAULT_KEY,)))

    def _entry(self, held: Any, words_for_keys: tuple[str, ...]) -> ListEntry:
        """What an entry matches and does; ``words_for_keys`` stand where no line's key does."""
        region = None if held["packets"] == "any" else self._packets(held["packets"])
        readable = self.flag(held["readable"])
        if readable and region is None:
            self.fail("what is for everything is for what cannot be read, too")
        if held["log"] is not None and held["log"] not in SYSLOG_SEVERITIES:
            self.fail(f"{held['log']!r} is no severity")
        keys = self.items(held["keys"])
        good = all(
            isinstance(k, str) and (k in words_for_keys or re.fullmatch(r"[0-9a-f]{16}", k))
            for k in keys
        )
        if not keys or not good or keys != sorted(set(keys)):
            self.fail("an entry names the keys of its lines, each once, in their order")
        words = self.items(held["permissions"])
        if not all(isinstance(w, str) for w in words) or words != sorted(set(words)):
            self.fail("an entry names the permissions of its lines, each once, in their order")
        action, would = self.action(held["action"]), self.action(held["would"])
        answer = self.flag(held["answer"])
        if answer and action == "allow":
            self.fail("what is let pass gets no answer")
        return ListEntry(
            region, action, would, held["log"], answer, tuple(keys), readable, words=tuple(words)
        )  # fmt: skip

    def _packets(self, held: Any) -> Region:
        self.keys(held, PACKETS)
        families = tuple(self.items(held["families"]))
        if families not in ((4,), (6,), (4, 6)):
            self.fail("families are 4, 6, or both in this order")
        protocols = self._ranges(held["protocols"], 255)
        return Region(
            families, protocols,
            self._ranges(held["source_ports"], 65535),
            self._ranges(held["destination_ports"], 65535),
        )  # fmt: skip

    def _ranges(self, some: Any, top: int) -> Ranges:
        found: list[tuple[int, int]] = []
        for pair in self.items(some):
            if not isinstance(pair, list) or [type(n) for n in pair] != [int, int]:
                self.fail("a range is two numbers")
            low, high = pair
            if not (0 <= low <= high <= top) or (found and low <= found[-1][1] + 1):
                self.fail(f"ranges are of 0 to {top}, in their order, and none touches another")
            found.append((low, high))
        if not found:
            self.fail("nothing would match this")
        return tuple(found)


def _all(flat: FlatEntry) -> bool:
    """Whether an entry matches all packets of all cells."""
    return flat.sources is None and flat.destinations is None and flat.entry.region is None
