"""``set``, ``grant`` and ``revoke``: lines changed, shown with all that follows, then written."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from typing import NamedTuple

from oaktag.core.amendment import allowed_in, smallest
from oaktag.core.lines import Action
from oaktag.core.question_words import End
from oaktag.core.service_text import parse_asked
from oaktag.core.services import parse_service
from oaktag.errors import UsageError
from oaktag.located import Location
from oaktag.near import perhaps
from oaktag.operations.change import Change, made
from oaktag.operations.compare import said, selected
from oaktag.operations.json_parts import Document
from oaktag.operations.members import endpoint_json
from oaktag.operations.model import Model
from oaktag.workspace import csv_edits, yaml_edits

PERMISSIONS = "permissions.yaml"
#: What an empty cell means.
EMPTY = {"mode": "enforce", "way": "to"}


def set_line(
    model: Model,
    source: str,
    destination: str,
    permission: str,
    fields: Mapping[str, str],
    layer: str | None = None,
    *,
    write: bool,
    anyway: bool = False,
) -> Change:
    """Give a pair a permission: in the line that speaks of just this pair, or in a new one.

    Raises:
        UsageError: an unknown name, several such lines, or a change that is refused.
    """
    _known(model, permission, [p.name for p in model.files.policy.permissions], "permission")
    policy = model.files.policy
    if layer is not None:
        layer = next((n for n in policy.layers if n.split("/")[-1] == layer or n == layer), layer)
        _known(model, layer, list(policy.layers), "layer")
    held = [
        line for line in model.lines
        if (line.source, line.destination) == (source, destination)
        and layer in (None, policy.layers[line.layer])
    ]  # fmt: skip
    if len(held) > 1:
        places = ", ".join(str(line.location) for line in held)
        raise UsageError(f"several lines speak of {source} → {destination}: {places}; use --layer, "
                         "or --where 'line=…, layer=…'")  # fmt: skip
    fields = {"permission": permission, **fields}
    if held:
        place = held[0].location
        text = csv_edits.with_cells(model.files.folder.text(place.file), place.line, fields)
        return made(model, "set", {place.file: text}, write=write, anyway=anyway, about=place)
    name = layer or home_of(model, source, destination)
    fields = {
        "source": source,
        "destination": destination,
        "mode": "enforce",
        "way": "to",
        **fields,
    }
    text = csv_edits.with_line(model.files.folder.text(name), fields, file=name)
    about = Location(name, 0)
    return made(model, "set", {name: text}, write=write, anyway=anyway, about=about)


def set_many(
    model: Model, where: str, fields: Mapping[str, str], *, write: bool, anyway: bool = False
) -> Change:
    """Change all lines that ``where`` selects.

    Raises:
        UsageError: nothing is selected or to be changed, or the change is refused.
    """
    if not fields:
        raise UsageError("say what to change: --mode, --permission, --expires, --owner, --note")
    if "permission" in fields:
        names = [p.name for p in model.files.policy.permissions]
        _known(model, fields["permission"], names, "permission")
    changed: dict[str, str] = {}
    numbers = selected(model, where)
    if not numbers:
        raise UsageError(f"no line is like {where!r}")
    for number in numbers:
        line = model.lines[number]
        place = line.location
        needed = {
            k: v for k, v in fields.items() if said(model, line, k) != (v or EMPTY.get(k, ""))
        }
        if needed:
            text = changed.get(place.file) or model.files.folder.text(place.file)
            changed[place.file] = csv_edits.with_cells(text, place.line, needed)
    return made(model, "set", changed, write=write, anyway=anyway)


def home_of(model: Model, source: str, destination: str) -> str:
    """The layer for a new line: the last that speaks of the destination, or of the source, by
    name; else the last one."""
    layers = model.files.policy.layers
    for end, word in (("destination", destination), ("source", source)):
        found = [line.layer for line in model.lines if getattr(line, end) == word]
        if found:
            return layers[max(found)]
    return layers[-1]


def _known(model: Model, word: str, names: list[str], kind: str) -> None:
    if word not in names:
        hint = perhaps(word, names, f"there are {', '.join(names[:8])}")
        raise UsageError(f"there is no {kind} {word!r}; {hint}")


class Granted(NamedTuple):
    """A change that allows, or ends, just what was asked: the files then; the model that it was
    worked out on, and the ends."""

    changed: dict[str, str]
    model: Model
    ends: list[End]


def grant(
    model: Model,
    source: str,
    destination: str,
    service: str,
    fields: Mapping[str, str],
    *,
    action: Action = "allow",
    write: bool,
    anyway: bool = False,
) -> Change:
    """The smallest change that allows just this (or, with ``deny``, ends it), and what follows.

    Raises:
        UsageError: an unknown name or service, a set, or no single line does it.
    """
    command = "grant" if action == "allow" else "revoke"
    found = granted(model, source, destination, service, fields, action)
    shown = made(model, command, found.changed if found else {}, write=write, anyway=anyway)
    if found is None:
        done = "allowed" if action == "allow" else "denied"
        told = f"{service} is {done} there already"
        return replace(shown, already=told, others=[], alone=None)
    others = _others(found.model, found.ends)
    return replace(shown, already=None, others=others, alone=None)


def granted(
    model: Model,
    source: str,
    destination: str,
    service: str,
    fields: Mapping[str, str],
    action: Action,
) -> Granted | None:
    """The files with the smallest change that allows or ends just this; None where it is so.

    Raises:
        UsageError: as ``grant``.
    """
    model.matrix.square()  # what else would change is asked of all cells
    own = model.files.permissions.services
    boxes = parse_asked(service, own)
    fine = model.cut_along(boxes)
    ends = [fine.end(word) for word in (source, destination)]
    if action == "allow":
        _somebody(fine, ends)
    names = _line_word(fine, ends[0]), _line_word(fine, ends[1])
    sides = [fine.groups.members(name) for name in names]
    mask = fine.atoms.mask(boxes)
    wanted = mask if action == "allow" else 0
    cells = [(s, d) for s in sides[0] for d in sides[1]]
    if all(allowed_in(fine.matrix, cell) & mask == wanted for cell in cells):
        return None
    home = model.files.policy.layers.index(home_of(model, *names))
    change = smallest(fine.matrix, names, boxes, action, [home])
    if change is None:
        raise UsageError(f"no single line does that; oaktag cell {' '.join(names)} shows "
                         "which lines decide")  # fmt: skip
    root = model.files.folder
    changed: dict[str, str] = {}
    if change.without is not None:
        place = model.lines[change.without].location
        changed[place.file] = csv_edits.without_line(root.text(place.file), place.line)
    else:
        name, added = _permission(fine, action, mask, service)
        if added:
            text = root.text(PERMISSIONS)
            changed[PERMISSIONS] = yaml_edits.with_permission(text, name, action, added)
        layer = model.files.policy.layers[change.layer]
        before = None if change.before is None else model.lines[change.before].location.line
        row = {"source": names[0], "destination": names[1], "permission": name, "mode": "enforce",
               "way": "to", **fields}  # fmt: skip
        changed[layer] = csv_edits.with_line(root.text(layer), row, before, file=layer)
    return Granted(changed, fine, ends)


def place_of(row: Document) -> str:
    """Where something stands, as file and line."""
    return f"{row['file']}:{row['line']}"


def _somebody(model: Model, ends: list[End]) -> None:
    """Refuse to open to everybody untagged where one endpoint or address is meant."""
    for end in ends:
        if end.kind not in ("endpoint", "address") or model.one_group(end.word):
            continue
        near: list[Document] = []
        if end.kind == "endpoint":
            near = endpoint_json(model, end.endpoint)["near"]
        told = (
            f"; nearly it is in {near[0]['group']} ({near[0]['file']}:{near[0]['line']})"
            if near
            else ""
        )
        raise UsageError(
            f"{end.word} is in no group, and what is granted to it is granted to all untagged; "
            f"assign it first: oaktag pin {end.word} --to GROUP{told}"
        )


def _permission(model: Model, action: Action, mask: int, service: str) -> tuple[str, list[str]]:
    """A permission that does just this: one that is there, or a name and entries for a new one."""
    for number, permission in enumerate(model.files.policy.permissions):
        steps = model.matrix.effects[number].steps
        same = {m for a, m in steps if a == action}
        plain = permission.otherwise is None and all(
            not (e.log or e.answer) for e in permission.entries
        )
        if plain and len(steps) == 1 and same == {mask}:
            return permission.name, []
    taken = {p.name for p in model.files.policy.permissions}
    slug = re.sub(r"[^a-z0-9]+", "-", service.lower()).strip("-") or "some"
    base = f"only-{slug}" if action == "allow" else f"no-{slug}"
    name = next(n for n in (base, *(f"{base}-{k}" for k in range(2, 999))) if n not in taken)
    services = service.split(", ")
    for word in services:
        try:
            parse_service(word, model.files.permissions.services)
        except UsageError:
            raise UsageError(
                f"{word!r} is no service that a permission can name; write the entry into "
                f"{PERMISSIONS} by hand, and give it with oaktag set"
            ) from None
    return name, [yaml_edits.quoted(s) if "," in s else s for s in services]


def _line_word(model: Model, end: End) -> str:
    """The word by which a line speaks of an end: a set or ``*`` as it is, else its group.

    Raises:
        UsageError: it is several groups that no one word stands for.
    """
    if end.kind == "set":
        return end.word
    return model.groups.all[model.one_group(end.word)].id


def _others(model: Model, ends: list[End]) -> list[Document]:
    """Who else is in the groups, where one endpoint or address was named."""
    rows: list[Document] = []
    for end, side in zip(ends, ("source", "destination"), strict=True):
        if end.kind not in ("endpoint", "address"):
            continue
        group = model.one_group(end.word)
        names = [
            model.files.endpoints.ids[row]
            for row, g in enumerate(model.assignment.group.tolist())
            if max(g, 0) == group and (end.kind != "endpoint" or row != end.endpoint)
        ]
        rows.append({"side": side, "group": model.groups.all[group].id, "endpoints": names})
    return rows
