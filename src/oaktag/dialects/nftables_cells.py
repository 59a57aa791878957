"""The cells of a kernel's list: text of one destination's block, or of one chain, → its entries.

Each is read by itself, so that what stands in many lists is read once. What each form means is
written down here again, as the kernel takes it; nothing is shared with the writer.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from functools import lru_cache
from typing import NamedTuple

from oaktag.core.accesslist import DEFAULT_KEY, Frames, ListEntry
from oaktag.core.lines import SYSLOG_SEVERITIES, Action
from oaktag.core.packets import Ranges, Region
from oaktag.dialects.nftables_lines import NAME, NUMBER, TOLD, ListLines

_RANGE = rf"{NUMBER}(?:-{NUMBER})?"
_HEX = r"0|[1-9a-f][0-9a-f]{0,3}"
_SET = rf"(?:{_RANGE}|\{{ {_RANGE}(?:, {_RANGE})+ \}})"
_KEY = rf"(?:[0-9a-f]{{16}}|{DEFAULT_KEY})"
_ENTRY = re.compile(
    rf"(?:meta nfproto ipv(?P<family>[46]) )?"
    rf"(?:meta l4proto (?P<protocols>{_SET}) )?"
    rf"(?:(?P<head>th|tcp|udp|sctp) sport (?P<sports>{_SET}) (?P=head) dport (?P<dports>{_SET}) )?"
    rf"(?:(?P<icmp>icmp|icmpv6) type (?P<types>{_SET}) (?P=icmp) code (?P<codes>{_SET}) )?"
    rf"(?P<outcome>.+)"
)
#: The keys of an entry, and the names of permissions, behind it.
_CITED = rf"(?P<keys>{_KEY}(?: {_KEY})*)(?: \| (?P<words>{NAME}(?: {NAME})*))?"
_OUTCOME = re.compile(
    rf'(?:(?P<counted>counter )(?:log prefix "(?P<prefix>oaktag '
    rf"(?:(?P<source>{NUMBER})>(?P<target>{NUMBER})|outside) (?P<action>allow|deny)"
    rf"(?: (?P<log>{'|'.join(SYSLOG_SEVERITIES)}))?(?: would (?P<would>allow|deny))?"
    rf'(?P<cited>(?: {_KEY})*))"'
    r" group 5 )?)?"
    r"(?P<verdict>accept|drop|reject with icmpx type admin-prohibited)"
)
_PORTED = {"tcp": 6, "udp": 17, "sctp": 132}
_ICMP = {"icmp": (4, 1), "icmpv6": (6, 58)}
_WITH_PORTS = frozenset(_PORTED.values())


#: How the source's tag is looked up. A tag found by address is the high half of the mark, which is
#: 0 where none was: then it is above 0xffff, and what is in the frame counts where it is not.
_LOOKED_UP: dict[Frames, tuple[str, ...]] = {
    "frame": ("meta mark & 0xffff",),
    "bindings": ("meta mark > 0xffff meta mark >> 16", "meta mark <= 0xffff meta mark"),
    "ignored": ("meta mark >> 16",),
}
#: How one is asked for: by addresses first, it is all of the mark, or its high half; no tag is all
#: of it.
_ASKED: dict[Frames, str] = {
    "frame": rf"meta mark & 0xffff == 0x(?P<tag>{_HEX})",
    "bindings": r"meta mark (?:0x0|\{ 0x(?P<tag>[1-9a-f][0-9a-f]{0,3}), 0x(?P=tag)0000/16 \})",
    "ignored": r"meta mark 0x(?:0|(?P<tag>[1-9a-f][0-9a-f]{0,3})0000)/16",
}

#: What is cited behind an entry.
_BEHIND = re.compile(_CITED)
_KEYS = rf"{_KEY}(?: {_KEY})*"
#: A source's tag with a verdict, its group, keys and words; or with a chain, and its group.
_CELL = re.compile(
    rf"\t\t\t0x({_HEX}) : (?:(accept|drop)|goto (p[0-9a-f]{{10}}))(,?) # ({NAME}|-)"
    rf"(?(2) \| ({_KEYS})(?: \| ({NAME}(?: {NAME})*))?)"
)
_UNSORTED = "the keys of an entry, and its words, are sorted, each once"


def _odd_cell(line: str) -> str:
    """What is wrong with an element of a destination's map."""
    element, _, behind = line.strip().partition(" # ")
    if re.fullmatch(rf"0x({_HEX}) : (accept|drop),?", element):
        return f"behind {element!r} stand not its group and its keys"
    if re.fullmatch(rf"0x({_HEX}) : goto p[0-9a-f]{{10}},?", element):
        return f"{behind!r} is not the name of a group"
    return f"{element!r} is no source tag with its chain"


@lru_cache(maxsize=1 << 14)
def _words(text: str) -> tuple[str, ...] | None:
    """Words that are sorted, each once; None where they are not."""
    words = tuple(text.split(" ")) if text else ()
    return words if tuple(sorted(set(words))) == words else None


@lru_cache(maxsize=1 << 14)
def _verdict(allowed: bool, keys: str, words: str) -> tuple[str, ListEntry] | None:
    """An entry that is all of its chain, and its content as a name; None where what it cites is not
    sorted."""
    cited, told = _words(keys), _words(words)
    if cited is None or told is None:
        return None
    action: Action = "allow" if allowed else "deny"
    entry = ListEntry(None, action, action, keys=cited, words=told)
    return repr(entry), entry


class Place(NamedTuple):
    """Where an entry stands: the line, from that of its section; the chain, the place in it, and
    the cell whose alone it is at this line."""

    line: int
    chain: str
    number: int
    cell: tuple[int, ...] = ()


class Block(NamedTuple):
    """What is met by packets for a destination: source tag → chain; the chains that stand as a
    verdict or among these lines; and the names of tags."""

    target: int
    cells: Mapping[int, str]
    alone: Mapping[str, tuple[ListEntry, ...]]
    names: Mapping[int, str]


@lru_cache(maxsize=128)
def block(text: str, names: tuple[tuple[int, str], ...] = (), *, frames: Frames = "frame") -> Block:
    """A destination's map, if it has one, and its chain.

    Args:
        text: these lines.
        frames: how the source's tag is seen, which is how it is to be asked for.
        names: what tags were called before.

    Raises:
        UnreadableList: text that is none, with its line.
    """
    reader = _Cells(text.split("\n"), frames)
    reader.names.update(names)
    return reader.block()


def places(text: str, frames: Frames) -> list[Place]:
    """Where entries stand in a block that can be read."""
    reader = _Cells(text.split("\n"), frames)
    reader.places = []
    reader.block()
    return reader.places


@lru_cache(maxsize=1 << 14)
def chain(text: str) -> tuple[str, tuple[ListEntry, ...]]:
    """A chain of shared entries: its name, and these.

    Raises:
        UnreadableList: text that is none, with its line.
    """
    return _Cells(text.split("\n")).chain()


def outcome(text: str) -> ListEntry:
    """What is done outside of all cells.

    Raises:
        UnreadableList: text that does not say so, at line 1.
    """
    reader = _Cells([text])
    found = reader.take(r"\t\t(.+)")[1]
    reader.at = 0
    return reader.outcome(found, None)


class _Cells(ListLines):
    def __init__(self, lines: list[str], frames: Frames = "frame") -> None:
        super().__init__(lines)
        self.frames: Frames = frames
        self.alone: dict[str, tuple[ListEntry, ...]] = {}
        #: Where entries stand, if somebody asks.
        self.places: list[Place] | None = None

    def block(self) -> Block:
        """The lines as a block."""
        cells: dict[int, str] = {}
        if match := re.fullmatch(rf"\tmap from_({NUMBER}) \{{", self.line):
            self.at += 1
            self.exactly("\t\ttype mark : verdict", "\t\tcounter")
            cells = self.mapped(int(match[1]))
            self.exactly("\t\t}", "\t}", "")
            if not re.match(rf"\tchain to_{NUMBER} \{{", self.line):
                raise self.fail(f"chain to_{match[1]} belongs here")
        begins = self.take(rf"\tchain to_({NUMBER}) \{{{TOLD}")
        target = int(begins[1])
        if target > 0xFFFF or (match and int(match[1]) != target):
            raise self.fail(f"chain to_{target} stands in the wrong place")
        self.name(target, begins["name"])
        cells |= self.here(target, cells)
        if match is not None:
            self.exactly(*(f"\t\t{seen} vmap @from_{target}" for seen in _LOOKED_UP[self.frames]))
        self.exactly("\t\tgoto outside", "\t}")
        return Block(target, cells, self.alone, self.names)

    def here(self, target: int, mapped: Collection[int]) -> dict[int, str]:
        """Cells whose entries stand in the chain of their destination."""
        found: dict[int, list[ListEntry]] = {}
        begins = self.at
        pattern = rf"\t\t{_ASKED[self.frames]} (?P<entry>.+?){TOLD} \| {_CITED}"
        while (match := re.fullmatch(pattern, self.line)) is not None:
            tag = int(match["tag"] or "0", 16)
            if tag in mapped or (tag in found and tag != next(reversed(found))):
                raise self.fail(f"the entries of tag {tag} stand in two places")
            if found and tag < next(reversed(found)):
                raise self.fail("entries stand in the order of their sources' tags")
            self.name(tag, match["name"])
            entries = found.setdefault(tag, [])
            if entries and entries[-1].region is None:
                raise self.fail(f"the entries of tag {tag} go on behind one for everything")
            entries.append(self.entry(match["entry"], match, counted=True))
        held: dict[int, str] = {}
        for tag, entries in found.items():
            if entries[-1].region is not None:
                raise self.fail(f"the entries of tag {tag} do not end in one for everything")
            # One entry alone is the same chain wherever it stands.
            name = repr(entries[0]) if len(entries) == 1 else f"{tag}>{target}"
            held[tag], self.alone[name] = name, tuple(entries)
            if self.places is not None:
                cell = tag, target
                self.places += [Place(begins + n, name, n, cell) for n in range(len(entries))]
            begins += len(entries)
        return held

    def mapped(self, target: int) -> dict[int, str]:
        """The elements of a destination's map: source tag → chain, which may be but a verdict."""
        if not self.if_next("\t\telements = {"):
            raise self.fail(f"map from_{target} is empty")
        cells: dict[int, str] = {}
        names, alone, places = self.names, self.alone, self.places
        more = ","
        while more:
            match = _CELL.fullmatch(self.line)
            if match is None:
                raise self.fail(_odd_cell(self.line))
            number, verdict, chain, more, word, keys, words = match.groups()
            tag = int(number, 16)
            if tag in cells:
                raise self.fail(f"tag {tag} stands twice")
            if names.setdefault(tag, word) != word:
                self.name(tag, word)
            if verdict:
                name, entry = self.verdict(verdict == "accept", keys, words or "")
                alone[name] = (entry,)
                if places is not None:
                    places.append(Place(self.at, name, 0, (tag, target)))
                cells[tag] = name
            else:
                cells[tag] = chain
            self.at += 1
        return cells

    def verdict(self, allowed: bool, keys: str, words: str) -> tuple[str, ListEntry]:
        """An entry that is all of its chain; its content is the chain's name."""
        found = _verdict(allowed, keys, words)
        if found is None:
            raise self.fail(_UNSORTED)
        return found

    def cited(self, match: re.Match[str]) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """The keys behind an entry, and the names of their permissions."""
        keys, words = _words(match["keys"]), _words(match["words"] or "")
        if keys is None or words is None:
            raise self.fail(_UNSORTED)
        return keys, words

    def chain(self) -> tuple[str, tuple[ListEntry, ...]]:
        """The lines as a chain of cells."""
        name = self.take(r"\tchain (p[0-9a-f]{10}) \{")[1]
        entries: list[ListEntry] = []
        while self.line != "\t}":
            text, _, behind = self.line.partition(" # ")
            told = _BEHIND.fullmatch(behind)
            if told is None or not text.startswith("\t\t"):
                raise self.fail(f"{self.line.strip()!r} is no entry")
            entries.append(self.entry(text[2:], told))
        if not entries or entries[-1].region is not None:
            raise self.fail(f"chain {name} does not end in an entry for everything")
        if any(e.region is None for e in entries[:-1]):
            raise self.fail(f"chain {name} goes on behind an entry for everything")
        return name, tuple(entries)

    def entry(self, text: str, told: re.Match[str], *, counted: bool = False) -> ListEntry:
        """One entry, with what is told behind it."""
        keys, words = self.cited(told)
        try:
            region, readable, does = _matching(text)
        except ValueError as error:
            raise self.fail(str(error)) from None
        found = self.outcome(does, keys, counted=counted)
        self.at += 1
        return ListEntry(
            region, found.action, found.would, found.log, found.answer, keys, readable, found.cell,
            words,
        )  # fmt: skip

    def outcome(
        self, text: str, keys: tuple[str, ...] | None, *, counted: bool = False
    ) -> ListEntry:
        """What an entry of some keys does; of none: what is done outside of all cells. What is
        recorded is counted by itself; other entries only where they stand alone, ``counted``."""
        match = _OUTCOME.fullmatch(text)
        if match is None or bool(match["counted"]) != (counted or match["prefix"] is not None):
            raise self.fail(f"{text!r} is no outcome")
        answer = match["verdict"].startswith("reject")
        action: Action = "allow" if match["verdict"] == "accept" else "deny"
        would: Action = action if match["would"] is None else _action(match["would"])
        said = match["action"] is not None
        idle = said and match["log"] is None and match["would"] is None
        if idle or match["action"] not in (None, action) or match["would"] == action:
            raise self.fail(f"{text!r} says one thing and does another")
        cell = None
        if said and match["source"] is not None:
            cell = int(match["source"]), int(match["target"])
        if said and (cell is None) != (keys is None):
            raise self.fail(f"{text!r} names no cell, or one where there is none")
        if said and tuple(match["cited"].split()) != self.fitting(match, keys or ()):
            raise self.fail(f"{text!r} does not name the keys of its entry, as many as fit")
        return ListEntry(None, action, would, match["log"], answer, keys or (), cell=cell)

    @staticmethod
    def fitting(match: re.Match[str], keys: tuple[str, ...]) -> tuple[str, ...]:
        """The keys that a record has room for: it may have 127 letters."""
        room = 127 - len(match["prefix"]) + len(match["cited"])
        fitting: list[str] = []
        for key in keys:
            if len(key) + 1 <= room:
                room -= len(key) + 1
                fitting.append(key)
        return tuple(fitting)


@lru_cache(maxsize=1 << 15)
def _matching(text: str) -> tuple[Region | None, bool, str]:
    """What an entry matches, whether only where ports can be read, and the text of what it does.

    Raises:
        ValueError: it is no entry.
    """
    match = _ENTRY.fullmatch(text)
    if match is None:
        raise ValueError(f"{text!r} is no entry")
    return *_region(match), match["outcome"]


def _region(match: re.Match[str]) -> tuple[Region | None, bool]:
    """What an entry matches, and whether only where ports can be read."""
    families = (4, 6) if match["family"] is None else (int(match["family"]),)
    head, icmp = match["head"], match["icmp"]
    if match["protocols"] is not None and (icmp or head not in (None, "th")):
        raise ValueError("an entry names its protocols once")
    if icmp:
        family, number = _ICMP[icmp]
        if families != (family,):
            raise ValueError(f"{icmp} belongs to one family, named before it")
        return _named(families, ((number, number),), match["types"], match["codes"], 255)
    if head in _PORTED:
        number = _PORTED[head]
        return _named(families, ((number, number),), match["sports"], match["dports"], 65535)
    if match["protocols"] is None:
        if match["family"] is not None or head:
            raise ValueError("an entry must name its protocols")
        return None, False
    protocols = _numbers(match["protocols"], 255)
    every = {p for low, high in protocols for p in range(low, high + 1)}
    single = len(families) == 1 and every == {_ICMP["icmp" if families[0] == 4 else "icmpv6"][1]}
    if head == "th":
        if len(every) == 1 or not every <= _WITH_PORTS:
            raise ValueError("ports are matched of several protocols that all have them")
        return _named(families, protocols, match["sports"], match["dports"], 65535)
    # What the kernel matches by protocol alone it matches with any ports, so protocols with
    # ports, ICMP, and those without stand in entries of their own.
    kinds = {1 if p in _WITH_PORTS else 2 if _is_icmp(p, families) else 3 for p in every}
    if len(kinds) > 1 or (2 in kinds and not single):
        raise ValueError("protocols with ports, ICMP, and others stand in entries of their own")
    top = 65535 if kinds == {1} else 255 if single else 0
    return Region(families, protocols, ((0, top),), ((0, top),)), False


def _is_icmp(protocol: int, families: Sequence[int]) -> bool:
    """Whether a protocol is ICMP in one of some families."""
    return any((family, protocol) in _ICMP.values() for family in families)


def _named(
    families: tuple[int, ...], protocols: Ranges, first: str, second: str, top: int
) -> tuple[Region, bool]:
    """A region whose ports, or type and code, are matched."""
    sources, targets = _numbers(first, top), _numbers(second, top)
    whole = sources == targets == ((0, top),)
    return Region(families, protocols, sources, targets), whole


def _numbers(text: str, top: int) -> Ranges:
    """A sorted set of numbers, in its one form."""
    found: list[tuple[int, int]] = []
    for part in text.strip("{} ").split(", "):
        low, dash, high = part.partition("-")
        ends = int(low), int(high if dash else low)
        odd = ends[0] > ends[1] or ends[1] > top or (dash and ends[0] == ends[1])
        if odd or (found and ends[0] <= found[-1][1] + 1):
            raise ValueError(f"{text!r} is not a sorted set of numbers up to {top}")
        found.append(ends)
    return tuple(found)


def _action(word: str) -> Action:
    return "allow" if word == "allow" else "deny"
