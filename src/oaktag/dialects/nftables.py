"""Access lists for the Linux kernel's packet filter: the tree ↔ text of ``nft``.

How a list is laid out. ``tags4`` and ``tags6`` map addresses to source tags; ``to4`` and ``to6``
map them to one chain for each destination tag; ``from_N`` maps source tags to shared chains
(``p…``), counting every cell by itself. The packet mark's low 16 bits are the tag in the frame.
A tag found by address is put there together with ``FLAG`` and taken out again after judging, so
that the point marks no frame.

The reader accepts what the writer writes, line by line and nothing else: what it cannot place is
refused with its line. It is stricter than ``nft``, so that text which reads is text which loads.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence

from oaktag.core.accesslist import DEFAULT_KEY, AccessList, Frames, ListEntry
from oaktag.core.addresses import WIDTH, Range, Span, parse_prefix, span_text
from oaktag.core.lines import SYSLOG_SEVERITIES, Action
from oaktag.core.packets import ICMP_OF, PORTED, PROTOCOL_NAMES, TOP, Ranges, Region
from oaktag.errors import UnreadableList, UnwritableEntry

NAME = "nftables"
SUFFIX = ".nft"
FLAG = 0x10000
LOG_GROUP = 5

_FAMILY = {4: "ip", 6: "ip6"}
_TYPE = {4: "ipv4_addr", 6: "ipv6_addr"}
_VERDICT: dict[Action, str] = {"allow": "accept", "deny": "drop"}
_ACTION: dict[str, Action] = {"accept": "allow", "drop": "deny"}
_PORT_WORD = {6: "tcp", 17: "udp", 132: "sctp"}
_FRAMES: dict[Frames, str] = {
    "frame": "frame, else bindings",
    "bindings": "bindings, else frame",
    "ignored": "bindings",
}
_KEPT = {True: "", False: "; every packet judged"}
_RESTORED = f"meta mark & {FLAG:#x} == {FLAG:#x} meta mark set"


def table_name(point: str) -> str:
    """The table that holds a point's list in the kernel."""
    return f"oaktag_{point.replace('-', '_')}"


# -- writing ---------------------------------------------------------------------------------


def write(held: AccessList) -> str:
    """The list as text for ``nft -f``; the same list gives the same bytes.

    Raises:
        UnwritableEntry: an entry that this dialect cannot express.
    """
    body = [*_sets(held), *_head(held)]
    for target, sources in _blocks(held):
        body += _block(target, sources)
    for name, chain in held.chains.items():
        body += ["", f"chain {name} {{", *(f"\t{_rule(held.point, e)}" for e in chain), "}"]
    outside, would = held.outside
    body += ["", "chain outside {", f"\t{_outcome(outside, would, None, False)}", "}"]
    lines = [
        "# Oak Tag access list, form 1",
        f"# point {held.point}; source tag from {_FRAMES[held.frames]}{_KEPT[held.stateful]}",
        f"table inet {table_name(held.point)} {{",
        *(f"\t{line}" if line else "" for line in body),
        "}",
    ]
    return "\n".join(lines) + "\n"


def _blocks(held: AccessList) -> list[tuple[int, Mapping[int, str]]]:
    bound = {r.tag for r in held.destination_bindings} | {0}
    return [(t, held.blocks.get(t, {})) for t in sorted(bound | set(held.blocks))]


def _sets(held: AccessList) -> Iterator[str]:
    for family in (4, 6):
        yield from _map(
            f"tags{family}",
            f"type {_TYPE[family]} : mark",
            [
                f"{span_of(r)} : {r.tag | FLAG:#x}"
                for r in held.source_bindings
                if r.family == family
            ],
        )
    for family in (4, 6):
        yield from _map(
            f"to{family}",
            f"type {_TYPE[family]} : verdict",
            [
                f"{span_of(r)} : goto to_{r.tag}"
                for r in held.destination_bindings
                if r.family == family
            ],
        )
    for word, spans in (("origins", held.origins), ("targets", held.targets)):
        for family in (4, 6) if spans is not None else ():
            elements = [span_of(s) for s in spans or () if s.family == family]
            yield from _map(f"{word}{family}", f"type {_TYPE[family]}", elements, "set")
    for family in (4, 6):
        pairs = [f"{span_of(a)} . {span_of(b)}" for a, b in held.inside if a.family == family]
        if pairs:
            kind = f"type {_TYPE[family]} . {_TYPE[family]}"
            yield from _map(f"inside{family}", kind, pairs, "set")


def _map(name: str, kind: str, elements: Sequence[str], word: str = "map") -> Iterator[str]:
    yield from (f"{word} {name} {{", f"\t{kind}", "\tflags interval")
    if elements:
        yield from ("\telements = {", *(f"\t\t{e}," for e in elements[:-1]))
        yield from (f"\t\t{elements[-1]}", "\t}")
    yield from ("}", "")


def _head(held: AccessList) -> list[str]:
    lines = [
        "chain judge {",
        "\ttype filter hook forward priority filter; policy accept;",
        *(["\tct state { established, related } accept"] if held.stateful else []),
        "\tip saddr 169.254.0.0/16 accept",
        "\tip daddr { 169.254.0.0/16, 224.0.0.0/4 } accept",
        "\tip6 saddr fe80::/10 accept",
        "\tip6 daddr { fe80::/10, ff00::/8 } accept",
    ]
    for word, side, spans in (
        ("origins", "saddr", held.origins),
        ("targets", "daddr", held.targets),
    ):
        if spans is not None:
            lines += [f"\t{_FAMILY[f]} {side} != @{word}{f} accept" for f in (4, 6)]
    for family in (4, 6):
        if any(a.family == family for a, _ in held.inside):
            word = _FAMILY[family]
            lines.append(f"\t{word} saddr . {word} daddr @inside{family} accept")
    lines.append(f"\t{_RESTORED} 0")
    if held.frames == "bindings":
        lines.append("\tct mark set meta mark & 0xffff")
    unless = {"frame": "meta mark & 0xffff == 0 "}.get(held.frames, "")
    if held.frames == "ignored":
        lines.append("\tct mark set meta mark & 0xffff")
        lines.append("\tmeta mark set 0x10000")
    lines += [f"\t{unless}meta mark set {_FAMILY[f]} saddr map @tags{f}" for f in (4, 6)]
    lines += [f"\t{_FAMILY[f]} daddr vmap @to{f}" for f in (4, 6)]
    lines += ["\tgoto to_0", "}", "", "chain restore {"]
    lines.append("\ttype filter hook postrouting priority mangle; policy accept;")
    if held.frames != "frame":
        lines.append(f"\t{_RESTORED} ct mark")
    return [*lines, f"\t{_RESTORED} 0", "}"]


def _block(target: int, sources: Mapping[int, str]) -> Iterator[str]:
    if sources:
        yield from ("", f"map from_{target} {{", "\ttype mark : verdict", "\tcounter")
        yield "\telements = {"
        elements = [f"{tag:#x} : goto {chain}" for tag, chain in sorted(sources.items())]
        yield from (f"\t\t{e}," for e in elements[:-1])
        yield from (f"\t\t{elements[-1]}", "\t}", "}")
    yield from ("", f"chain to_{target} {{")
    if sources:
        yield f"\tmeta mark & 0xffff vmap @from_{target}"
    yield from ("\tgoto outside", "}")


def span_of(span: Span | Range) -> str:
    """A range of addresses as an element of a set or map."""
    return span_text(span.family, span.start, span.end)


def _rule(point: str, entry: ListEntry) -> str:
    match = "" if entry.region is None else _match(point, entry.region) + " "
    outcome = _outcome(entry.action, entry.would, entry.log, entry.answer)
    return f"{match}{outcome} # {' '.join(entry.keys)}"


def _outcome(action: Action, would: Action, log: str | None, answer: bool) -> str:
    words: list[str] = []
    if log is not None or action != would:
        words = ["oaktag", action, *([log] if log else [])]
        if action != would:
            words.append(f"would {would}")
        words = [f'counter log prefix "{" ".join(words)}" group {LOG_GROUP}']
    refused = answer and action == "deny"
    words.append("reject with icmpx type admin-prohibited" if refused else _VERDICT[action])
    return " ".join(words)


def _match(point: str, region: Region) -> str:
    families, protocols, sources, destinations = region
    words: list[str] = [] if len(families) == 2 else [f"meta nfproto ipv{families[0]}"]
    numbers = {p for low, high in protocols for p in range(low, high + 1)}
    if numbers <= set(PORTED):
        whole = sources == ((0, TOP),), destinations == ((0, TOP),)
        if len(numbers) == 1 and not all(whole):
            head = _PORT_WORD[numbers.pop()]
        else:
            words.append(f"meta l4proto {_set(protocols)}")
            head = "th"
        words += [
            f"{head} {word} {_set(ranges)}"
            for word, ranges, all_of in (
                ("sport", sources, whole[0]), ("dport", destinations, whole[1]),
            )
            if not all_of
        ]  # fmt: skip
        return " ".join(words)
    icmp = len(families) == 1 and numbers == {ICMP_OF[families[0]]}
    every: Ranges = ((0, 255),) if icmp else ((0, 0),)
    head = "icmp" if families[0] == 4 else "icmpv6"
    details = [
        f"{head} {word} {_set(ranges)}"
        for word, ranges in (("type", sources), ("code", destinations))
        if ranges != every
    ]
    if details and not icmp:
        raise UnwritableEntry(f"{point}: {region} has ports that its protocols lack")
    return " ".join([*words, *(details or [f"meta l4proto {_set(protocols)}"])])


def _set(ranges: Ranges) -> str:
    parts = [str(a) if a == b else f"{a}-{b}" for a, b in ranges]
    return parts[0] if len(parts) == 1 else "{ " + ", ".join(parts) + " }"


# -- reading ---------------------------------------------------------------------------------

_NUMBER = r"(?:0|[1-9][0-9]{0,4})"
_RANGE = rf"{_NUMBER}(?:-{_NUMBER})?"
_SET = rf"(?:{_RANGE}|\{{ {_RANGE}(?:, {_RANGE})+ \}})"
_KEY = rf"(?:[0-9a-f]{{16}}|{DEFAULT_KEY})"
_RULE = re.compile(
    rf"(?:meta nfproto ipv(?P<family>[46]) ?)?"
    rf"(?:meta l4proto (?P<protocols>{_SET}) ?)?"
    rf"(?:(?P<head>th|tcp|udp|sctp|icmp|icmpv6) (?P<first>sport|type) (?P<sources>{_SET}) ?)?"
    rf"(?:(?P<head2>th|tcp|udp|sctp|icmp|icmpv6) (?P<second>dport|code) (?P<targets>{_SET}) ?)?"
    rf"(?P<outcome>.+) # (?P<keys>{_KEY}(?: {_KEY})*)"
)
_OUTCOME = re.compile(
    rf'(?:counter log prefix "oaktag (?P<action>allow|deny)'
    rf'(?: (?P<log>{"|".join(SYSLOG_SEVERITIES)}))?(?: would (?P<would>allow|deny))?"'
    rf" group {LOG_GROUP} )?"
    r"(?P<verdict>accept|drop|reject with icmpx type admin-prohibited)"
)


class _Reader:
    """The lines of a list, one after the other; every complaint names the line it stands at."""

    def __init__(self, text: str) -> None:
        if not text.endswith("\n"):
            raise UnreadableList(text.count("\n") + 1, "the list ends in the middle of a line")
        self.lines = text.split("\n")[:-1]
        self.at = 0

    def fail(self, message: str) -> UnreadableList:
        return UnreadableList(self.at + 1, message)

    @property
    def line(self) -> str:
        if self.at >= len(self.lines):
            raise self.fail("the list ends too early")
        return self.lines[self.at]

    def take(self, pattern: str) -> re.Match[str]:
        match = re.fullmatch(pattern, self.line, re.ASCII)
        if match is None:
            raise self.fail(f"{self.line.strip()!r} does not belong here")
        self.at += 1
        return match

    def exactly(self, *lines: str) -> None:
        for line in lines:
            if self.line != line:
                raise self.fail(f"expected {line.strip()!r}, found {self.line.strip()!r}")
            self.at += 1

    def if_next(self, line: str) -> bool:
        if self.line != line:
            return False
        self.at += 1
        return True

    def elements(self, indent: str) -> Iterator[str]:
        """The elements of a set or map, each with its line as the place of complaint."""
        if not self.if_next(f"{indent}elements = {{"):
            return
        while True:
            found = self.take(rf"{indent}\t([^\t,]+)(,?)")
            self.at -= 1
            yield found[1]
            self.at += 1
            if not found[2]:
                break
        self.exactly(f"{indent}}}")


def read(text: str) -> AccessList:
    """The tree of a list in this dialect.

    Raises:
        UnreadableList: text that is not such a list, with its line.
    """
    reader = _Reader(text)
    reader.exactly("# Oak Tag access list, form 1")
    head = reader.take(r"# point ([a-z0-9.-]+); source tag from ([a-z, ]+)(; every packet judged)?")
    point = head[1]
    frames = next((k for k, v in _FRAMES.items() if v == head[2]), None)
    if frames is None:
        raise UnreadableList(2, f"{head[2]!r} is no way to see a source tag")
    reader.exactly(f"table inet {table_name(point)} {{")
    sources = _read_tags(reader)
    targets = _read_targets(reader)
    origins, toward = (_read_spans(reader, word) for word in ("origins", "targets"))
    inside = _read_inside(reader)
    shell = AccessList(
        point, frames, sources, targets, origins, toward, inside, {}, {}, ("allow", "allow"),
        head[3] is None,
    )  # fmt: skip
    reader.exactly(*(f"\t{line}" if line else "" for line in _head(shell)))
    blocks = _read_blocks(reader)
    chains = _read_chains(reader)
    reader.exactly("\tchain outside {")
    outside = _read_outcome(reader, reader.take(r"\t\t(.+)")[1])
    reader.exactly("\t}", "}")
    if reader.at != len(reader.lines):
        raise reader.fail("nothing belongs behind the end of the list")
    _check_names(reader, targets, blocks, chains)
    if outside[2] is not None or outside[3]:
        raise reader.fail("what is outside neither logs nor answers")
    return AccessList(
        point, shell.frames, sources, targets, origins, toward, inside,
        {t: b for t, b in blocks.items() if b}, chains, outside[:2], shell.stateful,
    )  # fmt: skip


def _check_names(
    reader: _Reader,
    targets: Sequence[Range],
    blocks: Mapping[int, Mapping[int, str]],
    chains: Mapping[str, object],
) -> None:
    used = {chain for block in blocks.values() for chain in block.values()}
    if missing := used - chains.keys():
        raise reader.fail(f"chain {min(missing)} is named but not written")
    if idle := chains.keys() - used:
        raise reader.fail(f"chain {min(idle)} is written but never used")
    if lost := {r.tag for r in targets} - blocks.keys():
        raise reader.fail(f"chain to_{min(lost)} is named but not written")
    if 0 not in blocks:
        raise reader.fail("chain to_0 is named but not written")


def _read_span(reader: _Reader, text: str, family: int) -> Span:
    first, dash, last = text.partition("-")
    try:
        low = parse_prefix(first)
        high = parse_prefix(last) if dash else low
    except ValueError as error:
        raise reader.fail(str(error)) from None
    ends = (low, high) if dash else (low,)
    if any(p.family != family for p in ends) or (
        dash and (low.length != WIDTH[family] or high.length != WIDTH[family])
    ):
        raise reader.fail(f"{text!r} is no range of IPv{family} addresses")
    span = Span(family, low.start, high.end)
    if span.start > span.end or span_of(span) != text:
        raise reader.fail(f"{text!r} is not written in its one form")
    return span


def _disjoint(reader: _Reader, spans: Iterable[Span | Range]) -> None:
    before: Span | Range | None = None
    for span in spans:
        if before is not None and before.family == span.family and before.end >= span.start:
            raise reader.fail(f"{span_of(before)} and {span_of(span)} overlap or are out of order")
        before = span


def _read_tags(reader: _Reader) -> tuple[Range, ...]:
    found: list[Range] = []
    for family in (4, 6):
        reader.exactly(
            f"\tmap tags{family} {{", f"\t\ttype {_TYPE[family]} : mark", "\t\tflags interval"
        )
        for element in reader.elements("\t\t"):
            match = re.fullmatch(r"(\S+) : 0x1([0-9a-f]{4})", element)
            if match is None or int(match[2], 16) == 0:
                raise reader.fail(f"{element!r} is no address with its tag")
            found.append(Range(*_read_span(reader, match[1], family), int(match[2], 16)))
        reader.exactly("\t}", "")
    _disjoint(reader, found)
    return tuple(found)


def _read_targets(reader: _Reader) -> tuple[Range, ...]:
    found: list[Range] = []
    for family in (4, 6):
        reader.exactly(
            f"\tmap to{family} {{", f"\t\ttype {_TYPE[family]} : verdict", "\t\tflags interval"
        )
        for element in reader.elements("\t\t"):
            match = re.fullmatch(rf"(\S+) : goto to_({_NUMBER})", element)
            if match is None or not 0 < int(match[2]) <= 0xFFFF:
                raise reader.fail(f"{element!r} is no address with a chain for its tag")
            found.append(Range(*_read_span(reader, match[1], family), int(match[2])))
        reader.exactly("\t}", "")
    _disjoint(reader, found)
    return tuple(found)


def _read_spans(reader: _Reader, word: str) -> tuple[Span, ...] | None:
    if reader.line != f"\tset {word}4 {{":
        return None
    found: list[Span] = []
    for family in (4, 6):
        reader.exactly(
            f"\tset {word}{family} {{", f"\t\ttype {_TYPE[family]}", "\t\tflags interval"
        )
        found += [_read_span(reader, e, family) for e in reader.elements("\t\t")]
        reader.exactly("\t}", "")
    _disjoint(reader, found)
    return tuple(found)


def _read_inside(reader: _Reader) -> tuple[tuple[Span, Span], ...]:
    found: list[tuple[Span, Span]] = []
    for family in (4, 6):
        if not reader.if_next(f"\tset inside{family} {{"):
            continue
        reader.exactly(f"\t\ttype {_TYPE[family]} . {_TYPE[family]}", "\t\tflags interval")
        for element in reader.elements("\t\t"):
            first, dot, second = element.partition(" . ")
            if not dot:
                raise reader.fail(f"{element!r} is no pair of addresses")
            found.append((_read_span(reader, first, family), _read_span(reader, second, family)))
        reader.exactly("\t}", "")
    if len(set(found)) != len(found):
        raise reader.fail("a pair of addresses stands twice")
    for side in (0, 1):
        _disjoint(reader, sorted({pair[side] for pair in found}))
    return tuple(found)


def _read_blocks(reader: _Reader) -> dict[int, dict[int, str]]:
    blocks: dict[int, dict[int, str]] = {}
    while True:
        reader.exactly("")
        cells: dict[int, str] = {}
        if match := re.fullmatch(rf"\tmap from_({_NUMBER}) \{{", reader.line):
            reader.at += 1
            reader.exactly("\t\ttype mark : verdict", "\t\tcounter")
            for element in reader.elements("\t\t"):
                cell = re.fullmatch(r"0x(0|[1-9a-f][0-9a-f]{0,3}) : goto (p[0-9a-f]{10})", element)
                if cell is None or int(cell[1], 16) in cells:
                    raise reader.fail(
                        f"{element!r} is no source tag with its chain, or stands twice"
                    )
                cells[int(cell[1], 16)] = cell[2]
            reader.exactly("\t}", "")
        if not re.fullmatch(rf"\tchain to_{_NUMBER} \{{", reader.line):
            if match is not None:
                raise reader.fail(f"chain to_{match[1]} belongs here")
            return blocks
        target = int(reader.take(rf"\tchain to_({_NUMBER}) \{{")[1])
        if target in blocks or target > 0xFFFF or (match and int(match[1]) != target):
            raise reader.fail(f"chain to_{target} stands twice or in the wrong place")
        if match is not None:
            if not cells:
                raise reader.fail(f"map from_{target} is empty")
            reader.exactly(f"\t\tmeta mark & 0xffff vmap @from_{target}")
        reader.exactly("\t\tgoto outside", "\t}")
        blocks[target] = cells


def _read_chains(reader: _Reader) -> dict[str, tuple[ListEntry, ...]]:
    chains: dict[str, tuple[ListEntry, ...]] = {}
    while reader.line != "\tchain outside {":
        name = reader.take(r"\tchain (p[0-9a-f]{10}) \{")[1]
        if name in chains:
            raise reader.fail(f"chain {name} stands twice")
        entries: list[ListEntry] = []
        while reader.line != "\t}":
            entries.append(_read_rule(reader))
        if not entries or entries[-1].region is not None:
            raise reader.fail(f"chain {name} does not end in an entry for everything")
        if any(e.region is None for e in entries[:-1]):
            raise reader.fail(f"chain {name} goes on behind an entry for everything")
        chains[name] = tuple(entries)
        reader.exactly("\t}", "")
    return chains


def _read_rule(reader: _Reader) -> ListEntry:
    text = reader.line
    match = _RULE.fullmatch(text[2:]) if text.startswith("\t\t") else None
    if match is None:
        raise reader.fail(f"{text.strip()!r} is no entry")
    action, would, log, answer = _read_outcome(reader, match["outcome"])
    region = _read_region(reader, match)
    keys = tuple(match["keys"].split(" "))
    entry = ListEntry(region, action, would, log, answer, keys)
    if _rule("", entry) != text[2:] or tuple(sorted(set(keys))) != keys:
        raise reader.fail(f"{text.strip()!r} is not written in its one form")
    reader.at += 1
    return entry


def _read_outcome(reader: _Reader, text: str) -> tuple[Action, Action, str | None, bool]:
    match = _OUTCOME.fullmatch(text)
    if match is None:
        raise reader.fail(f"{text!r} is no outcome")
    answer = match["verdict"].startswith("reject")
    action: Action = "deny" if answer else _ACTION[match["verdict"]]
    would: Action = action if match["would"] is None else _either(match["would"])
    if (
        match["action"] not in (None, action)
        or _outcome(action, would, match["log"], answer) != text
    ):
        raise reader.fail(f"{text!r} says one thing and does another")
    return action, would, match["log"], answer


def _either(word: str) -> Action:
    return "allow" if word == "allow" else "deny"


def _read_region(reader: _Reader, match: re.Match[str]) -> Region | None:
    heads = {h for h in (match["head"], match["head2"]) if h}
    if len(heads) > 1:
        raise reader.fail(f"{' and '.join(sorted(heads))} cannot both be matched")
    families = (4, 6) if match["family"] is None else (int(match["family"]),)
    head = heads.pop() if heads else None
    if head is None and match["protocols"] is None and match["family"] is None:
        return None
    if head in ("icmp", "icmpv6"):
        if families != ((4,) if head == "icmp" else (6,)):
            raise reader.fail(f"{head} belongs to one family, named before it")
        protocols: Ranges = ((ICMP_OF[families[0]],) * 2,)
        top = 255
    elif head in PROTOCOL_NAMES:
        protocols, top = ((PROTOCOL_NAMES[head],) * 2,), TOP
    elif match["protocols"] is None:
        raise reader.fail("an entry must name its protocols")
    else:
        protocols = _read_set(reader, match["protocols"], 255)
        numbers = {p for low, high in protocols for p in range(low, high + 1)}
        icmp = len(families) == 1 and numbers == {ICMP_OF[families[0]]}
        top = TOP if numbers <= set(PORTED) else 255 if icmp else 0
    sources, targets = (
        ((0, top),) if match[word] is None else _read_set(reader, match[word], top)
        for word in ("sources", "targets")
    )
    return Region(families, protocols, sources, targets)


def _read_set(reader: _Reader, text: str, top: int) -> Ranges:
    found: list[tuple[int, int]] = []
    for part in text.strip("{} ").split(", "):
        low, dash, high = part.partition("-")
        ends = int(low), int(high if dash else low)
        if ends[0] > ends[1] or ends[1] > top or (found and ends[0] <= found[-1][1] + 1):
            raise reader.fail(f"{text!r} is not a sorted set of numbers up to {top}")
        found.append(ends)
    return tuple(found)
