"""Access lists for the Linux kernel's packet filter: the tree → text for ``nft -f``.

How a list is laid out. ``tags4`` and ``tags6`` map addresses to source tags; ``to4`` and ``to6``
map them to one chain for each destination tag that has cells (a comment names the tag of the
others, which go to ``outside``); ``from_N`` maps source tags to shared chains (``p…``), or to a
verdict where all packets meet the same, counting every cell by itself. A list whose chains and
references together are more than its entries one by one has the entries of some cells in ``to_N``
itself, each with the source's tag and a count. The packet mark's low 16 bits are the tag in the
frame. A tag found by address is put there, where there was none, together with ``FLAG``, and taken
out again after judging, so that the point marks no frame. Where addresses count first, or alone,
the tag in the frame stays where it is: ``tags4`` and ``tags6`` lead to chains ``is_N``, which put
the tag found into the high 16 bits, and ``behind_…`` empty these after judging. Such lists of one
node are met in turn, each at a priority of its own, so that none sees what another put there.
``crossing`` is met by packets that cross the node; where the list
guards the node itself, ``arriving`` and ``leaving`` lead to the same judgement what goes to and
from ``own4`` and ``own6``, but not what the node sends to its very own address (``self4``,
``self6``). Behind the # of a line stand the group, the keys of lines, and the names of their
permissions. What stands before a record is the cell, by its two tags, what is done, and the keys of
the entry, as many as fit. An entry that names a port names both, for the kernel matches a port that
is there though the other is cut off; and a stateless list asks once for connection tracking, which
puts fragments together: the kernel would match the payload of later ones as ports.

``nftables_reader`` reads such text back. It shares nothing with this file.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from functools import lru_cache
from typing import NamedTuple

from oaktag.core.accesslist import (
    AccessList,
    Blank,
    Block,
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
    Step,
)
from oaktag.core.addresses import Range, Span, span_text
from oaktag.core.lines import Action
from oaktag.core.packets import ICMP_OF, PORTED, TOP, Ranges, Region
from oaktag.errors import UnwritableEntry

FLAG = 0x10000
LOG_GROUP = 5
#: The most letters before a record (nf_tables, NF_LOG_PREFIXLEN less its end).
MOST_PREFIX = 127
#: What the kernel takes for an extension header of IPv6, and never for a packet's protocol. It
#: stops at an authentication header, 51, and sees that.
HEADERS = frozenset({0, 43, 44, 60})

_FAMILY = {4: "ip", 6: "ip6"}
_TYPE = {4: "ipv4_addr", 6: "ipv6_addr"}
_VERDICT: dict[Action, str] = {"allow": "accept", "deny": "drop"}
_PORT_WORD = {6: "tcp", 17: "udp", 132: "sctp"}
_SIDE = {"source": "saddr", "destination": "daddr"}
_SET = {"source": "origins", "destination": "targets"}
#: How a list that keeps the frame's tag says which counts.
_KEPT = {"bindings": "by addresses, then by frames", "ignored": "by addresses alone"}
_HOOKS = (
    ("crossing", "forward", ""),
    ("arriving", "input", "daddr"),
    ("leaving", "output", "saddr"),
)
_RESTORED = f"meta mark & {FLAG:#x} == {FLAG:#x} meta mark set"
#: Names that can stand behind a line.
_NAME = re.compile(r"[a-z][a-z0-9/-]*")


class _Layout(NamedTuple):
    """Which chains are but a verdict; the cells whose entries stand in the chain of their
    destination, as sources by destination; and the entries that the list then has."""

    direct: frozenset[str]
    here: dict[int, list[int]]
    entries: int


def table_name(point: str) -> str:
    """The table that holds a point's list in the kernel."""
    return f"oaktag_{point.replace('-', '_')}"


def write(held: AccessList) -> str:
    """The list as text for ``nft -f``; the same list gives the same bytes.

    Raises:
        UnwritableEntry: an entry that this dialect cannot express.
    """
    return write_counted(held)[0]


def write_counted(held: AccessList) -> tuple[str, int]:
    """The same, and the entries that the kernel then holds: those of chains, verdicts of single
    cells, and references to chains; never more than its entries one by one."""
    direct, here, count = _laid_out(held)
    outside, would = held.outside
    last = ListEntry(None, outside, would)
    empty: Mapping[int, str] = {}
    lines = [
        "# Oak Tag access list, form 6",
        f"# point {held.point}",
        *([f"# sources {_KEPT[held.frames]}"] if held.restores else []),
        f"table inet {table_name(held.point)} {{",
        *_sets(held),
        *_inner(_head(held)),
        *(
            _block(held, target, sources, direct, here.get(target, ()))
            for target, sources in sorted({0: empty, **held.blocks}.items())
        ),
        *_chains(held, direct, {held.blocks[d][s] for d, some in here.items() for s in some}),
        *_inner(["", "chain outside {", f"\t{_outcome(last)}", "}"]),
        "}",
    ]
    return "\n".join(lines) + "\n", count


def _inner(lines: Iterable[str]) -> Iterator[str]:
    """Lines inside the table."""
    return (f"\t{line}" if line else "" for line in lines)


def _is_direct(chain: Sequence[ListEntry]) -> bool:
    """Whether a verdict says all of a chain."""
    return len(chain) == 1 and not (chain[0].recorded or chain[0].answer)


def _laid_out(held: AccessList) -> _Layout:
    direct = frozenset(name for name, chain in held.chains.items() if _is_direct(chain))
    used = Counter[str]()
    for row in held.blocks.values():
        used.update(held.used(row))
    count = sum(used.values()) + sum(len(held.chains[c]) for c in used if c not in direct)
    plain = sum(len(held.chains[c]) * times for c, times in used.items())
    here: dict[int, list[int]] = {}
    if count <= plain:
        return _Layout(direct, here, count)
    alone = {c for c in used.keys() - direct if 1 in (used[c], len(held.chains[c]))}
    cells: dict[str, list[tuple[int, int]]] = {}
    for target, sources in sorted(held.blocks.items()):
        for source, chain in sorted(cell for cell in sources.items() if cell[1] in alone):
            cells.setdefault(chain, []).append((target, source))
    for some in cells.values():
        if count <= plain:
            break
        count -= 1  # the reference, or the one entry that several refer to
        for target, source in some:
            here.setdefault(target, []).append(source)
    return _Layout(direct, here, count)


def _named(held: AccessList, tag: int, *more: str) -> str:
    """What stands behind a line of a tag, for who reads it."""
    return f" # {' | '.join([_shown(held.names.get(tag, '')), *filter(None, more)])}"


@lru_cache(maxsize=1 << 14)
def _shown(name: str) -> str:
    """A name that can stand behind a line, else -."""
    return name if _NAME.fullmatch(name) else "-"


def _cited(entry: ListEntry) -> list[str]:
    """The keys of an entry, and the permissions of these lines."""
    words = _words(entry.words)
    return [" ".join(entry.keys), *([words] if words else [])]


@lru_cache(maxsize=1 << 14)
def _words(words: Sequence[str]) -> str:
    return " ".join(word for word in words if _NAME.fullmatch(word))


def known_by(ranges: Range, keeps: bool) -> str:
    """What a source's address is known by: its tag; or where that is put beside the frame's."""
    return f"{span_of(ranges)} : " + (
        f"jump is_{ranges.tag}" if keeps else f"{ranges.tag | FLAG:#x}"
    )


def put_beside(tag: int) -> str:
    """The rule that puts a tag beside the frame's."""
    high = tag << 16
    # The kernel's own way to say so: what is in both masks stays, what is in the second is set.
    kept = "" if tag == 0xFFFF else f" & {high | 0xFFFF:#x}"
    return f"meta mark set meta mark{kept} | {high:#x}"


def element_of(ranges: Range, blocks: Collection[int]) -> str:
    """Where a destination's address leads: to the chain of its tag, or outside."""
    if ranges.tag in blocks:
        return f"{span_of(ranges)} : goto to_{ranges.tag}"
    return f'{span_of(ranges)} comment "{ranges.tag}" : goto outside'


def _sets(held: AccessList) -> Iterator[str]:
    for bindings, led in ((held.source_bindings, None), (held.destination_bindings, held.blocks)):
        for family in (4, 6):
            mine = tuple(r for r in bindings if r.family == family)
            names = tuple(_shown(held.names.get(r.tag, "")) for r in mine)
            known = None if led is None else frozenset(led.keys() & {r.tag for r in mine})
            yield _table(family, mine, names, known, held.restores)
    for step in held.head:
        if isinstance(step, PassUnless):
            spans = [span_of(s) for s in step.spans]
            yield _set(_set_name(step), f"type {_TYPE[step.family]}", spans)
        elif isinstance(step, PassBetween):
            pairs = [f"{span_of(a)} . {span_of(b)}" for a, b in step.pairs]
            kind = f"type {_TYPE[step.family]} . {_TYPE[step.family]}"
            yield _set(_set_name(step), kind, pairs)
    for family in (4, 6) if held.own else ():
        home = [span_of(s) for s in held.own if s.family == family]
        kind = f"type {_TYPE[family]}"
        yield _set(f"own{family}", kind, home)
        same = [f"{address} . {address}" for address in home]
        yield _set(f"self{family}", f"{kind} . {_TYPE[family]}", same)


@lru_cache(maxsize=512)
def _table(
    family: int, bindings: Sequence[Range], names: Sequence[str], led: frozenset[int] | None,
    keeps: bool,
) -> str:  # fmt: skip
    """A map of addresses: to their tags, or to the chains of these, for those that have one."""
    behind = [f" # {name}" for name in names]
    if led is None:
        elements = [known_by(r, keeps) for r in bindings]
        kind = "verdict" if keeps else "mark"
        head = f"map tags{family} {{", f"\ttype {_TYPE[family]} : {kind}"
    else:
        elements = [element_of(r, led) for r in bindings]
        head = f"map to{family} {{", f"\ttype {_TYPE[family]} : verdict"
    return _section(*head, "\tflags interval", *_elements(elements, behind), "}") + "\n"


def _section(*lines: str) -> str:
    """Lines inside the table, as one text."""
    return "\t" + "\n\t".join(lines)


def _set_name(step: PassUnless | PassBetween) -> str:
    return f"{_SET[step.end] if isinstance(step, PassUnless) else 'inside'}{step.family}"


def _set(name: str, kind: str, elements: Sequence[str]) -> str:
    head = f"set {name} {{", f"\t{kind}", "\tflags interval"
    return _section(*head, *_elements(elements, [""] * len(elements)), "}") + "\n"


def _elements(elements: Sequence[str], behind: Sequence[str]) -> Iterator[str]:
    if not elements:
        return
    yield "\telements = {"
    last = len(elements) - 1
    for number, (element, told) in enumerate(zip(elements, behind, strict=True)):
        yield f"\t\t{element}{',' if number < last else ''}{told}"
    yield "\t}"


def _head(held: AccessList) -> list[str]:
    alone = [f"{w} saddr . {w} daddr @self{f} accept" for f, w in _FAMILY.items()]
    lines: list[str] = []
    for name, hook, side in _HOOKS if held.own else _HOOKS[:1]:
        own = [*alone, *(f"{w} {side} @own{f} jump judge" for f, w in _FAMILY.items())]
        rules = own if side else ["jump judge"]
        if held.restores:
            rules.insert(0, f"{_RESTORED} 0")
        lines += _hooked(name, hook, priority_of(held), rules)
    lines += [
        "chain judge {",
        *(f"\t{told}" for step in held.head if (told := _step(step, held.restores))),
        *(f"\t{_FAMILY[f]} daddr vmap @to{f}" for f in (4, 6)),
        "\tgoto to_0",
        "}",
        "",
    ]
    if held.restores:
        return lines + _beside(held)
    return [
        *lines,
        "chain restore {",
        "\ttype filter hook postrouting priority mangle; policy accept;",
        f"\t{_RESTORED} 0",
        "}",
    ]


def _beside(held: AccessList) -> list[str]:
    """Chains that put a tag beside the frame's, and those that take it away behind the point."""
    lines: list[str] = []
    after = str(2 * max(held.turn, 1) + 1)
    for name, hook, _ in _HOOKS if held.own else _HOOKS[:1]:
        lines += _hooked(f"behind_{name}", hook, after, ["meta mark set meta mark & 0xffff"])
    for tag in sorted({r.tag for r in held.source_bindings}):
        lines += [f"chain is_{tag} {{{_named(held, tag)}", f"\t{put_beside(tag)}", "}", ""]
    return lines[:-1]


def priority_of(held: AccessList) -> str:
    """When packets meet the list at a hook."""
    return str(2 * max(held.turn, 1)) if held.restores else "filter"


def _hooked(name: str, hook: str, priority: str, rules: Sequence[str]) -> Iterator[str]:
    yield f"chain {name} {{"
    yield f"\ttype filter hook {hook} priority {priority}; policy accept;"
    yield from (*(f"\t{rule}" for rule in rules), "}", "")


def _step(step: Step, keeps: bool) -> str:
    """A step as a rule; "" for what a list that keeps the frame's tag does elsewhere."""
    match step:
        case PassKnown():
            return "ct state { established, related } accept"
        case Reassemble():
            return "ct state invalid counter"
        case PassNeighbours():
            return "ip6 hoplimit 255 icmpv6 type 133-137 accept"
        case PassWithin():
            spans = [span_of(s) for s in step.spans]
            said = spans[0] if len(spans) == 1 else f"{{ {', '.join(spans)} }}"
            return f"{_FAMILY[step.family]} {_SIDE[step.end]} {said} accept"
        case PassUnless():
            return f"{_FAMILY[step.family]} {_SIDE[step.end]} != @{_set_name(step)} accept"
        case PassBetween():
            word = _FAMILY[step.family]
            return f"{word} saddr . {word} daddr @{_set_name(step)} accept"
        case Forget():
            return "" if keeps else f"{_RESTORED} 0"
        case Keep() | Blank():
            return ""
        case Look() if keeps:
            return f"{_FAMILY[step.family]} saddr vmap @tags{step.family}"
        case Look():
            unless = "meta mark & 0xffff == 0 " if step.unless_known else ""
            return f"{unless}meta mark set {_FAMILY[step.family]} saddr map @tags{step.family}"


#: How the source's tag is looked up: where it is the frame's, or found by address.
_LOOKED_UP: dict[Frames, tuple[str, ...]] = {
    "frame": ("meta mark & 0xffff",),
    "bindings": ("meta mark > 0xffff meta mark >> 16", "meta mark <= 0xffff meta mark"),
    "ignored": ("meta mark >> 16",),
}
#: How a rule asks for it.
_SEEN: dict[Frames, Callable[[int], str]] = {
    "frame": lambda tag: f"meta mark & 0xffff == {tag:#x}",
    "bindings": lambda tag: (
        f"meta mark {{ {tag:#x}, {tag << 16:#x}/16 }}" if tag else "meta mark 0x0"
    ),
    "ignored": lambda tag: f"meta mark {tag << 16:#x}/16",
}


def _block(
    held: AccessList, target: int, sources: Mapping[int, str], direct: Collection[str],
    here: Collection[int],
) -> str:  # fmt: skip
    """What is met by packets for a destination; ``here``: sources whose entries stand here."""
    leads = []
    for chain in dict.fromkeys(held.used(sources)):
        only = held.chains[chain][0] if chain in direct else None
        told = "".join(f" | {words}" for words in (_cited(only) if only else ()))
        leads.append((chain, _VERDICT[only.action] if only else f"goto {chain}", told))
    # What the text of cells depends on besides them; many lists have the same.
    key = held.names, tuple(leads)
    shared = sources.known if isinstance(sources, Block) else {}
    if _block not in shared or shared[_block][0] != key:
        elements = _cells(held, sources, leads)
        shared[_block] = key, elements, _map(target, elements.values())
    _, elements, text = shared[_block]
    lines = []
    if here:
        apart = frozenset(here)
        text = _map(target, [told for tag, told in elements.items() if tag not in apart])
    for tag in sorted(here):
        for entry in held.chains[sources[tag]]:
            rule = _matched(held.point, entry, count=True)
            told = _named(held, tag, *_cited(entry))
            lines.append(f"\t{_SEEN[held.frames](tag)} {rule}{told}")
    if text:
        lines += [f"\t{seen} vmap @from_{target}" for seen in _LOOKED_UP[held.frames]]
    begins = f"chain to_{target} {{{_named(held, target)}"
    return f"{text}\n" + _section(begins, *lines, "\tgoto outside", "}")


def _cells(
    held: AccessList, sources: Mapping[int, str], leads: Sequence[tuple[str, str, str]]
) -> dict[int, str]:
    """Where each source's tag leads, by its chain, as elements of a map."""
    if not sources:
        return {}
    lead = {chain: (led, told) for chain, led, told in leads}
    used = held.used(sources)
    usual = max(used, key=lambda chain: used[chain])
    tags = tuple(sorted(sources))
    names = tuple(map(held.names.get, tags))
    elements = dict(_alike(tags, names, *lead[usual]))
    for tag, chain in sources.items():
        if chain != usual:
            elements[tag] = _element(tag, held.names.get(tag), *lead[chain])
    return elements


@lru_cache(maxsize=64)
def _alike(
    tags: Sequence[int], names: Sequence[str | None], led: str, told: str
) -> Mapping[int, str]:
    """Elements of tags that all lead to the same."""
    ones = zip(tags, names, strict=True)
    return {tag: _element(tag, name, led, told) for tag, name in ones}


def _element(tag: int, name: str | None, led: str, told: str) -> str:
    return f"\t\t{tag:#x} : {led}, # {_shown(name or '')}{told}"


def _map(target: int, elements: Collection[str]) -> str:
    """The map of a destination, if it has one."""
    if not elements:
        return ""
    head = f"map from_{target} {{", "\ttype mark : verdict", "\tcounter", "\telements = {"
    *some, last = elements
    return "\n" + _section(*head, *some, last.replace(", # ", " # ", 1), "\t}", "}") + "\n"


def _chains(held: AccessList, direct: Collection[str], apart: Collection[str]) -> list[str]:
    """The chains that cells share; not those that are but a verdict, or stand in a block."""
    blocks = [block for block in held.blocks.values() if isinstance(block, Block)]
    found: list[str] = []
    for name, chain in held.chains.items():
        if name in direct or name in apart:
            continue
        owner = next((b for b in blocks if b.chains.get(name) is chain), None)
        texts = {} if owner is None else owner.known.setdefault(_chains, {})
        if name not in texts:
            rules = (f"\t{_rule(held.point, entry)}" for entry in chain)
            texts[name] = "\n" + _section(f"chain {name} {{", *rules, "}")
        found.append(texts[name])
    return found


def span_of(span: Span | Range) -> str:
    """A range of addresses as an element of a set or map."""
    return _span_text(*span[:3])


_span_text = lru_cache(maxsize=1 << 16)(span_text)


def _rule(point: str, entry: ListEntry) -> str:
    return f"{_matched(point, entry)} # {' | '.join(_cited(entry))}"


def _matched(point: str, entry: ListEntry, *, count: bool = False) -> str:
    if entry.recorded and entry.cell is None:
        raise UnwritableEntry(f"{point}: an entry is recorded, and nothing says of which cell")
    try:
        match = _match(entry.region, entry.readable)
    except UnwritableEntry as error:
        raise UnwritableEntry(f"{point}: {error}") from None
    return f"{match}{_outcome(entry, count=count)}"


def _outcome(entry: ListEntry, *, count: bool = False) -> str:
    refused = entry.answer and entry.action == "deny"
    verdict = "reject with icmpx type admin-prohibited" if refused else _VERDICT[entry.action]
    if entry.recorded:
        return f'counter log prefix "{_prefix(entry)}" group {LOG_GROUP} {verdict}'
    return f"counter {verdict}" if count else verdict


def _prefix(entry: ListEntry) -> str:
    """What stands before a record: the cell, what is done, and the entry's keys, as many as fit."""
    cell = "{}>{}".format(*entry.cell) if entry.cell else "outside"
    told = f"oaktag {cell} {entry.action}"
    if entry.log:
        told += f" {entry.log}"
    if entry.action != entry.would:
        told += f" would {entry.would}"
    for key in entry.keys:
        if len(told) + 1 + len(key) <= MOST_PREFIX:
            told += f" {key}"
    return told


@lru_cache(maxsize=1 << 14)
def _match(region: Region | None, readable: bool) -> str:
    """What an entry matches, with a space behind; nothing for one that matches everything."""
    if region is None:
        return ""
    families, protocols, sources, destinations = region
    words: list[str] = [] if len(families) == 2 else [f"meta nfproto ipv{families[0]}"]
    numbers = {p for low, high in protocols for p in range(low, high + 1)}
    ported = numbers <= set(PORTED)
    icmp = len(families) == 1 and numbers == {ICMP_OF[families[0]]}
    top = TOP if ported else 255 if icmp else 0
    every: Ranges = ((0, top),)
    named = readable or (sources, destinations) != (every, every)
    if named and not (ported or icmp):
        raise UnwritableEntry(f"{region} has ports that its protocols lack")
    if named and ported and len(numbers) == 1:
        head, fields = _PORT_WORD[min(numbers)], ("sport", "dport")
    elif named and icmp:
        head, fields = "icmp" if families[0] == 4 else "icmpv6", ("type", "code")
    else:
        words.append(f"meta l4proto {_list(protocols)}")
        head, fields = "th", ("sport", "dport")
    if named:
        ranges = zip(fields, (sources, destinations), strict=True)
        words += [f"{head} {word} {_list(of)}" for word, of in ranges]
    return " ".join(words) + " "


def _list(ranges: Ranges) -> str:
    parts = [str(a) if a == b else f"{a}-{b}" for a, b in ranges]
    return parts[0] if len(parts) == 1 else "{ " + ", ".join(parts) + " }"
