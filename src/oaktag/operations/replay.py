"""Packets that reach says leak or break, put to the matrix and to the points again, one by one.

Reach computes with whole sets of packets. Before it shows one, the packet is decided by the lines
of its cell, and walked over its path point by point, as ``decide`` and ``trace`` do.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from oaktag.core.classes import Class
from oaktag.core.packets import Packet
from oaktag.core.placement import Host
from oaktag.core.reach import Flow, State
from oaktag.core.services import packet_text
from oaktag.core.tracing import walk

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
        for effect, masks in (("leak", flow.leaks), ("break", flow.breaks)):
            for family, mask in masks.items():
                for packet in self._packets(mask, family):
                    if not self._fares(flow, packet, effect == "leak"):
                        raise AssertionError(
                            f"{packet_text(*packet)} from {flow.source} to {flow.destination} over "
                            f"{flow.path and flow.path.nodes} is said to {effect} and does not"
                        )

    def _packets(self, mask: int, family: int) -> Iterator[Packet]:
        atoms = self._state.matrix.atoms
        for region in atoms.regions(mask & atoms.of_family(family)):
            if family in region.families:
                yield region.first()._replace(family=family)

    def _fares(self, flow: Flow, packet: Packet, passes: bool) -> bool:
        """Whether the packet passes, or is dropped, against the matrix, between some two hosts."""
        if (
            flow.path is None
            or self._allowed(flow.source[1], flow.destination[1], packet) == passes
        ):
            return False
        ones, twos = (
            side[end] for side, end in zip(self._ends, (flow.source, flow.destination), strict=True)
        )
        return any(
            all(h.deed != "deny" for h in walk(self._state, a, b, flow.path, packet)) == passes
            for a in ones
            for b in twos
            if a.family == b.family == packet.family
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


def _by_end(classes: Sequence[Class]) -> dict[End, list[Host]]:
    found: dict[End, list[Host]] = {}
    for one in classes:
        found.setdefault((one.host.segment or one.host.node, one.host.group), []).append(one.host)
    return found
