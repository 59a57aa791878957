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

from oaktag.core.groups import Groups
from oaktag.core.matrix import Matrix
from oaktag.core.network import Network, Point, Segment
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


def arriving(source: str, network: Network, paths: Paths) -> list[str]:
    """All nodes but the first that a tag in the frame reaches on some least-cost path from there,
    the first marking or not; the nearest come first."""
    found: dict[str, None] = {}
    waiting = [source]
    while waiting:
        node = waiting.pop(0)
        if node != source and not network.nodes[node].carries:
            continue
        for name, link in paths.after(source, node):
            if link.carries and name not in found:
                found[name] = None
                waiting.append(name)
    return list(found)


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
    """A point's list as far as packets can tell: which cells it holds, and their forms.

    ``sources`` and ``destinations`` are the groups whose cells it holds.
    """

    def __init__(
        self, point: Point, matrix: Matrix, scope: tuple[Iterable[int], Iterable[int]]
    ) -> None:
        self.point = point
        self._matrix = matrix
        by_tag = matrix.groups.by_tag
        self._by_tag = by_tag
        self.sources, self.destinations = frozenset(scope[0]), frozenset(scope[1])

    def holds(self, sight: Sight) -> bool:
        """Whether the cell of the tags seen is in its list."""
        source, destination = self._cell(sight)
        return source in self.sources and destination in self.destinations

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
    for target in _behind(point, network, paths):
        behind |= placed.get(target.name, set())
        if "session" in network.nodes[target.node].learns:
            behind |= unstable
    return every, sorted(behind)


def _behind(point: Point, network: Network, paths: Paths) -> list[Segment]:
    """The segments toward which the point judges something on some least-cost path."""
    every = network.segments.values()
    origins = [s for s in every if point.origins is None or s.name in point.origins]
    targets = [s for s in every if point.targets is None or s.name in point.targets]
    nodes = list(dict.fromkeys(s.node for s in origins))
    crossed = paths.crossed(point.node, nodes, [s.node for s in targets])
    here = {s.name for s in origins if s.node == point.node}
    return [
        target
        for target, reached in zip(targets, crossed, strict=True)
        if reached
        or (target.node == point.node and here - ({target.name} if not point.inside else set()))
    ]
