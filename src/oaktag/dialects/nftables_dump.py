"""What the kernel holds of a list: its own dump → the text that a list is written as.

The dump is that of ``nft -n -s list table``: the same statements, with numbers for names, elements
wrapped, and maps and chains in the order in which they were made. Names and keys are comments,
which the kernel does not keep; they are taken from the text that was loaded, where what stands
before them is still the same. Of what is not, only the name of its tag is known.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from oaktag.core.accesslist import DEFAULT_KEY

_NUMBER = re.compile(r"0x0*([0-9a-f]+)(?![0-9a-f])")
#: How a rule asks for the source's tag.
_ASKED = (
    r"meta mark (?:& 0xffff == 0x[0-9a-f]+|0x0|\{ 0x[0-9a-f]+, 0x[0-9a-f]+/16 \}|0x[0-9a-f]+/16)"
)
#: ICMP belongs to one family; where a rule names it, the dump leaves the family out.
_ICMP = re.compile(
    rf"(?P<cell>{_ASKED} )?"
    r"(?:icmp(?P<six>v6)? type |meta l4proto (?:1|(?P<also>58)) )"
)
_ELEMENTS = re.compile(r"\t\telements = \{ (.*?) \}$", re.DOTALL | re.MULTILINE)
_BLOCK = re.compile(r"^\t(map|set|chain) (\S+) \{[^\n]*\n(.*?)^\t\}\n", re.DOTALL | re.MULTILINE)
_OF_TABLE = re.compile(r"\t(?!(?:map|set|chain) \S+ \{)[^\t}\n][^\n]*")
#: Statements with numbers, and as they are written.
_NAMED = (
    ("ct state { 0x2, 0x4 } accept", "ct state { established, related } accept"),
    ("ct state 0x1 counter", "ct state invalid counter"),
    ("reject with icmpx 3", "reject with icmpx type admin-prohibited"),
    *(
        (f"hook {h} priority 0;", f"hook {h} priority filter;")
        for h in ("forward", "input", "output")
    ),
    ("hook postrouting priority -150;", "hook postrouting priority mangle;"),
    ("== 0x0 meta mark set", "== 0 meta mark set"),
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
    names = _names(loaded)
    told_first = [line for line in loaded.split("\n")[:3] if line.startswith("# sources ")]
    lines = ["# Oak Tag access list, form 6", f"# point {point}", *told_first]
    lines.append(dump.split("\n", 1)[0])
    # What is said of the table itself, as that it is dormant.
    lines += [line for line in dump.split("\n") if _OF_TABLE.fullmatch(line)]
    for name in named:
        word, rows = told[name]
        loaded_rows = meant.get(name, ("", []))[1]
        bare = [row.partition(" # ")[0] for row in loaded_rows]
        if rows == bare or (word != "chain" and sorted(rows) == sorted(bare)):
            rows = loaded_rows  # pairs of addresses come in an order of their own
        else:
            # The same rule in another place may be another's; the same element is not.
            known = {} if word == "chain" else dict(zip(bare, loaded_rows, strict=True))
            rows = [known.get(row) or row + _behind(name, row, names) for row in rows]
        lines += [*_written(word, name, rows, names), ""]
    return "\n".join([*lines[:-1], "}"]) + "\n"


def _names(loaded: str) -> dict[int, str]:
    """The name of each tag of the text that was loaded."""
    found: dict[int, str] = {}
    for base, pattern in _TAGGED:
        for tag, name in re.findall(rf"{pattern} # ([^ \n]+)", loaded):
            found[int(tag, base)] = name
    return found


#: Where the name of a tag stands behind it, and the base of its number.
_TAGGED = (
    (10, r"chain to_(\d+) \{"),
    (10, r'comment "(\d+)" : goto outside,?'),
    (10, r"chain is_(\d+) \{"),
    (16, r": 0x1(\w{4}),?"),
    (16, r"\t\t\t0x(\w+) : [^#\n]+"),
    (16, r"meta mark & 0xffff == 0x(\w+) [^#\n]+"),
    (16, r"meta mark 0x(\w+?)(?:0000)?/16 [^#\n]+"),
    (16, r"meta mark (?:\{ )?0x(\w+)(?:, 0x\w+/16 \})? [^#\n]+"),
)
#: Rows with a name behind them: of tables of addresses, of cells, of a destination's chain.
_BOUND = re.compile(r"\S+ : (?:0x1([0-9a-f]{4})|jump is_([0-9]+))")
_TOWARD = re.compile(r'\S+(?: : goto to_([0-9]+)| comment "([0-9]+)" : goto outside)')
_CELL = re.compile(
    r"(?:meta mark & 0xffff == |meta mark |meta mark \{ )?0x(?P<tag>[0-9a-f]+?)"
    r"(?:(?:0000)?/16|, 0x[0-9a-f]+/16 \})?(?P<does> .+)"
)


def _behind(block: str, row: str, names: dict[int, str]) -> str:
    """What stands behind a row that is not as it was loaded."""
    if re.fullmatch(r"p[0-9a-f]{10}", block):
        return f" # {DEFAULT_KEY}"
    if match := _BOUND.fullmatch(row):
        tag = int(match[1], 16) if match[1] else int(match[2])
        return f" # {names.get(tag, '-')}"
    if match := _TOWARD.fullmatch(row):
        return f" # {names.get(int(match[1] or match[2]), '-')}"
    if block.startswith(("from_", "to_")) and (match := _CELL.fullmatch(row)):
        alone = "" if match["does"].startswith(" : goto p") else f" | {DEFAULT_KEY}"
        return f" # {names.get(int(match['tag'], 16), '-')}{alone}"
    return ""


def _place(name: str, known: list[str]) -> tuple[int, int, str]:
    if beside := re.fullmatch(r"is_([0-9]+)", name):  # they stand together, by their tags
        last = max((n for n, other in enumerate(known) if other.startswith("behind_")), default=0)
        return last, int(beside[1]), name
    return (known.index(name), 0, "") if name in known else (len(known), 0, name)


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
        text, hash_, behind = line.strip().partition(" # ")
        text = text.removesuffix(",")
        if text in ("", "elements = {", "}"):
            continue
        if line.startswith("\t\t\t") or word == "chain":
            yield _words(text) + hash_ + behind
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
        cell = found["cell"] or ""
        family = 6 if found["six"] or found["also"] else 4
        text = f"{cell}meta nfproto ipv{family} {text.removeprefix(cell)}"
    return text


def _written(word: str, name: str, rows: list[str], names: dict[int, str]) -> Iterator[str]:
    tag = re.fullmatch(r"(?:to|is)_([0-9]+)", name) if word == "chain" else None
    yield f"\t{word} {name} {{" + (f" # {names.get(int(tag[1]), '-')}" if tag else "")
    if word == "chain":
        yield from (f"\t\t{row}" for row in rows)
    else:
        head = [r for r in rows if r.startswith(("type ", "flags ")) or r == "counter"]
        elements = [r for r in rows if r not in head]
        yield from (f"\t\t{row}" for row in head)
        if elements:
            yield "\t\telements = {"
            for row in elements[:-1]:
                held, hash_, behind = row.partition(" # ")
                yield f"\t\t\t{held},{hash_}{behind}"
            yield from (f"\t\t\t{elements[-1]}", "\t\t}")
    yield "\t}"
