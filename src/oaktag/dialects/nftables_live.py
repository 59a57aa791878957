"""A list that a point holds, while it holds it: changed in place, bindings replaced, counters read.

Rules kept here (semantics, section 5): what a change does not touch stays as it is, its counts
included; each change is one transaction, so that every packet meets the old list or the new one.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from oaktag.core.addresses import Range
from oaktag.dialects.nftables import element_of, known_by, put_beside, span_of

#: Maps whose elements follow from bindings, and are replaced with them.
TABLES = ("tags4", "tags6", "to4", "to6")
#: So many elements go into one order, and into one transaction, a rule counting for several: the
#: kernel takes no larger one from those who are not root (EMSGSIZE, net.core.wmem_default).
FEW, MANY, RULE = 200, 800, 8


def remark(table: str, was: Sequence[Range], now: Sequence[Range]) -> Iterator[str]:
    """Texts that replace those tags that a table gives frames which are others: one transaction, if
    it is not too large for one."""
    gone: list[tuple[str, str]] = []
    come: list[tuple[str, str]] = []
    for family in (4, 6):
        old, new = (
            [f"{span_of(r)} : {r.tag:#x}" for r in side if r.family == family]
            for side in (was, now)
        )
        known, kept = set(old), set(new)
        gone += [(f"tags{family}", _key(e)) for e in old if e not in kept]
        come += [(f"tags{family}", e) for e in new if e not in known]
    orders = [f"delete element inet {table} {name} {{ {e} }}" for name, e in gone]
    orders += [f"add element inet {table} {name} {{ {e} }}" for name, e in come]
    size = len(orders) if len(orders) <= MANY else FEW
    for start in range(0, len(orders), size or 1):
        yield "\n".join(orders[start : start + size]) + "\n"


def refill(
    table: str, was: Sequence[Range], now: Sequence[Range], tags: Collection[int], *, kept: bool,
    keeps: bool,
) -> str:  # fmt: skip
    """Text that replaces all bindings of a list, its rules staying as they are.

    Args:
        table: the table that holds it.
        was, now: the bindings that it has, and that it is to have.
        tags: the destinations' tags that have cells in the list.
        kept, keeps: whether it put, and puts, tags of sources beside the frame's.
    """
    lines: list[str] = []
    for name, elements in _elements(now, tags, keeps).items():
        lines.append(f"flush map inet {table} {name}")
        if elements:
            lines.append(f"add element inet {table} {name} {{ {', '.join(elements)} }}")
    return _orders(_beside(table, (was, kept), (now, keeps), lines))


def rebind(
    table: str, was: Sequence[Range], now: Sequence[Range], before: Collection[int],
    tags: Collection[int], *, kept: bool, keeps: bool,
) -> str:  # fmt: skip
    """Text that replaces only those bindings of a list that are others.

    Args:
        table: the table that holds it.
        was, now: the bindings that it has, and that it is to have.
        before, tags: the destinations' tags that had cells in the list, and that have.
        kept, keeps: whether it put, and puts, tags of sources beside the frame's.
    """
    old, new = _elements(was, before, kept), _elements(now, tags, keeps)
    if kept != keeps:  # these maps are others, and are empty
        old |= {"tags4": [], "tags6": []}
    lines: list[str] = []
    for name, held in new.items():
        known, left = set(old[name]), set(held)
        if gone := [_key(e) for e in old[name] if e not in left]:
            lines.append(f"delete element inet {table} {name} {{ {', '.join(gone)} }}")
        if come := [e for e in held if e not in known]:
            lines.append(f"add element inet {table} {name} {{ {', '.join(come)} }}")
    return _orders(_beside(table, (was, kept), (now, keeps), lines))


def _orders(lines: Sequence[str]) -> str:
    return "".join(f"{line}\n" for line in lines)


def _beside(
    table: str, was: tuple[Sequence[Range], bool], now: tuple[Sequence[Range], bool],
    lines: Sequence[str],
) -> list[str]:  # fmt: skip
    """Orders that change tables; before and after them those for the chains that they lead to."""
    old, new = ({r.tag for r in side} if keeps else set[int]() for side, keeps in (was, now))
    come: list[str] = []
    for tag in sorted(new - old):
        come.append(f"add chain inet {table} is_{tag}")
        come.append(f"add rule inet {table} is_{tag} {put_beside(tag)}")
    gone = [f"{word} chain inet {table} is_{tag}" for word in ("flush", "delete")
            for tag in sorted(old - new)]  # fmt: skip
    return [*come, *lines, *gone]


def keeps_frames(text: str) -> bool:
    """Whether a list puts tags of sources beside the frame's."""
    return any(line.startswith("# sources ") for line in text.split("\n", 3)[:3])


def _elements(ranges: Sequence[Range], tags: Collection[int], keeps: bool) -> dict[str, list[str]]:
    """What the maps that follow from bindings hold."""
    found: dict[str, list[str]] = {}
    for family in (4, 6):
        mine = [r for r in ranges if r.family == family]
        found[f"tags{family}"] = [known_by(r, keeps) for r in mine]
        found[f"to{family}"] = [element_of(r, tags) for r in mine]
    return found


@dataclass(slots=True)
class _Block:
    """A map, set or chain of a list's text: how it is declared, its elements or rules."""

    word: str
    declared: list[str] = field(default_factory=list)
    held: list[str] = field(default_factory=list)


def load(table: str, text: str, ranges: Sequence[Range], tags: Collection[int]) -> Iterator[str]:
    """Texts that build a list in a table of its own, a transaction each: none of them is large, and
    only the last lets packets meet it.

    Args:
        table: the table.
        text: the list.
        ranges: its bindings.
        tags: the destinations' tags that have cells in it.
    """
    keeps = keeps_frames(text)
    blocks, bound = _blocks(text), _elements(ranges, tags, keeps)
    for tag in sorted({r.tag for r in ranges}) if keeps else ():
        blocks[f"is_{tag}"] = _Block("chain", [], [put_beside(tag)])
    hooked = {n: b for n, b in blocks.items() if "".join(b.declared).startswith("type filter hook")}
    parts = [(1, f"add table inet {table}")]
    parts += [(1, _added(table, n, blocks[n])) for n in _chains_first(blocks) if n not in hooked]
    for name, block in blocks.items():
        held = bound.get(name, block.held)
        if block.word == "chain":
            rules = (f"add rule inet {table} {name} {r}" for r in held if name not in hooked)
            parts += [(RULE, rule) for rule in rules]
            continue
        for start in range(0, len(held), FEW):
            some = held[start : start + FEW]
            parts.append((len(some), f"add element inet {table} {name} {{ {', '.join(some)} }}"))
    weight, lines = 0, list[str]()
    for size, line in parts:
        if lines and weight + size > MANY:
            yield "\n".join(lines) + "\n"
            weight, lines = 0, []
        weight, lines = weight + size, [*lines, line]
    yield "\n".join(lines) + "\n"
    last = [_added(table, n, b) for n, b in hooked.items()]
    last += [f"add rule inet {table} {n} {r}" for n, b in hooked.items() for r in b.held]
    yield "\n".join(last) + "\n"


def change(table: str, was: str, now: str, rebound: str) -> str:
    """Text that makes of one list another in one transaction.

    Args:
        table: the table that holds it.
        was, now: the texts of the two lists.
        rebound: what replaces the bindings, of :func:`refill` or :func:`rebind`.
    """
    old, new = _blocks(was), _blocks(now)
    # What is declared otherwise is another thing of the same name.
    other = [n for n in new if n in old and new[n].declared != old[n].declared]
    fresh = [n for n in new if n not in old or n in other]
    gone = [n for n in old if n not in new]
    chains = {n for n in (*gone, *other) if old[n].word == "chain"}
    chains |= {n for n in new if new[n].word == "chain" and (n in fresh or new[n] != old[n])}
    # The elements of a map go with it, whatever stands between, and these chains they lead to.
    first = [line for line in rebound.splitlines() if line.startswith("add chain ")]
    lines = [*first, *(f"flush chain inet {table} {n}" for n in sorted(chains & old.keys()))]
    for name, block in old.items():
        if block.word == "chain" or name in TABLES:
            continue
        left = set(new[name].held) if name in new and name not in fresh else set()
        if lost := [_key(e) for e in block.held if e not in left]:
            lines.append(f"delete element inet {table} {name} {{ {', '.join(lost)} }}")
    lines += [f"delete {old[n].word} inet {table} {n}" for n in other]
    lines += [_added(table, n, new[n]) for n in _chains_first(new) if n in fresh]
    for name, block in new.items():
        if block.word == "chain" or name in TABLES:
            continue
        known = set(old[name].held) if name in old and name not in fresh else set()
        if come := [e for e in block.held if e not in known]:
            lines.append(f"add element inet {table} {name} {{ {', '.join(come)} }}")
    for name in sorted(chains & new.keys()):
        lines += [f"add rule inet {table} {name} {rule}" for rule in new[name].held]
    lines += (line for line in rebound.splitlines() if line not in first)
    for word in ("set", "map", "chain"):
        lines += [f"delete {word} inet {table} {n}" for n in gone if old[n].word == word]
    return "".join(f"{line}\n" for line in lines)


def _chains_first(blocks: dict[str, _Block]) -> list[str]:
    """Names in an order in which they can be added: the elements of a map go with it, whatever
    stands between, and they lead to chains."""
    return sorted(blocks, key=lambda name: blocks[name].word != "chain")


def _added(table: str, name: str, block: _Block) -> str:
    declared = " ".join(line if line[-1] == ";" else f"{line};" for line in block.declared)
    return f"add {block.word} inet {table} {name} {{ {declared} }}"


def _key(element: str) -> str:
    return element.split(" : ")[0]


def _blocks(text: str) -> dict[str, _Block]:
    """The maps, sets and chains of a list, by name, but those that go with its bindings; without
    what stands behind their lines."""
    found: dict[str, _Block] = {}
    block = _Block("")
    for told in _body(text):
        line = told.partition(" # ")[0]
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
            block.held.append(line.strip())
    return {name: block for name, block in found.items() if not name.startswith("is_")}


def _body(text: str) -> Iterator[str]:
    return (line for line in text.split("\n") if line.startswith("\t"))


def cell_counts(listing: str) -> dict[str, dict[str, int]]:
    """Packets counted for each cell, from the kernel's listing of a table as JSON.

    Returns:
        destination tag → source tag → packets; tags as decimal text, cells without any left out.
    """
    counts: dict[str, dict[str, int]] = {}
    for item in json.loads(listing)["nftables"]:
        held, rule = item.get("map", {}), item.get("rule", {})
        if held.get("name", "").startswith("from_"):
            target = held["name"].removeprefix("from_")
            some = [(k["elem"]["val"], k["elem"]["counter"]) for k, _ in held.get("elem", [])]
        elif rule.get("chain", "").startswith("to_"):
            target = rule["chain"].removeprefix("to_")
            some = list(_counted(rule["expr"]))
        else:
            continue
        for source, counter in some:
            if counter["packets"]:
                row = counts.setdefault(target, {})
                row[str(source)] = row.get(str(source), 0) + counter["packets"]
    return counts


_MARK = {"meta": {"key": "mark"}}


def _counted(rule: list[dict[str, Any]]) -> Iterator[tuple[int, dict[str, int]]]:
    """The source's tag of a rule for one cell, and its count."""
    match = rule[0].get("match", {})
    left, tag = match.get("left"), match.get("right")
    if left not in ({"&": [_MARK, 0xFFFF]}, _MARK) or "counter" not in str(rule):
        return
    if isinstance(tag, dict) and "set" in tag:  # the tag as all of the mark, or as its high half
        tag = tag["set"][0]
    elif isinstance(tag, dict):
        tag = tag["prefix"]["addr"] >> 16
    yield from ((tag, part["counter"]) for part in rule if "counter" in part)
