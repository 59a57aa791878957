"""``bindings ADDRESS --taken-by WHO``: what the new owner of an address inherits from the old one,
until each table has caught up."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from oaktag.core.addresses import address_text, parse_address
from oaktag.core.handover import Toward, Wrong, inherited
from oaktag.core.network import REGISTRY
from oaktag.core.placement import Host
from oaktag.errors import UsageError
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row
from oaktag.workspace import edits
from oaktag.workspace.assignments_file import FILE as ASSIGNMENTS
from oaktag.workspace.yaml_edits import with_pins

#: So many late tables are followed one by one.
MOST_TABLES = 100


@dataclass(frozen=True, eq=False, repr=False)
class Handover(Result):
    """Who has an address, who would have it, and what goes wrong while tables are late: all of
    them, and each alone; of very many the first, and ``late`` counts all."""

    address: str
    segment: str
    was: Row
    now: Row
    late: int
    all_late: list[Row]
    tables: list[Row]
    command: ClassVar[str] = "bindings handover"
    shown_by: ClassVar[str] = "handover"
    table: ClassVar[str] = "tables"


def handover(model: Model, address: str, who: str) -> Handover:
    """What the new owner of an address inherits.

    Args:
        model: the workspace.
        address: the address, which must be on a segment.
        who: its new owner: an endpoint or a group, or ``untagged``.

    Raises:
        UsageError: no such address, segment or owner, or the bindings' order lets no pin count.
    """
    try:
        family, number = parse_address(address)
    except ValueError as error:
        raise UsageError(str(error)) from None
    segment = model.network.segment_at(family, number)
    if segment is None:
        raise UsageError(f"{address} is on no segment: nobody follows its packets")
    end = model.end(who)
    groups = model.groups_of(end)
    if len(groups) != 1:
        raise UsageError(f"{who!r} is in no one group; name an endpoint or a group")
    (group,) = groups
    node = model.network.segments[segment].node
    old = model.registry.tag(family, number)
    text = model.files.folder.text(ASSIGNMENTS)
    name = model.groups.all[group].id
    if not group:
        raise UsageError(
            f"what an unknown host obtains there: oaktag describe untagged --in {segment}"
        )
    pin = {"prefix": address_text(family, number), "group": name}
    changed = {ASSIGNMENTS: with_pins(text, [pin])}
    then = Model(edits.try_out(model.files, changed), model.today, model)
    tag = model.groups.tag(group)
    if then.registry.tag(family, number) != tag:
        raise UsageError(
            "binding_order in oaktag.yaml lets other bindings of this address count before a pin; "
            "without knowing how the new one comes, nothing can be told"
        )
    owner = Host(-1, family, number, segment, node, group)
    others = [h for h in model.ends if (h.family, h.address) != (family, number)]
    late = [
        n for n in model.network.nodes
        if model.knowledge.at(n).tag(family, number)
        != then.knowledge.at(n).tag(family, number)
    ]  # fmt: skip
    state, was = then.state, model.knowledge
    every = inherited(state, was, late, owner, others)
    tables = [
        _table(model, then, n, (family, number), inherited(state, was, [n], owner, others))
        for n in late[:MOST_TABLES]
    ]
    held = [h for h in model.hosts if (h.family, h.address) == (family, number) and h.endpoint >= 0]
    return Handover(
        address=address_text(family, number), segment=segment,
        was={
            "endpoint": model.files.endpoints.ids[held[0].endpoint] if held else None,
            "group": model.groups.name(old), "tag": old,
        },
        now={"endpoint": who if end.kind == "endpoint" else None, "group": name, "tag": tag},
        late=len(late),
        all_late=_rows(model, every),
        tables=[row for row in tables if row["inherits"]]
        + [row for row in tables if not row["inherits"]],
    )  # fmt: skip


def _table(
    model: Model, then: Model, node: str, address: tuple[int, int], wrong: dict[Toward, Wrong]
) -> Document:
    family, number = address
    table = then.knowledge.at(node)
    row = int(table.find(family, [number])[0])
    chain = then.knowledge.chain(table.bindings[row], node) or [] if row >= 0 else []
    held = model.network.nodes[node]
    return {
        "node": node,
        "does": [*(["marks"] if held.marks else []), *(["point"] if held.points else [])],
        "from": [REGISTRY, *(feed.receiver for feed in chain)][:-1] if chain else [],
        "inherits": _rows(model, wrong),
    }


def _rows(model: Model, wrong: dict[Toward, Wrong]) -> list[Document]:
    return [
        {
            "direction": way, "other": model.groups.all[other].id,
            "passes_text": model.text(leaks) if leaks else "",
            "dropped_text": model.text(breaks) if breaks else "",
        }
        for (way, other), (leaks, breaks) in sorted(wrong.items(), key=lambda i: (i[0][1], i[0][0]))
    ]  # fmt: skip
