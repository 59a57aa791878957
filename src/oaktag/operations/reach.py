"""``reach``: do tags reach every point on every path, and what does the network do?"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import ClassVar

from oaktag.core.effects import EFFECTS
from oaktag.core.population import Class
from oaktag.core.reach import Flow, Reach, State
from oaktag.core.reach_counts import ReachCounts
from oaktag.core.service_text import regions_text
from oaktag.errors import UsageError
from oaktag.operations.advice import advice
from oaktag.operations.json_parts import Document, boxes_json
from oaktag.operations.model import Model
from oaktag.operations.result import ABSENT, Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Reached(Result):
    """How packets fare between segments and groups, and why; whole up to 200,000 rows."""

    flows: list[Row]
    summary: Row
    unplaced: list[str]
    endpoints: list[Row] = field(default=ABSENT)
    command: ClassVar[str] = "reach"
    table: ClassVar[str] = "flows"

    @property
    def wrong(self) -> int:
        """How many rows leak, break, lose their answers or are cut off, beside what is accepted."""
        effects: dict[str, int] = self.summary["effects"]
        wrong = sum(n for effect, n in effects.items() if effect != "exact")
        return wrong + len(self.summary["cut_off"])


MOST_ROWS = 200_000
#: Up to so many pairs of classes of addresses rows are made at once, not counted first.
FEW_PAIRS = 100_000
#: How packets are written: by effect and masks, as boxes and in words.
Said = dict[tuple[str, tuple[tuple[int, int], ...]], tuple[list[Document], str]]
#: The worst first.
_RANK = {"leak": 0, "break": 1, "one-way": 2, "exact": 3}


def reach(
    model: Model,
    source: str | None = None,
    destination: str | None = None,
    state: State | None = None,
    *,
    endpoints: bool = False,
    progress: Callable[[str], None] | None = None,
) -> Reached:
    """Every (source segment and group) → (destination segment and group) and path, as intended or
    in another state. Above 200,000 rows ``flows`` holds one row for each cause.

    Raises:
        UsageError: an unknown name.
    """
    from oaktag.core.reach_counts import count_rows
    from oaktag.operations.accepting import Accepting
    from oaktag.operations.ends import hosts_of

    ends = [
        model.ends if w is None else hosts_of(model, model.end(w, points=True, places=True))
        for w in (source, destination)
    ]
    state = state or model.state
    sources = state.classes(ends[0])
    destinations = sources if ends[1] is ends[0] else state.classes(ends[1])
    found = None
    accepting = Accepting(model)
    if len(sources) * len(destinations) > FEW_PAIRS:
        found = count_rows(state, sources, destinations, progress, accepting)
    placed = {host.group for host in model.ends}
    rest: Document = {
        "unplaced": [g.id for i, g in enumerate(model.groups.all) if i and i not in placed]
    }
    if found is not None and found.results.total() + found.accepted.total() > MOST_ROWS:
        if endpoints:
            raise UsageError("too many rows to count by endpoint: narrow them by --from and --to")
        return Reached(**_grouped(model, found), **rest)
    flows = list(state.rows(sources, destinations))
    if endpoints:
        rest["endpoints"] = _by_endpoint(model, state, sources, destinations)
    borne = [accepting.of(flow) for flow in flows]
    said: Said = {}
    return Reached(
        flows=[flow_json(model, f, said, accepted=b) for f, b in zip(flows, borne, strict=True)],
        summary=summary(model, flows, borne),
        **rest,
    )


def _by_endpoint(
    model: Model, state: State, sources: Sequence[Class], destinations: Sequence[Class]
) -> list[Document]:
    """How many rows leak, break or lose answers in which an endpoint's own addresses take part, as
    source and as destination; those of none left out, the worst first."""
    counted: dict[int, Counter[str]] = {}
    for row in Reach(state, sources, destinations).by_class():
        effect = EFFECTS[row.outcome.code]
        for word, side in (("from", row.a), ("to", row.b)) if row.outcome.code else ():
            for endpoint in {h.endpoint for h in side.hosts if h.endpoint >= 0}:
                counted.setdefault(endpoint, Counter())[f"{effect}s_{word}"] += 1
    names = model.files.endpoints.ids
    effects = ("leaks", "breaks", "one-ways")
    words = [f"{e}_{w}" for e in effects for w in ("from", "to")]
    rows = [
        {"endpoint": names[e], **{w.replace("-", "_"): n[w] for w in words}}
        for e, n in counted.items()
    ]

    def most(row: Document) -> tuple[int, int, str]:
        leaks, rest = (
            sum(row[w.replace("-", "_")] for w in part) for part in (words[:2], words[2:])
        )
        return -leaks, -rest, row["endpoint"]

    return sorted(rows, key=most)


def _grouped(model: Model, found: ReachCounts) -> Document:
    """The same in numbers, for networks of more rows than anybody reads."""
    order = sorted(
        found.causes.items(),
        key=lambda item: (_RANK[item[0][0]], -item[1].rows, str(item[0])),
    )
    causes = []
    for (effect, reasons), cause in order:
        said = _cause(model, effect, tuple(reasons), [cause.example])
        said |= {
            "flows": cause.rows, "from_segments": sorted(cause.sources),
            "to_segments": sorted(cause.destinations),
        }  # fmt: skip
        causes.append(said)
    off: list[Document] = []
    if found.cut_off is not None:
        said = _off(model, [found.cut_off.example])[0]
        off = [said | {"flows": found.cut_off.rows}]
    return {
        "flows": [flow_json(model, cause.example, {}) for _, cause in order],
        "summary": {
            "cut_off": off, "effects": dict(found.effects), "results": dict(found.results),
            "accepted": dict(found.accepted), "causes": causes, "most": [],
        },
    }  # fmt: skip


def flow_json(model: Model, flow: Flow, said: Said, *, accepted: bool = False) -> Document:
    """One row; ``said`` keeps how packets are written, for rows of equal packets."""

    def end(place: tuple[str, int]) -> Document:
        return {"segment": place[0], "group": model.groups.all[place[1]].id}

    packets: list[Document] = []
    words: list[str] = []
    for effect, masks in (("leak", flow.leaks), ("break", flow.breaks)):
        if any(masks.values()):
            key = effect, tuple(masks.items())
            if key not in said:
                said[key] = _boxes(model, effect, masks), services(model, masks)
            packets += said[key][0]
            words.append(f"{effect} {said[key][1]}")
    for box in boxes_json(flow.unanswered):
        packets.append({"effect": "one-way", **box})
    if flow.unanswered:
        words.append(f"one-way {_unanswered(model, flow)}")
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
        "accepted": accepted,
    }


def _unanswered(model: Model, flow: Flow) -> str:
    """Packets without their answer as services."""
    families = {f for region in flow.unanswered for f in region.families}
    said = regions_text(flow.unanswered, model.named)
    return said if len(families) > 1 else said.replace(f" on IPv{families.pop()}", "")


def _boxes(model: Model, effect: str, masks: Mapping[int, int]) -> list[Document]:
    """Packets of both families as boxes."""
    return [
        {"effect": effect, **box}
        for family, mask in masks.items()
        for box in boxes_json(model.atoms.regions(mask & model.atoms.of_family(family)))
        if box["family"] == family
    ]


def services(model: Model, masks: Mapping[int, int]) -> str:
    """Packets as services; of rows of one family the family is not said."""
    atoms = model.atoms
    held = {f: mask & atoms.of_family(f) for f, mask in masks.items() if mask}
    if all(mask == atoms.of_family(f) for f, mask in held.items()):
        return "any"
    if len(held) == 1:
        ((family, mask),) = held.items()
        return model.text(mask).replace(f" on IPv{family}", "")
    # What both families have stands in atoms of both.
    if held[4] & atoms.of_family(6) == held[6] & atoms.of_family(4):
        return model.text(held[4] | held[6])
    words = [model.text(mask).replace(f" on IPv{f}", "") for f, mask in held.items()]
    return ", ".join(f"{text} on IPv{f}" for f, text in zip(held, words, strict=True))


def summary(model: Model, flows: Sequence[Flow], borne: Sequence[bool] = ()) -> Document:
    """What is cut off, counts, and rows with one cause as one, the worst first. list[Row] that the
    workspace bears are counted apart."""
    borne = borne or [False] * len(flows)
    causes: dict[tuple[str, tuple[tuple[str | None, str], ...]], list[Flow]] = {}
    left = [f for f, b in zip(flows, borne, strict=True) if not b]
    for flow in left:
        if flow.effect != "exact":
            causes.setdefault((flow.effect, flow.causes), []).append(flow)
    order = sorted(
        causes.items(), key=lambda item: (_RANK[item[0][0]], -len(item[1]), str(item[0]))
    )
    return {
        "cut_off": _off(model, [f for f in left if f.cut_off]),
        "effects": dict(Counter(f.effect for f in left)),
        "results": dict(Counter(f.result for f in left)),
        "accepted": dict(
            Counter(
                "cut-off" if f.cut_off else f.effect for f, b in zip(flows, borne, strict=True) if b
            )
        ),
        "causes": [_cause(model, effect, reasons, rows) for (effect, reasons), rows in order],
        "most": _most(f for f in left if f.effect != "exact"),
    }


#: So many segments are named that most of what is wrong has to do with.
MOST_NAMED = 3


def _most(flows: Iterable[Flow]) -> list[Document]:
    """The segments in most of what fares wrong, the worst first."""
    counted: Counter[str] = Counter()
    for flow in flows:
        counted.update({flow.source[0], flow.destination[0]})
    order = sorted(counted.items(), key=lambda item: (-item[1], item[0]))
    return [{"segment": name, "flows": n} for name, n in order[:MOST_NAMED]]


def _watching(flow: Flow) -> str | None:
    """The point that only watches what it should deny, where that is all that is wrong."""
    return flow.at if flow.result == "observed" and not flow.causes else None


def _off(model: Model, flows: Sequence[Flow]) -> list[Document]:
    """Pairs of segments that nothing joins, each once."""
    counted: dict[tuple[str, str], list[Flow]] = {}
    for flow in flows:
        ends = flow.source[0], flow.destination[0]
        counted.setdefault((min(ends), max(ends)), []).append(flow)
    names = model.groups.all
    return [
        {
            "between": list(ends), "flows": len(rows),
            "example": f"{names[rows[0].source[1]].id} in {rows[0].source[0]} → "
            f"{names[rows[0].destination[1]].id} in {rows[0].destination[0]}",
        }
        for ends, rows in sorted(counted.items())
    ]  # fmt: skip


def _cause(
    model: Model,
    effect: str,
    reasons: tuple[tuple[str | None, str], ...],
    flows: Sequence[Flow],
) -> Document:
    first = flows[0]
    names = model.groups.all
    watching = sorted({w for f in flows if (w := _watching(f))})
    told = f"let {', '.join(watching)} enforce, once it may: mode: enforce" if watching else ""
    return {
        "effect": effect,
        "reasons": [{"node": n, "why": w} for n, w in reasons],
        "watching": watching,
        "flows": len(flows),
        "from_segments": sorted({f.source[0] for f in flows}),
        "to_segments": sorted({f.destination[0] for f in flows}),
        "example": f"{names[first.source[1]].id} in {first.source[0]} → "
        f"{names[first.destination[1]].id} in {first.destination[0]}",
        "advice": advice(model, first, reasons[-1]) if reasons else told,
    }
