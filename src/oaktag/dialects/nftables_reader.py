"""Access lists of the Linux kernel's packet filter: text → the tree.

It shares nothing with the writer: what each form means is written down here again, as the kernel
takes it. It accepts the forms that the writer writes, byte for byte and nothing else: every other
text is refused, with its line, and so is all that stands beside the one table. So a list that reads
is a list that loads, and does what the tree says.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import partial

from oaktag.core.accesslist import (
    DEFAULT_KEY,
    AccessList,
    Blank,
    End,
    Forget,
    Keep,
    ListEntry,
    Look,
    PassBetween,
    PassKnown,
    PassUnless,
    PassWithin,
    Reassemble,
    Standing,
    Step,
    WhichEnd,
)
from oaktag.core.addresses import Range, Span, parse_prefix, span_text
from oaktag.core.lines import SYSLOG_SEVERITIES, Action
from oaktag.core.packets import Ranges, Region
from oaktag.errors import UnreadableList

_NUMBER = r"(?:0|[1-9][0-9]{0,4})"
_RANGE = rf"{_NUMBER}(?:-{_NUMBER})?"
_HEX = r"0|[1-9a-f][0-9a-f]{0,3}"
_SET = rf"(?:{_RANGE}|\{{ {_RANGE}(?:, {_RANGE})+ \}})"
_KEY = rf"(?:[0-9a-f]{{16}}|{DEFAULT_KEY})"
_ADDRESS = r"[0-9a-f.:]+(?:/[0-9]+|-[0-9a-f.:]+)?"
_ENTRY = re.compile(
    rf"(?:meta nfproto ipv(?P<family>[46]) )?"
    rf"(?:meta l4proto (?P<protocols>{_SET}) )?"
    rf"(?:(?P<head>th|tcp|udp|sctp) sport (?P<sports>{_SET}) (?P=head) dport (?P<dports>{_SET}) )?"
    rf"(?:(?P<icmp>icmp|icmpv6) type (?P<types>{_SET}) (?P=icmp) code (?P<codes>{_SET}) )?"
    rf"(?P<outcome>.+)"
)
_NAME = r"[a-z][a-z0-9/-]*"
#: The keys of an entry, and the names of permissions, behind it.
_CITED = rf"(?P<keys>{_KEY}(?: {_KEY})*)(?: \| (?P<words>{_NAME}(?: {_NAME})*))?"
_TOLD = rf" # (?P<name>{_NAME}|-)"
_OUTCOME = re.compile(
    rf'(?:(?P<counted>counter )(?:log prefix "(?P<prefix>oaktag '
    rf"(?:(?P<source>{_NUMBER})>(?P<target>{_NUMBER})|outside) (?P<action>allow|deny)"
    rf"(?: (?P<log>{'|'.join(SYSLOG_SEVERITIES)}))?(?: would (?P<would>allow|deny))?"
    rf'(?P<cited>(?: {_KEY})*))"'
    r" group 5 )?)?"
    r"(?P<verdict>accept|drop|reject with icmpx type admin-prohibited)"
)
_PORTED = {"tcp": 6, "udp": 17, "sctp": 132}
_ICMP = {"icmp": (4, 1), "icmpv6": (6, 58)}
_WITH_PORTS = frozenset(_PORTED.values())
_FAMILIES = {"ip": 4, "ip6": 6}
_KINDS = {4: "ipv4_addr", 6: "ipv6_addr"}
_BITS = {4: 32, 6: 128}
_ENDS: dict[str, WhichEnd] = {"saddr": "source", "daddr": "destination"}
#: The steps of a head in the one order in which they are written, a letter each.
_LETTERS: dict[type[Step], str] = {
    PassKnown: "k", Reassemble: "r", PassWithin: "w", PassUnless: "u", PassBetween: "b",
    Forget: "f", Keep: "p", Blank: "x", Look: "l",
}  # fmt: skip
_ORDER = re.compile(r"[kr]w{4}(?:uu){0,2}b{0,2}f(?:px?)?ll")


def read(text: str) -> AccessList:
    """The tree of a list in this dialect.

    Raises:
        UnreadableList: text that is not such a list, with its line.
    """
    return _Reader(text).whole()


def standing(text: str) -> Iterator[Standing]:
    """Where each entry of a list stands.

    Raises:
        UnreadableList: text that is not such a list, with its line.
    """
    reader = _Reader(text)
    held = reader.whole()
    for line, chain, place, cell in sorted(reader.places):
        entry = held.chains[chain][place]
        yield Standing(line, entry, partial(_is, cell) if cell else partial(_leads, held, chain))


def _is(cell: tuple[int, ...], source: End, destination: End) -> bool:
    return cell == (source.tag, destination.tag)


def _leads(held: AccessList, chain: str, source: End, destination: End) -> bool:
    return held.blocks.get(destination.tag, {}).get(source.tag) == chain


class _Reader:
    """The lines of a list, one after the other; every complaint names the line it stands at."""

    def __init__(self, text: str) -> None:
        for number, line in enumerate(text.split("\n"), 1):
            odd = next((c for c in line if not (" " <= c <= "~" or c == "\t")), None)
            if odd is not None:
                raise UnreadableList(number, f"the character U+{ord(odd):04X} does not belong here")
        if not text.endswith("\n"):
            raise UnreadableList(text.count("\n") + 1, "the list ends in the middle of a line")
        self.lines = text.split("\n")[:-1]
        self.at = 0
        #: The names of tags, as they stand behind lines.
        self.names: dict[int, str] = {}
        #: Chains that stand as a verdict, or in the chain of their destination.
        self.alone: dict[str, tuple[ListEntry, ...]] = {}
        #: Where entries stand: the line, the chain, the place in it, and the cell whose alone they
        #: are at this line.
        self.places: list[tuple[int, str, int, tuple[int, ...]]] = []

    # -- lines -----------------------------------------------------------------------------------

    def fail(self, message: str) -> UnreadableList:
        """A complaint about the line that is read now."""
        return UnreadableList(self.at + 1, message)

    @property
    def line(self) -> str:
        """The line that is read now."""
        if self.at >= len(self.lines):
            raise self.fail("the list ends too early")
        return self.lines[self.at]

    def take(self, pattern: str) -> re.Match[str]:
        """A line of some form."""
        match = re.fullmatch(pattern, self.line, re.ASCII)
        if match is None:
            raise self.fail(f"{self.line.strip()!r} does not belong here")
        self.at += 1
        return match

    def exactly(self, *lines: str) -> None:
        """Some lines, as they are."""
        for line in lines:
            if self.line != line:
                raise self.fail(f"expected {line.strip()!r}, found {self.line.strip()!r}")
            self.at += 1

    def if_next(self, line: str) -> bool:
        """A line, if it is the next one."""
        if self.line != line:
            return False
        self.at += 1
        return True

    # -- the whole -------------------------------------------------------------------------------

    def whole(self) -> AccessList:
        """The list."""
        self.exactly("# Oak Tag access list, form 4")
        point = self.take(r"# point ([a-z0-9.-]+)")[1]
        self.exactly(f"table inet oaktag_{point.replace('-', '_')} {{")
        sources = self.ranges("tags", "mark", self._source)
        targets = self.ranges("to", "verdict", self._target)
        named = self.sets()
        own = self.own()
        self.hooks(own)
        head = self.head(named)
        self.exactly("\tchain restore {")
        self.exactly("\t\ttype filter hook postrouting priority mangle; policy accept;")
        restores = self.if_next("\t\tmeta mark & 0x10000 == 0x10000 meta mark set ct mark")
        self.exactly("\t\tmeta mark & 0x10000 == 0x10000 meta mark set 0", "\t}")
        blocks = self.blocks()
        chains = self.chains()
        self.exactly("\tchain outside {")
        outside = self.outcome(self.take(r"\t\t(.+)")[1], None)
        if outside.log is not None or outside.answer:
            raise self.fail("what is outside neither logs nor answers")
        self.exactly("\t}", "}")
        if self.at != len(self.lines):
            raise self.fail("nothing belongs behind the end of the list")
        self.check_names(targets, blocks, chains)
        held = {t: b for t, b in blocks.items() if b}
        found = (Range(*r[:3], abs(r.tag)) for r in targets)
        chains = dict(sorted({**chains, **self.alone}.items()))
        named_tags = {tag: name for tag, name in sorted(self.names.items()) if name != "-"}
        return AccessList(
            point, head, restores, sources, tuple(found), held, chains,
            (outside.action, outside.would), own, named_tags,
        )  # fmt: skip

    def check_names(
        self,
        targets: Sequence[Range],
        blocks: Mapping[int, Mapping[int, str]],
        chains: Mapping[str, Sequence[ListEntry]],
    ) -> None:
        """That every chain that is named is written, and every one that is written is used; that
        one which names a cell in its records is that cell's alone."""
        cells: dict[str, set[tuple[int, int]]] = {}
        for target, block in blocks.items():
            for source, chain in block.items():
                cells.setdefault(chain, set()).add((source, target))
        for name, entries in {**chains, **self.alone}.items():
            if (told := {e.cell for e in entries if e.cell}) and told != cells.get(name):
                raise self.fail(f"chain {name} records another cell than it is for")
        used = {chain for block in blocks.values() for chain in block.values()}
        if missing := used - chains.keys() - self.alone.keys():
            raise self.fail(f"chain {min(missing)} is named but not written")
        if idle := chains.keys() - used:
            raise self.fail(f"chain {min(idle)} is written but never used")
        if lost := {r.tag for r in targets if r.tag > 0} - blocks.keys():
            raise self.fail(f"chain to_{min(lost)} is named but not written")
        if beside := {-r.tag for r in targets if r.tag < 0} & blocks.keys():
            raise self.fail(f"tag {min(beside)} has a chain and is led outside")
        if 0 not in blocks:
            raise self.fail("chain to_0 is named but not written")
        if empty := [t for t, block in blocks.items() if t and not block]:
            raise self.fail(f"chain to_{min(empty)} has no cells")

    # -- addresses -------------------------------------------------------------------------------

    def elements(self, indent: str) -> Iterator[tuple[str, str]]:
        """The elements of a set or map with what stands behind them, each with its line as the
        place of complaint."""
        if not self.if_next(f"{indent}elements = {{"):
            return
        while True:
            found = self.take(rf"{indent}\t([^\t,#]+?)(,?)( # [^\t]+)?")
            self.at -= 1
            yield found[1], found[3] or ""
            self.at += 1
            if not found[2]:
                break
        self.exactly(f"{indent}}}")

    def told(self, behind: str, tag: int) -> None:
        """The name of a tag behind a line, the same wherever it stands."""
        match = re.fullmatch(_TOLD, behind)
        if match is None:
            raise self.fail(f"{behind.strip()!r} is not the name of a group")
        self.name(tag, match["name"])

    def name(self, tag: int, word: str) -> None:
        """The name of a tag, the same wherever it stands; - where it has none."""
        if self.names.setdefault(tag, word) != word:
            raise self.fail(f"tag {tag} is called {word} here, and {self.names[tag]} before")

    def bare(self, indent: str) -> Iterator[str]:
        """Elements behind which nothing stands."""
        for element, behind in self.elements(indent):
            if behind:
                raise self.fail(f"{behind.strip()!r} does not belong here")
            yield element

    def span(self, text: str, family: int) -> Span:
        """A range of addresses, in its one form."""
        first, dash, last = text.partition("-")
        try:
            low = parse_prefix(first)
            high = parse_prefix(last) if dash else low
        except ValueError as error:
            raise self.fail(str(error)) from None
        whole = {p.length for p in (low, high)} == {_BITS[family]}
        if {p.family for p in (low, high)} != {family} or (dash and not whole):
            raise self.fail(f"{text!r} is no range of IPv{family} addresses")
        span = Span(family, low.start, high.end)
        if span.start > span.end or span_text(*span) != text:
            raise self.fail(f"{text!r} is not written in its one form")
        return span

    def disjoint(self, spans: Iterable[Span | Range]) -> None:
        """That spans are sorted and do not overlap: the kernel refuses others."""
        before: Span | Range | None = None
        for span in spans:
            if before is not None and before.family == span.family and before.end >= span.start:
                said = span_text(*before[:3]), span_text(*span[:3])
                raise self.fail(f"{said[0]} and {said[1]} overlap or are out of order")
            before = span

    def ranges(
        self, word: str, kind: str, element: Callable[[str], tuple[str, int]]
    ) -> tuple[Range, ...]:
        """The maps of both families from addresses to something of a tag."""
        found: list[Range] = []
        for family in (4, 6):
            self.exactly(
                f"\tmap {word}{family} {{", f"\t\ttype {_KINDS[family]} : {kind}",
                "\t\tflags interval",
            )  # fmt: skip
            for text, behind in self.elements("\t\t"):
                address, tag = element(text)
                self.told(behind, abs(tag))
                found.append(Range(*self.span(address, family), tag))
            self.exactly("\t}", "")
        self.disjoint(found)
        return tuple(found)

    def _source(self, element: str) -> tuple[str, int]:
        match = re.fullmatch(rf"({_ADDRESS}) : 0x1([0-9a-f]{{4}})", element)
        if match is None or int(match[2], 16) == 0:
            raise self.fail(f"{element!r} is no address with its tag")
        return match[1], int(match[2], 16)

    def _target(self, element: str) -> tuple[str, int]:
        """An address and its tag, negative where it is led outside."""
        match = re.fullmatch(
            rf'({_ADDRESS})(?: : goto to_({_NUMBER})| comment "({_NUMBER})" : goto outside)',
            element,
        )
        tag = 0 if match is None else int(match[2] or match[3])
        if match is None or not 0 < tag <= 0xFFFF:
            raise self.fail(f"{element!r} is no address with a chain for its tag")
        return match[1], tag if match[2] else -tag

    def sets(self) -> dict[str, tuple[Span, ...] | tuple[tuple[Span, Span], ...]]:
        """The named sets of addresses, and of pairs of them."""
        found: dict[str, tuple[Span, ...] | tuple[tuple[Span, Span], ...]] = {}
        while match := re.fullmatch(r"\tset ((?:origins|targets|inside)([46])) \{", self.line):
            name, family = match[1], int(match[2])
            self.at += 1
            kind = _KINDS[family]
            if name in found:
                raise self.fail(f"the set {name} stands twice")
            if name.startswith("inside"):
                self.exactly(f"\t\ttype {kind} . {kind}", "\t\tflags interval")
                found[name] = self.pairs(family)
            else:
                self.exactly(f"\t\ttype {kind}", "\t\tflags interval")
                spans = tuple(self.span(e, family) for e in self.bare("\t\t"))
                self.disjoint(spans)
                found[name] = spans
            self.exactly("\t}", "")
        return found

    def own(self) -> tuple[Span, ...]:
        """The addresses of the node itself that the list guards."""
        found: list[Span] = []
        for family in (4, 6) if self.line == "\tset own4 {" else ():
            kind = _KINDS[family]
            self.exactly(f"\tset own{family} {{", f"\t\ttype {kind}", "\t\tflags interval")
            spans = [self.span(e, family) for e in self.bare("\t\t")]
            if any(span.start != span.end for span in spans):
                raise self.fail("a node has single addresses of its own")
            self.disjoint(spans)
            self.exactly("\t}", "", f"\tset self{family} {{", f"\t\ttype {kind} . {kind}")
            self.exactly("\t\tflags interval")
            if self.pairs(family) != tuple((span, span) for span in spans):
                raise self.fail(
                    "what stays in the node is not from an address of its own to itself"
                )
            self.exactly("\t}", "")
            found += spans
        return tuple(found)

    def hooks(self, own: tuple[Span, ...]) -> None:
        """Where packets meet the list: as they cross the node; as they arrive at addresses of its
        own, or leave from these."""
        if own:
            begins = [f"\t\t{w} saddr . {w} daddr @self{f} accept" for w, f in _FAMILIES.items()]
        hooks = [("crossing", "forward", ["\t\tjump judge"])]
        for name, hook, end in (("arriving", "input", "daddr"), ("leaving", "output", "saddr")):
            if own:
                judged = [f"\t\t{w} {end} @own{f} jump judge" for w, f in _FAMILIES.items()]
                hooks.append((name, hook, [*begins, *judged]))
        for name, hook, rules in hooks:
            self.exactly(
                f"\tchain {name} {{",
                f"\t\ttype filter hook {hook} priority filter; policy accept;", *rules, "\t}", "",
            )  # fmt: skip

    def pairs(self, family: int) -> tuple[tuple[Span, Span], ...]:
        """Pairs of ranges of addresses, of which on either side none overlaps another."""
        found: list[tuple[Span, Span]] = []
        for element in self.bare("\t\t"):
            first, dot, second = element.partition(" . ")
            if not dot:
                raise self.fail(f"{element!r} is no pair of addresses")
            found.append((self.span(first, family), self.span(second, family)))
        if len(set(found)) != len(found):
            raise self.fail("a pair of addresses stands twice")
        for side in (0, 1):
            self.disjoint(sorted({pair[side] for pair in found}))
        return tuple(found)

    # -- the head --------------------------------------------------------------------------------

    def head(
        self, named: dict[str, tuple[Span, ...] | tuple[tuple[Span, Span], ...]]
    ) -> tuple[Step, ...]:
        """What the chain at the hook does, up to where the destination's tag chooses a block."""
        self.exactly("\tchain judge {")
        steps: list[Step] = []
        used: list[str] = []
        while self.line != "\t\tip daddr vmap @to4":
            steps.append(self.step(named, used))
        self.exactly(
            "\t\tip daddr vmap @to4", "\t\tip6 daddr vmap @to6", "\t\tgoto to_0", "\t}", ""
        )
        if not _ORDER.fullmatch("".join(_LETTERS[type(s)] for s in steps)):
            raise self.fail("the chain judge has not the steps that it must have, in their order")
        if used != list(named):
            raise self.fail("the sets of addresses are not those that the chain judge asks for")
        return tuple(steps)

    def step(
        self, named: dict[str, tuple[Span, ...] | tuple[tuple[Span, Span], ...]], used: list[str]
    ) -> Step:
        """One statement of it."""
        plain: dict[str, Step] = {
            "ct state { established, related } accept": PassKnown(),
            "ct state invalid counter": Reassemble(),
            "meta mark & 0x10000 == 0x10000 meta mark set 0": Forget(),
            "ct mark set meta mark & 0xffff": Keep(),
            "meta mark set 0x10000": Blank(),
            "meta mark & 0xffff == 0 meta mark set ip saddr map @tags4": Look(4, True),
            "meta mark & 0xffff == 0 meta mark set ip6 saddr map @tags6": Look(6, True),
            "meta mark set ip saddr map @tags4": Look(4, False),
            "meta mark set ip6 saddr map @tags6": Look(6, False),
        }
        text = self.line.removeprefix("\t\t")
        if not self.line.startswith("\t\t"):
            raise self.fail(f"{self.line.strip()!r} does not belong here")
        step = plain.get(text)
        if step is None and (m := re.fullmatch(r"(ip6?) ([sd]addr) (.+) accept", text)):
            step = self.passing(m[1], m[2], m[3], named, used)
        if step is None:
            raise self.fail(f"{text!r} is no step of the chain judge")
        self.at += 1
        return step

    def passing(
        self, word: str, side: str, what: str,
        named: dict[str, tuple[Span, ...] | tuple[tuple[Span, Span], ...]], used: list[str],
    ) -> Step | None:  # fmt: skip
        """A statement that lets packets of some addresses pass."""
        family, end = _FAMILIES[word], _ENDS[side]
        name = {"source": "origins", "destination": "targets"}[end] + str(family)
        if what == f"!= @{name}" and name in named:
            used.append(name)
            return PassUnless(end, family, named[name])  # type: ignore[arg-type]
        if what == f". {word} daddr @inside{family}" and side == "saddr":
            if f"inside{family}" not in named:
                return None
            used.append(f"inside{family}")
            return PassBetween(family, named[f"inside{family}"])  # type: ignore[arg-type]
        listed = re.fullmatch(rf"({_ADDRESS})|\{{ ({_ADDRESS}(?:, {_ADDRESS})+) \}}", what)
        if listed is None:
            return None
        spans = tuple(self.span(t, family) for t in (listed[1] or listed[2]).split(", "))
        self.disjoint(spans)
        return PassWithin(end, family, spans)

    # -- blocks and chains -----------------------------------------------------------------------

    def blocks(self) -> dict[int, dict[int, str]]:
        """Of each destination's tag which chain each source's tag leads to."""
        blocks: dict[int, dict[int, str]] = {}
        while True:
            self.exactly("")
            cells: dict[int, str] = {}
            if match := re.fullmatch(rf"\tmap from_({_NUMBER}) \{{", self.line):
                self.at += 1
                self.exactly("\t\ttype mark : verdict", "\t\tcounter")
                for element, behind in self.elements("\t\t"):
                    tag, chain = self.cell(element, behind, int(match[1]))
                    if tag in cells:
                        raise self.fail(f"{element!r} stands twice")
                    cells[tag] = chain
                self.exactly("\t}", "")
            if not re.match(rf"\tchain to_{_NUMBER} \{{", self.line):
                if match is not None:
                    raise self.fail(f"chain to_{match[1]} belongs here")
                return blocks
            begins = self.take(rf"\tchain to_({_NUMBER}) \{{{_TOLD}")
            target = int(begins[1])
            if target <= 0xFFFF:
                self.name(target, begins["name"])
            if target in blocks or target > 0xFFFF or (match and int(match[1]) != target):
                raise self.fail(f"chain to_{target} stands twice or in the wrong place")
            if match is not None and not cells:
                raise self.fail(f"map from_{target} is empty")
            cells |= self.here(target, cells)
            if match is not None:
                self.exactly(f"\t\tmeta mark & 0xffff vmap @from_{target}")
            self.exactly("\t\tgoto outside", "\t}")
            blocks[target] = cells

    def here(self, target: int, mapped: Collection[int]) -> dict[int, str]:
        """Cells whose entries stand in the chain of their destination."""
        found: dict[int, list[ListEntry]] = {}
        begins = self.at + 1
        pattern = rf"\t\tmeta mark & 0xffff == 0x({_HEX}) (.+?){_TOLD} \| {_CITED}"
        while (match := re.fullmatch(pattern, self.line)) is not None:
            tag = int(match[1], 16)
            if tag in mapped or (tag in found and tag != next(reversed(found))):
                raise self.fail(f"the entries of tag {tag} stand in two places")
            if found and tag < next(reversed(found)):
                raise self.fail("entries stand in the order of their sources' tags")
            self.name(tag, match["name"])
            entries = found.setdefault(tag, [])
            if entries and entries[-1].region is None:
                raise self.fail(f"the entries of tag {tag} go on behind one for everything")
            entries.append(self.entry(match[2], match, counted=True))
        held: dict[int, str] = {}
        for tag, entries in found.items():
            if entries[-1].region is not None:
                raise self.fail(f"the entries of tag {tag} do not end in one for everything")
            # One entry alone is the same chain wherever it stands.
            name = repr(entries[0]) if len(entries) == 1 else f"{tag}>{target}"
            held[tag], self.alone[name] = name, tuple(entries)
            self.places += [(begins + n, name, n, (tag, target)) for n in range(len(entries))]
            begins += len(entries)
        return held

    def cell(self, element: str, behind: str, target: int) -> tuple[int, str]:
        """A source's tag and its chain, which may be but a verdict."""
        match = re.fullmatch(rf"0x({_HEX}) : (accept|drop|goto (p[0-9a-f]{{10}}))", element)
        if match is None:
            raise self.fail(f"{element!r} is no source tag with its chain")
        tag = int(match[1], 16)
        if match[3]:
            self.told(behind, tag)
            return tag, match[3]
        told = re.fullmatch(rf"{_TOLD} \| {_CITED}", behind)
        if told is None:
            raise self.fail(f"behind {element!r} stand not its group and its keys")
        self.name(tag, told["name"])
        action: Action = "allow" if match[2] == "accept" else "deny"
        keys, words = self.cited(told)
        entry = ListEntry(None, action, action, keys=keys, words=words)
        name = repr(entry)
        self.alone[name] = (entry,)
        self.places.append((self.at + 1, name, 0, (tag, target)))
        return tag, name

    def cited(self, match: re.Match[str]) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """The keys behind an entry, and the names of their permissions."""
        keys = tuple(match["keys"].split(" "))
        words = tuple(match["words"].split(" ")) if match["words"] else ()
        if any(tuple(sorted(set(some))) != some for some in (keys, words)):
            raise self.fail("the keys of an entry, and its words, are sorted, each once")
        return keys, words

    def chains(self) -> dict[str, tuple[ListEntry, ...]]:
        """The chains of cells, each with its entries."""
        chains: dict[str, tuple[ListEntry, ...]] = {}
        while self.line != "\tchain outside {":
            name = self.take(r"\tchain (p[0-9a-f]{10}) \{")[1]
            if name in chains:
                raise self.fail(f"chain {name} stands twice")
            entries: list[ListEntry] = []
            while self.line != "\t}":
                told = re.fullmatch(rf"\t\t(.+?) # {_CITED}", self.line)
                if told is None:
                    raise self.fail(f"{self.line.strip()!r} is no entry")
                self.places.append((self.at + 1, name, len(entries), ()))
                entries.append(self.entry(told[1], told))
            if not entries or entries[-1].region is not None:
                raise self.fail(f"chain {name} does not end in an entry for everything")
            if any(e.region is None for e in entries[:-1]):
                raise self.fail(f"chain {name} goes on behind an entry for everything")
            chains[name] = tuple(entries)
            self.exactly("\t}", "")
        return chains

    def entry(self, text: str, told: re.Match[str], *, counted: bool = False) -> ListEntry:
        """One entry, with what is told behind it."""
        match = _ENTRY.fullmatch(text)
        if match is None:
            raise self.fail(f"{text!r} is no entry")
        keys, words = self.cited(told)
        found = self.outcome(match["outcome"], keys, counted=counted)
        region, readable = self.region(match)
        self.at += 1
        return replace(found, region=region, readable=readable, words=words)

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

    def region(self, match: re.Match[str]) -> tuple[Region | None, bool]:
        """What an entry matches, and whether only where ports can be read."""
        families = (4, 6) if match["family"] is None else (int(match["family"]),)
        head, icmp = match["head"], match["icmp"]
        if match["protocols"] is not None and (icmp or head not in (None, "th")):
            raise self.fail("an entry names its protocols once")
        if icmp:
            family, number = _ICMP[icmp]
            if families != (family,):
                raise self.fail(f"{icmp} belongs to one family, named before it")
            return self.named(families, ((number, number),), match["types"], match["codes"], 255)
        if head in _PORTED:
            number = _PORTED[head]
            return self.named(
                families, ((number, number),), match["sports"], match["dports"], 65535
            )
        if match["protocols"] is None:
            if match["family"] is not None or head:
                raise self.fail("an entry must name its protocols")
            return None, False
        protocols = self.numbers(match["protocols"], 255)
        every = {p for low, high in protocols for p in range(low, high + 1)}
        single = len(families) == 1 and every == {
            _ICMP["icmp" if families[0] == 4 else "icmpv6"][1]
        }
        if head == "th":
            if len(every) == 1 or not every <= _WITH_PORTS:
                raise self.fail("ports are matched of several protocols that all have them")
            return self.named(families, protocols, match["sports"], match["dports"], 65535)
        # What the kernel matches by protocol alone it matches with any ports, so protocols with
        # ports, ICMP, and those without stand in entries of their own.
        kinds = {1 if p in _WITH_PORTS else 2 if self.is_icmp(p, families) else 3 for p in every}
        if len(kinds) > 1 or (2 in kinds and not single):
            raise self.fail("protocols with ports, ICMP, and others stand in entries of their own")
        top = 65535 if kinds == {1} else 255 if single else 0
        return Region(families, protocols, ((0, top),), ((0, top),)), False

    @staticmethod
    def is_icmp(protocol: int, families: Sequence[int]) -> bool:
        """Whether a protocol is ICMP in one of some families."""
        return any((family, protocol) in _ICMP.values() for family in families)

    def named(
        self, families: tuple[int, ...], protocols: Ranges, first: str, second: str, top: int
    ) -> tuple[Region, bool]:
        """A region whose ports, or type and code, are matched."""
        sources, targets = self.numbers(first, top), self.numbers(second, top)
        whole = sources == targets == ((0, top),)
        return Region(families, protocols, sources, targets), whole

    def numbers(self, text: str, top: int) -> Ranges:
        """A sorted set of numbers, in its one form."""
        found: list[tuple[int, int]] = []
        for part in text.strip("{} ").split(", "):
            low, dash, high = part.partition("-")
            ends = int(low), int(high if dash else low)
            odd = ends[0] > ends[1] or ends[1] > top or (dash and ends[0] == ends[1])
            if odd or (found and ends[0] <= found[-1][1] + 1):
                raise self.fail(f"{text!r} is not a sorted set of numbers up to {top}")
            found.append(ends)
        return tuple(found)


def _action(word: str) -> Action:
    return "allow" if word == "allow" else "deny"
