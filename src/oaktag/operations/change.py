"""``pin``, ``unpin``, ``rename`` and ``groups --number``: changes shown as a diff, then written."""

from __future__ import annotations

from oaktag.core.addresses import parse_prefix
from oaktag.core.groups import GROUP_ID
from oaktag.errors import UsageError, WorkspaceError
from oaktag.operations.documents import Document, document
from oaktag.operations.groups import numbered
from oaktag.operations.model import Model
from oaktag.workspace import edits
from oaktag.workspace.assignments_file import FILE as ASSIGNMENTS


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
    return made(model, "pin", {ASSIGNMENTS: edits.with_pin(text, fields)}, dry=dry)


def unpin(model: Model, who: str, *, dry: bool) -> Document:
    """Take the pin of an endpoint or a prefix out.

    Raises:
        UsageError: it is not pinned.
    """
    given = model.files.assignments
    lines = [p.location.line for p in given.pins if p.endpoint == who]
    prefix: str | None = None
    if not lines:
        try:
            prefix = str(parse_prefix(who))
        except ValueError:
            prefix = None
        lines = [p.location.line for p, _ in given.prefix_pins if str(p.prefix) == prefix]
    if not lines:
        raise UsageError(f"{who!r} is not pinned in {ASSIGNMENTS}")
    text = model.files.folder.text(ASSIGNMENTS)
    changed = edits.without_pin(text, lines[0], prefix)
    return made(model, "unpin", {ASSIGNMENTS: changed}, dry=dry)


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
    return made(model, "rename", edits.renamed(model.files, old, new), dry=dry)
