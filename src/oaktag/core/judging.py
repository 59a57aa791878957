"""What a point sees of a packet, whether it judges it, and what it decides.

Rules kept here (semantics, sections 5, 6 and 8): the source tag is the frame's where one arrives,
else what the point's own bindings say, and ``if_differ`` says which counts; the destination tag
is the point's own bindings'; a judging point reports the source before the destination before
the cell, ``unknown`` where it sees untagged for a tag, else ``wrong``; a judged packet whose cell
is not in scope meets ``outside``; a stateless point allows the union of a cell and of the answers
to what the opposite cell allows.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from oaktag.core.groups import Groups
from oaktag.core.matrix import Matrix
from oaktag.core.network import Network, Point
from oaktag.core.paths import Path, Paths


@dataclass(frozen=True, slots=True)
class Sight:
    """The tags that a point sees."""

    source: int
    destination: int


def frame_arrives(path: Path, hop: int, network: Network) -> bool:
    """Whether a tag put into the frame at the path's first node is there still at a hop.

    Every link up to the point, and every node strictly between, must carry tags.
    """
    if hop == 0 or not network.nodes[path.nodes[0]].marks:
        return False
    return all(link.carries for link in path.links[:hop]) and all(
        network.nodes[name].carries for name in path.nodes[1:hop]
    )


def seen_source(point: Point, frame: int, bound: int) -> int:
    """The source tag that counts, of the frame's and the bindings' (0 counts as not known)."""
    if point.source_by == "address":
        return bound
    first, second = (frame, bound) if point.if_differ == "frame" else (bound, frame)
    return first or second


def fault(sight: Sight, true_source: int, true_destination: int, in_scope: bool) -> str | None:
    """Why a judging point does not enforce the true cell; None where it does."""
    if sight.source != true_source:
        return "source-wrong" if sight.source else "source-unknown"
    if sight.destination != true_destination:
        return "destination-wrong" if sight.destination else "destination-unknown"
    return None if in_scope else "no-cell"


class Judge:
    """A point's list as far as packets can tell: which cells it holds, and their forms."""

    def __init__(
        self, point: Point, matrix: Matrix, scope: tuple[Iterable[int], Iterable[int]]
    ) -> None:
        self.point = point
        self._matrix = matrix
        by_tag = matrix.groups.by_tag
        self._by_tag = by_tag
        self._sources, self._destinations = frozenset(scope[0]), frozenset(scope[1])

    def covers(self, groups: NDArray[np.int64], side: Literal[0, 1] = 0) -> NDArray[np.bool_]:
        """Which group indices (-1 for none) its scope has as sources, or as destinations (1)."""
        mask = np.zeros(len(self._matrix.groups) + 1, dtype=np.bool_)
        mask[list((self._sources, self._destinations)[side])] = True
        found: NDArray[np.bool_] = mask[groups]
        return found

    def holds(self, sight: Sight) -> bool:
        """Whether the cell of the tags seen is in its list."""
        source, destination = self._cell(sight)
        return source in self._sources and destination in self._destinations

    def allowed(self, sight: Sight) -> int:
        """The packets that it lets pass between the tags seen, as a mask of atoms.

        A stateless point also lets the answers pass to what the opposite cell allows, in scope or
        not.
        """
        allowed = self.opening(sight)
        if not self.point.stateful and self.holds(sight):
            back = self._form(Sight(sight.destination, sight.source))
            allowed |= self._matrix.atoms.exchanged(back)
        return allowed

    def opening(self, sight: Sight) -> int:
        """The packets that it lets pass by the cell itself, not as an answer."""
        if not self.holds(sight):
            return self._matrix.atoms.full if self.point.outside == "allow" else 0
        return self._form(sight)

    def _form(self, sight: Sight) -> int:
        return self._matrix.forms[int(self._matrix.action_form[self._cell(sight)])]

    def _cell(self, sight: Sight) -> tuple[int, int]:
        return self._by_tag.get(sight.source, -1), self._by_tag.get(sight.destination, -1)


def scope_of(
    point: Point,
    groups: Groups,
    network: Network,
    paths: Paths,
    placed: dict[str, set[int]],
    unstable: set[int],
) -> tuple[list[int], list[int]]:
    """Indices of the source and destination groups whose cells the point holds.

    Args:
        point: the point.
        groups: all groups.
        network: the network.
        paths: its least-cost paths.
        placed: segment → groups with an address or the default tag there.
        unstable: groups with an unstable member.
    """
    every = list(range(len(groups)))
    scope = point.scope
    if scope.kind == "all":
        return every, every
    if scope.kind == "listed":
        return (
            every if scope.sources is None else sorted(scope.sources),
            every if scope.destinations is None else sorted(scope.destinations),
        )
    behind = {0}
    for target in network.segments.values():
        if any(
            _crosses(point, origin.name, target.name, network, paths)
            for origin in network.segments.values()
        ):
            behind |= placed.get(target.name, set())
            if "session" in network.nodes[target.node].learns:
                behind |= unstable
    return every, sorted(behind)


def _crosses(point: Point, origin: str, target: str, network: Network, paths: Paths) -> bool:
    if point.direction(origin, target) is not None:
        return False
    source, destination = network.segments[origin].node, network.segments[target].node
    if origin == target:
        return source == point.node
    return any(point.node in path.nodes for path in paths.between(source, destination))
