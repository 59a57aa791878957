"""``expect``: the expectations and ``keep_open``, proved; a packet for each that fails."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from oaktag.core.expectations import Claim, prove
from oaktag.core.packets import Packet, Region
from oaktag.core.reach import Flow
from oaktag.core.service_text import packet_text
from oaktag.operations.ends import hosts_of
from oaktag.operations.json_parts import Document, clipped, packet_json
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row
from oaktag.workspace.expectations_file import Expectation


@dataclass(frozen=True, eq=False, repr=False)
class Expected(Result):
    """Whether each expectation and each row of ``keep_open`` holds."""

    expectations: list[Row]
    keep_open: list[Row]
    command: ClassVar[str] = "expect"
    table: ClassVar[str] = "expectations"

    @property
    def holds(self) -> bool:
        """Whether all of them hold."""
        return all(row["holds"] for row in (*self.expectations, *self.keep_open))


def expect(model: Model) -> Expected:
    """Whether each expectation holds, in file order."""
    return Expected(
        expectations=[checked(model, e) for e in model.files.expectations],
        keep_open=[checked(model, e, keep=True) for e in model.files.keep_open],
    )


def checked(model: Model, expectation: Expectation, *, keep: bool = False) -> Document:
    """Whether one expectation holds, with a packet where it does not; of ``keep_open`` with
    ``keep``."""
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
    """The first path on which the network does otherwise, about the packets asked of; for
    ``keep_open`` only breaks count."""
    sources, destinations = (
        hosts_of(model, end) for end in (expectation.source, expectation.destination)
    )
    flows = list(model.state.flows(sources, destinations))
    if not keep and not any(flow.path for flow in flows):
        return {"text": "no path joins the two", "packet": None, "action": None}
    full = model.atoms.full
    kind = expectation.kind
    asked = {
        "none": {"leaks": full}, "denied": {"leaks": mask},
        "exactly": {"leaks": full, "breaks": full},
    }.get(kind, {"breaks": mask})  # fmt: skip
    for effect, packets in asked.items():
        for flow in flows:
            for family, wrong in getattr(flow, effect).items():
                if wrong & packets:
                    return _missed(model, flow, wrong & packets, family, effect)
    if keep or "breaks" not in asked:
        return None
    for flow in flows:
        lost = flow.unanswered
        if kind != "exactly" and lost:
            lost = tuple(clipped(lost, expectation.boxes))
        if lost:
            return _unanswered(model, flow, lost[0])
    return None


def _unanswered(model: Model, flow: Flow, lost: Region) -> Document:
    at = ", ".join(r.node for r in flow.amiss if r.why == "answer-dropped" and r.node)
    return _flow_example(
        model, flow, lost.first(), "allow", f"arrives, and its answer is dropped at {at}"
    )


def _missed(model: Model, flow: Flow, packets: int, family: int, effect: str) -> Document:
    packet = model.atoms.packet(packets, family)
    if effect == "breaks":
        return _flow_example(model, flow, packet, "deny", "is dropped, though allowed")
    return _flow_example(model, flow, packet, "allow", "is let through, though denied")


def _flow_example(model: Model, flow: Flow, packet: Packet, action: str, what: str) -> Document:
    path = " ".join(flow.path.nodes) if flow.path else ""
    return {
        "source": model.group_json(flow.source[1]),
        "destination": model.group_json(flow.destination[1]),
        "packet": packet_json(packet),
        "text": f"{packet_text(*packet)} from {flow.source[0]} to {flow.destination[0]}"
        f" over {path} {what}",
        "action": action,
    }
