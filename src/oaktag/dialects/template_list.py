"""Access lists in a form of the engineer's own: a template (Jinja2, sandboxed) writes them, and the
patterns that it declares read them back.

The template gets the list as the document that ``json`` writes, as ``list``, with the filters
``ranges`` (``[[80, 80], [443, 444]]`` → ``80,443-444``) and ``group`` (a tag → its group). Every
line of the text must be of one of the declared kinds: what none of them says is not there, and a
list that says less than it should is refuted.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import replace
from functools import partial
from time import monotonic
from typing import Any, NamedTuple, NoReturn

from oaktag.core.accesslist import (
    DEFAULT_KEY,
    OUTSIDE_KEY,
    UNJUDGED_KEY,
    AccessList,
    ListEntry,
    Standing,
)
from oaktag.core.addressed import AddressEntry, AddressList
from oaktag.core.addresses import Prefix, Range, Span, parse_prefix, prefixes_of
from oaktag.core.flatlist import FlatEntry, FlatList
from oaktag.core.lines import SYSLOG_SEVERITIES, Action
from oaktag.core.packets import Ranges, Region, regions_of
from oaktag.core.templates import Template
from oaktag.dialects.json_list import document
from oaktag.dialects.json_reading import GROUP_NAME, POINT_NAME, SOURCE_TAGS, head, overlap
from oaktag.errors import UnreadableList, UnwritableEntry

ANY = "any"
_KEY = re.compile(rf"[0-9a-f]{{16}}|{DEFAULT_KEY}|{UNJUDGED_KEY}|{OUTSIDE_KEY}")
_NUMBERS = re.compile(r"(?:0|[1-9][0-9]{0,4})(?:-(?:0|[1-9][0-9]{0,4}))?")


def write(template: Template, held: FlatList | AddressList) -> str:
    """The list as the template has it.

    Raises:
        UnwritableEntry: the template is none, or fails.
    """
    from jinja2 import TemplateError

    try:
        return _rendered(template, held)
    except (TemplateError, ArithmeticError, LookupError, TypeError, ValueError) as error:
        line = getattr(error, "lineno", None) or _line_of(error)
        at = f"{template.name}:{template.location.line + line}" if line else template.name
        raise UnwritableEntry(f"{held.point}: {at}: {error}") from None


#: A template writes at most so many letters, and takes so many seconds.
MOST_LETTERS, MOST_SECONDS = 256_000_000, 60.0


class TooMuch(ValueError):
    """A template that writes too much, or takes too long."""


def _rendered(template: Template, held: FlatList | AddressList) -> str:
    """The text that a template makes, within its limits: each turn of a loop looks at the clock."""
    from jinja2 import StrictUndefined, nodes
    from jinja2 import Template as Compiled
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    class Limited(ImmutableSandboxedEnvironment):
        intercepted_binops = frozenset({"*", "**"})

        def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
            numbers = all(isinstance(n, int) and abs(n) <= 1 << 32 for n in (left, right))
            if not numbers or operator == "**":
                raise TooMuch(f"{operator} is for numbers that addresses and ports have")
            return super().call_binop(context, operator, left, right)

    environment = Limited(
        undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True, keep_trailing_newline=True
    )
    environment.filters["ranges"] = _ranges
    environment.filters["group"] = partial(_group, held.names)
    until = monotonic() + MOST_SECONDS

    def turn() -> str:
        if monotonic() > until:
            raise TooMuch(f"it takes more than {MOST_SECONDS:.0f} seconds")
        return ""

    tree = environment.parse(template.text)
    for loop in tree.find_all(nodes.For):
        ask = nodes.Call(nodes.Name("_turn", "load"), [], [], None, None)
        loop.body.insert(0, nodes.Output([ask]).set_lineno(loop.lineno))
    code = environment.compile(tree, filename="<template>")
    made = Compiled.from_code(environment, code, environment.make_globals({"_turn": turn}))
    parts: list[str] = []
    size = 0
    for part in made.generate(list=document(held)):
        size += len(part)
        if size > MOST_LETTERS:
            raise TooMuch(f"it writes more than {MOST_LETTERS:,} letters")
        parts.append(part)
    return "".join(parts)


def _line_of(error: BaseException) -> int | None:
    """The line of the template's text at which it failed."""
    line, at = None, error.__traceback__
    while at is not None:
        if at.tb_frame.f_code.co_filename == "<template>":
            line = at.tb_lineno
        at = at.tb_next
    return line


def _ranges(pairs: list[list[int]]) -> str:
    return ",".join(str(low) if low == high else f"{low}-{high}" for low, high in pairs)


def _group(names: Mapping[int, str], tag: int) -> str:
    return names.get(tag, str(tag))


def read_form(template: Template, text: str) -> tuple[AccessList, FlatList | AddressList]:
    """The tree of a list in this form, and the row of entries that the template must make the same
    text of.

    Raises:
        UnreadableList: text that is not such a list, with its line.
    """
    held = _Reader(template, text).whole()[0]
    tree = held.tree()
    if not any("keys" in re.compile(p).groupindex for p in template.read.get("entry", ())):
        silent = {
            name: tuple(replace(entry, keys=()) for entry in chain)
            for name, chain in tree.chains.items()
        }
        tree = replace(tree, chains=silent)
    return tree, held


def standing(template: Template, text: str) -> Iterator[Standing]:
    """Where each entry of a list stands.

    Raises:
        UnreadableList: text that is not such a list, with its line.
    """
    held, stood = _Reader(template, text).whole()
    for line, number in stood:
        if isinstance(held, FlatList):
            flat = held.entries[number]
            yield Standing(line, flat.entry, partial(held.tries, flat))
        else:
            yield Standing(line, held.entries[number].entry, held.entries[number].holds)


class _Line(NamedTuple):
    """A line that was read: its number, its kind, and what its pattern has named."""

    number: int
    kind: str
    said: dict[str, str]


class _Reader:
    """The lines of a list; every complaint names the line it stands at."""

    def __init__(self, template: Template, text: str) -> None:
        self.template = template
        self.at = 1
        if not template.read:
            self.fail(f"{template.name} does not say how its lines are read back")
        patterns = [
            (kind, re.compile(p, re.ASCII)) for kind, some in template.read.items() for p in some
        ]
        self.lines: dict[str, list[_Line]] = {}
        for number, line in enumerate(text.removesuffix("\n").split("\n"), 1):
            self.at = number
            for kind, pattern in patterns:
                if (match := pattern.fullmatch(line)) is not None:
                    said = {k: v for k, v in match.groupdict().items() if v is not None}
                    self.lines.setdefault(kind, []).append(_Line(number, kind, said))
                    break
            else:
                self.fail(f"{line!r} is of no kind that {template.name} reads back")
        self.by_address = dict(template.able).get("tables") is False

    def fail(self, message: str) -> NoReturn:
        """A complaint about the line that is read now."""
        raise UnreadableList(self.at, message)

    # -- the whole -------------------------------------------------------------------------------

    def whole(self) -> tuple[FlatList | AddressList, list[tuple[int, int]]]:
        """The list; and the line of each entry, with its place in the list."""
        point = self.one("point", "name") or ""
        if point and not POINT_NAME.fullmatch(point):
            self.fail("a point has a name of letters, digits, ., - and _")
        stateful = bool(self.lines.get("stateful"))
        own = self.spans("own")
        names = {self.tag(said["tag"]): self.group(said["name"]) for said in self.each("group")}
        stood: list[tuple[int, int]] = []
        entries: list[Any] = []
        for said in self.each("entry"):
            stood.append((self.at, len(entries)))
            entries += self.entries(said)
        if not self.by_address and () in map(self.cells_of, ("sources", "destinations")):
            if entries:
                self.fail("nothing can match an entry of a list without cells")
            return self.flat(point, (), stateful, own, names), stood
        if self.template.implied is not None and not (entries and _all(entries[-1])):
            action = self.template.implied
            last = ListEntry(None, action, action)  # which says of no line that it decided
            entries.append((None, None, last))
        if not entries or not _all(entries[-1]):
            self.fail("the last entry is for everything, and this one is not")
        for number, one in enumerate(entries[:-1]):
            if _all(one):
                self.at = next((line for line, at in reversed(stood) if at <= number), self.at)
                self.fail("nothing can match what stands behind an entry for everything")
        if self.by_address:
            held = tuple(AddressEntry(self.prefix(a), self.prefix(b), e) for a, b, e in entries)
            return AddressList(point, stateful, held, own, names), stood
        flat = tuple(FlatEntry(self.tags(a), self.tags(b), e) for a, b, e in entries)
        return self.flat(point, flat, stateful, own, names), stood

    def flat(
        self, point: str, entries: tuple[FlatEntry, ...], stateful: bool, own: tuple[Span, ...],
        names: dict[int, str],
    ) -> FlatList:  # fmt: skip
        """The list of a point by tags."""
        by = self.word(self.one("source_tag", "by") or "frame")
        if by not in SOURCE_TAGS:
            self.fail(f"{by!r} is none of {', '.join(SOURCE_TAGS)}")
        sides = [self.spans(kind) if kind in self.lines else None for kind in ("from", "toward")]
        pairs = [
            (self.span(said["from"]), self.span(said["toward"])) for said in self.each("not_inside")
        ]
        outside: tuple[Action, Action] = ("allow", "allow")
        for said in self.each("outside"):
            action = self.action(said["action"])
            outside = action, self.action(said["would"]) if "would" in said else action
        both = self.table("binding")
        tables = [
            tuple(sorted((*both, *self.table(f"{end}_binding"))))
            for end in ("source", "destination")
        ]
        if any(overlap(table) for table in tables):
            self.fail("the addresses of two bindings overlap")
        told = {0, *(r.tag for t in tables for r in t)}
        told |= {t for e in entries for side in e[:2] for t in side or ()}
        scope = []
        for kind in ("sources", "destinations"):
            tags = self.cells_of(kind)
            scope.append(tuple(sorted(told)) if tags is None else tags)
        return FlatList(
            point, head(stateful, sides[0], sides[1], pairs, by), by != "frame", tables[0],
            tables[1], scope[0], scope[1], entries, outside, own, names,
        )  # fmt: skip

    def cells_of(self, kind: str) -> tuple[int, ...] | None:
        """The tags of the cells' ``sources`` or ``destinations``; None where no line says them."""
        if kind not in self.lines:
            return None
        return tuple(sorted({t for s in self.each(kind) for t in self.tags(s["tags"]) or ()}))

    # -- lines -----------------------------------------------------------------------------------

    def each(self, kind: str) -> Iterator[dict[str, str]]:
        """What lines of a kind say, one after the other."""
        for line in self.lines.get(kind, []):
            self.at = line.number
            yield line.said

    def one(self, kind: str, name: str) -> str | None:
        """What the only line of a kind says; None where there is none."""
        said = list(self.each(kind))
        if len(said) > 1:
            self.fail(f"the {kind} is said twice")
        return said[0][name] if said else None

    def entries(self, said: dict[str, str]) -> Iterator[tuple[str | None, str | None, ListEntry]]:
        """One entry, as those for each kind of packets in it."""
        ends = [None if said.get(k, ANY) == ANY else said[k] for k in ("from", "to")]
        action = self.action(said["action"])
        log = self.word(said["log"]) if "log" in said else None
        if log is not None and log not in SYSLOG_SEVERITIES:
            self.fail(f"{log!r} is no severity")
        keys = self.parts(said.get("keys", DEFAULT_KEY))
        if not keys or any(not _KEY.fullmatch(key) for key in keys):
            self.fail("an entry names the keys of its lines")
        words = self.parts(said.get("permissions", ""))
        entry = ListEntry(
            None, action, self.action(said["would"]) if "would" in said else action, log,
            "answer" in said and action == "deny", tuple(sorted(set(keys))), "readable" in said,
            words=tuple(sorted(set(words))),
        )  # fmt: skip
        for region in self.regions(said, ends):
            yield ends[0], ends[1], replace(entry, region=region)

    def regions(self, said: dict[str, str], ends: list[str | None]) -> list[Region | None]:
        """The packets that an entry matches."""
        told = tuple(
            sorted({self.whole_number(w, 6) for w in self.parts(said.get("families", ""))})
        )
        if not set(told) <= {4, 6}:
            self.fail("a family is 4 or 6")
        families = told or (4, 6)
        if self.by_address:
            here = {self.span(end).family for end in ends if end is not None}
            families = tuple(f for f in families if not here or here == {f})
            if not families:
                self.fail("an entry is for packets of one family")
        protocols = self.ranges(said.get("protocols", ANY), 255)
        icmp = "types" in said or "codes" in said
        axes = [
            self.ranges(said.get(w, ANY), 255 if icmp else 65535)
            for w in (("types", "codes") if icmp else ("source_ports", "destination_ports"))
        ]
        if icmp and ("source_ports" in said or "destination_ports" in said):
            self.fail("an entry names ports, or types and codes of ICMP")
        whole = protocols is None and axes == [None, None]
        if whole and (len(families) == 2 or (self.by_address and ends != [None, None])):
            return [None]
        found: dict[tuple[Ranges, Ranges, Ranges], tuple[int, ...]] = {}
        for region in regions_of(families, protocols or ((0, 255),), axes[0], axes[1]):
            shape = region.protocols, region.sources, region.destinations
            found[shape] = (*found.get(shape, ()), *region.families)
        if not found:
            self.fail("nothing can match this")
        return [Region(of, *shape) for shape, of in found.items()]

    # -- values ----------------------------------------------------------------------------------

    def word(self, text: str) -> str:
        """A word, as the template says what it means."""
        return self.template.words.get(text, text)

    def parts(self, text: str) -> list[str]:
        """The parts of a list, by commas or spaces."""
        return [self.word(part) for part in re.split(r"[,\s]+", text) if part]

    def action(self, text: str) -> Action:
        """Allow or deny."""
        word = self.word(text)
        if word == "allow":
            return "allow"
        return "deny" if word == "deny" else self.fail(f"{text!r} is neither allow nor deny")

    def whole_number(self, text: str, top: int) -> int:
        """A number from 0."""
        if not re.fullmatch(r"0|[1-9][0-9]{0,4}", text) or int(text) > top:
            self.fail(f"{text!r} is no number from 0 to {top}")
        return int(text)

    def ranges(self, text: str, top: int) -> Ranges | None:
        """Sorted ranges with gaps between them; None for any."""
        if text == ANY:
            return None
        found: list[tuple[int, int]] = []
        for part in self.parts(text):
            if not _NUMBERS.fullmatch(part):
                self.fail(f"{part!r} is no number or range")
            first, _, last = part.partition("-")
            found.append((self.whole_number(first, top), self.whole_number(last or first, top)))
        joined: list[tuple[int, int]] = []
        for low, high in sorted(found):
            if low > high:
                self.fail(f"{text!r} has a range that ends before it begins")
            if joined and low <= joined[-1][1] + 1:
                joined[-1] = joined[-1][0], max(joined[-1][1], high)
            else:
                joined.append((low, high))
        if not joined:
            self.fail("numbers are missing")
        return tuple(joined)

    def span(self, text: str) -> Span:
        """A range of addresses."""
        first, dash, last = text.partition("-")
        try:
            one, two = parse_prefix(first), parse_prefix(last or first)
        except ValueError:
            self.fail(f"{text!r} is no address, prefix or range")
        span = Span(one.family, one.start, two.end)
        if one.family != two.family or span.end < span.start or (dash and one.end != one.start):
            self.fail(f"{text!r} is no range")
        return span

    def spans(self, kind: str) -> tuple[Span, ...]:
        """The addresses of all lines of a kind, sorted."""
        some = [self.span(p) for said in self.each(kind) for p in self.parts(said["addresses"])]
        found = tuple(sorted(some))
        if overlap(found):
            self.fail(f"addresses of {kind} overlap")
        return found

    def table(self, kind: str) -> tuple[Range, ...]:
        """Addresses with their tags, of all lines of a kind."""
        return tuple(
            Range(*self.span(said["addresses"]), self.tag(said["tag"])) for said in self.each(kind)
        )

    def prefix(self, text: str | None) -> Prefix | None:
        """One prefix; None for any."""
        if text is None:
            return None
        found = prefixes_of(*self.span(text))
        if len(found) != 1:
            self.fail(f"{text!r} is no one prefix")
        return found[0]

    def group(self, text: str) -> str:
        """The name of a group."""
        return text if GROUP_NAME.fullmatch(text) else self.fail(f"{text!r} is no group's name")

    def tag(self, text: str) -> int:
        """A tag."""
        return self.whole_number(self.word(text), 65535)

    def tags(self, text: str | None) -> frozenset[int] | None:
        """Some tags; None for all."""
        return None if text is None else frozenset(self.tag(part) for part in self.parts(text))


def _all(one: tuple[str | None, str | None, ListEntry]) -> bool:
    return one[0] is None and one[1] is None and one[2].region is None
