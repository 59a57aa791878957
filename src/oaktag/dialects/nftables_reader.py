"""Access lists of the Linux kernel's packet filter: text → the tree.

It shares nothing with the writer: what each form means is written down here again, as the kernel
takes it. It accepts the forms that the writer writes, byte for byte and nothing else: every other
text is refused, with its line, and so is all that stands beside the one table. So a list that reads
is a list that loads, and does what the tree says.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from functools import partial
from typing import TypeVar

from oaktag.core.accesslist import (
    AccessList,
    Blank,
    End,
    Forget,
    Frames,
    Keep,
    ListEntry,
    Look,
    PassBetween,
    PassKnown,
    PassNeighbours,
    PassUnless,
    PassWithin,
    Reassemble,
    Standing,
    Step,
    WhichEnd,
)
from oaktag.core.addresses import Range, Span
from oaktag.dialects.nftables_cells import Block, Place, block, chain, outcome, places
from oaktag.dialects.nftables_lines import TOLD
from oaktag.dialects.nftables_tables import ADDRESS, KINDS, AddressLines, Table, table
from oaktag.errors import UnreadableList

_FAMILIES = {"ip": 4, "ip6": 6}
_ENDS: dict[str, WhichEnd] = {"saddr": "source", "daddr": "destination"}
#: The steps of a head in the one order in which they are written, a letter each.
_LETTERS: dict[type[Step], str] = {
    PassKnown: "k", Reassemble: "r", PassNeighbours: "n", PassWithin: "w", PassUnless: "u",
    PassBetween: "b", Forget: "f", Keep: "p", Blank: "x", Look: "l",
}  # fmt: skip
Read = TypeVar("Read")
Named = TypeVar("Named", Block, Table)
#: No character that a list is written with.
_ODD = re.compile(r"[^ -~\t\n]")
_USUAL = bytes([*range(32, 127), 9, 10])
_ORDER = re.compile(r"[kr]nw{4}(?:uu){0,2}b{0,2}f(?:px?)?ll")
#: How a list says which tag of a source counts; that of the frame, where nothing is said.
_SOURCES: dict[str, Frames] = {
    "# sources by addresses, then by frames": "bindings", "# sources by addresses alone": "ignored",
}  # fmt: skip


def read(text: str) -> AccessList:
    """The tree of a list in this dialect.

    Raises:
        UnreadableList: text that is not such a list, with its line.
    """
    return _Reader(text).whole()


def read_form(text: str) -> tuple[AccessList, AccessList]:
    """The tree, and what the writer must make the same text of: the tree itself.

    Raises:
        UnreadableList: text that is not such a list, with its line.
    """
    held = read(text)
    return held, held


def standing(text: str) -> Iterator[Standing]:
    """Where each entry of a list stands.

    Raises:
        UnreadableList: text that is not such a list, with its line.
    """
    reader = _Reader(text)
    held = reader.whole()
    found = list(reader.places)
    for begins, ends in reader.blocks_at:
        some = "\n".join(reader.lines[begins:ends])
        found.append((begins + 1, places(some, reader.frames)))
    every = [(begins + p.line, *p[1:]) for begins, some in found for p in some]
    for line, name, number, cell in sorted(every):
        entry = held.chains[name][number]
        yield Standing(line, entry, partial(_is, cell) if cell else partial(_leads, held, name))


def _is(cell: tuple[int, ...], source: End, destination: End) -> bool:
    return cell == (source.tag, destination.tag)


def _leads(held: AccessList, chain: str, source: End, destination: End) -> bool:
    return held.blocks.get(destination.tag, {}).get(source.tag) == chain


class _Reader(AddressLines):
    """A whole list."""

    def __init__(self, text: str) -> None:
        if not text.isascii() or text.encode().translate(None, _USUAL):
            odd = _ODD.search(text)
            assert odd is not None, "there is one"
            number, code = text.count("\n", 0, odd.start()) + 1, ord(odd[0])
            raise UnreadableList(number, f"the character U+{code:04X} does not belong here")
        if not text.endswith("\n"):
            raise UnreadableList(text.count("\n") + 1, "the list ends in the middle of a line")
        super().__init__(text.split("\n")[:-1])
        self.frames: Frames = "frame"
        #: Chains that stand as a verdict, or in the chain of their destination.
        self.alone: dict[str, tuple[ListEntry, ...]] = {}
        #: Where entries stand: the line, the chain, the place in it, and the cell whose alone they
        #: are at this line.
        self.places: list[tuple[int, Sequence[Place]]] = []
        #: From and to which line each block stands.
        self.blocks_at: list[tuple[int, int]] = []

    # -- the whole -------------------------------------------------------------------------------

    def whole(self) -> AccessList:
        """The list."""
        self.exactly("# Oak Tag access list, form 6")
        point = self.take(r"# point ([a-z0-9.-]+)")[1]
        if self.line in _SOURCES:
            self.frames = _SOURCES[self.line]
            self.at += 1
        keeps = self.frames != "frame"
        self.exactly(f"table inet oaktag_{point.replace('-', '_')} {{")
        sources = self.ranges("tags", "verdict" if keeps else "mark")
        targets = self.ranges("to", "verdict")
        named = self.sets()
        own = self.own()
        turn = self.turn() if keeps else 0
        self.hooks(own, turn)
        head = self.head(named)
        if keeps:
            self.set_beside(own, turn, sources)
        else:
            self.exactly("\tchain restore {")
            self.exactly("\t\ttype filter hook postrouting priority mangle; policy accept;")
            self.exactly("\t\tmeta mark & 0x10000 == 0x10000 meta mark set 0", "\t}")
        blocks = self.blocks()
        chains = self.chains()
        self.exactly("\tchain outside {")
        outside = self.section(outcome, self.line, 0)
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
            point, head, keeps, sources, tuple(found), held, chains,
            (outside.action, outside.would), own, named_tags, turn,
        )  # fmt: skip

    def check_names(
        self,
        targets: Sequence[Range],
        blocks: Mapping[int, Mapping[int, str]],
        chains: Mapping[str, Sequence[ListEntry]],
    ) -> None:
        """That every chain that is named is written, and every one that is written is used; that
        one which names a cell in its records is that cell's alone."""
        every = {**chains, **self.alone}
        recorded = {
            name: told
            for name, entries in every.items()
            if (told := {e.cell for e in entries if e.cell})
        }
        cells: dict[str, set[tuple[int, int]]] = {}
        for target, held in blocks.items():
            for source, name in held.items() if recorded else ():
                if name in recorded:
                    cells.setdefault(name, set()).add((source, target))
        for name, told in recorded.items():
            if told != cells.get(name):
                raise self.fail(f"chain {name} records another cell than it is for")
        used = {name for held in blocks.values() for name in held.values()}
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
        if empty := [t for t, held in blocks.items() if t and not held]:
            raise self.fail(f"chain to_{min(empty)} has no cells")

    # -- addresses -------------------------------------------------------------------------------

    def ranges(self, word: str, kind: str) -> tuple[Range, ...]:
        """The maps of both families from addresses to something of a tag."""
        found: list[Range] = []
        for family in (4, 6):
            self.exactly(
                f"\tmap {word}{family} {{", f"\t\ttype {KINDS[family]} : {kind}",
                "\t\tflags interval",
            )  # fmt: skip
            form = "is" if (word, kind) == ("tags", "verdict") else word
            found += self.shared(partial(table, word=form, family=family), "\t}", 0).ranges
            self.exactly("")
        return tuple(found)

    def sets(self) -> dict[str, tuple[Span, ...] | tuple[tuple[Span, Span], ...]]:
        """The named sets of addresses, and of pairs of them."""
        found: dict[str, tuple[Span, ...] | tuple[tuple[Span, Span], ...]] = {}
        while match := re.fullmatch(r"\tset ((?:origins|targets|inside)([46])) \{", self.line):
            name, family = match[1], int(match[2])
            self.at += 1
            kind = KINDS[family]
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
            kind = KINDS[family]
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

    def turn(self) -> int:
        """Which list of its node it is, of those that keep the frame's tag: packets meet it at an
        even priority of its own, and leave it at the next."""
        told = self.lines[self.at + 1] if self.at + 1 < len(self.lines) else ""
        match = re.fullmatch(r"\t\ttype .* priority ([1-9][0-9]{0,3});.*", told)
        number = int(match[1]) if match else 0
        if not number or number % 2:
            self.at += 1
            raise self.fail(f"{told.strip()!r} does not say in which turn packets meet the list")
        return number // 2

    def hooks(self, own: tuple[Span, ...], turn: int) -> None:
        """Where packets meet the list: as they cross the node; as they arrive at addresses of its
        own, or leave from these."""
        begins = [f"\t\t{w} saddr . {w} daddr @self{f} accept" for w, f in _FAMILIES.items()]
        hooks = [("crossing", "forward", ["\t\tjump judge"])]
        for name, hook, end in (("arriving", "input", "daddr"), ("leaving", "output", "saddr")):
            if own:
                judged = [f"\t\t{w} {end} @own{f} jump judge" for w, f in _FAMILIES.items()]
                hooks.append((name, hook, [*begins, *judged]))
        forget = ["\t\tmeta mark & 0x10000 == 0x10000 meta mark set 0"] if turn else []
        for name, hook, rules in hooks:
            self.hook(name, hook, str(2 * turn) if turn else "filter", [*forget, *rules])
            self.exactly("")

    def hook(self, name: str, hook: str, priority: str, rules: Sequence[str]) -> None:
        """A chain that packets meet by themselves."""
        begins = f"\t\ttype filter hook {hook} priority {priority}; policy accept;"
        self.exactly(f"\tchain {name} {{", begins, *rules, "\t}")

    def set_beside(self, own: tuple[Span, ...], turn: int, sources: Sequence[Range]) -> None:
        """What takes away, behind the point, the tag that stood beside the frame's; and the chains
        that put it there, one for each tag of a source."""
        first = True
        for name, hook in (("crossing", "forward"), ("arriving", "input"), ("leaving", "output")):
            if own or first:
                if not first:
                    self.exactly("")
                empty = ["\t\tmeta mark set meta mark & 0xffff"]
                self.hook(f"behind_{name}", hook, str(2 * turn + 1), empty)
            first = False
        for tag in sorted({r.tag for r in sources}):
            self.exactly("")
            told = self.take(rf"\tchain is_{tag} \{{{TOLD}")
            self.name(tag, told["name"])
            # Of the mark what is in the first mask stays, and what is in the second is set: the
            # high half becomes the tag, whatever it was, and the low half stays.
            kept = f" & 0x{tag:x}ffff" if tag != 0xFFFF else ""
            self.exactly(f"\t\tmeta mark set meta mark{kept} | 0x{tag:x}0000", "\t}")

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
        if self.frames != "frame":
            # Each hook has forgotten before; what was in the frame stays where it is.
            at = next((n for n, s in enumerate(steps) if isinstance(s, Look)), len(steps))
            steps[at:at] = [Forget(), Keep(), *([Blank()] if self.frames == "ignored" else [])]
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
            # The kernel matches the type of ICMPv6 alone, and the hop limit as the packet comes.
            "ip6 hoplimit 255 icmpv6 type 133-137 accept": PassNeighbours(),
        }
        if self.frames == "frame":
            plain["meta mark & 0x10000 == 0x10000 meta mark set 0"] = Forget()
            plain["meta mark & 0xffff == 0 meta mark set ip saddr map @tags4"] = Look(4, True)
            plain["meta mark & 0xffff == 0 meta mark set ip6 saddr map @tags6"] = Look(6, True)
        else:
            plain["ip saddr vmap @tags4"] = Look(4, False)
            plain["ip6 saddr vmap @tags6"] = Look(6, False)
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
        listed = re.fullmatch(rf"({ADDRESS})|\{{ ({ADDRESS}(?:, {ADDRESS})+) \}}", what)
        if listed is None:
            return None
        spans = tuple(self.span(t, family) for t in (listed[1] or listed[2]).split(", "))
        self.disjoint(spans)
        return PassWithin(end, family, spans)

    # -- blocks and chains -----------------------------------------------------------------------

    def shared(self, read: Callable[..., Named], last: str, after: int) -> Named:
        """A section in which tags are named; where they were before, by the same names."""
        start = self.at
        with suppress(UnreadableList):
            found = self.section(read, last, after)
            both = self.names.keys() & found.names
            if all(self.names[tag] == found.names[tag] for tag in both):
                self.names.update(found.names)
                return found
        # It does not fit, and what was named before tells where.
        self.at = start
        return self.section(partial(read, names=tuple(self.names.items())), last, after)

    def section(self, read: Callable[[str], Read], last: str, after: int) -> Read:
        """Lines that are read by themselves, up to one and some after it."""
        start = self.at
        try:
            self.at = self.lines.index(last, start) + 1 + after
        except ValueError:
            self.at = len(self.lines)
        try:
            return read("\n".join(self.lines[start : self.at]))
        except UnreadableList as error:
            raise UnreadableList(start + error.line, error.message) from None

    def blocks(self) -> dict[int, Mapping[int, str]]:
        """Of each destination's tag which chain each source's tag leads to."""
        blocks: dict[int, Mapping[int, str]] = {}
        while True:
            self.exactly("")
            if not self.line.startswith(("\tmap from_", "\tchain to_")):
                return blocks
            start = self.at
            read = self.shared(partial(block, frames=self.frames), "\t\tgoto outside", 1)
            if read.target in blocks:
                raise self.fail(f"chain to_{read.target} stands twice")
            blocks[read.target] = read.cells
            self.alone |= read.alone
            self.blocks_at.append((start, self.at))

    def chains(self) -> dict[str, tuple[ListEntry, ...]]:
        """The chains of cells, each with its entries."""
        chains: dict[str, tuple[ListEntry, ...]] = {}
        while self.line != "\tchain outside {":
            start = self.at
            name, entries = self.section(chain, "\t}", 0)
            if name in chains:
                raise self.fail(f"chain {name} stands twice")
            chains[name] = entries
            self.places.append((start + 2, [Place(n, name, n) for n in range(len(entries))]))
            self.exactly("")
        return chains
