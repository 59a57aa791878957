"""What the network does otherwise than before, for ``compare`` and for whoever changes files."""

from __future__ import annotations

from collections import Counter

from oaktag.core.comparison import renamed
from oaktag.core.network_change import Changed, changes
from oaktag.core.service_text import regions_text
from oaktag.operations.accepting import Accepting
from oaktag.operations.advice import words
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.reach import FEW_PAIRS, services

#: In networks of more, causes are counted and no row is made; of more endpoints they are not even
#: placed, where causes are not to be counted.
MOST_PAIRS, MOST_ENDPOINTS = 4 * FEW_PAIRS, 200_000


def network(was: Model, now: Model, *, count: bool) -> Document:
    """Leaks, breaks, one-way and cut-off pairs that are new, then those that are over.

    Args:
        was, now: two versions over the same atoms, see ``compare.together``.
        count: in networks of very many pairs count them by cause; else they are not followed.

    Returns:
        ``network``, the rows, and ``not_followed``, why there are none.
    """
    endpoints = max(len(m.files.endpoints) for m in (was, now))
    if endpoints > MOST_ENDPOINTS and not count:
        return _not_followed(f"{endpoints:,} endpoints")
    pairs = max(len(m.state.classes(m.hosts)) ** 2 for m in (was, now))
    if pairs > MOST_PAIRS and not count:
        return _not_followed(f"{pairs:,} pairs of addresses")
    rows = _in_numbers(was, now) if pairs > MOST_PAIRS else _rows(was, now)
    return {"network": rows, "not_followed": ""}


def _not_followed(what: str) -> Document:
    told = f"what the network does of {what}: oaktag compare counts it"
    return {"network": [], "not_followed": told}


def _rows(was: Model, now: Model) -> list[Document]:
    new = renamed(was.groups, now.groups)
    names = (
        lambda g: new.get(was.groups.all[g].id, was.groups.all[g].id),
        lambda g: now.groups.all[g].id,
    )
    if was.same_places(now):  # packets take the same ways, and meet the same points
        before, after = was.state.wrong_flows_under(was.hosts, now.matrix)
    else:
        before, after = (m.state.wrong_flows(m.hosts) for m in (was, now))
    found = changes(before, after, names)
    accepting = Accepting(was), Accepting(now)
    return [_row((was, now)[c.new], c, accepting[c.new]) for c in found]


def _row(model: Model, change: Changed, accepting: Accepting) -> Document:
    flow = change.flow
    if change.what == "one-way":
        packets = regions_text(change.lost, model.named)
    else:
        packets = services(model, change.masks) if change.masks else "any"
    (a, source), (b, destination) = change.ends
    return {
        "effect": change.what,
        "new": change.new,
        "flows": 1,
        "source": {"segment": a, "group": source},
        "destination": {"segment": b, "group": destination},
        "packets_text": packets,
        "path": list(flow.path.nodes) if flow.path else [],
        "why": words(flow),
        "accepted": accepting.of(flow),
    }


def _in_numbers(was: Model, now: Model) -> list[Document]:
    """Causes that have more rows than before, and those that have fewer."""
    from oaktag.core.reach_counts import count_rows

    counts: list[Counter[tuple[str, str]]] = []
    examples: dict[tuple[str, str], Document] = {}
    for model in (was, now):
        held = model.state.classes(model.ends)
        found = count_rows(model.state, held, held)
        counted: Counter[tuple[str, str]] = Counter()
        every = [((e, words(c.example)), c) for (e, _), c in found.causes.items()]
        if found.cut_off is not None:
            every.append((("cut-off", words(found.cut_off.example)), found.cut_off))
        for key, cause in every:
            counted[key] += cause.rows
            flow, names = cause.example, model.groups.all
            examples[key] = {
                "source": {"segment": flow.source[0], "group": names[flow.source[1]].id},
                "destination": {
                    "segment": flow.destination[0], "group": names[flow.destination[1]].id,
                },
                "packets_text": "", "path": list(flow.path.nodes) if flow.path else [],
            }  # fmt: skip
        counts.append(counted)
    return [
        {"effect": key[0], "new": new, "flows": n, **examples[key], "why": key[1],
         "accepted": False}
        for new, more in ((True, counts[1] - counts[0]), (False, counts[0] - counts[1]))
        for key, n in more.most_common()
    ]  # fmt: skip
