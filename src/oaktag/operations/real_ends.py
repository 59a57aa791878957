"""``callers --real``, ``callees --real``: who really reaches whom, over which paths; who does by a
leak or without answers, and who does not though it is allowed. Host by host, told by group."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar, Literal

from oaktag.core.getting_through import Fates, causes_of, cut_for_answers, fates
from oaktag.core.placement import Host
from oaktag.core.reach import Reason
from oaktag.core.service_text import parse_asked
from oaktag.operations.ends import hosts_of
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row

How = Literal["as meant", "by a leak", "without its answer", "not, though allowed"]
HOWS: tuple[How, ...] = ("as meant", "by a leak", "without its answer", "not, though allowed")
#: So many endpoints of a row are named.
NAMED = 50


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
    asked = () if service is None else parse_asked(service, model.files.permissions.services)
    model = cut_for_answers(model, asked)
    mask = model.atoms.mask(asked) if asked else model.atoms.full
    mine = hosts_of(model, model.end(word, places=True))
    callers = command == "callers"
    sides = (model.ends, mine) if callers else (mine, model.ends)
    groups: dict[tuple[int, How], _Group] = {}
    for one in fates(model, *sides):
        for how, packets in zip(
            HOWS, (one.through, one.leaks, one.unanswered, one.dropped), strict=True
        ):
            if packets & mask:
                other = one.a if callers else one.b
                key = other.host.group, how
                if key not in groups:
                    groups[key] = _Group(one, causes_of(model, _of_one(one, how)))
                groups[key].packets |= packets & mask
                groups[key].hosts.update(dict.fromkeys(other.hosts))
    order = sorted(groups, key=lambda k: (HOWS.index(k[1]), k[0]))
    return RealEnds(
        command=f"{command} real",
        asked=word,
        service=service or "any",
        ends=[_row(model, *key, groups[key]) for key in order],
    )


@dataclass
class _Group:
    """What is found of one group: the first pair of classes, why, all packets and hosts."""

    first: Fates
    reasons: tuple[Reason, ...]
    packets: int = 0
    hosts: dict[Host, None] = field(default_factory=dict)


def _of_one(one: Fates, how: How) -> Fates:
    """Only that of what becomes of packets that one answer speaks of."""
    return one._replace(
        leaks=one.leaks if how == "by a leak" else 0,
        dropped=one.dropped if how == "not, though allowed" else 0,
        unanswered=one.unanswered if how == "without its answer" else 0,
    )


def _row(model: Model, group: int, how: How, found: _Group) -> Row:
    ids = model.files.endpoints.ids
    known = {ids[h.endpoint] if h.endpoint >= 0 else h.node for h in found.hosts
             if h.endpoint >= 0 or h.own}  # fmt: skip
    places = dict.fromkeys(h.node if h.own else h.segment or h.node for h in found.hosts)
    unknown = dict.fromkeys(h.segment for h in found.hosts if h.endpoint < 0 and not h.own)
    path = found.first.path
    return {
        "group": model.groups.all[group].id,
        "how": how,
        "count": len(known),
        "endpoints": sorted(known)[:NAMED],
        "unknown_in": list(unknown),
        "segments": list(places),
        "path": [] if path is None else list(path.nodes),
        "reasons": [{"node": r.node, "why": r.why} for r in found.reasons],
        "packets_text": model.text(found.packets),
    }
