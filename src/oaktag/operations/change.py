"""``pin``, ``unpin``, ``rename`` and ``groups --number``: changes shown as a diff, then written."""

from __future__ import annotations

import numpy as np

from oaktag.core.addresses import parse_prefix
from oaktag.core.groups import GROUP_ID
from oaktag.errors import UsageError, WorkspaceError
from oaktag.operations.documents import Document, document
from oaktag.operations.groups import numbered
from oaktag.operations.model import Model
from oaktag.workspace import edits
from oaktag.workspace.assignments_file import FILE as ASSIGNMENTS
from oaktag.workspace.renaming import places_of, renamed
from oaktag.workspace.yaml_edits import with_pin, without_pin


def made(model: Model, command: str, changed: dict[str, str], *, dry: bool) -> Document:
    """Try a change out, write it unless it is only to be shown, and say what it is."""
    shown = edits.difference(model.files.folder, changed)
    try:
        edits.try_out(model.files, changed)
        if changed and not dry:
            edits.write_all(model.files, command, changed)
    except WorkspaceError as error:
        raise edits.checked(error) from None
    return document(command, files=list(changed), diff=shown, written=not dry and bool(changed))


def number(model: Model, *, dry: bool) -> Document:
    """Write issued numbers into ``groups.yaml``.

    Raises:
        UsageError: the range has too few free numbers; nothing is written then.
    """
    numbers, changed = numbered(model)
    return {**made(model, "groups", changed, dry=dry), "numbers": numbers}


def pin(
    model: Model, who: str, to: str, until: str | None, note: str | None, *, dry: bool
) -> Document:
    """Put an endpoint or a prefix into a group by hand.

    Raises:
        UsageError: no such endpoint or group, or the endpoint is pinned already.
    """
    fields = {"endpoint": who}
    if who not in model.files.endpoints.index:
        try:
            fields = {"prefix": str(parse_prefix(who))}
        except ValueError as error:
            if "host bits" in str(error):
                raise UsageError(str(error)) from None
            model.end(f"endpoint:{who}")  # says which names are close
    if to not in model.groups.index:
        model.end(to)
        raise UsageError(f"{to!r} is no group; a pin gives one group")
    fields["group"] = to
    fields |= {k: v for k, v in (("note", note), ("until", until)) if v}
    text = model.files.folder.text(ASSIGNMENTS)
    return made(model, "pin", {ASSIGNMENTS: with_pin(text, fields)}, dry=dry)


def unpin(model: Model, who: str, *, dry: bool) -> Document:
    """Take the pin of an endpoint or a prefix out.

    Raises:
        UsageError: it is not pinned.
    """
    given = model.files.assignments
    found = [p.location for p in given.pins if p.endpoint == who]
    if not found:
        try:
            prefix = str(parse_prefix(who))
        except ValueError:
            prefix = ""
        found = [p.location for p, _ in given.prefix_pins if str(p.prefix) == prefix]
    if not found:
        raise UsageError(f"{who!r} is not pinned in {ASSIGNMENTS}")
    text = model.files.folder.text(ASSIGNMENTS)
    return made(model, "unpin", {ASSIGNMENTS: without_pin(text, found[0])}, dry=dry)


def rename(model: Model, old: str, new: str, *, dry: bool) -> Document:
    """Rename a group or set in all files, or in none.

    Raises:
        UsageError: no such group or set, or the new name is taken or cannot be one.
    """
    if old not in model.groups.sets and model.groups.index.get(old, 0) == 0:
        model.end(old)
        raise UsageError(f"{old!r} is no group or set")
    if not GROUP_ID.fullmatch(new):
        raise UsageError(f"{new!r} cannot be a name: lower-case letters, digits and hyphens")
    if new in model.groups.sets or new in model.groups.index:
        raise UsageError(f"{new!r} is there already")
    if taken := places_of(model.files, new):
        raise UsageError(f"{new!r} means something else at {taken[0]}; it would be the group then")
    changed = renamed(model.files, old, new)
    _nobody_moves(model, old, changed)
    return made(model, "rename", changed, dry=dry)


def _nobody_moves(model: Model, old: str, changed: dict[str, str]) -> None:
    """Refuse a name where rules that make it of attributes would go on with the old one."""
    try:
        after = Model(edits.try_out(model.files, changed), model.today)
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
