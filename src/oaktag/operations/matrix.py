"""``matrix``: every cell, or those of some sources and destinations."""

from __future__ import annotations

from oaktag.operations.cell import allowed_text
from oaktag.operations.documents import Document, document
from oaktag.operations.model import Model


def matrix(model: Model, source: str | None = None, destination: str | None = None) -> Document:
    """All cells, with the distinct contents that they share.

    Cells of one content have one number in ``forms``; form 0 allows nothing.

    Raises:
        UsageError: an unknown name.
    """
    every = tuple(range(len(model.groups)))
    rows = every if source is None else model.groups_of(model.end(source))
    columns = every if destination is None else model.groups_of(model.end(destination))
    cells = [(s, d) for s in rows for d in columns]
    painted = model.matrix.action_form, model.matrix.would_form
    used: dict[int, int] = {}
    for cell in cells:
        for form in (int(painted[0][cell]), int(painted[1][cell])):
            used[form] = used.get(form, 0) + 1
    order = sorted(used, key=lambda f: (model.matrix.forms[f] != 0, -used[f], f))
    number = {form: n for n, form in enumerate(order)}
    return document(
        "matrix",
        sources=[model.group_json(g) for g in rows],
        destinations=[model.group_json(g) for g in columns],
        forms=[{"form": n, "allows": allowed_text(model, f)} for f, n in number.items()],
        cells=[
            {
                "source": model.groups.all[s].id,
                "destination": model.groups.all[d].id,
                "form": number[int(painted[0][s, d])],
                "would_form": number[int(painted[1][s, d])],
            }
            for s, d in cells
        ],
    )
