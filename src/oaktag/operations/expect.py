"""``expect``: the expectations and ``keep_open``, proved; a packet for each that fails."""

from __future__ import annotations

from oaktag.core.addresses import address_text
from oaktag.core.bindings import Lookup
from oaktag.core.ends import End
from oaktag.core.expectations import Claim, prove
from oaktag.core.placement import Host, node_hosts
from oaktag.core.reach import Flow
from oaktag.core.services import packet_text
from oaktag.operations.documents import Document, document, packet_json
from oaktag.operations.model import Model
from oaktag.workspace.expectations_file import Expectation


def expect(model: Model) -> Document:
    """Whether each expectation holds, in file order."""
    return document(
        "expect",
        expectations=[_checked(model, e) for e in model.files.expectations],
        keep_open=[_checked(model, e, keep=True) for e in model.files.keep_open],
    )


def _checked(model: Model, expectation: Expectation, *, keep: bool = False) -> Document:
    pairs = [
        (s, d)
        for s in model.groups_of(expectation.source)
        for d in model.groups_of(expectation.destination)
    ]
    mask = model.atoms.mask(expectation.boxes)
    claim = Claim(expectation.kind, mask, expectation.enforced)
    against = prove(model.matrix, claim, pairs)
    example: Document | None = None
    if against is not None:
        said = "allowed" if against.allowed else "denied"
        example = {
            "source": model.group_json(against.source),
            "destination": model.group_json(against.destination),
            "packet": packet_json(against.packet),
            "text": f"{packet_text(*against.packet)} is {said}",
            "action": "allow" if against.allowed else "deny",
        }
    elif expectation.path:
        example = _on_paths(model, expectation, mask, keep=keep)
    return {
        "file": expectation.location.file,
        "line": expectation.location.line,
        "from": expectation.source.word,
        "to": expectation.destination.word,
        "asks": expectation.text,
        "path": expectation.path,
        "holds": example is None,
        "counterexample": example,
    }


def _on_paths(model: Model, expectation: Expectation, mask: int, *, keep: bool) -> Document | None:
    """The first path on which the network does otherwise; for ``keep_open`` only breaks count."""
    sources, destinations = (
        hosts_of(model, end) for end in (expectation.source, expectation.destination)
    )
    flows = list(model.state.flows(sources, destinations))
    if not keep and not any(flow.path for flow in flows):
        return {"text": "no path joins the two", "packet": None, "action": None}
    wanted = [mask] if keep else [mask, model.atoms.full]
    effects = ("breaks",) if keep else ("leaks", "breaks")
    for packets in wanted:
        for effect in effects:
            for flow in flows:
                for family, wrong in getattr(flow, effect).items():
                    if wrong & packets:
                        return _flow_example(model, flow, wrong & packets, family, effect)
    return None


def _flow_example(model: Model, flow: Flow, packets: int, family: int, effect: str) -> Document:
    packet = model.atoms.packet(packets, family)
    dropped = effect == "breaks"
    path = " ".join(flow.path.nodes) if flow.path else ""
    done = "dropped, though allowed" if dropped else "let through, though denied"
    return {
        "source": model.group_json(flow.source[1]),
        "destination": model.group_json(flow.destination[1]),
        "packet": packet_json(packet),
        "text": f"{packet_text(*packet)} from {flow.source[0]} to {flow.destination[0]}"
        f" over {path} is {done}",
        "action": "deny" if dropped else "allow",
    }


def hosts_of(model: Model, end: End) -> list[Host]:
    """Who an end stands for, where they are."""
    if end.kind == "points":
        return node_hosts(model.groups, model.network, model.registry)
    if end.kind == "endpoint":
        return [h for h in model.hosts if h.endpoint == end.endpoint]
    if end.kind == "address":
        found = [h for h in model.hosts if (h.family, h.address) == end.address and h.endpoint >= 0]
        return found or _unknown_host(model, model.registry, *end.address)
    return [h for h in model.hosts if h.group in end.groups]


def _unknown_host(model: Model, registry: Lookup, family: int, address: int) -> list[Host]:
    from oaktag.core.addresses import parse_prefix

    segment = model.network.segment_of(parse_prefix(address_text(family, address)))
    if segment is None:
        return []
    group = model.groups.by_tag.get(registry.tag(family, address), 0)
    node = model.network.segments[segment].node
    return [Host(-1, family, address, segment, node, group)]
