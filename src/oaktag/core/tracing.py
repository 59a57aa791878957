"""One packet's way, hop by hop: what is known there and from where, and what each point does.

Rules kept here (semantics, sections 6 and 8): those of ``judging``, told one by one; an answer
passes a stateful point that judged the way out and let it pass; any other point judges it as a
packet of its own.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from oaktag.core.bindings import Lookup
from oaktag.core.judging import Judge, Sight, fault, frame_arrives, seen_source
from oaktag.core.matrix import Piece
from oaktag.core.packets import Packet
from oaktag.core.paths import Path
from oaktag.core.placement import Host
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
    state: State, a: Host, b: Host, path: Path, packet: Packet, passed: frozenset[str] = frozenset()
) -> list[Hop]:
    """All hops of a path, up to the point that drops the packet.

    Args:
        state: the network.
        a, b: the two ends.
        path: one of their paths.
        packet: the packet.
        passed: points that let the way out of the same flow pass, if this is an answer.
    """
    hops: list[Hop] = []
    network, atom = state.network, state.matrix.atoms.atom(packet)
    entry = state.knowledge.at(path.nodes[0]).tag(a.family, a.address)
    for place, name in enumerate(path.nodes):
        here = state.knowledge.at(name)
        bound, there = here.tag(a.family, a.address), here.tag(b.family, b.address)
        frame = entry if frame_arrives(path, place, network) else 0
        points = [p for p in network.nodes[name].points if p.id in state.judges]
        if not points:
            seen = Sight(frame or bound, there)
            hops.append(
                Hop(name, None, seen, "frame" if frame else _from(here, a), _from(here, b), False,
                    None, "none")
            )  # fmt: skip
        for point in points:
            sight = Sight(seen_source(point, frame, bound), there)
            by_frame = frame and sight.source == frame and point.source_by == "tag"
            origin = "frame" if by_frame else _from(here, a) if sight.source else ""
            known = name, point.id, sight, origin, _from(here, b)
            why = point.direction(a.segment, b.segment)
            if not point.own and any(h.own and h.node == name for h in (a, b)):
                why = "direction"
            if why is not None:
                hops.append(Hop(*known, False, why, "none", mode=point.mode))
                continue
            judge = state.judges[point.id]
            hop = _judge(state, judge, known, atom, (a, b), answered=point.id in passed)
            hops.append(hop)
            if hop.deed == "deny":
                return hops
    return hops


def _judge(
    state: State,
    judge: Judge,
    known: tuple[str, str, Sight, str, str],
    atom: int,
    ends: tuple[Host, Host],
    *,
    answered: bool,
) -> Hop:
    groups, sight, point = state.matrix.groups, known[2], judge.point
    true = groups.tag(ends[0].group), groups.tag(ends[1].group)
    why = fault(sight, *true, judge.holds(sight))
    if answered and point.stateful:
        return Hop(*known, True, why, "let pass", answer=True, mode=point.mode)
    outside = not judge.holds(sight)
    allowed = bool(judge.allowed(sight) >> atom & 1)
    piece = None
    answer = allowed and not judge.opening(sight) >> atom & 1
    if not outside:
        cell = groups.by_tag.get(sight.source, 0), groups.by_tag.get(sight.destination, 0)
        atoms = state.matrix.atoms
        for found in state.matrix.pieces(*(cell[::-1] if answer else cell), "action"):
            mask = atoms.exchanged(found.mask) if answer else found.mask
            if mask >> atom & 1:
                piece = found
    deed: Deed = "allow" if allowed else "deny"
    if point.mode == "observe":
        deed = "let pass"
    return Hop(*known, True, why, deed, piece, outside, answer, point.mode)


def _from(table: Lookup, host: Host) -> str:
    number = int(table.find(host.family, [host.address])[0])
    return table.bindings[number].source if number >= 0 and table.bindings[number].tag else ""
