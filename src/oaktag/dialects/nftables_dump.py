"""What the kernel holds of a list: its own dump → the text that a list is written as.

The dump is that of ``nft -n -s list table``: the same statements, with numbers for names, elements
wrapped, and maps and chains in the order in which they were made. The keys that entries cite are
comments, which the kernel does not keep; they are taken from the text that was loaded, where the
chain is still the same.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from oaktag.core.accesslist import DEFAULT_KEY

_NUMBER = re.compile(r"0x0*([0-9a-f]+)(?![0-9a-f])")
#: ICMP belongs to one family; where a rule names it, the dump leaves the family out.
_ICMP = re.compile(r"^(?:icmp(v6)? type |meta l4proto (?:1|(58)) )")
_ELEMENTS = re.compile(r"\t\telements = \{ (.*?) \}$", re.DOTALL | re.MULTILINE)
_BLOCK = re.compile(r"^\t(map|set|chain) (\S+) \{\n(.*?)^\t\}\n", re.DOTALL | re.MULTILINE)
#: Statements with numbers, and as they are written.
_NAMED = (
    ("ct state { 0x2, 0x4 } accept", "ct state { established, related } accept"),
    ("ct state 0x1 counter", "ct state invalid counter"),
    ("reject with icmpx 3", "reject with icmpx type admin-prohibited"),
    ("hook forward priority 0;", "hook forward priority filter;"),
    ("hook postrouting priority -150;", "hook postrouting priority mangle;"),
    ("== 0x0", "== 0"),
    ("mark set 0x0", "mark set 0"),
    ("meta nfproto 2", "meta nfproto ipv4"),
    ("meta nfproto 10", "meta nfproto ipv6"),
)


def as_written(point: str, dump: str, loaded: str) -> str:
    """The text of the list that a dump shows.

    Args:
        point: the point's id.
        dump: what the kernel says.
        loaded: the text that was loaded, for its keys and the order of what has none.

    Returns:
        the text; of a table that is no list, whatever it comes to.
    """
    told, meant = _parts(dump), _parts(loaded)
    named = sorted(told, key=lambda name: _place(name, list(meant)))
    lines = ["# Oak Tag access list, form 3", f"# point {point}", dump.split("\n", 1)[0]]
    for name in named:
        word, rows = told[name]
        known = meant.get(name, ("", []))[1]
        if word == "chain" and re.fullmatch(r"p[0-9a-f]{10}", name):
            same = rows == [row.partition(" # ")[0] for row in known]
            rows = known if same else [f"{row} # {DEFAULT_KEY}" for row in rows]
        elif sorted(rows) == sorted(known):
            rows = known  # pairs of addresses come in an order of their own
        lines += [*_written(word, name, rows), ""]
    return "\n".join([*lines[:-1], "}"]) + "\n"


def _place(name: str, known: list[str]) -> tuple[int, str]:
    return (known.index(name), "") if name in known else (len(known), name)


def _parts(text: str) -> dict[str, tuple[str, list[str]]]:
    """Maps, sets and chains by name, each with its lines; elements a line each."""
    found: dict[str, tuple[str, list[str]]] = {}
    for word, name, body in _BLOCK.findall(text):
        found[name] = word, list(_lines(word, body))
    return found


def _lines(word: str, body: str) -> Iterator[str]:
    plain = body
    if word != "chain":
        plain = _ELEMENTS.sub(lambda m: _split(m[1]), body)
    for line in plain.split("\n"):
        text = line.strip().removesuffix(",")
        if text in ("", "elements = {", "}"):
            continue
        if line.startswith("\t\t\t") or word == "chain":
            head, hash_, keys = text.partition(" # ")
            yield _words(head) + hash_ + keys
        else:
            yield text


def _split(elements: str) -> str:
    parts = re.split(r",\s+", elements)
    return "\t\telements = {\n" + "\n".join(f"\t\t\t{part}" for part in parts) + "\n\t\t}"


def _words(text: str) -> str:
    text = _NUMBER.sub(lambda m: "0x" + m[1], text).replace(" counter : ", " : ")
    for number, word in _NAMED:
        if text.endswith(number) or f"{number} " in text:
            text = text.replace(number, word)
    if found := _ICMP.match(text):
        text = f"meta nfproto ipv{6 if found[1] or found[2] else 4} {text}"
    return text


def _written(word: str, name: str, rows: list[str]) -> Iterator[str]:
    yield f"\t{word} {name} {{"
    if word == "chain":
        yield from (f"\t\t{row}" for row in rows)
    else:
        head = [r for r in rows if r.startswith(("type ", "flags ")) or r == "counter"]
        elements = [r for r in rows if r not in head]
        yield from (f"\t\t{row}" for row in head)
        if elements:
            yield "\t\telements = {"
            yield from (f"\t\t\t{row}," for row in elements[:-1])
            yield from (f"\t\t\t{elements[-1]}", "\t\t}")
    yield "\t}"
