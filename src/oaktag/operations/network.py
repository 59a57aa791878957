"""Findings of ``check`` about the network: points, marks, feeds, and the way of answers."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterator

import numpy as np

from oaktag.core.addresses import Prefix
from oaktag.core.answers import Trouble, one_of_each, troubles
from oaktag.core.bindings import Binding, Bindings
from oaktag.core.network import REGISTRY, Point, own_addresses
from oaktag.core.scopes import arriving
from oaktag.core.service_text import packet_text
from oaktag.core.sessions import ASSUMED
from oaktag.english import listed
from oaktag.findings import Finding, finding
from oaktag.located import Location
from oaktag.operations.json_parts import packet_json
from oaktag.operations.model import Model

#: Above so many pairs of classes of addresses the answers of every pair are not followed, but of
#: each point one that goes round it, or that it drops.
MOST_PAIRS = 60_000


def network_findings(
    model: Model, progress: Callable[[str], None] | None = None
) -> Iterator[Finding]:
    """Everything that section 6 names as a finding."""
    if not model.network.points and not any(n.marks for n in model.network.nodes.values()):
        return
    yield from _idle_marks(model)
    yield from _unlearned(model)
    yield from _blind(model)
    yield from _out_of_scope(model)
    yield from _homeless(model)
    yield from _kept_back(model)
    yield from _idle_feeds(model)
    yield from _covering(model)
    yield from _uncrossed(model)
    yield from _differing(model)
    yield from _answers(model, progress)


def _idle_marks(model: Model) -> Iterator[Finding]:
    for node in model.network.nodes.values():
        if node.marks and not len(model.knowledge.at(node.name).bindings):
            yield finding(
                "OT401", node.location,
                f"{node.name} marks frames, but knows no binding: all of its frames leave untagged",
                f"let it learn, or feed it: {{from: registry, to: {node.name}}}",
            )  # fmt: skip


def _unlearned(model: Model) -> Iterator[Finding]:
    """Members on a segment whose sessions nobody learns, so that no node ever knows their tags; and
    nodes that mark, know bindings, but not those of their own segments."""
    network, names = model.network, model.files.endpoints.ids
    lost: dict[str, list[str]] = {}
    for place in model.places.take(model.places.by == ASSUMED):
        where = network.segment_of(place.address)
        if where is None or model.assignment.group[place.endpoint] <= 0:
            continue
        segment = network.segments[where]
        if segment.group is None and "session" not in network.nodes[segment.node].learns:
            lost.setdefault(where, []).append(names[place.endpoint])
    for where, who in lost.items():
        segment = network.segments[where]
        yield finding(
            "OT413", segment.location,
            f"{len(who)} members on the segment {where} have no stable address, and nobody learns "
            f"their sessions: no node knows their tag (e.g. {who[0]})",
            f"let {segment.node} learn sessions (learns: [session]), or give {where} a default tag",
        )  # fmt: skip
    strangers: dict[str, list[str]] = {}
    for a, tags, _ in model.state.classes(model.hosts):
        node = network.nodes[a.node]
        mine = node.marks and a.segment in network.segments and a.segment not in lost
        if not mine or not a.group or tags[model.state.table_of[a.node]]:
            continue
        if len(model.knowledge.at(a.node).bindings):
            said = names[a.endpoint] if a.endpoint >= 0 else f"unknown hosts of {a.segment}"
            strangers.setdefault(a.node, []).append(said)
    for name, who in strangers.items():
        yield finding(
            "OT412", network.nodes[name].location,
            f"{name} marks frames and does not know everybody on its own segments (e.g. {who[0]}): "
            "their frames leave untagged",
            f"let it learn: learns: [session, segment], or feed it: {{from: registry, to: {name}}}",
        )  # fmt: skip


def _blind(model: Model) -> Iterator[Finding]:
    """Points that know no binding at all, and so no destination."""
    for point in model.network.points.values():
        if point.mode != "off" and not len(model.knowledge.at(point.node).bindings):
            yield finding(
                "OT411", point.location,
                f"the point {point.id} knows no binding: it can tell no destination's tag, and no "
                "source's without a frame",
                f"feed it: {{from: registry, to: {point.node}}}",
            )  # fmt: skip


def _out_of_scope(model: Model) -> Iterator[Finding]:
    """Points whose directions or listed groups are of nobody who is there."""
    hosts = model.hosts
    for point in model.network.points.values():
        if point.mode == "off" or not len(hosts):
            continue
        for side, segments, groups, key in (
            ("from", point.origins, point.scope.sources, "sources"),
            ("toward", point.targets, point.scope.destinations, "destinations"),
        ):
            there = np.ones(len(hosts), dtype=np.bool_)
            if segments is not None:
                held = [n for n, name in enumerate(hosts.segments) if name in segments]
                there &= np.isin(hosts.segment, held)
            words = side
            if there.any() and groups is not None:
                there &= np.isin(hosts.group, list(groups))
                words = f"scope: {key}"
            if not there.any():
                yield finding(
                    "OT414", point.location,
                    f"the point {point.id} judges nothing: nobody is where its {words} says",
                    f"widen {words}, or take the point out",
                )  # fmt: skip
                break


def _homeless(model: Model) -> Iterator[Finding]:
    for point in model.network.points.values():
        if point.own and point.mode != "off" and not own_addresses(point, model.network):
            yield finding(
                "OT415", point.location,
                f"own: true guards nothing: the node {point.node} has no address of its own here",
                f"give {point.node} its address, or take own: true out of the point",
            )  # fmt: skip


def _kept_back(model: Model) -> Iterator[Finding]:
    """Feeds that pass a wide binding and keep back a narrower one of another tag inside it."""
    held: dict[str, Bindings] = {}
    for feed in model.network.feeds:
        if not feed.up or (feed.prefixes is None and feed.tags is None):
            continue
        brought = model.knowledge.brought_by(feed)
        # A binding of one address has none inside it.
        wides = brought.take(brought.prefixes.wide)
        if not len(wides):
            continue
        known = {b.prefix for b in model.knowledge.at(feed.receiver).bindings}
        if feed.sender not in held:
            table = model.registry if feed.sender == REGISTRY else model.knowledge.at(feed.sender)
            held[feed.sender] = table.in_force
        for wide in wides:
            narrow = next(
                (
                    b for b in _inside(held[feed.sender], wide.prefix)
                    if b.prefix not in known and b.tag != wide.tag
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


def _inside(held: Bindings, wide: Prefix) -> Iterator[Binding]:
    """Of bindings in the order of their prefixes those of narrower prefixes inside one."""
    for at in range(bisect_right(held, wide, key=lambda b: b.prefix), len(held)):
        if not wide.holds(held[at].prefix):
            return
        yield held[at]


def _idle_feeds(model: Model) -> Iterator[Finding]:
    """Feeds that bring nothing."""
    for feed in model.network.feeds:
        if not feed.up:
            yield finding(
                "OT409", feed.location, f"the feed {feed.name} is down: it brings nothing",
                "bring it up, or take it out",
            )  # fmt: skip
        elif not len(model.knowledge.brought_by(feed)):
            held = model.registry if feed.sender == REGISTRY else model.knowledge.at(feed.sender)
            why = f"{feed.origin} knows nothing that it may pass on"
            if (
                len(held.bindings)
                and feed.sender != REGISTRY
                and not model.network.nodes[feed.sender].relays
            ):
                why = (
                    f"{feed.sender} learned nothing itself that it may pass on, and does not relay"
                )
            elif len(held.bindings):
                why = f"only keeps back all that {feed.origin} has"
                if feed.registry:
                    why = f"of all bindings none is of {feed.registry} and passes"
            yield finding(
                "OT409", feed.location, f"the feed {feed.name} brings nothing: {why}",
                "let its sender learn or relay, widen only, or take the feed out",
            )  # fmt: skip


def _covering(model: Model) -> Iterator[Finding]:
    """Wide bindings that hold more of a segment without a default tag than one address: its
    unknown hosts count as that group."""
    held = model.registry.in_force
    homes = {((h.family, h.address, h.end), h.segment) for h in model.wide}
    covered: dict[tuple[Location, int], dict[str, tuple[Prefix, Prefix]]] = {}
    for binding in held.take(held.prefixes.wide & (held.tags != 0)):
        prefix = binding.prefix
        ends = prefix.family, prefix.start, prefix.end
        for segment in model.network.segments.values():
            if segment.group is not None:
                continue
            common = [p for p in segment.prefixes if prefix.holds(p) or p.holds(prefix)]
            if common and (ends, segment.name) not in homes:
                of_binding = covered.setdefault((binding.location, binding.tag), {})
                of_binding.setdefault(segment.name, (prefix, common[0]))
    for (location, tag), segments in covered.items():
        group = model.groups.name(tag)
        names = list(segments)
        prefix, common_prefix = segments[names[0]]
        where = f"{common_prefix} of the segment {names[0]}, which has no default tag"
        if len(names) > 1:
            where = f"{len(names)} segments without a default tag ({listed(names, 6)})"
        whose = "its" if len(names) == 1 else "their"
        yield finding(
            "OT410", location,
            f"the binding of {prefix} covers {where}: {whose} unknown hosts count as {group}",
            f"give {names[0] if len(names) == 1 else 'each of them'} a tag, perhaps untagged, or "
            "bind less",
            {"group": group, "segments": names},
        )  # fmt: skip


def _uncrossed(model: Model) -> Iterator[Finding]:
    nodes = list(dict.fromkeys(s.node for s in model.network.segments.values()))
    for point in model.network.points.values():
        if point.mode == "off" or point.node in nodes or own_addresses(point, model.network):
            continue
        if not any(model.paths.crossed(point.node, nodes, nodes)):
            yield finding(
                "OT403", point.location, f"no path crosses the point {point.id}: it judges nothing",
                "lead a path over its node, or take the point out",
            )  # fmt: skip


def _differing(model: Model) -> Iterator[Finding]:
    """Points that see one tag in the frame and another in their own bindings."""
    told: set[str] = set()
    state = model.state
    reached: dict[str, list[Point]] = {}
    for a, tags, _ in state.classes(model.hosts):
        known = {tag for tag in tags if tag}
        if len(known) < 2:
            continue  # whoever knows them knows them alike
        if a.node not in reached:
            reached[a.node] = list(_in_frames(model, a.node))
        for point in reached[a.node]:
            frame, bound = tags[state.table_of[a.node]], tags[state.tables_of[point.id][0]]
            if point.id in told or not (frame and bound) or frame == bound:
                continue
            told.add(point.id)
            names = model.groups.name(frame), model.groups.name(bound)
            yield finding(
                "OT404", point.location,
                f"{point.id} sees {names[0]} in frames from {a.segment or a.node} and "
                f"{names[1]} in its own bindings; if_differ: {point.if_differ} counts",
                f"oaktag bindings --at {a.node} and --at {point.node} show both",
            )  # fmt: skip


def _in_frames(model: Model, source: str) -> Iterator[Point]:
    """The points that read tags from frames and that a frame from a node reaches with its tag, on
    a least-cost path to some segment."""
    if not model.network.nodes[source].marks:
        return
    leads = dict.fromkeys((s.node for s in model.network.segments.values()), True)
    for name in arriving(source, model.network, model.paths):
        points = [p for p in model.network.nodes[name].points if p.id in model.state.judges]
        reading = [p for p in points if p.source_by == "tag"]
        if reading and _leads(model, source, name, leads):
            yield from reading


def _leads(model: Model, source: str, node: str, known: dict[str, bool]) -> bool:
    """Whether a least-cost path from a source over a node ends where ``known`` says so; what is
    found out goes there too."""
    waiting = [node]
    while waiting:
        here = waiting[-1]
        if here in known:
            waiting.pop()
            continue
        after = [name for name, _ in model.paths.after(source, here)]
        missing = [name for name in after if name not in known]
        if any(known.get(name) for name in after) or not missing:
            known[here] = any(known.get(name) for name in after)
        else:
            waiting.append(missing[0])
    return known[node]


def _answers(model: Model, progress: Callable[[str], None] | None) -> Iterator[Finding]:
    first: dict[tuple[str, str], Trouble] = {}
    ends_of: dict[tuple[str, str], set[object]] = {}
    many = len(model.state.classes(model.ends)) ** 2 > MOST_PAIRS
    every = troubles(model.state, model.ends)
    for trouble in one_of_each(model.state, model.ends, progress) if many else every:
        key = trouble.kind, trouble.point
        first.setdefault(key, trouble)
        between = tuple((h.segment or h.node, h.group) for h in (trouble.a, trouble.b))
        ends_of.setdefault(key, set()).add(between)
    for (kind, name), trouble in first.items():
        point = model.network.points[name]
        names = model.groups.all
        ends = tuple(
            f"{names[h.group].id} in {h.segment or h.node}" for h in (trouble.b, trouble.a)
        )
        way = f"from {ends[0]} to {ends[1]} over {' '.join(trouble.back.nodes)}"
        if kind == "round":
            yield finding(
                "OT405", point.location,
                f"answers {way} go round {name}, the stateful point that judged the way out",
                "let both ways cross it, by the costs of the links, or let the points share their "
                "state (shares_state)",
            )  # fmt: skip
            continue
        often = "for one" if many else f"{len(ends_of[kind, name])} such pairs of ends"
        code = "OT406" if point.stateful else "OT407"
        why = (
            "it did not see the way out" if point.stateful
            else "the mirrored cell is not in its list"
        )  # fmt: skip
        example = {
            "source": names[trouble.b.group].id, "destination": names[trouble.a.group].id,
            "packet": packet_json(trouble.packet), "text": packet_text(*trouble.packet), "by": [],
        }  # fmt: skip
        yield finding(
            code, point.location,
            f"{name} drops answers {way}: {why} ({often})",
            "let both ways cross it, let it share its state with the points on the way out, or "
            "allow the answer in the opposite cell" if point.stateful
            else "widen its scope by the opposite cell", example,
        )  # fmt: skip
