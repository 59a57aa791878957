"""The access list of one point: compiled, written in its dialect, read back, and proved."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterator, Sequence
from functools import cache
from hashlib import sha256
from importlib import resources
from pathlib import Path
from typing import NamedTuple

import numpy as np

from oaktag.core.abilities import Abilities
from oaktag.core.accesslist import DEFAULT_KEY, UNSAID_KEY, AccessList
from oaktag.core.addresses import address_text
from oaktag.core.apart import Apart
from oaktag.core.fitting import unfit
from oaktag.core.model import Model
from oaktag.core.network import Point, turn_of
from oaktag.core.proof import Refuted
from oaktag.core.service_text import packet_text
from oaktag.dialects import DIALECTS, Dialect, Written, of_template
from oaktag.errors import UnreadableList, UnwritableEntry, UsageError
from oaktag.operations.json_parts import Document, packet_json
from oaktag.operations.parts import On, cores

#: Above so many cells, all lists together, others help.
MANY_CELLS = 1 << 21
#: Of so many groups, those with the most entries one by one, it is tried what they would cost.
TRIED = 16
#: A part of the work has at most so many lists.
MOST_IN_PART = 25


def points_of(model: Model, only: str | None = None) -> list[Point]:
    """The points that get a list (those that are ``off`` get none).

    Raises:
        UsageError: no such point.
    """
    points = [p for p in model.network.points.values() if p.mode != "off"]
    if only is None:
        return points
    if only not in model.network.points:
        raise UsageError(f"there is no point {only!r}; there are {', '.join(model.network.points)}")
    return [p for p in points if p.id == only]


def list_of(model: Model, point: Point) -> AccessList:
    """The access list of one point, as a tree.

    Raises:
        UnwritableEntry: the point cannot do what its list says.
    """
    dialect, able = dialect_of(model, point), able_of(model, point)
    if odd := sorted({name for name, _ in point.limits} - dialect.limits):
        raise UnwritableEntry(
            f"{point.id}: for the dialect {point.dialect} nothing depends on {', '.join(odd)}; "
            "take it out of the point's limits"
        )
    if why := unfit(point, able):
        raise UnwritableEntry(f"{point.id}: {why}")
    _told_apart(model, point)
    return model.list_of(point)


def _told_apart(model: Model, point: Point) -> None:
    """That no cell of the list has an entry for what the point cannot tell apart."""
    odd = model.entries_of(dialect_of(model, point).unseen)
    if not odd:
        return
    scope = [set(side) for side in model.scope(point)]
    for row in model.matrix.rows:
        line = model.lines[row.line]
        block = model.matrix.block(row) if line.permission in odd else None
        if block is None:
            continue
        cells = np.broadcast_arrays(*block)
        for s, d in zip(cells[0].ravel().tolist(), cells[1].ravel().tolist(), strict=True):
            if s in scope[0] and d in scope[1]:
                names = model.groups.all[s].id, model.groups.all[d].id
                raise UnwritableEntry(
                    f"{point.id}: the cell {names[0]} {names[1]} has the entry "
                    f"{odd[line.permission].text} ({line.location}), and on IPv6 that protocol "
                    "number is an extension header, which the point does not see as a protocol; "
                    "take it out of the permission"
                )


def list_text(model: Model, point: Point) -> str:
    """The access list of one point, in its dialect."""
    return written(model, point, list_of(model, point)).text


def dialect_of(model: Model, point: Point) -> Dialect:
    """The form in which a point's list is written.

    Raises:
        UsageError: its template is not there.
    """
    if point.dialect in DIALECTS:
        return DIALECTS[point.dialect]
    template = model.network.templates.get(point.template)
    if template is None:
        raise UsageError(f"{point.id}: there is no template {point.template!r}")
    return of_template(template)


def able_of(model: Model, point: Point) -> Abilities:
    """What a point can do: what its dialect can, less its limits."""
    dialect = dialect_of(model, point)
    by_address = point.source_by == point.destination_by == "address"
    return (dialect.by_address if by_address else dialect.able).narrowed(point.limits)


def written(model: Model, point: Point, held: AccessList) -> Written:
    """A list of a point, in its dialect.

    Raises:
        UnwritableEntry: the point cannot do what it says.
    """
    return dialect_of(model, point).write(held, able_of(model, point))


def file_of(model: Model, point: Point) -> str:
    """The name of the file of a point's list."""
    return f"{point.id}{dialect_of(model, point).suffix}"


def endings(model: Model) -> list[str]:
    """What files of lists end in."""
    own = {template.suffix for template in model.network.templates.values()}
    return sorted({dialect.suffix for dialect in DIALECTS.values()} | own)


def strangers(model: Model, folder: Path) -> Iterator[tuple[str, Path]]:
    """Lists in a folder of which no point is meant to hold any: the name of the point, and the
    file."""
    meant = {file_of(model, point) for point in points_of(model)}
    with contextlib.suppress(OSError):
        for path in sorted(folder.iterdir()):
            ending = next((e for e in endings(model) if path.name.endswith(e)), None)
            if ending is not None and path.name not in meant:
                yield path.name.removesuffix(ending), path


def refute(model: Model, point: Point, text: str) -> Refuted | None:
    """Read a list back and hold it against the matrix.

    Raises:
        UnreadableList: the text is no such list.
    """
    return model.refute(point, read_back(model, point, text))


def read_back(model: Model, point: Point, text: str) -> AccessList:
    """The list of a point, from its text.

    Raises:
        UnreadableList: the text is no such list.
    """
    held = dialect_of(model, point).read(text)
    if held.point != point.id:
        raise UnreadableList(2, f"this is the list of {held.point}, not of {point.id}")
    meant = turn_of(point, model.network)
    if held.turn and meant and held.turn != meant:
        line = text[: text.index("priority ")].count("\n") + 1
        raise UnreadableList(
            line,
            f"packets meet this list in turn {held.turn}, and of the lists of its node it is "
            f"number {meant}: another one could take its tags",
        )
    return held


def unproved(held: AccessList) -> list[str]:
    """What the form of a list cannot hold, so that the proof leaves it out: ``lines``, where not
    all lines that decide have room."""
    silent = any(
        not entry.keys or UNSAID_KEY in entry.keys
        for chain in held.chains.values()
        for entry in chain
    )
    return ["lines"] if silent else []


@cache
def made_by() -> str:
    """What makes lists, as a hash: another version of it may make others."""
    told = sha256()
    for part in ("core", "dialects", "operations"):
        folder = resources.files("oaktag") / part
        for file in sorted(folder.iterdir(), key=lambda f: f.name):
            if file.name.endswith(".py"):
                told.update(file.name.encode() + file.read_bytes())
    return told.hexdigest()


def shared_out(model: Model, points: Sequence[Point], on: On) -> tuple[Model, list[str], On]:
    """How the lists of some points are shared out.

    Args:
        model: what they are made from.
        points: whose lists.
        on: who is to work on them; None for as many processes as it is worth.

    Returns:
        what everybody needs; the points in an order in which those with the same cells are next to
        each other, so that what they have in common is done once; and who works.
    """
    if on is None:
        sizes = [[len(side) for side in model.scope(point)] for point in points]
        many = len(points) > 1 and sum(a * b for a, b in sizes) >= MANY_CELLS
        on = cores() if many else 1
    if on == 1:
        return model, [point.id for point in points], on
    apart = Apart.of(model, points)
    alike = sorted(points, key=lambda p: (p.dialect, *map(tuple, apart.scope(p)), p.id))
    return apart.ready() if isinstance(on, int) else apart, [p.id for p in alike], on


class Newcomer(NamedTuple):
    """The group that would cost a list most if the first of it joined behind a point that holds
    the cells alone that are known to it; and so many entries more."""

    group: str
    entries: int


class Made(NamedTuple):
    """The list of a point, and what there is to say of it; ``error`` where there is none."""

    point: str
    text: bytes = b""
    entries: int = 0
    plain_entries: int = 0
    known_entries: int | None = None
    newcomer: Newcomer | None = None
    bindings: int = 0
    proved: bool = False
    unproved: tuple[str, ...] = ()
    error: str = ""
    sha256: str = ""


def make(model: Model, point: Point, *, proved: bool) -> Made:
    """The list of a point, as text, read back and proved if it is to be."""
    try:
        held = list_of(model, point)
        text, entries, plain = written(model, point, held)
        known, newcomer = _as_known(model, point, held)
        if point.capacity is not None and entries > point.capacity:
            return Made(point.id, error=_too_many(model, point, held, entries, known))
        reads = proved and dialect_of(model, point).reads
        silent: list[str] = []
        if reads:
            again = read_back(model, point, text)
            silent = unproved(again)
            if (against := model.refute(point, again)) is not None:
                told = f"{point.id}: the list is not the matrix: {refuted(model, against)['text']}"
                return Made(point.id, error=told)
    except UnwritableEntry as error:
        return Made(point.id, error=str(error))
    whole, bindings = text.encode(), len(held.source_bindings)
    digest = sha256(whole).hexdigest()
    return Made(
        point.id,
        whole,
        entries,
        plain,
        known,
        newcomer,
        bindings,
        reads,
        tuple(silent),
        sha256=digest,
    )


def _as_known(model: Model, point: Point, held: AccessList) -> tuple[int | None, Newcomer | None]:
    """The entries that a point with all cells would need of those that are known to it alone, and
    what it would need more for the first of the dearest group that it has not; None where it does
    not hold all, or needs all."""
    needed = point.needed
    if needed is None:
        return None, None
    sources, known = model.scope(needed)
    less = written(model, needed, model.list_of(needed)).entries
    costs = {
        d: sum(len(held.chains[c]) * n for c, n in held.used(held.blocks[tag]).items())
        for d in set(model.scope(point)[1]) - set(known)
        if (tag := model.groups.tag(d)) in held.blocks
    }
    more: list[tuple[int, int]] = []
    for d in sorted(costs, key=lambda d: (-costs[d], d))[:TRIED]:
        wider = model.list_in(needed, (sources, sorted([*known, d])))
        more.append((written(model, needed, wider).entries - less, -d))
    if not more:
        return less, None
    entries, dearest = max(more)
    return less, Newcomer(model.groups.all[-dearest].id, entries)


def _too_many(model: Model, point: Point, held: AccessList, entries: int, known: int | None) -> str:
    """Why a list does not fit, what costs most in it, and what would cost less."""
    cells = [
        (len(held.chains[chain]), s, d)
        for d, row in held.blocks.items()
        for s, chain in row.items()
    ]
    most = sorted(cells, key=lambda c: (-c[0], c[2], c[1]))[:3]
    dear = ", ".join(
        f"{model.groups.name(s)} → {model.groups.name(d)} ({n})" for n, s, d in most if n > 1
    )
    told = [f"{point.id} holds {point.capacity} entries, its list has {entries}"]
    if dear:
        told.append(f"the cells with most are {dear}")
    if known is not None and known < entries:
        fits = "" if point.capacity is None or known <= point.capacity else ", still too many"
        told.append(f"scope: known would come to {known}{fits}")
    tagged = _by_tags(model, point)
    if tagged is not None and tagged < entries:
        fits = "" if point.capacity is None or tagged <= point.capacity else ", still too many"
        told.append(f"match: {{destination: tag}} would come to {tagged}{fits}")
    return f"{'; '.join(told)}; narrow its scope, or let lines share permissions"


def _by_tags(model: Model, point: Point) -> int | None:
    """The entries that a point which matches addresses at both ends would need if it matched the
    destination by its tag; None of other points, and where its dialect has no room for that."""
    if not point.source_by == point.destination_by == "address":
        return None
    other = point._replace(destination_by="tag")
    if able_of(model, other) == able_of(model, point) or unfit(other, able_of(model, other)):
        return None
    with contextlib.suppress(UnwritableEntry):
        return written(model, other, model.list_of(other)).entries
    return None


def refuted(model: Model, against: Refuted) -> Document:
    """A packet that refutes a list, as JSON and in words."""
    family = against.packet.family
    source, destination = (address_text(family, a) for a in (against.source, against.destination))
    frame, name = "", model.groups.name(against.frame)
    if against.frame:
        named = "" if name == str(against.frame) else f" ({name})"
        frame = f" with tag {against.frame}{named} in its frame"
    frame += f", {against.what}" if against.what else ""
    said = f"the list says {_answers(against.listed)}, the matrix {_answers(against.meant)}"
    if against.listed == against.meant:
        said = f"both say {_answers(against.listed)}"
    cited, deciding = (
        [_line_of(model, key) for key in keys] for keys in (against.cited, against.deciding)
    )
    if deciding:
        names = ", ".join(map(_place_of, cited))
        said += f"; the list names {names}, and {_place_of(deciding[0])} decides"
    return {
        "packet": packet_json(against.packet),
        "source": source,
        "destination": destination,
        "frame": against.frame,
        "what": against.what,
        "listed": {"action": against.listed[0], "would": against.listed[1]},
        "matrix": {"action": against.meant[0], "would": against.meant[1]},
        "cited": cited,
        "deciding": deciding,
        "text": f"{packet_text(*against.packet)}, {source} to {destination}{frame}: {said}",
    }


def _line_of(model: Model, key: str) -> Document:
    """Where the line of a key stands; nowhere, for the default and for keys of no line."""
    number = model.keys.index(key) if key in model.keys else None
    location = None if number is None else model.lines[number].location
    return {
        "key": key,
        "file": None if location is None else location.file,
        "line": None if location is None else location.line,
    }


def _place_of(line: Document) -> str:
    if line["file"] is not None:
        return f"{line['file']}:{line['line']}"
    return "the default" if line["key"] == DEFAULT_KEY else f"{line['key']}, the key of no line"


def _answers(answers: tuple[str, str]) -> str:
    action, would = answers
    return action if action == would else f"{action} (would {would})"


def dumps(value: Document) -> str:
    """A document as JSON text, the same bytes for the same content."""
    return json.dumps(value, indent=1, ensure_ascii=False) + "\n"
