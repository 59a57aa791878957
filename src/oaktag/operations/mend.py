"""``reach --mend``: the cheapest changes after which nothing leaks, and writing them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from time import monotonic

from oaktag.core.bindings import Binding
from oaktag.core.judging import Judge
from oaktag.core.knowledge import Knowledge
from oaktag.core.mending import Change, changed, mend, possible
from oaktag.core.network import REGISTRY
from oaktag.core.paths import Paths
from oaktag.core.reach import State
from oaktag.core.registry import learned_bindings
from oaktag.operations.change import made
from oaktag.operations.documents import Document, document
from oaktag.operations.failures import told
from oaktag.operations.model import Model
from oaktag.workspace import edits

FILE = "network.yaml"


def mending(
    model: Model,
    *,
    breaks: bool = False,
    write: bool = False,
    seconds: float = 60.0,
    progress: Callable[[str], None] | None = None,
) -> Document:
    """The cheapest changes, proved or with a bound; written into ``network.yaml`` as asked."""
    learned: dict[str, Sequence[Binding]] = dict(
        learned_bindings(
            model.groups, model.assignment, model.prefix_pins, model.network, model.places
        )
    )
    every = tuple(range(len(model.groups)))

    def build(changes: Sequence[Change]) -> State:
        network = changed(model.network, changes)
        order = model.files.config.binding_order
        fed = any(c.kind == "feed" for c in changes)
        knowledge = model.knowledge
        if fed:
            knowledge = Knowledge(network, model.registry_bindings, learned, order)
        judges = {
            name: Judge(
                point, model.matrix,
                (every, every) if point.scope.kind == "all" else model.scope(point),
            )
            for name, point in network.points.items()
        }  # fmt: skip
        return State(model.matrix, network, Paths(network), knowledge, judges)

    def sent(name: str) -> Sequence[Binding]:
        return model.registry_bindings if name == REGISTRY else learned[name]

    end = monotonic() + seconds
    choices = possible(model.network, learned)
    found = mend(
        choices,
        build,
        model.hosts,
        sent,
        breaks=breaks,
        late=lambda: monotonic() > end,
        progress=progress,
    )
    text = edits.text_of(model.files.root, FILE)
    for change in found.changes or ():
        text = _written(model, text, change)
    shown = made(model, "reach mend", {FILE: text} if found.changes else {}, dry=not write)
    return document(
        "reach mend",
        choices=len(choices),
        changes=None if found.changes is None else [
            {"kind": c.kind, "what": c.what, "to": c.to or None, "price": c.price}
            for c in found.changes
        ],
        cost=found.cost if found.changes is not None else None,
        proved=found.proved,
        bound=None if found.bound == float("inf") else found.bound,
        tried=found.tried,
        hopeless=[told(model, flow) for flow in found.hopeless],
        files=shown["files"], diff=shown["diff"], written=shown["written"],
    )  # fmt: skip


def _written(model: Model, text: str, change: Change) -> str:
    """``network.yaml`` with one change made."""
    match change.kind:
        case "feed":
            return edits.with_feed(text, change.what, change.to)
        case "link carries":
            number = [k.name for k in model.network.links].index(change.what)
            return edits.with_setting(text, "link", number, "carries", "true")
        case "node carries":
            return edits.with_setting(text, "node", change.what, "carries", "true")
        case "node marks":
            return edits.with_setting(text, "node", change.what, "marks", "true")
        case "point":
            return edits.with_setting(text, "node", change.what, "point", "{inside: true}")
        case "scope":
            point = model.network.points[change.what]
            key = f"points.{point.name}.scope" if point.name else "point.scope"
            return edits.with_setting(text, "node", point.node, key, "all")
