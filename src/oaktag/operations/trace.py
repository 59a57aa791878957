"""``trace``: one source, one destination, one service: each hop, and the end in one sentence."""

from __future__ import annotations

from collections.abc import Iterator

from oaktag.core.addresses import address_text
from oaktag.core.packets import ECHO, ICMP_OF, PORTED, Packet
from oaktag.core.placement import Host, meet
from oaktag.core.services import packet_text, parse_service
from oaktag.core.tracing import Hop, walk
from oaktag.errors import UsageError
from oaktag.operations.documents import Document, document, packet_json
from oaktag.operations.expect import hosts_of
from oaktag.operations.model import Model

FAULTS = {
    "source-unknown": "does not know the source's tag",
    "source-wrong": "sees a wrong source tag",
    "destination-unknown": "does not know the destination's tag",
    "destination-wrong": "sees a wrong destination tag",
    "no-cell": "has no such cell in its list",
    "direction": "does not judge in this direction",
    "inside": "does not judge inside a segment",
}


def trace(
    model: Model, source: str, destination: str, service: str, *, back: bool = False
) -> Document:
    """Every path of a packet, hop by hop; with ``back`` the answer's way as well.

    ``hops`` and ``verdict`` are those of the worst path, ``paths`` holds all.

    Raises:
        UsageError: an unknown name or service, or a service without packets of the family.
    """
    boxes = parse_service(service, model.files.permissions.services)
    model = model.cut_along(boxes)
    ends = model.end(source), model.end(destination, points=True)
    hosts = [hosts_of(model, end) for end in ends]
    paths: list[Document] = []
    for word, found in zip((source, destination), hosts, strict=True):
        if not found:
            said = f"{word} is nowhere: no session, no stable address on a segment, nobody in it"
            return document("trace", source=source, destination=destination, service=service,
                            paths=[], hops=[], verdict=said, effect=None)  # fmt: skip
    for a, b in _pairs(model, *hosts):
        mask = model.atoms.mask(boxes) & model.atoms.of_family(a.family)
        if mask:
            paths += _ways(model, a, b, model.atoms.packet(mask, a.family), back=back)
    if not paths:
        raise UsageError(f"no packet of {service} can go from {source} to {destination}: the two "
                         "have no addresses of one family with it")  # fmt: skip
    rank = {"leak": 0, "break": 1, "exact": 2}
    worst = min(paths, key=lambda p: rank[p["effect"]])
    return document(
        "trace", source=source, destination=destination, service=service, paths=paths,
        hops=worst["hops"], verdict=worst["verdict"], effect=worst["effect"],
    )  # fmt: skip


def _pairs(
    model: Model, sources: list[Host], destinations: list[Host]
) -> Iterator[tuple[Host, Host]]:
    """One pair for each two segments and family."""
    seen: set[tuple[object, ...]] = set()
    for a in sources:
        for b in destinations:
            key = a.segment, b.segment, a.family
            if key not in seen and meet(a, b, model.network):
                seen.add(key)
                yield a, b


def _ways(model: Model, a: Host, b: Host, packet: Packet, *, back: bool) -> Iterator[Document]:
    state = model.state
    should = _allowed(model, a, b, packet)
    for path in state.paths_of(a, b):
        base = {"from": _end(model, a), "to": _end(model, b), "packet": packet_json(packet),
                "text": packet_text(*packet)}  # fmt: skip
        if path is None:
            said = f"no path joins {a.segment or a.node} and {b.segment or b.node}"
            yield {
                **base,
                "path": [],
                "hops": [],
                "verdict": said,
                "effect": "exact",
                "answers": [],
            }
            continue
        hops = walk(state, a, b, path, packet)
        passes = all(h.deed != "deny" for h in hops)
        opens = passes and any(h.answer for h in hops) and _answers(model, a, b, packet)
        wrong = "break" if not passes else "exact" if opens else "leak"
        effect = "exact" if passes == should else wrong
        answers: list[Document] = []
        if back and passes:
            judged = frozenset(h.point for h in hops if h.judged and h.point is not None)
            answers = list(_back(model, b, a, _exchanged(packet), judged))
        yield {
            **base, "path": list(path.nodes), "hops": [_hop(model, h) for h in hops],
            "verdict": _verdict(hops, should=should, passes=passes, opens=opens), "effect": effect,
            "answers": answers,
        }  # fmt: skip


def _back(
    model: Model, b: Host, a: Host, packet: Packet, judged: frozenset[str]
) -> Iterator[Document]:
    for path in model.state.paths_of(b, a):
        if path is None:
            continue
        hops = walk(model.state, b, a, path, packet, judged)
        passes = all(h.deed != "deny" for h in hops)
        missed = judged - {h.point for h in hops if h.point}
        stateful = [p for p in sorted(missed) if model.network.points[p].stateful]
        said = "the answer arrives" if passes else _dropped(hops[-1], "the answer is dropped at")
        if stateful:
            said += f"; it goes round {', '.join(stateful)}, which judged the way out"
        yield {"path": list(path.nodes), "hops": [_hop(model, h) for h in hops], "verdict": said,
               "arrives": passes}  # fmt: skip


def _exchanged(packet: Packet) -> Packet:
    if packet.protocol in PORTED:
        return packet._replace(
            source_port=packet.destination_port, destination_port=packet.source_port
        )
    if packet.protocol == ICMP_OF[packet.family]:
        swap = dict(zip(ECHO[packet.family], reversed(ECHO[packet.family]), strict=True))
        return packet._replace(source_port=swap.get(packet.source_port, packet.source_port))
    return packet


def _allowed(model: Model, a: Host, b: Host, packet: Packet) -> bool:
    form = model.matrix.forms[int(model.matrix.action_form[a.group, b.group])]
    return bool(form >> model.atoms.atom(packet) & 1)


def _answers(model: Model, a: Host, b: Host, packet: Packet) -> bool:
    form = model.matrix.forms[int(model.matrix.action_form[b.group, a.group])]
    return bool(model.atoms.exchanged(form) >> model.atoms.atom(packet) & 1)


def _end(model: Model, host: Host) -> Document:
    return {
        "endpoint": model.files.endpoints.ids[host.endpoint] if host.endpoint >= 0 else None,
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


def _verdict(hops: list[Hop], *, should: bool, passes: bool, opens: bool) -> str:
    wrong = [h for h in hops if h.judged and h.why]
    told = "; ".join(dict.fromkeys(f"{h.node} {FAULTS[h.why]}" for h in wrong if h.why))
    if passes and should:
        judged = [h.node for h in hops if h.judged]
        return f"it arrives, as meant; {', '.join(judged)} let it pass" if judged else (
            "it arrives, as meant, though nobody judges it on the way")  # fmt: skip
    if passes:
        if opens:
            return "it arrives as an answer to what is allowed the other way"
        unjudged = [f"{h.node} {FAULTS[h.why]}" for h in hops if not h.judged and h.why]
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
