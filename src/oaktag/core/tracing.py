"""One packet's way, hop by hop: what is known there and from where, and what each point does.

Rules kept here (semantics, section 6): those of ``judging``, told one by one. An answer passes a
stateful point that its packet crossed, or one that shares its state; any other point judges it as
a packet of its own.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from oaktag.core.bindings import Lookup
from oaktag.core.judging import Meeting, Sight, frame_arrives
from oaktag.core.matrix import Piece
from oaktag.core.packets import Packet
from oaktag.core.paths import Path
from oaktag.core.placement import Host
from oaktag.core.population import Class
from oaktag.core.reach import State

Deed = Literal["allow", "deny", "let pass", "none"]


@dataclass(frozen=True, slots=True)
class Hop:
    """A node on the way, and one of its points or none.

    ``source_from`` and ``destination_from`` are ``frame``, a source of bindings, or empty where
    nothing is known; ``why`` says why nothing is judged there, or what is seen wrongly; ``deed``
    is what the point does, and ``piece`` the entry that it does it by (its row is -1 for the
    default); ``outside`` says that the cell is not in its list; ``answer`` that it passes as one.
    """

    node: str
    point: str | None
    sight: Sight
    source_from: str
    destination_from: str
    judged: bool
    why: str | None
    deed: Deed
    piece: Piece | None = None
    outside: bool = False
    answer: bool = False
    mode: str = ""


def walk(
    state: State, a: Class, b: Class, path: Path, packet: Packet, out: Path | None = None
) -> list[Hop]:
    """All hops of a path, up to the point that drops the packet.

    Args:
        state: the network.
        a, b: the two ends.
        path: one of their paths.
        packet: the packet.
        out: the way of the packet that this one answers, if it is an answer.
    """
    crossed = set() if out is None else state.flows_kept(out)
    met: dict[int, list[Meeting]] = {}
    for one in state.meetings(a, b, path):
        met.setdefault(one.hop, []).append(one)
    hops: list[Hop] = []
    for place, name in enumerate(path.nodes):
        here = state.knowledge.at(name)
        if place not in met:
            frame = 0
            if frame_arrives(path, place, state.network):
                frame = int(a.tags[state.table_of[path.nodes[0]]])
            bound = here.tag(a.host.family, a.host.address)
            seen = Sight(frame or bound, here.tag(b.host.family, b.host.address))
            sources = "frame" if frame else _from(here, a.host), _from(here, b.host)
            hops.append(Hop(name, None, seen, *sources, False, None, "none"))
        for one in met.get(place, ()):
            hops.append(_hop(state, one, name, a.host, b.host, packet, crossed))
            if hops[-1].deed == "deny":
                return hops
    return hops


def _hop(
    state: State, met: Meeting, name: str, a: Host, b: Host, packet: Packet, crossed: set[str]
) -> Hop:
    judge, sight = met.judge, met.sight
    point = judge.point
    by_bindings, toward = judge.tables(state.knowledge.at(name))
    by_frame = met.frame and sight.source == met.frame and judge.frames != "ignored"
    origin = "frame" if by_frame else _from(by_bindings, a) if sight.source else ""
    known = name, point.id, sight, origin, _from(toward, b)
    if not met.judged:
        return Hop(*known, False, met.why, "none", mode=point.mode)
    if judge.state in crossed:
        return Hop(*known, True, met.why, "let pass", answer=True, mode=point.mode)
    atoms, groups = state.matrix.atoms, state.matrix.groups
    atom = atoms.atom(packet)
    outside = not judge.holds(sight)
    allowed = bool(judge.allowed(sight) >> atom & 1)
    answer = allowed and not judge.opening(sight) >> atom & 1
    piece = None
    if not outside and not judge.held:
        cell = groups.by_tag.get(sight.source, 0), groups.by_tag.get(sight.destination, 0)
        for found in state.matrix.pieces(*(cell[::-1] if answer else cell), "action"):
            mask = atoms.exchanged(found.mask) if answer else found.mask
            if mask >> atom & 1:
                piece = found
    deed: Deed = "allow" if allowed else "deny"
    if not judge.enforces:
        # It lets everything pass, and records what it would have denied.
        deed, answer = "let pass", False
    return Hop(*known, True, met.why, deed, piece, outside, answer, point.mode)


def _from(table: Lookup, host: Host) -> str:
    number = int(table.find(host.family, [host.address])[0])
    return table.bindings[number].source if number >= 0 and table.bindings[number].tag else ""
