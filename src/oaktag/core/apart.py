"""What lists are made from, apart from who everybody is: small enough to be sent to who makes them.

A model of the same policy and network in which what nodes know and which cells points hold is given
instead of worked out. It makes the same lists, and proves them alike.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple, Self

from oaktag.core.addresses import Range
from oaktag.core.model import Given, Model
from oaktag.core.network import Point

Scope = tuple[list[int], list[int]]


class Known(NamedTuple):
    """What was worked out: tables of bindings; which of them a node has; and the cells of points,
    by the point and the kind of its scope, each distinct one once."""

    tables: tuple[tuple[Range, ...], ...]
    of_node: dict[str, int]
    scopes: tuple[Scope, ...]
    of_point: dict[tuple[str, str], int]


class Apart(Model):
    """A model without people.

    Args:
        given: what the workspace says.
        known: what follows from who is where.
    """

    def __init__(self, given: Given, known: Known) -> None:
        network, boxes, today = given.network, given.boxes, given.today
        less = Given(given.groups, given.policy, network=network, boxes=boxes, today=today)
        super().__init__(less)
        self.worked_out = known

    @classmethod
    def of(cls, model: Model, points: Iterable[Point]) -> Self:
        """The part of a model that the lists of some points are made from."""
        tables: dict[tuple[Range, ...], int] = {}
        scopes: dict[tuple[tuple[int, ...], tuple[int, ...]], int] = {}
        of_node: dict[str, int] = {}
        of_point: dict[tuple[str, str], int] = {}
        by_table: dict[int, int] = {}
        for point in points:
            ranges = model.known(point.node)
            if id(ranges) not in by_table:
                by_table[id(ranges)] = tables.setdefault(ranges, len(tables))
            of_node[point.node] = by_table[id(ranges)]
            for asked in filter(None, (point, point.needed)):
                sources, destinations = model.scope(asked)
                key = tuple(sources), tuple(destinations)
                number = scopes.setdefault(key, len(scopes))
                of_point[point.id, asked.scope.kind] = number
        held = tuple((list(sources), list(destinations)) for sources, destinations in scopes)
        return cls(model.given, Known(tuple(tables), of_node, held, of_point))

    def ready(self) -> Self:
        """The same, with what all lists need worked out."""
        _ = self.keys, self.blocks, self.proof_lines
        return self

    def known(self, node: str) -> tuple[Range, ...]:
        """What a node knows, as disjoint ranges."""
        return self.worked_out.tables[self.worked_out.of_node[node]]

    def scope(self, point: Point) -> Scope:
        """The groups whose cells a point holds, as sources and as destinations."""
        return self.worked_out.scopes[self.worked_out.of_point[point.id, point.scope.kind]]

    def __getstate__(self) -> dict[str, Any]:
        """What it was made from; all else is worked out again."""
        return {"given": self.given, "worked_out": self.worked_out}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__init__(state["given"], state["worked_out"])  # type: ignore[misc]
