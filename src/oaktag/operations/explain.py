"""``explain``: all that is known about an endpoint, an address, a prefix, a group or a tag."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np

from oaktag.core.addresses import WIDTH, Prefix, address_text, parse_prefix
from oaktag.core.question_words import End
from oaktag.errors import UsageError
from oaktag.operations.bindings import row_json
from oaktag.operations.cell import allowed_text
from oaktag.operations.json_parts import Document
from oaktag.operations.members import endpoint_json
from oaktag.operations.model import Model
from oaktag.operations.result import ABSENT, Result, Row
from oaktag.operations.whose import at_address
from oaktag.workspace.times import instant_text


@dataclass(frozen=True, eq=False, repr=False)
class Explained(Result):
    """All that is known about one thing: an endpoint, address, prefix, group or set (``kind``)."""

    what: str
    kind: str
    endpoint: Row = field(default=ABSENT)
    attributes: list[Row] = field(default=ABSENT)
    places: list[Row] = field(default=ABSENT)
    prefix: str = field(default=ABSENT)
    segment: str | None = field(default=ABSENT)
    endpoints: list[str] = field(default=ABSENT)
    inside: list[Row] = field(default=ABSENT)
    group: str = field(default=ABSENT)
    tag: int = field(default=ABSENT)
    hexadecimal: str = field(default=ABSENT)
    members: list[str] = field(default=ABSENT)
    sets: list[str] = field(default=ABSENT)
    groups: list[str] = field(default=ABSENT)
    bindings: list[Row] = field(default=ABSENT)
    addressed: list[Row] = field(default=ABSENT)
    policies: list[Row] = field(default=ABSENT)
    command: ClassVar[str] = "explain"
    table: ClassVar[str] = "bindings"


_HARDWARE = re.compile(r"[0-9a-f]{12}")


def explain(model: Model, what: str) -> Explained:
    """Everything about one thing.

    Args:
        model: the workspace.
        what: a name, an address or prefix, a hardware address in any usual writing, or a tag in
            decimal or hexadecimal.

    Raises:
        UsageError: nothing of the kind is known; the closest names are given.
    """
    row = _by_hardware(model, what)
    if row is not None:
        return _endpoint(model, what, row)
    prefix = _prefix(what)
    if prefix is not None and what not in model.files.endpoints.index:
        return _address(model, what, prefix)
    end = model.end(what, places=True)
    if end.kind == "endpoint":
        return _endpoint(model, what, end.endpoint)
    if end.kind == "set":
        names = [model.groups.all[g].id for g in end.groups]
        return Explained(what=what, kind="set", groups=names)
    if end.kind in ("node", "segment", "site"):
        raise UsageError(_elsewhere(model, end))
    return _group(model, what, end.groups[0])


def _elsewhere(model: Model, end: End) -> str:
    """What to ask of a place, about which there is nothing here."""
    told = f"{end.word} is a {end.kind}, no endpoint, address or tag; "
    if end.kind != "node":
        return f"{told}oaktag reach --from {end.word} says how who is there fares"
    addresses = [address_text(a.family, a.start) for a in model.network.nodes[end.word].addresses]
    own = f", and oaktag explain {addresses[0]} what is known of its address" if addresses else ""
    return f"{told}oaktag bindings --at {end.word} shows what it knows{own}"


def _by_hardware(model: Model, what: str) -> int | None:
    if what in model.files.endpoints.index:
        return None
    wanted = _bare(what)
    if wanted is None:
        return None
    found = (row for row, name in enumerate(model.files.endpoints.ids) if _bare(name) == wanted)
    return next(found, None)


def _bare(text: str) -> str | None:
    """The digits of a hardware address (IEEE 802), however they are parted; None for other text."""
    bare = re.sub(r"[:.\- ]", "", text.lower())
    return bare if _HARDWARE.fullmatch(bare) and bare != text.lower()[:0] else None


def _prefix(what: str) -> Prefix | None:
    if not re.search(r"[.:/]", what):
        return None
    try:
        return parse_prefix(what)
    except ValueError as error:
        if "host bits" in str(error):
            raise UsageError(str(error)) from None
        return None


def _endpoint(model: Model, what: str, row: int) -> Explained:
    endpoints = model.files.endpoints
    attributes = [
        {
            "attribute": name,
            "value": list(column.value(row)),
            "source": endpoints.origins[column.origin[row]],
            "confidence": round(float(column.confidence[row]), 6),
        }
        for name, column in endpoints.columns.items()
        if column.codes[row] >= 0
    ]
    mine = model.places.take(model.places.endpoint == row)
    places = [
        {
            "address": str(p.address), "by": p.by, "segment": model.network.segment_of(p.address),
            "since": None if p.since is None else instant_text(p.since),
            "file": p.location.file, "line": p.location.line,
        }
        for p in mine
    ]  # fmt: skip
    return Explained(
        what=what,
        kind="endpoint",
        endpoint=endpoint_json(model, row),
        attributes=attributes,
        places=places,
        bindings=[known for p in mine for known in _known(model, p.address)],
        policies=[_policy(model, max(int(model.assignment.group[row]), 0), "assigned")],
    )


def _address(model: Model, what: str, prefix: Prefix) -> Explained:
    there = model.places.endpoint[model.places.addresses.inside(prefix)].tolist()
    here = [model.files.endpoints.ids[row] for row in there]
    held = model.registry.in_force
    inside = [row_json(model, b) for b in held.take(held.prefixes.inside(prefix))]
    alone = prefix.length == WIDTH[prefix.family]
    told = at_address(model, what, prefix) if alone else None
    return Explained(
        what=what,
        kind="address" if alone else "prefix",
        prefix=str(prefix),
        segment=model.network.segment_of(prefix),
        endpoints=here,
        inside=[] if alone else inside,
        bindings=list(_known(model, prefix)),
        addressed=[told] if told else [],
        policies=[_policy(model, g, why) for g, why in _groups_at(model, prefix).items()],
    )


def _groups_at(model: Model, prefix: Prefix) -> dict[int, str]:
    """The groups of an address or prefix, and by what each: the tag that is bound to it, to parts
    of it, and the endpoints there."""
    found: dict[int, str] = {}
    by_tag = model.groups.by_tag
    number = model.registry.of_prefix(prefix)
    if number >= 0:
        found[by_tag.get(model.registry.bindings[number].tag, 0)] = "bound"
    held = model.registry.in_force
    for tag in np.unique(held.tags[held.prefixes.inside(prefix)]).tolist():
        found.setdefault(by_tag.get(tag, 0), "bound inside")
    for row in model.places.endpoint[model.places.addresses.inside(prefix)].tolist():
        found.setdefault(max(int(model.assignment.group[row]), 0), "of an endpoint there")
    return found or {0: "nothing is bound"}


def _group(model: Model, what: str, group: int) -> Explained:
    given = model.assignment.group
    members = [model.files.endpoints.ids[r] for r in np.flatnonzero(given == group)]
    tag = model.groups.tag(group)
    held = model.registry.in_force
    return Explained(
        what=what,
        kind="group",
        **model.group_json(group),
        hexadecimal=f"{tag:#x}",
        members=members,
        sets=[s for s in model.groups.sets if group in model.groups.members(s)],
        bindings=[row_json(model, b) for b in held.take(np.flatnonzero(held.tags == tag))],
        policies=[_policy(model, group, "asked")],
    )


def _known(model: Model, prefix: Prefix) -> Iterator[Document]:
    """What the registry and each node that has bindings say of an address."""
    tables = {"registry": model.registry}
    tables |= {name: model.knowledge.at(name) for name in model.network.nodes}
    for name, table in tables.items():
        number = table.of_prefix(prefix)
        if number >= 0:
            shown = address_text(prefix.family, prefix.start)
            yield {"at": name, "address": shown, **row_json(model, table.bindings[number])}


def _policy(model: Model, group: int, why: str) -> Document:
    """What a group may reach, and who may reach it: other groups by what is allowed."""
    every = range(len(model.groups))

    def listed(forms: list[int], key: str) -> list[Document]:
        return [
            {key: model.groups.all[other].id, "allows": allowed_text(model, form)}
            for other, form in enumerate(forms)
            if model.matrix.forms[form]
        ]

    return {
        **model.group_json(group),
        "why": why,
        "as_source": listed([model.matrix.form(group, g) for g in every], "destination"),
        "as_destination": listed([model.matrix.form(g, group) for g in every], "source"),
    }
