"""``trace``: one source, one destination, one service: each hop, and the end in one sentence."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from oaktag.core.addresses import address_text
from oaktag.core.judging import answering
from oaktag.core.packets import Packet
from oaktag.core.paths import Path
from oaktag.core.placement import Host, meet
from oaktag.core.population import Class
from oaktag.core.service_text import packet_text, parse_asked
from oaktag.core.tracing import Hop, walk
from oaktag.errors import UsageError
from oaktag.operations.ends import hosts_of
from oaktag.operations.json_parts import Document, packet_json
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Traced(Result):
    """A packet's way over every path, hop by hop; ``hops`` and ``verdict`` are of the worst."""

    source: str
    destination: str
    service: str
    paths: list[Row]
    hops: list[Row]
    verdict: str
    effect: str | None
    command: ClassVar[str] = "trace"
    table: ClassVar[str] = "hops"


FAULTS = {
    "source-unknown": "does not know the source's tag",
    "source-wrong": "sees a wrong source tag",
    "destination-unknown": "does not know the destination's tag",
    "destination-wrong": "sees a wrong destination tag",
    "no-cell": "has no such cell in its list",
    "direction": "does not judge in this direction",
    "inside": "does not judge inside a segment",
}
#: The same of a node's own address.
OWN = "does not judge packets to and from its own address (own: true would)"


def trace(
    model: Model, source: str, destination: str, service: str, *, back: bool = False
) -> Traced:
    """Every path of a packet, hop by hop; with ``back`` the answer's way as well.

    All addresses of both ends and all packets of the service are tried; of those that fare alike
    between two segments on one path, one is told. ``hops`` and ``verdict`` are those of the worst
    path, ``paths`` holds all, the worst first.

    Raises:
        UsageError: an unknown name or service, or a service without packets of the family.
    """
    boxes = parse_asked(service, model.files.permissions.services)
    model = model.cut_along(boxes)
    ends = model.end(source, places=True), model.end(destination, points=True, places=True)
    hosts = [hosts_of(model, end) for end in ends]
    for word, found in zip((source, destination), hosts, strict=True):
        if not found:
            said = f"{word} is nowhere: no session, no stable address on a segment, nobody in it"
            return Traced(source=source, destination=destination, service=service,
                            paths=[], hops=[], verdict=said, effect=None)  # fmt: skip
    told: dict[tuple[object, ...], Document] = {}
    sides = [model.state.classes(side) for side in hosts]
    for a in sides[0]:
        for b in sides[1]:
            if not any(meet(x, y) for x in a.hosts for y in b.hosts):
                continue
            mask = model.atoms.mask(boxes) & model.atoms.of_family(a.host.family)
            for path in model.state.paths_of(a, b) if mask else ():
                pairs = sum(meet(x, y) for x in a.hosts for y in b.hosts)
                for packet in _packets(model, a, b, path, mask):
                    one = _way(model, a, b, path, packet, back=back)
                    key = a.host.segment, b.host.segment, a.host.family, path, one["verdict"]
                    told.setdefault(key, one)["pairs"] += pairs
    if not told:
        raise UsageError(f"no packet of {service} can go from {source} to {destination}: the two "
                         "have no addresses of one family with it")  # fmt: skip
    rank = {"leak": 0, "break": 1, "one-way": 2, "exact": 3}
    paths = sorted(told.values(), key=lambda p: (rank[p["effect"]], not p["path"]))
    return Traced(
        source=source, destination=destination, service=service, paths=paths,
        hops=paths[0]["hops"], verdict=paths[0]["verdict"], effect=paths[0]["effect"],
    )  # fmt: skip


def _packets(model: Model, a: Class, b: Class, path: Path | None, mask: int) -> list[Packet]:
    """One packet of each part of a set whose packets fare alike on a path and back."""
    state, atoms, family = model.state, model.atoms, a.host.family
    if path is None:
        return [atoms.packet(mask, family)]
    cuts = [_form(model, a, b)]
    for met in state.meetings(a, b, path):
        if met.judged:
            cuts += [met.judge.allowed(met.sight), met.judge.opening(met.sight)]
            if not met.judge.stateful:
                cuts.append(atoms.exchanged(_form(model, b, a)))
    parts = [mask]
    for cut in dict.fromkeys(cuts):
        parts = [p for part in parts for p in (part & cut, part & ~cut) if p]
    returning = atoms.full
    for way in state.ways_back(b, a):
        for met in answering(state, b, a, way, (path,)) if way is not None else ():
            returning &= met.judge.allowed(met.sight)
    lost = [
        region.usual(family)
        for part in parts
        for region in atoms.unanswered(part, returning)[:1]
        if family in region.families
    ]
    return list(dict.fromkeys([*(atoms.packet(part, family) for part in parts), *lost]))


def _way(
    model: Model, a: Class, b: Class, path: Path | None, packet: Packet, *, back: bool
) -> Document:
    base: Document = {
        "from": _end(model, a.host), "to": _end(model, b.host), "packet": packet_json(packet),
        "text": packet_text(*packet), "pairs": 0,
    }  # fmt: skip
    if path is None:
        places = [h.segment or h.node for h in (a.host, b.host)]
        said = f"cut off: no path joins {places[0]} and {places[1]}"
        return {**base, "path": [], "hops": [], "verdict": said, "effect": "exact", "answers": []}
    atom = model.atoms.atom(packet)
    should = bool(_form(model, a, b) >> atom & 1)
    hops = walk(model.state, a, b, path, packet)
    passes = all(h.deed != "deny" for h in hops)
    opens = passes and any(h.answer for h in hops)
    opens = opens and bool(model.atoms.exchanged(_form(model, b, a)) >> atom & 1)
    wrong = "break" if not passes else "exact" if opens else "leak"
    effect = "exact" if passes == should else wrong
    own = {h.node for h in (a.host, b.host) if h.own}
    verdict = _verdict(hops, own, should=should, passes=passes, opens=opens)
    answers: list[Document] = []
    if passes and packet.answered():
        answers = list(_back(model, b, a, packet.exchanged(), path))
        lost = [x for x in answers if not x["arrives"]]
        if lost and passes and should:
            effect = "one-way"
            verdict += f"; but {lost[0]['verdict']}"
    return {
        **base, "path": list(path.nodes), "hops": [_hop(model, h) for h in hops],
        "verdict": verdict, "effect": effect, "answers": answers if back else [],
    }  # fmt: skip


def _back(model: Model, b: Class, a: Class, packet: Packet, out: Path) -> Iterator[Document]:
    judged = [m.judge for m in model.state.meetings(a, b, out) if m.judged and m.judge.stateful]
    for path in model.state.ways_back(b, a):
        if path is None:
            continue
        hops = walk(model.state, b, a, path, packet, out)
        passes = all(h.deed != "deny" for h in hops)
        there = model.state.flows_kept(path)
        missed = sorted(j.point.id for j in judged if j.state not in there)
        said = "the answer arrives" if passes else _dropped(hops[-1], "the answer is dropped at")
        if missed:
            said += f"; it goes round {', '.join(missed)}, which judged the way out"
        yield {"path": list(path.nodes), "hops": [_hop(model, h) for h in hops], "verdict": said,
               "arrives": passes}  # fmt: skip


def _form(model: Model, a: Class, b: Class) -> int:
    return model.matrix.forms[model.matrix.form(a.host.group, b.host.group)]


def _end(model: Model, host: Host) -> Document:
    return {
        "endpoint": model.files.endpoints.ids[host.endpoint]
        if host.endpoint >= 0
        else host.node if host.own else None,
        "address": address_text(host.family, host.address), "segment": host.segment,
        "node": host.node, "group": model.groups.all[host.group].id,
    }  # fmt: skip


def _hop(model: Model, hop: Hop) -> Document:
    line = None
    if hop.piece is not None and hop.piece.row >= 0:
        place = model.lines[model.matrix.rows[hop.piece.row].line].location
        line = {"file": place.file, "line": place.line}
    return {
        "node": hop.node, "point": hop.point, "source_tag": hop.sight.source,
        "source_group": model.groups.name(hop.sight.source), "source_from": hop.source_from,
        "destination_tag": hop.sight.destination,
        "destination_group": model.groups.name(hop.sight.destination),
        "destination_from": hop.destination_from, "judged": hop.judged, "why": hop.why,
        "action": {"allow": "allow", "deny": "deny", "let pass": "allow"}.get(hop.deed),
        "line": line, "by": _by(hop),
    }  # fmt: skip


def _by(hop: Hop) -> str:
    """By what a point decides, where it is no line."""
    if not hop.judged:
        return ""
    if hop.mode == "observe":
        return "it only watches"
    if hop.answer and hop.piece is None:
        return "an answer to what it let pass"
    if hop.outside:
        return "outside its list"
    if hop.answer:
        return "an answer, by the opposite cell"
    return "the default" if hop.piece is not None and hop.piece.row < 0 else "a line"


def _verdict(hops: list[Hop], own: set[str], *, should: bool, passes: bool, opens: bool) -> str:
    wrong = [h for h in hops if h.judged and h.why]
    told = "; ".join(dict.fromkeys(f"{h.node} {FAULTS[h.why]}" for h in wrong if h.why))
    if passes and should:
        judged = [h.node for h in hops if h.judged]
        return f"it arrives, as meant; {', '.join(judged)} let it pass" if judged else (
            "it arrives, as meant, though nobody judges it on the way")  # fmt: skip
    if passes:
        if opens:
            return "it arrives as an answer to what is allowed the other way"
        unjudged = [
            f"{h.node} {OWN if h.why == 'direction' and h.node in own else FAULTS[h.why]}"
            for h in hops
            if not h.judged and h.why
        ]
        why = told or "; ".join(unjudged)
        watched = [h.node for h in hops if h.judged and h.mode == "observe"]
        if not why and watched:
            why = f"{', '.join(watched)} only watches"
        return f"it arrives, though the matrix denies it: {why or 'no point is on the way'}"
    end = _dropped(hops[-1], "it is dropped at")
    if not should:
        return f"{end}, as meant"
    return f"{end}, though the matrix allows it: {told or 'another cell decides there'}"


def _dropped(hop: Hop, verb: str) -> str:
    return f"{verb} {hop.node}"
