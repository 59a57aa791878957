"""Access lists for the Linux kernel's packet filter: the tree → text for ``nft -f``.

How a list is laid out. ``tags4`` and ``tags6`` map addresses to source tags; ``to4`` and ``to6``
map them to one chain for each destination tag that has cells (a comment names the tag of the
others, which go to ``outside``); ``from_N`` maps source tags to shared chains (``p…``), counting
every cell by itself. The packet mark's low 16 bits are the tag in the frame. A tag found by address
is put there together with ``FLAG`` and taken out again after judging, so that the point marks no
frame. What stands before a record is the cell, by its two tags, what is done, and the keys of the
entry, as many as fit. An entry that names a port names both, for the kernel matches a port that is
there though the other is cut off; and a stateless list asks once for connection tracking, which
puts fragments together: the kernel would match the payload of later ones as ports.

``nftables_reader`` reads such text back. It shares nothing with this file.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

from oaktag.core.accesslist import (
    AccessList,
    Blank,
    Forget,
    Keep,
    ListEntry,
    Look,
    PassBetween,
    PassKnown,
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
#: What the kernel takes for an extension header of IPv6, and never for a packet's protocol.
HEADERS = frozenset({0, 43, 44, 51, 60})

_FAMILY = {4: "ip", 6: "ip6"}
_TYPE = {4: "ipv4_addr", 6: "ipv6_addr"}
_VERDICT: dict[Action, str] = {"allow": "accept", "deny": "drop"}
_PORT_WORD = {6: "tcp", 17: "udp", 132: "sctp"}
_SIDE = {"source": "saddr", "destination": "daddr"}
_SET = {"source": "origins", "destination": "targets"}
_RESTORED = f"meta mark & {FLAG:#x} == {FLAG:#x} meta mark set"


def table_name(point: str) -> str:
    """The table that holds a point's list in the kernel."""
    return f"oaktag_{point.replace('-', '_')}"


def write(held: AccessList) -> str:
    """The list as text for ``nft -f``; the same list gives the same bytes.

    Raises:
        UnwritableEntry: an entry that this dialect cannot express.
    """
    body = [*_sets(held), *_head(held)]
    for target, sources in sorted({0: {}, **held.blocks}.items()):
        body += _block(target, sources)
    for name, chain in held.chains.items():
        body += ["", f"chain {name} {{", *(f"\t{_rule(held.point, e)}" for e in chain), "}"]
    outside, would = held.outside
    last = ListEntry(None, outside, would)
    body += ["", "chain outside {", f"\t{_outcome(last)}", "}"]
    lines = [
        "# Oak Tag access list, form 3",
        f"# point {held.point}",
        f"table inet {table_name(held.point)} {{",
        *(f"\t{line}" if line else "" for line in body),
        "}",
    ]
    return "\n".join(lines) + "\n"


def element_of(ranges: Range, blocks: Collection[int]) -> str:
    """Where a destination's address leads: to the chain of its tag, or outside."""
    if ranges.tag in blocks:
        return f"{span_of(ranges)} : goto to_{ranges.tag}"
    return f'{span_of(ranges)} comment "{ranges.tag}" : goto outside'


def _sets(held: AccessList) -> Iterator[str]:
    for family in (4, 6):
        mine = [r for r in held.source_bindings if r.family == family]
        yield from _map(
            f"tags{family}", f"type {_TYPE[family]} : mark",
            [f"{span_of(r)} : {r.tag | FLAG:#x}" for r in mine],
        )  # fmt: skip
    for family in (4, 6):
        mine = [r for r in held.destination_bindings if r.family == family]
        yield from _map(
            f"to{family}", f"type {_TYPE[family]} : verdict",
            [element_of(r, held.blocks) for r in mine],
        )  # fmt: skip
    for step in held.head:
        if isinstance(step, PassUnless):
            spans = [span_of(s) for s in step.spans]
            yield from _map(_set_name(step), f"type {_TYPE[step.family]}", spans, "set")
        elif isinstance(step, PassBetween):
            pairs = [f"{span_of(a)} . {span_of(b)}" for a, b in step.pairs]
            kind = f"type {_TYPE[step.family]} . {_TYPE[step.family]}"
            yield from _map(_set_name(step), kind, pairs, "set")


def _set_name(step: PassUnless | PassBetween) -> str:
    return f"{_SET[step.end] if isinstance(step, PassUnless) else 'inside'}{step.family}"


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
        *(f"\t{_step(step)}" for step in held.head),
        *(f"\t{_FAMILY[f]} daddr vmap @to{f}" for f in (4, 6)),
        "\tgoto to_0",
        "}",
        "",
        "chain restore {",
        "\ttype filter hook postrouting priority mangle; policy accept;",
    ]
    if held.restores:
        lines.append(f"\t{_RESTORED} ct mark")
    return [*lines, f"\t{_RESTORED} 0", "}"]


def _step(step: Step) -> str:
    match step:
        case PassKnown():
            return "ct state { established, related } accept"
        case Reassemble():
            return "ct state invalid counter"
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
            return f"{_RESTORED} 0"
        case Keep():
            return "ct mark set meta mark & 0xffff"
        case Blank():
            return f"meta mark set {FLAG:#x}"
        case Look():
            unless = "meta mark & 0xffff == 0 " if step.unless_known else ""
            return f"{unless}meta mark set {_FAMILY[step.family]} saddr map @tags{step.family}"


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
    if entry.recorded and entry.cell is None:
        raise UnwritableEntry(f"{point}: an entry is recorded, and nothing says of which cell")
    match = "" if entry.region is None else _match(point, entry.region, entry.readable) + " "
    return f"{match}{_outcome(entry)} # {' '.join(entry.keys)}"


def _outcome(entry: ListEntry) -> str:
    words: list[str] = []
    if entry.recorded:
        words = [f'counter log prefix "{_prefix(entry)}" group {LOG_GROUP}']
    refused = entry.answer and entry.action == "deny"
    words.append("reject with icmpx type admin-prohibited" if refused else _VERDICT[entry.action])
    return " ".join(words)


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


def _match(point: str, region: Region, readable: bool) -> str:
    families, protocols, sources, destinations = region
    words: list[str] = [] if len(families) == 2 else [f"meta nfproto ipv{families[0]}"]
    numbers = {p for low, high in protocols for p in range(low, high + 1)}
    ported = numbers <= set(PORTED)
    icmp = len(families) == 1 and numbers == {ICMP_OF[families[0]]}
    top = TOP if ported else 255 if icmp else 0
    every: Ranges = ((0, top),)
    named = readable or (sources, destinations) != (every, every)
    if named and not (ported or icmp):
        raise UnwritableEntry(f"{point}: {region} has ports that its protocols lack")
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
    return " ".join(words)


def _list(ranges: Ranges) -> str:
    parts = [str(a) if a == b else f"{a}-{b}" for a, b in ranges]
    return parts[0] if len(parts) == 1 else "{ " + ", ".join(parts) + " }"
