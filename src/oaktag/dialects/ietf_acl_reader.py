"""Access lists as data of RFC 8519 in JSON → the tree.

It accepts the forms that the writer writes, byte for byte, and refuses everything else with its
line. A list by tags has the point that the module ``oaktag-acl`` adds; a plain one has none, and
its entries match addresses.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from typing import Any, NamedTuple

from oaktag.core.accesslist import (
    DEFAULT_KEY,
    OUTSIDE_KEY,
    UNJUDGED_KEY,
    UNSAID_KEY,
    AccessList,
    ListEntry,
    Standing,
)
from oaktag.core.addressed import AddressEntry, AddressList
from oaktag.core.addresses import Prefix, Range, Span, parse_prefix
from oaktag.core.flatlist import FlatEntry, FlatList
from oaktag.core.lines import SYSLOG_SEVERITIES, Action
from oaktag.core.packets import Ranges, Region, regions_of
from oaktag.dialects.json_lines import Path, parsed
from oaktag.dialects.json_reading import GROUP_NAME, SOURCE_TAGS, JsonReading, head, overlap

ACLS, POINT = "ietf-access-control-list:acls", "oaktag-acl:point"
_PORTED = {6: "tcp", 17: "udp", 132: "oaktag-acl:sctp"}
_ICMP = {4: 1, 6: 58}
_PORTS: Ranges = ((0, 65535),)
_TYPES: Ranges = ((0, 255),)
_NONE: Ranges = ((0, 0),)
_KEY = rf"(?:[0-9a-f]{{16}}|{DEFAULT_KEY}|{UNJUDGED_KEY}|{OUTSIDE_KEY})"
_NAME = re.compile(
    rf"(?P<number>[1-9][0-9]*)(?:-would-(?P<would>allow|deny))?"
    rf"(?:-(?P<log>{'|'.join(SYSLOG_SEVERITIES)}))?"
    rf"(?P<keys>(?:-{_KEY})+)(?:-and-(?P<more>[1-9][0-9]*)-more)?"
)
_DONE: dict[str, Action] = {"accept": "allow", "drop": "deny", "reject": "deny"}


class _Ace(NamedTuple):
    """An entry as it stands, and its line; what it names at both ends; and how many keys its name
    has no room for."""

    line: int
    family: int
    entry: ListEntry
    ends: tuple[Any, Any]
    more: int = 0

    @property
    def of_family(self) -> ListEntry:
        """The entry for packets of its family alone; keys that are not there are as long as any."""
        whole = Region((self.family,), ((0, 255),), _PORTS, _PORTS)
        return replace(self.citing, region=self.entry.region or whole)

    @property
    def citing(self) -> ListEntry:
        """The entry, with something for each key that its name has no room for."""
        return replace(self.entry, keys=(*self.entry.keys, *[UNSAID_KEY] * self.more))


def opened(path: Path) -> bool:
    """What has a line for each key: all but ACEs and rows of tables."""
    return len(path) < 5 and POINT not in path[:-1] and "ace" not in path


def read_form(text: str) -> tuple[AccessList, FlatList | AddressList]:
    """The tree of a list in this dialect, and the entries of both ACLs, each for its family alone,
    that the writer must make the same text of.

    Raises:
        UnreadableList: text that is not such a list, with its line.
    """
    held, aces = _read(text)
    if isinstance(held, FlatList):
        flat = tuple(FlatEntry(*ace.ends, ace.of_family) for ace in aces)
        return held.tree(), replace(held, entries=flat)
    some = tuple(AddressEntry(*ace.ends, ace.of_family) for ace in aces)
    return held.tree(), replace(held, entries=some)


def standing(text: str) -> Iterator[Standing]:
    """Where each entry of a list stands.

    Raises:
        UnreadableList: text that is not such a list, with its line.
    """
    held, aces = _read(text)
    last = max((n for n, ace in enumerate(aces) if ace.family == 4), default=-1)
    for number, ace in enumerate(aces):
        entry = ace.entry
        if entry.region is None and number <= last:  # not for everything: the other family follows
            entry = replace(entry, region=Region((4,), ((0, 255),), _PORTS, _PORTS))
        if isinstance(held, FlatList):
            yield Standing(ace.line, entry, partial(held.tries, FlatEntry(*ace.ends, entry)))
        else:
            yield Standing(ace.line, entry, AddressEntry(*ace.ends, entry).holds)


def _read(text: str) -> tuple[FlatList | AddressList, list[_Ace]]:
    document, lines = parsed(text, opened)
    return _Reader(document, lines).whole()


class _Reader(JsonReading):
    """The parts of a document; every complaint names the line of what is read."""

    def whole(self) -> tuple[FlatList | AddressList, list[_Ace]]:
        """The list, and its entries as they stand."""
        self.keys(self.document, (ACLS,))
        acls = self.of(ACLS)
        if not isinstance(acls, dict):
            self.fail("access lists are an object")
        self.keys(acls, ("acl", POINT) if POINT in acls else ("acl",))
        if len(self.items(self.of(ACLS, "acl"))) != 2:
            self.fail("there is an ACL for each family")
        plain = POINT not in acls
        point, aces = "", list[_Ace]()
        for place, family in enumerate((4, 6)):
            acl = self.of(ACLS, "acl", place)
            self.keys(acl, ("name", "type", "aces"))
            name = self.of(ACLS, "acl", place, "name")
            told = re.fullmatch(rf"([A-Za-z0-9._-]+)-ipv{family}", str(name))
            if told is None or (point and told[1] != point):
                self.fail(f"an ACL is called after its point and its family, -ipv{family}")
            point = told[1]
            if self.of(ACLS, "acl", place, "type") != f"ipv{family}-acl-type":
                self.fail(f"this is not the type of an ACL of IPv{family}")
            self.keys(self.of(ACLS, "acl", place, "aces"), ("ace",))
            aces += self.aces(place, family, plain=plain)
        if plain:
            entries = [AddressEntry(*ace.ends, ace.citing) for ace in aces]
            return AddressList(point, False, tuple(_joined(entries, aces)), (), {}), aces
        return self.flat(point, aces), aces

    def aces(self, place: int, family: int, *, plain: bool) -> list[_Ace]:
        """The entries of one ACL; the last is for everything, and no other."""
        way = ACLS, "acl", place, "aces", "ace"
        found: list[_Ace] = []
        for number, ace in enumerate(self.items(self.of(*way)), 1):
            self.at = self.lines.get((*way, number - 1), self.at)
            if found and _all(found[-1]):
                self.fail("nothing can match what stands behind an entry for everything")
            found.append(self.ace(ace, number, family, plain=plain))
        if not found or not _all(found[-1]):
            self.fail("the last entry is for everything")
        return found

    # -- one entry -------------------------------------------------------------------------------

    def ace(self, ace: Any, number: int, family: int, *, plain: bool) -> _Ace:
        """One entry."""
        if not isinstance(ace, dict):
            self.fail("an ACE is an object")
        self.keys(ace, ("name", "matches", "actions") if "matches" in ace else ("name", "actions"))
        matches = ace.get("matches", {})
        if not isinstance(matches, dict) or ("matches" in ace and not matches):
            self.fail("matches name something, or are not there")
        entry = self.done(ace, number, plain=plain)
        held = dict(matches)
        network = held.pop(f"ipv{family}", None)
        region, readable = None, False
        ends: list[Any] = [None, None]
        if network is not None:
            region, readable, ends = self.network(network, held, family)
        if not plain:
            words = "oaktag-acl:source-tag", "oaktag-acl:destination-tag"
            ends = [self.some_tags(held.pop(word, None)) for word in words]
        if held:
            self.fail(f"{min(held)} does not belong here")
        in_order = [w for w in self.order(family) if w in matches]
        if list(matches) != in_order:
            self.fail(f"what is matched stands in this order: {', '.join(in_order)}")
        entry = replace(entry, region=region, readable=readable)
        named = _NAME.fullmatch(str(ace["name"])) if plain else None
        more = int(named["more"] or 0) if named else 0
        return _Ace(self.at, family, entry, (ends[0], ends[1]), more)

    @staticmethod
    def order(family: int) -> tuple[str, ...]:
        """The keys of matches in their order."""
        return (
            f"ipv{family}", "tcp", "udp", "icmp", "oaktag-acl:sctp", "oaktag-acl:readable",
            "oaktag-acl:source-tag", "oaktag-acl:destination-tag",
        )  # fmt: skip

    def some_tags(self, held: Any) -> frozenset[int] | None:
        """Tags at an end; None for all."""
        if held is None:
            return None
        tags = self.tags(held)
        if not tags:
            self.fail("tags name some, or are not there")
        return frozenset(tags)

    def network(
        self, network: Any, held: dict[str, Any], family: int
    ) -> tuple[Region | None, bool, list[Any]]:
        """What is matched in a packet's headers; takes out of ``held`` what it has read."""
        words = "protocol", f"destination-ipv{family}-network", f"source-ipv{family}-network"
        if not isinstance(network, dict) or not network:
            self.fail("a header matches something, or is not there")
        self.keys(network, tuple(w for w in words if w in network))
        ends = [
            self.network_prefix(network[w], family) if w in network else None for w in words[:0:-1]
        ]
        if POINT in self.document[ACLS] and any(ends):
            self.fail("entries of a list by tags name no addresses")
        if "protocol" not in network:
            return None, False, ends
        number = self.whole_number(network["protocol"], 255)
        top = _TYPES if number == _ICMP[family] else _PORTS if number in _PORTED else _NONE
        axes, readable = [top, top], False
        word = "icmp" if top is _TYPES else _PORTED.get(number)
        if word in held and word == "icmp":
            axes = self.types(held.pop(word))
        elif word in held:
            axes, readable = self.ports(held.pop(word))
        elif word == "icmp" and held.pop("oaktag-acl:readable", 0) == [None]:
            readable = True
        return Region((family,), ((number, number),), axes[0], axes[1]), readable, ends

    def network_prefix(self, word: Any, family: int) -> Prefix:
        """A prefix, its length always written."""
        try:
            found = parse_prefix(word) if isinstance(word, str) else None
        except ValueError:
            found = None
        if found is None or found.family != family or str(found) != word:
            self.fail(f"{word!r} is not as a prefix of IPv{family} is written")
        return found

    def types(self, held: Any) -> list[Ranges]:
        """Types and codes of ICMP."""
        words = [w for w in ("type", "code") if isinstance(held, dict) and w in held]
        self.keys(held, tuple(words))
        if not words:
            self.fail("icmp matches a type or a code, or is not there")
        return [
            (self.pair(held[w], held[w], 255),) if w in held else _TYPES for w in ("type", "code")
        ]

    def ports(self, held: Any) -> tuple[list[Ranges], bool]:
        """Ports at both ends; and whether they but must be there to be read."""
        both = "source-port", "destination-port"
        words = [w for w in both if isinstance(held, dict) and w in held]
        self.keys(held, tuple(words))
        axes: list[Ranges] = []
        for word in both:
            port = held.get(word)
            if port is None:
                axes.append(_PORTS)
            elif isinstance(port, dict) and "operator" in port:
                self.keys(port, ("operator", "port"))
                if port["operator"] != "eq":
                    self.fail("one port is equal, or there are two ends of a range")
                axes.append((self.pair(port["port"], port["port"], 65535),))
            else:
                self.keys(port, ("lower-port", "upper-port"))
                low, high = port["lower-port"], port["upper-port"]
                axes.append((self.pair(low, high, 65535),))
                if low == high:
                    self.fail("one port is written with the operator eq")
        named = [w in held for w in both]
        readable = all(named) and axes == [_PORTS, _PORTS]
        whole = [n and a == _PORTS for n, a in zip(named, axes, strict=True)]
        if not words or (any(whole) and not all(whole) and not readable):
            self.fail("all ports at an end are not written")
        return axes, readable

    def pair(self, low: Any, high: Any, top: int) -> tuple[int, int]:
        """A range."""
        ends = self.whole_number(low, top), self.whole_number(high, top)
        if ends[0] > ends[1]:
            self.fail("a range is from its lower end to its upper one")
        return ends

    def whole_number(self, held: Any, top: int) -> int:
        """A number from 0."""
        if type(held) is not int or not 0 <= held <= top:
            self.fail(f"this is a number from 0 to {top}")
        return held

    # -- what is done ----------------------------------------------------------------------------

    def done(self, ace: dict[str, Any], number: int, *, plain: bool) -> ListEntry:
        """What an entry does."""
        actions = ace["actions"]
        words = (
            "forwarding", "logging", "oaktag-acl:would", "oaktag-acl:severity", "oaktag-acl:key",
            "oaktag-acl:permission",
        )  # fmt: skip
        if not isinstance(actions, dict):
            self.fail("actions are an object")
        self.keys(actions, tuple(w for w in words if w in actions))
        forwarding = actions.get("forwarding")
        if not isinstance(forwarding, str) or forwarding not in _DONE:
            self.fail("a packet is accepted, dropped or rejected")
        action = _DONE[forwarding]
        told = actions
        if plain:
            told = self.named(ace["name"], number)
            if len(actions) > 1 + ("logging" in actions):
                self.fail("a plain list says no more than forwarding and logging")
        elif ace["name"] != str(number):
            self.fail(f"this entry is called {number}")
        would = told.get("oaktag-acl:would")
        log = told.get("oaktag-acl:severity")
        if would is not None and self.action(would) == action:
            self.fail("what would be is said where it is another thing")
        if log is not None and log not in SYSLOG_SEVERITIES:
            self.fail(f"{log!r} is no severity")
        recorded = actions.get("logging") == "log-syslog"
        if ("logging" in actions and not recorded) or recorded != (bool(would) or log is not None):
            self.fail("recorded is what has a severity, or would be otherwise, and nothing else")
        lists = []
        for word in words[-2:]:
            held = self.items(told.get(word, []))
            if not all(isinstance(k, str) for k in held) or held != sorted(set(held)):
                self.fail("keys and permissions stand in their order, each once")
            lists.append(held)
        keys, permissions = lists
        good = (re.fullmatch(_KEY if plain else rf"[0-9a-f]{{16}}|{DEFAULT_KEY}", k) for k in keys)
        if not keys or not all(good) or (permissions == [] and words[-1] in told):
            self.fail("an entry names the keys of its lines")
        return ListEntry(
            None, action, self.action(would) if would else action, log,
            forwarding == "reject", tuple(keys), words=tuple(permissions),
        )  # fmt: skip

    def named(self, name: Any, number: int) -> dict[str, Any]:
        """What the name of an ACE of a plain list says, as actions of the other form."""
        match = _NAME.fullmatch(name) if isinstance(name, str) and len(name) <= 64 else None
        if match is None or int(match["number"]) != number:
            self.fail(f"{name!r} is not as the entry {number} is called")
        told: dict[str, Any] = {"oaktag-acl:key": match["keys"][1:].split("-")}
        if match["would"]:
            told["oaktag-acl:would"] = match["would"]
        if match["log"]:
            told["oaktag-acl:severity"] = match["log"]
        return told

    # -- the point -------------------------------------------------------------------------------

    def flat(self, point: str, aces: list[_Ace]) -> FlatList:
        """The list of a point by tags."""
        held = self.of(ACLS, POINT)
        if not isinstance(held, dict):
            self.fail("a point is an object")
        words = (
            "name", "stateful", "source-tag", "from", "from-some", "toward", "toward-some",
            "not-inside", "own", "outside", "outside-would", "group", "source", "destination",
            "source-tags", "destination-tags",
        )  # fmt: skip
        self.keys(held, tuple(w for w in words if w in held))
        for word in ("name", "stateful", "source-tag", "outside"):
            if word not in held:
                self.fail(f"a point says its {word}")
        empty = [w for w in words if held.get(w) == []]
        if empty:
            self.fail(f"{empty[0]} is written where there is something in it")
        if self.part("name") != point:
            self.fail("the point is the one of the ACLs")
        by = self.part("source-tag")
        if by not in SOURCE_TAGS:
            self.fail(f"{by!r} is none of {', '.join(SOURCE_TAGS)}")
        origins, targets = (self.side(word) for word in ("from", "toward"))
        pairs = [self.between(pair) for pair in self.rows("not-inside")]
        if pairs != sorted(pairs, key=lambda p: p[0].family):
            self.fail("pairs of IPv4 come before those of IPv6")
        own = self.spans(self.part("own") or [])
        if any(span.start != span.end for span in own):
            self.fail("a node has single addresses of its own")
        outside = self.action(self.part("outside"))
        would = outside if "outside-would" not in held else self.action(self.part("outside-would"))
        if "outside-would" in held and would == outside:
            self.fail("what would be is said where it is another thing")
        names = [self.group(row) for row in self.rows("group")]
        if [t for t, _ in names] != sorted({t for t, _ in names}):
            self.fail("groups stand in the order of their tags, each once")
        tables = [self.table(word) for word in ("source", "destination")]
        scope = [self.tags(self.part(f"{word}-tags") or []) for word in ("source", "destination")]
        for ace in aces:
            self.at = ace.line
            for tags, every in zip(ace.ends, scope, strict=True):
                if tags is not None and not tags < set(every):
                    self.fail("an entry names some of the tags of the list, or none for all")
        entries = [FlatEntry(*ace.ends, ace.entry) for ace in aces]
        whole = tuple(_joined(entries, aces)) if all(scope) else ()
        if not whole and len(aces) > 2:
            self.fail("a list of no cells has no entries")
        stateful = self.flag(self.part("stateful"))
        return FlatList(
            point, head(stateful, origins, targets, pairs, by), by != "frame", tables[0], tables[1],
            scope[0], scope[1], whole, (outside, would), own, dict(names),
        )  # fmt: skip

    def part(self, word: str) -> Any:
        """A part of the point, None where it is not there."""
        return self.of(ACLS, POINT, word) if word in self.document[ACLS][POINT] else None

    def rows(self, word: str) -> Iterator[Any]:
        """The rows of a list of the point."""
        for number, row in enumerate(self.items(self.part(word) or [])):
            self.at = self.lines.get((ACLS, POINT, word, number), self.at)
            yield row

    def side(self, word: str) -> tuple[Span, ...] | None:
        """Between which addresses is judged; None: all."""
        held, some = self.part(word), self.part(f"{word}-some")
        if some not in (None, [None]) or (held is not None and some is None):
            self.fail(f"{word} counts with {word}-some")
        return None if some is None else self.spans(held or [])

    def between(self, pair: Any) -> tuple[Span, Span]:
        """Two ranges between which packets pass."""
        self.keys(pair, ("from", "toward"))
        a, b = self.span(pair["from"]), self.span(pair["toward"])
        if a.family != b.family:
            self.fail("the two are of one family")
        return a, b

    def group(self, row: Any) -> tuple[int, str]:
        """The name of a tag."""
        self.keys(row, ("tag", "name"))
        if not isinstance(row["name"], str) or not GROUP_NAME.fullmatch(row["name"]):
            self.fail(f"{row['name']!r} is no group's name")
        return self.tag(row["tag"]), row["name"]

    def table(self, word: str) -> tuple[Range, ...]:
        """A table of addresses with their tags."""
        found: list[Range] = []
        for row in self.rows(word):
            self.keys(row, ("addresses", "tag"))
            found.append(Range(*self.span(row["addresses"]), self.tag(row["tag"], 1)))
        if found != sorted(found) or overlap(found):
            self.fail("bindings stand in the order of their addresses, which do not overlap")
        return tuple(found)


def _all(ace: _Ace) -> bool:
    """Whether an entry is for every packet of its ACL."""
    return ace.entry.region is None and ace.ends == (None, None)


def _joined(entries: list[Any], aces: list[_Ace]) -> Iterator[Any]:
    """The entries of both ACLs as one row: those of IPv4 first, and the last of IPv6 last. What is
    for all packets of a family says so, by regions of each kind."""
    *front, last = zip(entries, aces, strict=True)
    for one, ace in front:
        addressed = isinstance(one, AddressEntry) and (one.source or one.destination)
        if ace.entry.region is not None or addressed:
            yield one
            continue
        for region in regions_of([ace.family], ((0, 255),), None, None):
            entry = replace(ace.citing, region=region)
            yield (
                one._replace(entry=entry)
                if isinstance(one, FlatEntry)
                else replace(one, entry=entry)
            )
    yield last[0]
