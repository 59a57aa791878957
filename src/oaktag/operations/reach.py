"""``reach``: do tags reach every point on every path, and what does the network do?"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence

from oaktag.core.classes import Class
from oaktag.core.placement import meet
from oaktag.core.reach import Flow, State
from oaktag.core.services import set_text
from oaktag.errors import UsageError
from oaktag.operations.documents import Document, boxes_json, document
from oaktag.operations.model import Model
from oaktag.operations.replay import Replay

MOST_ROWS = 200_000
#: Above so many pairs of classes of addresses rows are counted, not made.
MOST_PAIRS = 100_000

#: What to do about each reason; {node} is where, {source} and {destination} the segments.
ADVICE = {
    "no-point": "make a node on the path a point, or lead the path over one",
    "direction": "let {node} judge from {source} toward {destination}",
    "inside": "let {node} judge inside the segment",
    "source-unknown": "feed {node} the bindings of {source}",
    "source-wrong": "correct what {node} is told about {source}",
    "destination-unknown": "feed {node} the bindings of {destination}",
    "destination-wrong": "correct what {node} is told about {destination}",
    "no-cell": "widen the scope of {node}",
}


def reach(
    model: Model,
    source: str | None = None,
    destination: str | None = None,
    state: State | None = None,
    *,
    endpoints: bool = False,
    progress: Callable[[str], None] | None = None,
) -> Document:
    """Every (source segment and group) → (destination segment and group) and path, as intended or
    in another state. Where there are very many, ``flows`` holds one row for each cause.

    Raises:
        UsageError: an unknown name.
    """
    from oaktag.operations.expect import hosts_of

    ends = [
        model.hosts if w is None else hosts_of(model, model.end(w)) for w in (source, destination)
    ]
    state = state or model.state
    sources = state.classes(ends[0])
    destinations = sources if ends[1] is ends[0] else state.classes(ends[1])
    if len(sources) * len(destinations) > MOST_PAIRS:
        if endpoints:
            raise UsageError("too many rows to count by endpoint: narrow them by --from and --to")
        return _surveyed(model, state, (sources, destinations), progress)
    flows = list(state.rows(sources, destinations))
    replay = Replay(state, sources, destinations)
    for flow in flows[:MOST_ROWS]:
        replay.check(flow)
    placed = {host.group for host in model.hosts}
    unplaced = [g.id for i, g in enumerate(model.groups.all) if i and i not in placed]
    return document(
        "reach",
        flows=[flow_json(model, f) for f in flows[:MOST_ROWS]],
        unplaced=unplaced,
        summary=summary(model, flows),
        **({"endpoints": _by_endpoint(model, state, sources, destinations)} if endpoints else {}),
    )


def _by_endpoint(
    model: Model, state: State, sources: Sequence[Class], destinations: Sequence[Class]
) -> list[Document]:
    """How many rows leak or break in which an endpoint's own addresses take part, as source and as
    destination; those of none left out, the worst first."""
    counted: dict[int, Counter[str]] = {}
    for a in sources:
        for b in destinations:
            if not any(meet(x, y, model.network) for x in a.hosts for y in b.hosts):
                continue
            for path in state.paths_of(a.host, b.host):
                effect = state.row(a.host, a.tags, b.host, b.tags, path).effect
                for word, side in (("from", a), ("to", b)) if effect != "exact" else ():
                    for endpoint in {h.endpoint for h in side.hosts if h.endpoint >= 0}:
                        counted.setdefault(endpoint, Counter())[f"{effect}s_{word}"] += 1
    names = model.files.endpoints.ids
    words = ("leaks_from", "leaks_to", "breaks_from", "breaks_to")
    rows = [{"endpoint": names[e], **{w: n[w] for w in words}} for e, n in counted.items()]
    return sorted(
        rows, key=lambda r: (-r[words[0]] - r[words[1]], -r[words[2]] - r[words[3]], r["endpoint"])
    )


def _surveyed(
    model: Model,
    state: State,
    ends: tuple[Sequence[Class], Sequence[Class]],
    progress: Callable[[str], None] | None = None,
) -> Document:
    """The same in numbers, for networks of more rows than anybody reads."""
    from oaktag.core.survey import survey

    found = survey(state, *ends, progress)
    replay = Replay(state, *ends)
    for cause in found.causes.values():
        replay.check(cause.example)
    order = sorted(
        found.causes.items(), key=lambda item: (item[0][0] != "leak", -item[1].rows, str(item[0]))
    )
    causes = []
    for (effect, reasons), cause in order:
        said = _cause(model, effect, tuple(reasons), [cause.example])
        said |= {
            "flows": cause.rows, "from_segments": sorted(cause.sources),
            "to_segments": sorted(cause.destinations),
        }  # fmt: skip
        causes.append(said)
    placed = {host.group for host in model.hosts}
    return document(
        "reach",
        flows=[flow_json(model, cause.example) for _, cause in order],
        unplaced=[g.id for i, g in enumerate(model.groups.all) if i and i not in placed],
        summary={
            "effects": dict(found.effects), "results": dict(found.results), "causes": causes,
        },
    )  # fmt: skip


def flow_json(model: Model, flow: Flow) -> Document:
    """One row."""

    def end(place: tuple[str, int]) -> Document:
        return {"segment": place[0], "group": model.groups.all[place[1]].id}

    packets: list[Document] = []
    words: list[str] = []
    for effect, masks in (("leak", flow.leaks), ("break", flow.breaks)):
        for family, mask in masks.items():
            regions = model.atoms.regions(mask & model.atoms.of_family(family))
            packets += [
                {"effect": effect, **box} for box in boxes_json(regions) if box["family"] == family
            ]
        if any(masks.values()):
            words.append(f"{effect} {_services(model, masks)}")
    return {
        "source": end(flow.source),
        "destination": end(flow.destination),
        "path": list(flow.path.nodes) if flow.path else [],
        "links": [link.name for link in flow.path.links] if flow.path else [],
        "paths": flow.ways if flow.path else 0,
        "result": flow.result,
        "at": flow.at,
        "reasons": [{"node": r.node, "why": r.why} for r in flow.reasons],
        "amiss": [{"node": r.node, "why": r.why} for r in flow.amiss],
        "effect": flow.effect,
        "packets": packets,
        "packets_text": "; ".join(words),
        "open_for_answers": flow.open_for_answers,
    }


def _services(model: Model, masks: Mapping[int, int]) -> str:
    """Packets as services; of rows of one family the family is not said."""
    atoms = model.atoms
    held = {f: mask & atoms.of_family(f) for f, mask in masks.items() if mask}
    if all(mask == atoms.of_family(f) for f, mask in held.items()):
        return "any"
    said = set_text(atoms, sum(held.values()))
    return said.replace(f" on IPv{next(iter(held))}", "") if len(held) == 1 else said


def summary(model: Model, flows: list[Flow]) -> Document:
    """Counts, and rows with one cause as one, the worst first."""
    causes: dict[tuple[str, tuple[tuple[str | None, str], ...]], list[Flow]] = {}
    for flow in flows:
        if flow.effect != "exact":
            causes.setdefault((flow.effect, flow.causes), []).append(flow)
    order = sorted(
        causes.items(), key=lambda item: (item[0][0] != "leak", -len(item[1]), str(item[0]))
    )
    return {
        "effects": dict(Counter(f.effect for f in flows)),
        "results": dict(Counter(f.result for f in flows)),
        "causes": [_cause(model, effect, reasons, rows) for (effect, reasons), rows in order],
    }


def _cause(
    model: Model,
    effect: str,
    reasons: tuple[tuple[str | None, str], ...],
    flows: list[Flow],
) -> Document:
    first = flows[0]
    advice = ""
    if reasons:
        node, why = reasons[-1]
        advice = ADVICE[why].format(
            node=node, source=first.source[0], destination=first.destination[0]
        )
        if why == "source-unknown" and first.path is not None and first.path.nodes[0] != node:
            advice += ", or let frames carry the tag to it"
    names = model.groups.all
    return {
        "effect": effect,
        "reasons": [{"node": n, "why": w} for n, w in reasons],
        "flows": len(flows),
        "from_segments": sorted({f.source[0] for f in flows}),
        "to_segments": sorted({f.destination[0] for f in flows}),
        "example": f"{names[first.source[1]].id} in {first.source[0]} → "
        f"{names[first.destination[1]].id} in {first.destination[0]}",
        "advice": advice,
    }
