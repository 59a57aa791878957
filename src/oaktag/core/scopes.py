"""Which cells a point must hold, and how far a tag goes in frames.

Rules kept here (semantics, sections 5 and 6): ``all`` are all cells; ``known`` those toward groups
that are, or may come to be, behind the point, and of its node's own addresses, if it judges what
goes to them; listed ones as listed.
"""

from __future__ import annotations

from collections.abc import Mapping

from oaktag.core.groups import Groups
from oaktag.core.network import Network, Point, Segment
from oaktag.core.paths import Paths


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


def scope_of(
    point: Point,
    groups: Groups,
    network: Network,
    paths: Paths,
    placed: Mapping[str, set[int]],
    unstable: set[int],
    at_home: set[int],
) -> tuple[list[int], list[int]]:
    """Indices of the source and destination groups whose cells the point holds.

    Args:
        point: the point.
        groups: all groups.
        network: the network.
        paths: its least-cost paths.
        placed: segment → the groups of all hosts there, known or unknown.
        unstable: groups with an unstable member.
        at_home: the groups of the node's own addresses that the point guards.
    """
    every = groups.every
    scope = point.scope
    if scope.kind == "all":
        return every, every
    if scope.kind == "listed":
        return (
            every if scope.sources is None else sorted(scope.sources),
            every if scope.destinations is None else sorted(scope.destinations),
        )
    behind = {0} | at_home
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
