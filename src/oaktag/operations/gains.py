"""Who gains and who loses between two versions, in names: rows for ``compare`` and for every
command that changes files."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from oaktag.core.gain_and_loss import Being, Cause, Found, Kind, Row, compare_people
from oaktag.core.packets import Atoms, exchanged
from oaktag.core.service_text import set_words
from oaktag.operations.json_parts import Document
from oaktag.operations.members import Members, moves
from oaktag.operations.model import Model

#: So many ends of a row are named.
NAMED = 50
#: What every comparison has of people.
FIELDS = ("affected", "gained", "lost", "new", "gone", "same_access")

#: Nobody gains and nobody loses.
NOBODY: Document = {
    "gain": {"endpoints": 0, "segments": 0}, "lose": {"endpoints": 0, "segments": 0}
}  # fmt: skip


def together(was: Model, now: Model) -> tuple[Model, Model]:
    """Both models over one cut of the packet space, so that their forms can be compared."""
    pair = Model(was.files, was.today, was), Model(now.files, now.today, now)
    boxes = [box for model in pair for box in model.boxes()]
    stateless = any(not p.stateful for m in pair for p in m.network.points.values())
    atoms = Atoms([*boxes, *exchanged(boxes)] if stateless else boxes)
    for model, held in zip(pair, (was, now), strict=True):
        model.recut(held, atoms)
    return pair


def moved_since(model: Model, other: Model) -> Members:
    """Who moved since another version of the workspace, and who gains and loses by all that
    differs."""
    return Members(moved=moves(model, other), **people(*together(other, model)))


def people(was: Model, now: Model) -> Document:
    """Who gains, who loses, who is new or gone, and who moved and may do the same as before.

    Args:
        was, now: two versions over the same atoms.
    """
    found = compare_people(was, now)
    return {
        "affected": {"gain": _affected(found, found.gained), "lose": _affected(found, found.lost)},
        "gained": [_row(now, found, row) for row in found.gained],
        "lost": [_row(now, found, row) for row in found.lost],
        "new": _known_once(now, found.new.tolist()),
        "gone": _known_once(was, found.gone.tolist()),
        "same_access": _same_access(was, now, found),
    }


def _affected(found: Found, rows: Sequence[Row]) -> Document:
    """How many endpoints and nodes send in some rows, and on how many segments unknown hosts do."""
    kinds = [found.kinds[n] for n in dict.fromkeys(n for row in rows for n in row.sources)]
    known = np.unique(np.concatenate([np.empty(0, np.int64), *(k.endpoints for k in kinds)]))
    nodes = {b.name for k in kinds for b in k.beings if b.kind == "node"}
    segments = {b.name for k in kinds for b in k.beings if b.kind == "unknown"}
    return {"endpoints": len(known) + len(nodes), "segments": len(segments)}


def _row(model: Model, found: Found, row: Row) -> Document:
    sources, destinations = (
        _ends(model, [found.kinds[n] for n in side]) for side in (row.sources, row.destinations)
    )
    return {
        "sources": sources[:NAMED],
        "source_count": len(sources),
        "destinations": destinations[:NAMED],
        "destination_count": len(destinations),
        "packets": set_words(model.atoms, row.packets),
        "packets_text": model.text(row.packets),
        "cause": _cause(row.cause),
    }


def _ends(model: Model, kinds: Sequence[Kind]) -> list[str | Document]:
    """All beings of some kinds: endpoints in file order, nodes, then unknown hosts."""
    ids = model.files.endpoints.ids
    rows = np.unique(np.concatenate([np.empty(0, np.int64), *(k.endpoints for k in kinds)]))
    beings: dict[Being, None] = {being: None for kind in kinds for being in kind.beings}
    nodes = dict.fromkeys(b.name for b in beings if b.kind == "node")
    unknown: list[Document] = [
        {"segment": b.name, "group": b.group} for b in beings if b.kind == "unknown"
    ]
    return [*(ids[row] for row in rows.tolist()), *nodes, *unknown]


def _cause(cause: Cause) -> Document:
    place: Document = {"file": cause.location.file, "line": cause.location.line}
    if cause.kind != "move":
        return {"kind": cause.kind, **place}
    moved = {
        "endpoint": cause.endpoint, "count": cause.movers, "was": cause.was, "is": cause.now
    }  # fmt: skip
    return {"kind": cause.kind, **moved, **place}


def _known_once(model: Model, rows: Sequence[int]) -> list[Document]:
    """Endpoints that one version alone knows, by group, with what they may reach there."""
    by_group: dict[int, list[int]] = {}
    for row in rows:
        by_group.setdefault(max(int(model.assignment.group[row]), 0), []).append(row)
    ids, matrix = model.files.endpoints.ids, model.matrix
    told: list[Document] = []
    for group, members in sorted(by_group.items()):
        reached: dict[int, list[str]] = {}
        for other in range(len(model.groups)):
            form = matrix.form(group, other)
            if matrix.forms[form]:
                reached.setdefault(form, []).append(model.groups.all[other].id)
        told.append(
            {
                "endpoints": [ids[row] for row in members[:NAMED]],
                "count": len(members),
                **model.group_json(group),
                "obtains": [
                    {
                        "destinations": names,
                        "packets": set_words(model.atoms, matrix.forms[form]),
                        "packets_text": model.text(matrix.forms[form]),
                    }
                    for form, names in reached.items()
                ],
            }
        )
    return told


def _same_access(was: Model, now: Model, found: Found) -> list[Document]:
    """Endpoints in another group that neither gain nor lose, nor does anybody toward them."""
    touched = {n for row in (*found.gained, *found.lost) for n in (*row.sources, *row.destinations)}
    ids = now.files.endpoints.ids
    told: list[Document] = []
    for number, kind in enumerate(found.kinds):
        names = [
            "|".join(m.groups.all[g].id for g in groups)
            for m, groups in ((was, kind.was), (now, kind.now))
        ]
        if number in touched or names[0] == names[1] or not len(kind.endpoints):
            continue
        told.append(
            {
                "was": names[0], "is": names[1], "count": len(kind.endpoints),
                "endpoints": [ids[row] for row in kind.endpoints[:NAMED].tolist()],
            }
        )  # fmt: skip
    return told
