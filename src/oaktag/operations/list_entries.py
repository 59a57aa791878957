"""``compile --why`` and ``--for``: from an entry of a list back to its lines, and from a cell
forward to the entries that are tried for it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from itertools import islice
from typing import ClassVar

from oaktag.core.accesslist import End, Standing
from oaktag.core.addressed import apart_from, joined
from oaktag.core.addresses import Span
from oaktag.core.network import Point
from oaktag.core.packets import Region
from oaktag.core.service_text import regions_text
from oaktag.errors import UsageError
from oaktag.operations.json_parts import Document
from oaktag.operations.lists import dialect_of, file_of, list_text, points_of
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row

#: So many cells of an entry are named.
MOST = 1000


@dataclass(frozen=True, eq=False, repr=False)
class ListEntries(Result):
    """Entries of a point's list, with the lines behind them and the cells that they are for."""

    point: str
    file: str
    outside: str | None
    entries: list[Row]
    command: ClassVar[str] = "compile entries"
    shown_by: ClassVar[str] = "lists"
    table: ClassVar[str] = "entries"


def entries_at(model: Model, only: str, line: int) -> ListEntries:
    """The entry that stands at a line of a point's list, as it is compiled now.

    Raises:
        UsageError: there is no such point, or no entry at the line.
    """
    point = _point(model, only)
    text = list_text(model, point)
    every = list(dialect_of(model, point).standing(text))
    found = [s for s in every if s.line == line]
    if not found:
        nearest = min((s.line for s in every), key=lambda n: abs(n - line), default=0)
        near = f"; the nearest is at line {nearest}" if nearest else ""
        raise UsageError(f"no entry stands at line {line} of the list of {point.id}{near}")
    return _told(model, point, found, None)


def entries_for(model: Model, only: str, source: str, destination: str) -> ListEntries:
    """The entries that a point's list tries for a cell, in order, up to the one for all packets;
    of their lines those that apply to the cell.

    Raises:
        UsageError: there is no such point, or an end is no group.
    """
    point = _point(model, only)
    ends = [model.one_group(word) for word in (source, destination)]
    cell = [_end(model, point, g) for g in ends]
    found: list[Standing] = []
    for standing in dialect_of(model, point).standing(list_text(model, point)):
        if standing.holds(*cell):
            found.append(standing)
            if standing.entry.region is None:
                break
    own: set[int | None] = {model.matrix.rows[row].line for row in model.matrix.rows_of(*ends)}
    pieces = [p for part in model.matrix.parts(ends[0], ends[1]) for p in (part.action, part.would)]
    if any(piece.row < 0 for piece in pieces):
        own.add(None)
    return _told(model, point, found, None if found else point.outside, own)


def _point(model: Model, only: str) -> Point:
    points = points_of(model, only)
    if not points:
        raise UsageError(f"the point {only} is off, and holds no list")
    return points[0]


def _told(
    model: Model, point: Point, found: Iterable[Standing], outside: str | None,
    own: set[int | None] | None = None,
) -> ListEntries:  # fmt: skip
    """The entries, with what they cite; ``own``: of the lines only these, None for the default."""
    places = {key: n for n, key in enumerate(model.keys)}
    rows = []
    for standing in found:
        entry = standing.entry
        every = {places.get(key) for key in entry.keys}  # the default's key is no line's
        cited = every if own is None else every & own
        lines = sorted((n for n in cited if n is not None), key=lambda n: model.lines[n].location)
        packets = _packets(model, entry.region)
        rows.append(
            {
                "line": standing.line,
                "packets": f"{packets}, readable" if entry.readable else packets,
                "action": entry.action,
                "would": entry.would,
                "log": entry.log,
                "answer": entry.answer,
                "lines": [_line(model, number) for number in lines],
                "default": None in cited,
                "cells": _cells(model, point, standing),
            }
        )
    return ListEntries(point=point.id, file=file_of(model, point), outside=outside, entries=rows)


def _packets(model: Model, region: Region | None) -> str:
    if region is None:
        return "any"
    if region.protocols == ((0, 255),) and len(region.families) == 1:
        return f"any on IPv{region.families[0]}"
    return regions_text([region], model.named)


def _line(model: Model, number: int) -> Document:
    line = model.lines[number]
    name = model.files.policy.permissions[line.permission].name
    return {
        "file": line.location.file, "line": line.location.line, "source": line.source,
        "destination": line.destination, "permission": name,
    }  # fmt: skip


def _end(model: Model, point: Point, group: int) -> End:
    """A group as an end of a cell, with the addresses that a point knows of it."""
    tag, ranges = model.groups.tag(group), model.knowledge.at(point.node).ranges
    spans = [Span(r.family, r.start, r.end) for r in ranges if r.tag == tag or not tag]
    return End(tag, tuple(spans if tag else apart_from(joined(spans))))


def _cells(model: Model, point: Point, standing: Standing) -> list[Document]:
    groups = model.groups
    sides = [[(g, _end(model, point, g)) for g in side] for side in model.scope(point)]
    held = (
        {"source": groups.all[s].id, "destination": groups.all[d].id}
        for d, toward in sides[1]
        for s, come in sides[0]
        if standing.holds(come, toward)
    )
    return list(islice(held, MOST))
