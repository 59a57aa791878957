"""Findings of ``check`` about the network: points, marks, feeds, and the way of answers."""

from __future__ import annotations

from collections.abc import Iterator

from oaktag.core.answers import Trouble, troubles
from oaktag.core.judging import frame_arrives
from oaktag.core.packets import exchanged
from oaktag.core.services import packet_text
from oaktag.findings import Finding, finding
from oaktag.operations.documents import packet_json
from oaktag.operations.model import Model

#: Above so many pairs of classes of addresses the answers of every pair are not followed.
MOST_PAIRS = 60_000


def network_findings(model: Model) -> Iterator[Finding]:
    """Everything that section 6 names as a finding."""
    if not model.network.points and not any(n.marks for n in model.network.nodes.values()):
        return
    yield from _idle_marks(model)
    yield from _kept_back(model)
    yield from _uncrossed(model)
    classes = len(model.state.classes(model.hosts))
    if classes**2 > MOST_PAIRS:
        yield finding(
            "OT408", next(iter(model.network.nodes.values())).location,
            f"the answers of {classes**2:,} pairs of classes of addresses are not followed here",
            "oaktag trace --return follows those of one pair",
        )  # fmt: skip
        return
    yield from _differing(model)
    yield from _answers(model)


def _idle_marks(model: Model) -> Iterator[Finding]:
    for node in model.network.nodes.values():
        if node.marks and not len(model.knowledge.at(node.name).bindings):
            yield finding(
                "OT401", node.location,
                f"{node.name} marks frames, but knows no binding: all of its frames leave untagged",
                f"let it learn, or feed it: {{from: registry, to: {node.name}}}",
            )  # fmt: skip


def _kept_back(model: Model) -> Iterator[Finding]:
    """Feeds that pass a wide binding and keep back a narrower one of another tag inside it."""
    for feed in model.network.feeds:
        if not feed.up or (feed.prefixes is None and feed.tags is None):
            continue
        brought = model.knowledge.brought_by(feed.name)
        known = {b.prefix for b in model.knowledge.at(feed.receiver).bindings}
        sender = model.registry if feed.sender == "registry" else model.knowledge.at(feed.sender)
        held = sorted((sender.bindings[n] for n in sender.winners), key=lambda b: b.prefix)
        for wide in brought:
            narrow = next(
                (
                    b for b in held
                    if wide.prefix != b.prefix and wide.prefix.holds(b.prefix)
                    and b.prefix not in known and b.tag != wide.tag
                ),
                None,
            )  # fmt: skip
            if narrow is not None:
                names = model.groups.name(wide.tag), model.groups.name(narrow.tag)
                yield finding(
                    "OT402", feed.location,
                    f"the feed {feed.name} passes {wide.prefix} ({names[0]}) and keeps back "
                    f"{narrow.prefix} ({names[1]}) inside it: {feed.receiver} takes those for "
                    f"{names[0]}",
                    "let the narrower one pass too, or keep back both",
                )  # fmt: skip
                break


def _uncrossed(model: Model) -> Iterator[Finding]:
    nodes = {s.node for s in model.network.segments.values()}
    crossed = set(nodes)
    for source in nodes:
        used = model.paths.used(source)[0]
        for point in model.network.points.values():
            if point.node in used - crossed and any(
                point.node in path.nodes
                for end in nodes
                for path in model.paths.between(source, end)
            ):
                crossed.add(point.node)
    for point in model.network.points.values():
        if point.mode != "off" and point.node not in crossed:
            yield finding(
                "OT403", point.location, f"no path crosses the point {point.id}: it judges nothing",
                "lead a path over its node, or take the point out",
            )  # fmt: skip


def _differing(model: Model) -> Iterator[Finding]:
    """Points that see one tag in the frame and another in their own bindings."""
    told: set[str] = set()
    state = model.state
    for a, tags, _ in state.classes(model.hosts):
        nodes = {s.node for s in model.network.segments.values()}
        for end in sorted(nodes):
            for path in model.paths.between(a.node, end):
                for hop, judge in state.judges_on(path):
                    frame = tags.get(path.nodes[0], 0)
                    bound = tags[path.nodes[hop]]
                    arrives = frame and frame_arrives(path, hop, model.network)
                    point = judge.point
                    if point.id in told or not (arrives and bound) or frame == bound:
                        continue
                    if point.source_by == "tag":
                        told.add(point.id)
                        names = model.groups.name(frame), model.groups.name(bound)
                        yield finding(
                            "OT404", point.location,
                            f"{point.id} sees {names[0]} in frames from {a.segment or a.node} and "
                            f"{names[1]} in its own bindings; if_differ: {point.if_differ} counts",
                            f"oaktag bindings --at {path.nodes[0]} and --at {point.node} show both",
                        )  # fmt: skip


def _answers(model: Model) -> Iterator[Finding]:
    fine = model.cut_along(exchanged(model.boxes()))
    first: dict[tuple[str, str], Trouble] = {}
    count: dict[tuple[str, str], int] = {}
    for trouble in troubles(fine.state, fine.hosts):
        key = trouble.kind, trouble.point
        first.setdefault(key, trouble)
        count[key] = count.get(key, 0) + 1
    for kind, trouble in first.items():
        point = model.network.points[trouble.point]
        names = model.groups.all
        ends = [f"{names[h.group].id} in {h.segment or h.node}" for h in (trouble.b, trouble.a)]
        way = f"from {ends[0]} to {ends[1]} over {' '.join(trouble.back.nodes)}"
        if trouble.kind == "round":
            yield finding(
                "OT405", point.location,
                f"answers {way} go round {point.id}, the stateful point that judged the way out",
                "let both ways cross it, by the costs of the links",
            )  # fmt: skip
            continue
        packet = fine.atoms.packet(trouble.mask, trouble.a.family)
        code = "OT406" if point.stateful else "OT407"
        why = (
            "it did not see the way out" if point.stateful
            else "the mirrored cell is not in its list"
        )  # fmt: skip
        example = {
            "source": names[trouble.b.group].id, "destination": names[trouble.a.group].id,
            "packet": packet_json(packet), "text": packet_text(*packet), "by": [],
        }  # fmt: skip
        yield finding(
            code, point.location,
            f"{point.id} drops answers {way}: {why} ({count[kind]} such pairs of ends)",
            "let both ways cross it, or allow the answer in the opposite cell" if point.stateful
            else "widen its scope by the opposite cell", example,
        )  # fmt: skip
