"""``callers --real``, ``callees --real``: who really reaches whom, over which paths; who does by a
leak, and who does not though it is allowed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

from oaktag.operations.callers import asked_of
from oaktag.operations.expect import hosts_of
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row

How = Literal["as meant", "by a leak", "not, though allowed"]
HOWS: tuple[How, ...] = ("as meant", "by a leak", "not, though allowed")


@dataclass(frozen=True, eq=False, repr=False)
class RealEnds(Result):
    """Groups whose packets really get through, or do not though they are allowed, with the segments
    and a path for example."""

    command: str
    asked: str
    service: str
    ends: list[Row]
    shown_by: ClassVar[str] = "real_ends"
    table: ClassVar[str] = "ends"


def real_ends(
    model: Model, command: Literal["callers", "callees"], word: str, service: str | None = None
) -> RealEnds:
    """Who really reaches a destination (``callers``), or whom a source really reaches.

    Args:
        model: the workspace.
        command: from which end it is asked.
        word: the other end: a group, set, endpoint, address, segment or site.
        service: for what; None for anything.

    Raises:
        UsageError: an unknown name, or no service.
    """
    model, mask = asked_of(model, service)
    mine = hosts_of(model, model.end(word, places=True))
    sides = (model.hosts, mine) if command == "callers" else (mine, model.hosts)
    families: list[dict[tuple[str, int], set[int]]] = [{}, {}]
    for held, side in zip(families, sides, strict=True):
        for host in side:
            held.setdefault((host.segment or host.node, host.group), set()).add(host.family)
    forms, ids = model.matrix.forms, [g.id for g in model.groups.all]
    rows: dict[tuple[str, How], Row] = {}
    for flow in model.state.flows(*sides):
        other = flow.source if command == "callers" else flow.destination
        form = forms[model.matrix.form(flow.source[1], flow.destination[1])]
        both = families[0][flow.source] & families[1][flow.destination]
        for family in sorted(both):
            meant = form & mask & model.atoms.of_family(family)
            leaks, breaks = (of.get(family, 0) & mask for of in (flow.leaks, flow.breaks))
            if flow.path is None:
                leaks, breaks, through = 0, meant, 0
            else:
                through = meant & ~breaks
            told = zip(HOWS, (through, leaks, breaks), strict=True)
            for how, packets in told:
                if packets:
                    key = ids[other[1]], how
                    row = rows.setdefault(
                        key,
                        {
                            "group": key[0], "how": how, "segments": [], "packets": 0,
                            "path": [] if flow.path is None else list(flow.path.nodes),
                            "reasons": [{"node": r.node, "why": r.why} for r in flow.causes],
                        },
                    )  # fmt: skip
                    row["packets"] |= packets
                    if other[0] not in row["segments"]:
                        row["segments"].append(other[0])
    order = sorted(rows, key=lambda k: (HOWS.index(k[1]), ids.index(k[0])))
    return RealEnds(
        command=f"{command} real",
        asked=word,
        service=service or "any",
        ends=[
            row | {"packets_text": model.text(row.pop("packets"))}
            for row in (rows[key] for key in order)
        ],
    )
