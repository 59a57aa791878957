"""``describe untagged --in SEGMENT``: what a host that nobody knows obtains there, as the network
really lets packets through."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import reduce
from operator import and_, or_
from typing import ClassVar

from oaktag.core.addresses import address_text
from oaktag.core.getting_through import causes_of, cut_for_answers, fates
from oaktag.core.reach import Reason
from oaktag.core.service_text import set_words
from oaktag.errors import UsageError
from oaktag.near import perhaps
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Newcomer(Result):
    """What a host that nobody knows obtains in a segment: as whom, and what gets through."""

    segment: str
    hosts: list[Row]
    obtains: list[Row]
    command: ClassVar[str] = "describe newcomer"
    shown_by: ClassVar[str] = "newcomer"
    table: ClassVar[str] = "obtains"


def newcomer(model: Model, segment: str) -> Newcomer:
    """What an unknown host obtains.

    Args:
        model: the workspace.
        segment: where it comes to be.

    Raises:
        UsageError: there is no such segment, or it has no address left.
    """
    if segment not in model.network.segments:
        hint = perhaps(segment, model.network.segments)
        raise UsageError(f"there is no segment {segment!r}{hint and f'; {hint}'}")
    hosts = model.newcomers(segment)
    if not hosts:
        raise UsageError(f"no address of {segment} is left for a host that nobody knows")
    model = cut_for_answers(model)
    ids = [g.id for g in model.groups.all]
    found: dict[str, _Obtained] = {}
    newcomers: dict[int, set[int]] = {}
    for one in fates(model, hosts, model.ends):
        family, source = one.a.host.family, id(one.a)
        newcomers.setdefault(family, set()).add(source)
        held = found.setdefault(ids[one.b.host.group], _Obtained())
        held.leaks |= one.leaks
        held.unanswered |= one.unanswered
        key = family, source
        held.by_source[key] = held.by_source.get(key, 0) | one.through | one.leaks
        if one.leaks:
            leaking = one._replace(unanswered=0, dropped=0)
            held.why.update(dict.fromkeys(causes_of(model, leaking)))
    rows = []
    for name in sorted(found, key=model.groups.index.__getitem__):
        held = found[name]
        passes = everywhere = 0
        for family, sources in newcomers.items():
            of_each = [held.by_source.get((family, source), 0) for source in sources]
            passes |= reduce(or_, of_each)
            everywhere |= reduce(and_, of_each)
        unanswered = held.unanswered & ~passes
        if passes or unanswered:
            rows.append(
                {
                    "group": name,
                    "passes": set_words(model.atoms, passes),
                    "passes_text": model.text(passes) if passes else "nothing",
                    "somewhere_text": _text(model, passes & ~everywhere),
                    "unanswered_text": _text(model, unanswered),
                    "leaks_text": _text(model, held.leaks),
                    "why": [{"node": r.node or "", "why": r.why} for r in held.why],
                }
            )
    return Newcomer(
        segment=segment,
        hosts=[
            {"address": address_text(h.family, h.address), **model.group_json(h.group)}
            for h in hosts
        ],
        obtains=rows,
    )


@dataclass
class _Obtained:
    """What newcomers obtain of a group: by class of newcomers what gets through; leaks and why;
    what arrives without its answer."""

    by_source: dict[tuple[int, int], int] = field(default_factory=dict)
    leaks: int = 0
    unanswered: int = 0
    why: dict[Reason, None] = field(default_factory=dict)


def _text(model: Model, packets: int) -> str:
    return model.text(packets) if packets else ""
