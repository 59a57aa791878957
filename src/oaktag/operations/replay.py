"""Packets that reach says leak or break, put to the matrix and to the points again, one by one.

Reach computes with whole sets of packets. Before it shows one, the packet is decided by the lines
of its cell, one after another, and put to each point on its path that judges it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from oaktag.core.classes import Class
from oaktag.core.judging import Sight, frame_arrives, seen_source
from oaktag.core.packets import Packet
from oaktag.core.paths import Path
from oaktag.core.reach import Flow, State
from oaktag.core.services import packet_text

End = tuple[str, int]


class Replay:
    """Checks rows of one state.

    Args:
        state: the network that reach was run on.
        sources, destinations: the classes of hosts between which the rows are.
    """

    def __init__(
        self, state: State, sources: Sequence[Class], destinations: Sequence[Class]
    ) -> None:
        self._state = state
        self._ends = [_by_end(side) for side in (sources, destinations)]
        self._decided: dict[tuple[int, int, Packet], bool] = {}

    def check(self, flow: Flow) -> None:
        """Replay a packet of each part that a row says leaks or breaks.

        Raises:
            AssertionError: it fares otherwise between all hosts of the row's ends.
        """
        if flow.path is None or flow.effect == "exact":
            return
        ways = list(self._ways(flow, flow.path))
        for effect, masks in (("leak", flow.leaks), ("break", flow.breaks)):
            for family, mask in masks.items():
                for packet in self._packets(mask, family):
                    if not self._fares(flow, ways, packet, passes=effect == "leak"):
                        raise AssertionError(
                            f"{packet_text(*packet)} from {flow.source} to {flow.destination} over "
                            f"{flow.path.nodes} is said to {effect} and does not"
                        )

    def _packets(self, mask: int, family: int) -> Iterator[Packet]:
        atoms = self._state.matrix.atoms
        for region in atoms.regions(mask & atoms.of_family(family)):
            if family in region.families:
                yield region.first()._replace(family=family)

    def _ways(self, flow: Flow, path: Path) -> Iterator[tuple[int, list[int]]]:
        """For each two classes of the row's ends their family, and what each point that enforces
        lets pass of theirs."""
        state = self._state
        for a in self._ends[0][flow.source]:
            for b in self._ends[1][flow.destination]:
                if a.host.family == b.host.family:
                    yield a.host.family, list(self._judged(state, a, b, path))

    @staticmethod
    def _judged(state: State, a: Class, b: Class, path: Path) -> Iterator[int]:
        for hop, name in enumerate(path.nodes):
            for point in state.network.nodes[name].points:
                judge = state.judges.get(point.id)
                at_home = any(c.host.own and c.host.node == name for c in (a, b))
                idle = point.direction(a.host.segment, b.host.segment) is not None
                if judge is None or idle or judge.point.mode != "enforce":
                    continue
                if at_home and not point.own:
                    continue
                table = state.table_of[name]
                frame = 0
                if frame_arrives(path, hop, state.network):
                    frame = a.tags[state.table_of[path.nodes[0]]]
                seen = seen_source(point, int(frame), int(a.tags[table]))
                yield judge.allowed(Sight(seen, int(b.tags[table])))

    def _fares(
        self, flow: Flow, ways: Sequence[tuple[int, list[int]]], packet: Packet, *, passes: bool
    ) -> bool:
        """Whether a packet passes, or is dropped, against the matrix, between some two hosts."""
        if self._allowed(flow.source[1], flow.destination[1], packet) == passes:
            return False
        atom = self._state.matrix.atoms.atom(packet)
        return any(
            all(allowed >> atom & 1 for allowed in points) == passes
            for family, points in ways
            if family == packet.family
        )

    def _allowed(self, source: int, destination: int, packet: Packet) -> bool:
        """What the lines of the true cell say, one after another."""
        key = source, destination, packet
        if key not in self._decided:
            matrix = self._state.matrix
            atom = matrix.atoms.atom(packet)
            pieces = matrix.pieces(source, destination, "action")
            self._decided[key] = next(p.action for p in pieces if p.mask >> atom & 1) == "allow"
        return self._decided[key]


def _by_end(classes: Sequence[Class]) -> dict[End, list[Class]]:
    found: dict[End, list[Class]] = {}
    for one in classes:
        found.setdefault((one.host.segment or one.host.node, one.host.group), []).append(one)
    return found
