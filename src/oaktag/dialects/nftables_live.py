"""A list that a point holds, while it holds it: changed in place, bindings replaced, counters read.

Rules kept here (semantics, section 5): what a change does not touch stays as it is, its counts
included; each change is one transaction, so that every packet meets the old list or the new one.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, field

from oaktag.core.addresses import Range
from oaktag.dialects.nftables import FLAG, element_of, span_of, table_name

#: Maps whose elements follow from bindings, and are replaced with them.
TABLES = ("tags4", "tags6", "to4", "to6")


def refill_tags(table: str, ranges: Sequence[Range], flag: int = FLAG) -> str:
    """Text that replaces the source tags of a table, in one transaction."""
    lines: list[str] = []
    for family in (4, 6):
        lines.append(f"flush map inet {table} tags{family}")
        elements = [f"{span_of(r)} : {r.tag | flag:#x}" for r in ranges if r.family == family]
        if elements:
            lines.append(f"add element inet {table} tags{family} {{ {', '.join(elements)} }}")
    return "\n".join(lines) + "\n"


def refill(point: str, ranges: Sequence[Range], tags: Collection[int]) -> str:
    """Text that replaces all bindings of a point's list, its rules staying as they are.

    Args:
        point: the point's id.
        ranges: the new bindings.
        tags: the destinations' tags that have cells in the list.
    """
    table = table_name(point)
    lines: list[str] = []
    for family in (4, 6):
        lines.append(f"flush map inet {table} to{family}")
        elements = [element_of(r, tags) for r in ranges if r.family == family]
        if elements:
            lines.append(f"add element inet {table} to{family} {{ {', '.join(elements)} }}")
    return refill_tags(table, ranges) + "\n".join(lines) + "\n"


@dataclass(slots=True)
class _Block:
    """A map, set or chain of a list's text: how it is declared, its elements or rules."""

    word: str
    declared: list[str] = field(default_factory=list)
    held: list[str] = field(default_factory=list)


def change(point: str, was: str, now: str) -> str:
    """Text that makes of one list another in one transaction. The maps that follow from bindings
    are left empty, for :func:`refill` in the same transaction.

    Args:
        point: the point's id.
        was, now: the texts of the two lists.
    """
    table = table_name(point)
    old, new = _blocks(was), _blocks(now)
    # What is declared otherwise is another thing of the same name.
    fresh = [n for n in new if n not in old or new[n].declared != old[n].declared]
    gone = [n for n in old if n not in new or n in fresh]
    lines = [f"flush map inet {table} {name}" for name in TABLES]
    chains = {n for n in gone if old[n].word == "chain"}
    chains |= {n for n in new if new[n].word == "chain" and (n in fresh or new[n] != old[n])}
    lines += [f"flush chain inet {table} {n}" for n in sorted(chains & old.keys())]
    for name, block in old.items():
        if block.word == "chain" or name in TABLES:
            continue
        left = new[name].held if name in new and name not in fresh else []
        lost = [e for e in block.held if e not in set(left)]
        if lost:
            lines.append(f"delete element inet {table} {name} {{ {', '.join(map(_key, lost))} }}")
    for word in ("set", "map", "chain"):
        lines += [f"delete {word} inet {table} {n}" for n in gone if old[n].word == word]
    for name in fresh:
        declared = " ".join(f"{line};" if line[-1] != ";" else line for line in new[name].declared)
        lines.append(f"add {new[name].word} inet {table} {name} {{ {declared} }}")
    for name, block in new.items():
        if block.word == "chain" or name in TABLES:
            continue
        known = set(old[name].held) if name in old and name not in fresh else set()
        come = [e for e in block.held if e not in known]
        if come:
            lines.append(f"add element inet {table} {name} {{ {', '.join(come)} }}")
    for name in sorted(chains & new.keys()):
        lines += [f"add rule inet {table} {name} {rule}" for rule in new[name].held]
    return "\n".join(lines) + "\n"


def _key(element: str) -> str:
    return element.split(" : ")[0]


def _blocks(text: str) -> dict[str, _Block]:
    """The maps, sets and chains of a list, by name; rules without the keys that they cite."""
    found: dict[str, _Block] = {}
    block = _Block("")
    for line in _body(text):
        words = line.split()
        if line.startswith("\t") and not line.startswith("\t\t") and line.endswith(" {"):
            block = found[words[1]] = _Block(words[0])
        elif line.startswith("\t\t\t"):
            block.held.append(line.strip().removesuffix(","))
        elif line.strip() in ("elements = {", "}"):
            continue
        elif block.word != "chain" or words[0] == "type":
            block.declared.append(line.strip())
        else:
            block.held.append(line.partition(" # ")[0].strip())
    return found


def _body(text: str) -> Iterator[str]:
    return (line for line in text.split("\n") if line.startswith("\t"))


def cell_counts(listing: str) -> dict[str, dict[str, int]]:
    """Packets counted for each cell, from the kernel's listing of a table as JSON.

    Returns:
        destination tag → source tag → packets; tags as decimal text, cells without any left out.
    """
    counts: dict[str, dict[str, int]] = {}
    for item in json.loads(listing)["nftables"]:
        held = item.get("map")
        if held is None or not held["name"].startswith("from_"):
            continue
        for key, _ in held.get("elem", []):
            packets = key["elem"]["counter"]["packets"]
            if packets:
                row = counts.setdefault(held["name"].removeprefix("from_"), {})
                row[str(key["elem"]["val"])] = packets
    return counts
