"""Changes of files: tried, shown as a diff with all that they do, and written only where that is
asked; ``pin``, ``unpin``, ``rename`` and ``groups --number``."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import ClassVar

import numpy as np

from oaktag.core.addresses import parse_prefix
from oaktag.core.domains import origin_of
from oaktag.core.groups import PLAIN_ID
from oaktag.core.network import REGISTRY
from oaktag.core.review import find_overruled, find_shadowed
from oaktag.core.service_text import set_words
from oaktag.errors import UsageError, WorkspaceError
from oaktag.located import Location
from oaktag.operations.compare import versions
from oaktag.operations.gains import FIELDS, NOBODY
from oaktag.operations.groups import numbered
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.result import ABSENT, Result, Row
from oaktag.workspace import edits
from oaktag.workspace.assignments_file import FILE as ASSIGNMENTS
from oaktag.workspace.renaming import places_of, renamed
from oaktag.workspace.splitting import joined
from oaktag.workspace.yaml_edits import with_pins, without_pin


@dataclass(frozen=True, eq=False, repr=False)
class Change(Result):
    """A change of files: the diff, all that it does, and whether it was written."""

    command: str
    files: list[str]
    diff: str
    written: bool
    affected: Row
    gained: list[Row]
    lost: list[Row]
    new: list[Row]
    gone: list[Row]
    same_access: list[Row]
    cells: list[Row]
    endpoints: list[Row]
    expectations: list[Row]
    network: list[Row]
    not_followed: str
    hidden_by: list[Row]
    overruled: list[Row]
    numbers: dict[str, int] = field(default=ABSENT)
    already: str | None = field(default=ABSENT)
    others: list[Row] = field(default=ABSENT)
    alone: Row | None = field(default=ABSENT)
    fares: list[Row] = field(default=ABSENT)
    places: list[Row] = field(default=ABSENT)
    rules: list[Row] = field(default=ABSENT)
    renumbered: Row = field(default=ABSENT)
    notes: list[str] = field(default=ABSENT)
    refused: list[Row] = field(default=ABSENT)
    shown_by: ClassVar[str] = "change"
    table: ClassVar[str] = "gained"


KEPT = (*FIELDS, "cells", "endpoints", "expectations", "network", "not_followed")
#: What no change does.
NOTHING: Document = {
    **{key: [] for key in KEPT}, "not_followed": "", "affected": NOBODY,
}  # fmt: skip


def made(
    model: Model,
    command: str,
    changed: dict[str, str],
    *,
    write: bool,
    anyway: bool = False,
    about: Location | None = None,
    since: Model | None = None,
) -> Change:
    """Try a change out, say what it does, and write it where that is asked.

    Args:
        model: the workspace as it is.
        command: who changes it.
        changed: file → its text then.
        write: write it; else it is only shown.
        anyway: also where an expectation fails then that holds now.
        about: the line that is changed (without a number the last of its file), of which it is
            said what hides it.
        since: what the change does is told since this state of it, by default since the present.

    Raises:
        UsageError: the workspace would be broken, an expectation would fail, or its files have
            changed meanwhile.
    """
    root = model.files.folder
    changed = {n: edits.with_ends_of(root.text(n), t) for n, t in changed.items()}
    changed = {n: t for n, t in changed.items() if t != root.text(n)}
    try:
        then = model
        if changed:
            then = Model(edits.try_out(model.files, changed), model.today, model)
    except WorkspaceError as error:
        raise edits.checked(error) from None
    after = versions(since or model, then, deep=False) if changed else NOTHING
    if write and not anyway:
        stop_on([r for r in after["expectations"] if r["was"] and r["is"] is False])
    shown = edits.difference(root, changed)
    if changed and write:
        edits.write_all(model.files, command, changed)
    return Change(
        command, files=list(changed), diff=shown, written=bool(changed) and write,
        **{key: after[key] for key in KEPT},
        hidden_by=_hiding(then, about) if about and not after["cells"] else [],
        overruled=_overruled(then, about) if about else [],
    )  # fmt: skip


def stop_on(broken: list[Row]) -> None:
    """Refuse to write what would break expectations.

    Raises:
        UsageError: there are some.
    """
    if broken:
        told = "; ".join(
            f"{r['file']}:{r['line']} ({r['from']} → {r['to']}: {r['asks']})" for r in broken
        )
        raise UsageError(f"nothing was written, for then these would fail: {told}. --anyway writes")


def _number(model: Model, about: Location) -> int:
    """The number of the line at a place; without a number the last of its file."""
    lines = [n for n, line in enumerate(model.lines) if line.location.file == about.file]
    if about.line:
        return next(n for n in lines if model.lines[n].location.line == about.line)
    return max(lines)


def _overruled(model: Model, about: Location) -> list[Document]:
    """Which packets a line was to decide, and other lines decide before it."""
    names = [g.id for g in model.groups.all]
    told: list[Document] = []
    for found in find_overruled(model.matrix, _number(model, about)):
        place = model.lines[found.by].location
        source, destination = found.cells[0]
        told.append(
            {
                "file": place.file, "line": place.line, "action": found.action,
                "otherwise": found.otherwise, "packets": set_words(model.atoms, found.mask),
                "packets_text": model.text(found.mask), "cells": len(found.cells),
                "source": names[source], "destination": names[destination],
            }
        )  # fmt: skip
    return told


def _hiding(model: Model, about: Location) -> list[Document]:
    """The lines that decide all packets of a line before it."""
    number = _number(model, about)
    found = next((s for s in find_shadowed(model.matrix) if s.line == number), None)
    places = [model.lines[n].location for n in found.by if n != number] if found else []
    return [{"file": p.file, "line": p.line} for p in places]


def number(model: Model, *, write: bool) -> Change:
    """Write issued numbers into ``groups.yaml``.

    Raises:
        UsageError: the range has too few free numbers; nothing is written then.
    """
    numbers, changed = numbered(model)
    return replace(made(model, "groups number", changed, write=write), numbers=numbers)


def pin(
    model: Model,
    who: Sequence[str],
    to: str,
    until: str | None,
    note: str | None,
    *,
    write: bool,
    anyway: bool = False,
) -> Change:
    """Put endpoints and prefixes into a group by hand; whoever is pinned there already stays so.

    Raises:
        UsageError: there are no such endpoints or no such group, or some are pinned elsewhere; with
            all of them.
    """
    if to not in model.groups.index:
        model.end(to)
        raise UsageError(f"{to!r} is no group; a pin gives one group")
    index = model.groups.index[to]
    pinned = {p.endpoint: p for p in model.files.assignments.pins}
    more = {"group": to} | {k: v for k, v in (("note", note), ("until", until)) if v}
    faults: list[str] = []
    pins: list[dict[str, str]] = []
    for name in dict.fromkeys(who):
        fields = {"endpoint": name}
        if name not in model.files.endpoints.index:
            try:
                fields = {"prefix": str(parse_prefix(name))}
            except ValueError as error:
                faults.append(_no_end(model, name, error))
        held = pinned.get(name)
        if held is not None and (len(who) == 1 or held.group != index):
            group = model.groups.all[held.group].id
            faults.append(
                f"{name} is pinned to {group} already ({held.location}); oaktag unpin {name} first"
            )
        elif held is None:
            pins.append(fields | more)
    if faults:
        raise UsageError("\n".join(faults))
    text = model.files.folder.text(ASSIGNMENTS)
    changed = {ASSIGNMENTS: with_pins(text, pins)} if pins else {}
    return made(model, "pin", changed, write=write, anyway=anyway)


def _no_end(model: Model, name: str, error: ValueError) -> str:
    """What is wrong with a name that is neither an endpoint nor a prefix."""
    if "host bits" in str(error):
        return str(error)
    try:
        model.end(f"endpoint:{name}")  # says which names are close
    except UsageError as told:
        return str(told)
    raise AssertionError("an endpoint was not found, and then it was")


def unpin(
    model: Model, who: str, at: str | None = None, *, write: bool, anyway: bool = False
) -> Change:
    """Take the pin of an endpoint or a prefix out; of several of a prefix that ``at`` a node. A
    group that was split off for it goes with it.

    Raises:
        UsageError: it is not pinned, or several times.
    """
    given = model.files.assignments
    alone = model.groups.index.get(who, 0)
    if model.groups.all[alone].split_from and not _members(model, alone):
        return made(model, "unpin", joined(model.files, who), write=write, anyway=anyway)
    found = [p.location for p in given.pins if p.endpoint == who]
    if not found:
        try:
            prefix = str(parse_prefix(who))
        except ValueError:
            prefix = ""
        same = [p for p, _ in given.prefix_pins if str(p.prefix) == prefix]
        if len(same) > 1 and at is None:
            listed = ", ".join(f"{p.location} (--at {p.node or REGISTRY})" for p in same)
            raise UsageError(f"{who!r} is pinned several times: {listed}; say which")
        found = [p.location for p in same if at in (None, p.node or REGISTRY)]
    if not found:
        where = f" at {at}" if at else ""
        raise UsageError(f"{who!r} is not pinned{where} in {ASSIGNMENTS}")
    text = model.files.folder.text(ASSIGNMENTS)
    changed = {ASSIGNMENTS: without_pin(text, found[0])}
    group = next((p.group for p in given.pins if p.endpoint == who), None)
    if group is not None and model.groups.all[group].split_from:
        rest = {p.endpoint for p in given.pins if p.group == group} | _members(model, group)
        if rest <= {who}:
            changed |= joined(model.files, model.groups.all[group].id)
    return made(model, "unpin", changed, write=write, anyway=anyway)


def _members(model: Model, group: int) -> set[str]:
    rows = np.flatnonzero(model.assignment.group == group).tolist()
    return {model.files.endpoints.ids[row] for row in rows}


def rename(model: Model, old: str, new: str, *, write: bool, anyway: bool = False) -> Change:
    """Rename a group or set in all files, or in none.

    Raises:
        UsageError: no such group or set, or the new name is taken or cannot be one.
    """
    if old not in model.groups.sets and model.groups.index.get(old, 0) == 0:
        model.end(old)
        raise UsageError(f"{old!r} is no group or set")
    if origin := origin_of(old):
        raise UsageError(
            f"{old} is named by {origin}; when that names it anew, oaktag pull does so"
        )
    free_name(model, new)
    changed = renamed(model.files, old, new)
    _nobody_moves(model, old, changed)
    return made(model, "rename", changed, write=write, anyway=anyway)


def free_name(model: Model, new: str) -> None:
    """That a group or set can be called so.

    Raises:
        UsageError: it is no name, or something else has it.
    """
    if not PLAIN_ID.fullmatch(new):
        raise UsageError(f"{new!r} cannot be a name: lower-case letters, digits and hyphens")
    if new in model.groups.sets or new in model.groups.index:
        raise UsageError(f"{new!r} is there already")
    if taken := places_of(model.files, new):
        raise UsageError(f"{new!r} means something else at {taken[0]}; it would be the group then")


def _nobody_moves(model: Model, old: str, changed: dict[str, str]) -> None:
    """Refuse a name where rules that make it of attributes would go on with the old one."""
    try:
        after = Model(edits.try_out(model.files, changed), model.today, model)
    except WorkspaceError as error:
        raise edits.checked(error) from None
    moved = np.flatnonzero(after.assignment.group != model.assignment.group).tolist()
    if not moved:
        return
    names = ", ".join(model.files.endpoints.ids[row] for row in moved[:3])
    names += f" and {len(moved) - 3} more" if len(moved) > 3 else ""
    rules = {model.assignment.rule[row] for row in moved} | {
        after.assignment.rule[row] for row in moved
    }
    places = ", ".join(str(model.assignment.rules[n].location) for n in sorted(rules) if n >= 0)
    raise UsageError(
        f"nothing was changed, for {names} would change group: {places} makes the name {old!r} "
        "of attributes; correct those, or give the group by a rule of its own first"
    )
