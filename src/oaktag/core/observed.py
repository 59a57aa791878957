"""The network as nodes report it: the same computation on another state.

Rules kept here (semantics, section 6): what each node knows and what each point holds is taken as
reported; what is not reported is as intended.
"""

from __future__ import annotations

from collections.abc import Mapping

from oaktag.core.accesslist import AccessList
from oaktag.core.bindings import Lookup
from oaktag.core.judging import Judge, Sight
from oaktag.core.knowledge import Knowledge
from oaktag.core.matrix import Matrix
from oaktag.core.network import Point
from oaktag.core.packets import boxes_of


class ObservedKnowledge(Knowledge):
    """What nodes say that they know; the others as intended."""

    def __init__(self, intended: Knowledge, tables: Mapping[str, Lookup]) -> None:
        self.__dict__.update(intended.__dict__)
        self._reported = dict(tables)

    def at(self, node: str) -> Lookup:
        """The bindings in force at a node."""
        return self._reported.get(node) or super().at(node)


class HeldJudge(Judge):
    """A point that acts by the list it holds, whatever was compiled for it.

    Args:
        point: in the mode that it reports.
        matrix: cut along the list's regions too.
        held: its list as a tree.
    """

    def __init__(self, point: Point, matrix: Matrix, held: AccessList) -> None:
        super().__init__(point, matrix, ((), ()))
        self._blocks = held.blocks
        self._outside = matrix.atoms.full if held.outside[0] == "allow" else 0
        self._chains: dict[str, int] = {}
        for name, chain in held.chains.items():
            allowed = 0
            for entry in reversed(chain):
                region = entry.region
                mask = matrix.atoms.full if region is None else matrix.atoms.mask(boxes_of(region))
                allowed = allowed | mask if entry.action == "allow" else allowed & ~mask
            self._chains[name] = allowed

    def holds(self, sight: Sight) -> bool:
        """Whether the cell of the tags seen is in its list."""
        return sight.source in self._blocks.get(sight.destination, {})

    def allowed(self, sight: Sight) -> int:
        """The packets that it lets pass between the tags seen, as answers or not."""
        chain = self._blocks.get(sight.destination, {}).get(sight.source)
        return self._outside if chain is None else self._chains[chain]

    def opening(self, sight: Sight) -> int:
        """The packets that it lets pass by the cell itself.

        A stateless list has answers written in it: what it lets pass beyond the cell, and what
        answers the opposite cell, is taken to be there as an answer.
        """
        allowed = self.allowed(sight)
        cell = self._cell(sight)
        if self.point.stateful or not self.holds(sight) or -1 in cell:
            return allowed
        back = self._form(Sight(sight.destination, sight.source))
        return allowed & ~(self._matrix.atoms.exchanged(back) & ~self._form(sight))
