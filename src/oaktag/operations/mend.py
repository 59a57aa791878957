"""``reach --mend``: the cheapest changes after which nothing leaks, and writing them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from time import monotonic
from typing import ClassVar

from oaktag.core.judging import Judge
from oaktag.core.knowledge import Knowledge
from oaktag.core.mending import Change, Row, changed, mend, possible
from oaktag.core.paths import Paths
from oaktag.core.prospects import Prospects
from oaktag.core.reach import State
from oaktag.operations.change import made
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.result import Result
from oaktag.workspace import yaml_edits


@dataclass(frozen=True, eq=False, repr=False)
class Mended(Result):
    """The cheapest changes after which nothing leaks, with the diff and what it does."""

    choices: int
    changes: list[Document] | None
    cost: float | None
    proved: bool
    bound: float | None
    tried: int
    hopeless: list[str]
    left: list[str]
    broken: list[str]
    files: list[str]
    diff: str
    written: bool
    affected: Document
    gained: list[Document]
    lost: list[Document]
    new: list[Document]
    gone: list[Document]
    same_access: list[Document]
    cells: list[Document]
    endpoints: list[Document]
    expectations: list[Document]
    network: list[Document]
    not_followed: str
    hidden_by: list[Document]
    overruled: list[Document]
    command: ClassVar[str] = "reach mend"
    shown_by: ClassVar[str] = "mend"
    table: ClassVar[str] = "changes"


FILE = "network.yaml"


def mending(
    model: Model,
    *,
    breaks: bool = False,
    even_if_breaks: bool = False,
    write: bool = False,
    anyway: bool = False,
    seconds: float = 60.0,
    progress: Callable[[str], None] | None = None,
) -> Mended:
    """The cheapest changes, proved or with a bound; written into ``network.yaml`` as asked."""
    every = tuple(range(len(model.groups)))

    def build(changes: Sequence[Change]) -> State:
        network = changed(model.network, changes)
        order = model.files.config.binding_order
        fed = any(c.kind == "feed" for c in changes)
        knowledge = model.knowledge
        if fed:
            knowledge = Knowledge(network, model.registry_bindings, model.learned, order)
        judges = {
            name: Judge(
                point, model.matrix,
                (every, every) if point.scope.kind == "all" else model.scope(point),
            )
            for name, point in network.points.items()
        }  # fmt: skip
        return State(model.matrix, network, Paths(network), knowledge, judges)

    end = monotonic() + seconds
    choices = possible(model.network, model.learned)
    judges = dict(model.state.judges)
    prospects = Prospects(
        model.matrix, model.network, model.paths, model.knowledge, judges, choices
    )
    found = mend(
        choices,
        build,
        model.ends,
        prospects,
        breaks=breaks,
        even_if_breaks=even_if_breaks,
        late=lambda: monotonic() > end,
        progress=progress,
    )
    text = model.files.folder.text(FILE)
    for change in found.changes or ():
        text = written(model, text, change)
    shown = made(
        model, "reach mend", {FILE: text} if found.changes else {}, write=write, anyway=anyway
    )
    return Mended(
        choices=len(choices),
        changes=None if found.changes is None else [
            {
                "kind": c.kind, "what": c.what, "price": c.price,
                "to": c.to if c.kind == "feed" else None,
            }
            for c in found.changes
        ],
        cost=found.cost if found.changes is not None else None,
        proved=found.proved,
        bound=None if found.proved and found.changes is None else found.bound,
        tried=found.tried,
        hopeless=[_told(model, row) for row in found.hopeless],
        left=[_told(model, row) for row in found.left],
        broken=[_told(model, row) for row in found.broken],
        **{key: held for key, held in shown.items() if key not in ("command", "schema")},
    )  # fmt: skip


def _told(model: Model, row: Row) -> str:
    """A row in one phrase."""
    names = model.groups.all
    ends = [f"{names[group].id} in {segment}" for segment, group in row[:2]]
    return f"{ends[0]} → {ends[1]} over {' '.join(row[2])}"


def written(model: Model, text: str, change: Change) -> str:
    """The text of ``network.yaml`` with one change made."""
    match change.kind:
        case "feed":
            return yaml_edits.with_feed(text, change.what, change.to)
        case "link carries":
            return yaml_edits.with_setting(text, "link", int(change.to), "carries", "true")
        case "node carries":
            return yaml_edits.with_setting(text, "node", change.what, "carries", "true")
        case "node marks":
            return yaml_edits.with_setting(text, "node", change.what, "marks", "true")
        case "point":
            return yaml_edits.with_setting(text, "node", change.what, "point", "{inside: true}")
        case "scope" | "inside":
            value = "all" if change.kind == "scope" else "true"
            return _set(model, text, change, change.kind, value)
        case "direction":
            point = model.network.points[change.what]
            for key, held in (("from", point.origins), ("toward", point.targets)):
                if held is not None:
                    text = _set(model, text, change, key, '"*"')
            return text


def _set(model: Model, text: str, change: Change, key: str, value: str) -> str:
    point = model.network.points[change.what]
    path = f"points.{point.name}.{key}" if point.name else f"point.{key}"
    return yaml_edits.with_setting(text, "node", point.node, path, value)
