"""In what the access lists of two versions differ: the entries of their cells, their tables of
bindings, and what they judge at all."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from hashlib import sha256
from itertools import pairwise
from pathlib import Path

from oaktag.core.accesslist import AccessList, ListEntry
from oaktag.core.addressed import named_by
from oaktag.core.addresses import Range, span_text
from oaktag.core.comparison import renamed
from oaktag.core.model import Model as CoreModel
from oaktag.core.network import Point
from oaktag.core.service_text import regions_text
from oaktag.errors import UnreadableList, UnwritableEntry, UsageError
from oaktag.operations.json_parts import Document
from oaktag.operations.lists import (
    able_of,
    dialect_of,
    list_of,
    points_of,
    strangers,
    written,
)
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


def change(model: CoreModel, point: Point, was: bytes | None, now: bytes) -> Document:
    """In what a list differs from an earlier one (None: there was none), both as text."""
    row: Document = {
        "point": point.id,
        "was": None if was is None else sha256(was).hexdigest(),
        "is": sha256(now).hexdigest(),
        "judges": False, "entries": [], "bindings": [], "error": None,
    }  # fmt: skip
    if was is None:
        return row
    try:
        old, fresh = (_read(model, point, text) for text in (was, now))
    except UnreadableList as error:
        return row | {"error": f"line {error.line}: {error.message}"}
    row["judges"] = (old.head, old.outside, old.own) != (fresh.head, fresh.outside, fresh.own)
    row["entries"] = _entries((model, model), (old, fresh), {})
    row["bindings"] = list(_bindings((model, model), (old, fresh), {}))
    return row


def _read(model: CoreModel, point: Point, text: bytes) -> AccessList:
    dialect = dialect_of(model, point)
    if not dialect.reads:
        raise UnreadableList(1, f"{point.template} does not say how its lines are read back")
    try:
        tree = dialect.read(text.decode())
    except UnicodeDecodeError:
        raise UnreadableList(1, "it is not UTF-8") from None
    return tree if able_of(model, point).tables else named_by(tree, model.known(point.node))


def gone(model: CoreModel, folder: Path) -> Iterator[Document]:
    """Lists in a folder of which no point is meant to hold any."""
    for name, path in strangers(model, folder):
        if path.is_file():
            yield {
                "point": name, "was": sha256(path.read_bytes()).hexdigest(), "is": None,
                "judges": False, "entries": [], "bindings": [], "error": None,
            }  # fmt: skip


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
    models: tuple[CoreModel, CoreModel], held: tuple[AccessList, AccessList], new: dict[str, str]
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


def _name(model: CoreModel, tag: int, new: dict[str, str]) -> str:
    name = model.groups.name(tag)
    return new.get(name, name)


def _text(entry: ListEntry) -> str:
    services = "all else" if entry.region is None else regions_text([entry.region])
    would = "" if entry.would == entry.action else f", would {entry.would}"
    more = f", log {entry.log}" * bool(entry.log) + ", with an answer" * entry.answer
    return f"{entry.action} {services}{would}{more}"


def _bindings(
    models: tuple[CoreModel, CoreModel], held: tuple[AccessList, AccessList], new: dict[str, str]
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
