"""``describe untagged --in SEGMENT``: what a host that nobody knows obtains there, as the network
really lets packets through."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from oaktag.core.addresses import address_text
from oaktag.core.placement import Host
from oaktag.core.service_text import set_words
from oaktag.errors import UsageError
from oaktag.near import perhaps
from oaktag.operations.expect import at_address
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row

#: So many addresses of a segment are looked at for one that nobody has.
MOST_TRIED = 1 << 16


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
    hosts = list(_free(model, segment))
    if not hosts:
        raise UsageError(f"no address of {segment} is left for a host that nobody knows")
    meant: dict[str, int] = {}
    passes: dict[str, int] = {}
    why: dict[str, dict[tuple[str, str], None]] = {}
    matrix, ids = model.matrix, [g.id for g in model.groups.all]
    for flow in model.state.flows(hosts, model.hosts):
        name = ids[flow.destination[1]]
        form = matrix.forms[matrix.form(flow.source[1], flow.destination[1])]
        meant[name] = meant.get(name, 0) | form
        through = 0
        mine_here = [h for h in hosts if h.group == flow.source[1]]
        for host in mine_here if flow.path is not None else ():
            mine = model.atoms.of_family(host.family) & form
            leaks, breaks = (of.get(host.family, 0) for of in (flow.leaks, flow.breaks))
            through |= (mine | leaks) & ~breaks
        passes[name] = passes.get(name, 0) | through
        if any(flow.leaks.values()):
            causes = [(r.node or "", r.why) for r in flow.causes]
            why.setdefault(name, {}).update(dict.fromkeys(causes))
    rows = []
    for name in meant:
        more = passes[name] & ~meant[name]
        rows.append(
            {
                "group": name,
                "passes": set_words(model.atoms, passes[name]),
                "passes_text": model.text(passes[name]) if passes[name] else "nothing",
                "leaks_text": model.text(more) if more else "",
                "why": [{"node": n, "why": w} for n, w in why.get(name, ())] if more else [],
            }
        )
    return Newcomer(
        segment=segment,
        hosts=[
            {"address": address_text(h.family, h.address), **model.group_json(h.group)}
            for h in hosts
        ],
        obtains=[r for r in rows if r["passes"]],
    )


def _free(model: Model, segment: str) -> Iterator[Host]:
    """Somebody whom nobody knows, one of each family."""
    taken = {(h.family, h.address) for h in model.hosts if h.endpoint >= 0}
    taken |= {(a.family, a.start) for n in model.network.nodes.values() for a in n.addresses}
    seen: set[int] = set()
    for span in model.network.spans[segment]:
        for address in range(span.start + 1, min(span.end, span.start + MOST_TRIED)):
            if span.family not in seen and (span.family, address) not in taken:
                found = at_address(model, span.family, address)
                if found and found[0].endpoint < 0:
                    seen.add(span.family)
                    yield found[0]
                    break
