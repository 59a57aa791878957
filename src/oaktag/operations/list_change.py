"""In what the access lists of two versions differ: the entries of their cells, their tables of
bindings, and what they judge at all."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from hashlib import sha256
from itertools import pairwise

from oaktag.core.accesslist import AccessList, ListEntry
from oaktag.core.addresses import Range, span_text
from oaktag.core.comparison import renamed
from oaktag.core.service_text import regions_text
from oaktag.errors import UnwritableEntry, UsageError
from oaktag.operations.json_parts import Document
from oaktag.operations.lists import list_of, points_of, written
from oaktag.operations.model import Model

#: A list, its hash, and why there is none.
Held = tuple[AccessList | None, str]


def lists(was: Model, now: Model) -> list[Document]:
    """Points whose lists differ, each list by the SHA-256 of its text (None where a version has
    none), and what differs in it."""
    before, after = _lists(was), _lists(now)
    new = renamed(was.groups, now.groups)
    rows: list[Document] = []
    for name in dict.fromkeys([*after, *before]):
        (old, told), (fresh, said) = before.get(name, (None, "")), after.get(name, (None, ""))
        if told == said:
            continue
        row: Document = {
            "point": name, "was": told or None, "is": said or None, "judges": False,
            "entries": [], "bindings": [],
        }  # fmt: skip
        if old is not None and fresh is not None:
            row["judges"] = (old.head, old.outside) != (fresh.head, fresh.outside)
            row["entries"] = _entries((was, now), (old, fresh), new)
            row["bindings"] = list(_bindings((was, now), (old, fresh), new))
        rows.append(row)
    return rows


def _lists(model: Model) -> dict[str, Held]:
    made: dict[str, Held] = {}
    for point in points_of(model):
        try:
            held = list_of(model, point)
            text = written(model, point, held).text
        except (UnwritableEntry, UsageError) as error:
            made[point.id] = None, f"cannot be written: {error}"
            continue
        made[point.id] = held, sha256(text.encode()).hexdigest()
    return made


def _entries(
    models: tuple[Model, Model], held: tuple[AccessList, AccessList], new: dict[str, str]
) -> list[Document]:
    """Entries that are gone and that have come, with all the cells of which that is so."""
    cells: list[dict[tuple[str, str], str]] = []
    for model, tree in zip(models, held, strict=True):
        names = {tag: _name(model, tag, new) for tag in {*tree.blocks, *_sources(tree)}}
        cells.append(
            {
                (names[s], names[d]): chain
                for d, block in tree.blocks.items()
                for s, chain in block.items()
            }
        )
    alike: dict[tuple[tuple[str, ...], tuple[str, ...]], list[list[str]]] = {}
    for cell in dict.fromkeys([*cells[1], *cells[0]]):
        chains = [side.get(cell) for side in cells]
        if chains[0] != chains[1]:
            texts = [
                [] if chain is None else [_text(e) for e in tree.chains[chain]]
                for chain, tree in zip(chains, held, strict=True)
            ]
            gone, come = (
                tuple(t for t in one if t not in other) for one, other in (texts, texts[::-1])
            )
            alike.setdefault((gone, come), []).append(list(cell))
    return [
        {"cells": where, "gone": list(gone), "come": list(come)}
        for (gone, come), where in alike.items()
    ]


def _sources(tree: AccessList) -> set[int]:
    return {tag for block in tree.blocks.values() for tag in block}


def _name(model: Model, tag: int, new: dict[str, str]) -> str:
    name = model.groups.name(tag)
    return new.get(name, name)


def _text(entry: ListEntry) -> str:
    services = "all else" if entry.region is None else regions_text([entry.region])
    would = "" if entry.would == entry.action else f", would {entry.would}"
    more = f", log {entry.log}" * bool(entry.log) + ", with an answer" * entry.answer
    return f"{entry.action} {services}{would}{more}"


def _bindings(
    models: tuple[Model, Model], held: tuple[AccessList, AccessList], new: dict[str, str]
) -> Iterator[Document]:
    """Addresses that the two take for different groups."""
    for family in (4, 6):
        tables = [[r for r in tree.source_bindings if r.family == family] for tree in held]
        for start, end, *tags in _differing(*tables):
            names = [
                None if not tag else _name(model, tag, new)
                for model, tag in zip(models, tags, strict=True)
            ]
            if names[0] != names[1]:
                yield {"addresses": span_text(family, start, end), "was": names[0], "is": names[1]}


def _differing(was: Sequence[Range], now: Sequence[Range]) -> list[tuple[int, int, int, int]]:
    """Stretches of addresses of different tags: first, last, the older tag, the newer (0: none)."""
    edges = sorted({edge for r in (*was, *now) for edge in (r.start, r.end + 1)})
    found: list[tuple[int, int, int, int]] = []
    at = [0, 0]
    for low, high in pairwise(edges):
        tags: list[int] = []
        for side, table in enumerate((was, now)):
            while at[side] < len(table) and table[at[side]].end < low:
                at[side] += 1
            here = at[side] < len(table) and table[at[side]].start <= low
            tags.append(table[at[side]].tag if here else 0)
        if tags[0] == tags[1]:
            continue
        if found and found[-1][1] == low - 1 and list(found[-1][2:]) == tags:
            found[-1] = (found[-1][0], high - 1, *found[-1][2:])
        else:
            found.append((low, high - 1, tags[0], tags[1]))
    return found
