"""What to do about a row of reach: by its cause, and for a tag that is not known by where it
stopped."""

from __future__ import annotations

from typing import Literal, NamedTuple

from oaktag.core.network import REGISTRY
from oaktag.core.placement import Host
from oaktag.core.reach import Flow
from oaktag.operations.model import Model
from oaktag.report.words import WORDS


def words(flow: Flow) -> str:
    """Why a row fares as it does, in one phrase."""
    if flow.cut_off:
        return f"no path joins {flow.source[0]} and {flow.destination[0]}"
    if flow.result == "observed" and not flow.causes:
        return f"{flow.at} only watches (mode: observe)"
    told = [WORDS[why].format(node=node) for node, why in flow.causes]
    return "; ".join(told) or "the points that judge do not agree with the matrix"


class Stop(NamedTuple):
    """Where the right binding of an address stops on its way to a node: it is with ``sender``, and
    goes no further because of a feed, or because there is none."""

    why: Literal["other", "nobody", "down", "only", "relay", "feed"]
    sender: str = ""
    feed: str = ""


def advice(model: Model, flow: Flow, reason: tuple[str | None, str]) -> str:
    """What mends a row, after the last reason on its path."""
    node, why = reason
    match why:
        case "no-point":
            return "make a node on the path a point, or lead the path over one"
        case "direction":
            return f"let {node} judge from {flow.source[0]} toward {flow.destination[0]}"
        case "inside":
            return f"let {node} judge inside the segment: inside: true"
        case "no-cell":
            return f"widen the scope of {node}"
        case "answer-dropped":
            return f"lead both ways over {node}, or let it share its state with the way out"
    word, _, how = why.partition("-")
    segment, group = flow.source if word == "source" else flow.destination
    host = _example(model, segment, group, node or "")
    if host is not None and group == 0 and host.endpoint >= 0:
        return f"assign {model.files.endpoints.ids[host.endpoint]}: it is in no group"
    if how == "wrong":
        return f"correct what {node} is told about {segment}"
    stop = Stop("feed") if host is None else _stop(model, host.family, host.address, node or "", 0)
    frames = why == "source-unknown" and flow.path is not None and flow.path.nodes[0] != node
    return _mends(stop, node or "", segment) + (", or let frames carry the tag to it" * frames)


def _mends(stop: Stop, node: str, segment: str) -> str:
    match stop.why:
        case "nobody":
            return f"give it a stable address, or let its node learn sessions, and feed {node}"
        case "down":
            return f"bring up the feed {stop.feed}"
        case "only":
            return f"let the feed {stop.feed} pass the bindings of {segment}"
        case "relay":
            return f"let {stop.sender} relay, or feed {node} from where it is learned"
    return f"feed {node} the bindings of {segment}"


def _example(model: Model, segment: str, group: int, node: str) -> Host | None:
    """Somebody of a group on a segment whose tag a node does not know truly."""
    mine = model.hosts_at.get((segment, group), [])
    true, table = model.groups.tag(group), model.knowledge.at(node)
    return next((h for h in mine if table.tag(h.family, h.address) != true), next(iter(mine), None))


def stopped(model: Model, family: int, address: int, node: str, known: int) -> str:
    """Where the right binding of an address is, and why it does not come to a node, in words."""
    stop = _stop(model, family, address, node, known)
    match stop.why:
        case "other":
            return f"{node} holds another binding of it"
        case "nobody":
            return "nobody has a binding of it: no stable address, and nobody learns its session"
        case "down":
            return f"{stop.sender} has it; the feed {stop.feed} is down"
        case "only":
            return f"{stop.sender} has it; the feed {stop.feed} keeps it back (only)"
        case "relay":
            return f"{stop.sender} has it by a feed, and does not relay"
    verb = "have" if "," in stop.sender else "has"
    return f"{stop.sender} {verb} it; no feed leads from there to {node}"


def _stop(model: Model, family: int, address: int, node: str, known: int) -> Stop:
    if known:
        return Stop("other")
    feeds = [f for f in model.network.feeds if f.receiver == node]
    home = model.network.segment_at(family, address)
    tables = {REGISTRY: model.registry}
    if home is not None:
        name = model.network.segments[home].node
        tables[name] = model.knowledge.at(name)
    for feed in feeds:
        if feed.sender != REGISTRY:
            tables[feed.sender] = model.knowledge.at(feed.sender)
    having = [name for name, table in tables.items() if table.tag(family, address)]
    if not having:
        return Stop("nobody")
    for feed in feeds:
        if feed.sender in having:
            table = tables[feed.sender]
            binding = table.bindings[int(table.find(family, [address])[0])]
            registry = model.network.registries.get(feed.registry)
            if registry is not None and not registry.holds(binding.prefix):
                continue
            why: Literal["down", "only", "relay"] = "down" if not feed.up else "relay"
            if feed.up and not feed.passes(binding):
                why = "only"
            return Stop(why, feed.origin, feed.name)
    return Stop("feed", ", ".join(having))
