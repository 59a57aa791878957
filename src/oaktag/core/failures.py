"""What the loss of one link, node, feed or point does to flows that were exact.

Rules kept here (semantics, section 6): which single link, node or feed, if lost, turns exact into
leak or break. A lost node takes its segments, links and feeds with it. Only what the loss touches
is computed again: of a link or a node, the sources whose least-cost paths hold it; of a feed, all
sources, unless no node that judges or marks knows otherwise than before.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Literal, NamedTuple

from oaktag.core.knowledge import Knowledge
from oaktag.core.network import Network
from oaktag.core.paths import Paths
from oaktag.core.placement import Host
from oaktag.core.reach import Effect, Flow, State

Kind = Literal["link", "node", "feed", "point"]
Ends = tuple[tuple[str, int], tuple[str, int]]
_WORST: tuple[Effect, ...] = ("leak", "break", "exact")


class Lost(NamedTuple):
    """One thing that fails; ``number`` tells parallel links apart."""

    kind: Kind
    name: str
    number: int = 0


class Loss(NamedTuple):
    """What its failure does: rows that were exact and leak or break then, the first of each."""

    lost: Lost
    leaks: tuple[Flow, ...]
    breaks: tuple[Flow, ...]


def candidates(network: Network) -> list[Lost]:
    """Every link, node, feed that is up, and point, in file order."""
    return [
        *(Lost("link", link.name, n) for n, link in enumerate(network.links)),
        *(Lost("node", name) for name in network.nodes),
        *(Lost("feed", feed.name) for feed in network.feeds if feed.up),
        *(Lost("point", name) for name, p in network.points.items() if p.mode == "enforce"),
    ]


def without(network: Network, lost: Lost) -> Network:
    """The network less one thing; a point is not taken out here but from the judges."""
    nodes, segments = list(network.nodes.values()), list(network.segments.values())
    links, feeds = list(network.links), list(network.feeds)
    if lost.kind == "link":
        del links[lost.number]
    elif lost.kind == "feed":
        feeds = [f for f in feeds if f.name != lost.name]
    elif lost.kind == "node":
        nodes = [n for n in nodes if n.name != lost.name]
        segments = [s for s in segments if s.node != lost.name]
        links = [k for k in links if lost.name not in (k.a, k.b)]
        feeds = [f for f in feeds if lost.name not in (f.sender, f.receiver)]
    return Network(nodes, segments, links, feeds)


def losses(
    state: State,
    hosts: Sequence[Host],
    knowing: Callable[[Network], Knowledge],
    progress: Callable[[str], None] | None = None,
) -> Iterator[Loss]:
    """Each single failure and what it does.

    Args:
        state: the network as it is.
        hosts: everybody who is somewhere.
        knowing: what the nodes of another network know.
        progress: told the name of what fails next.
    """
    before = worst(state.flows(hosts, hosts))
    for lost in candidates(state.network):
        if progress is not None:
            progress(f"{lost.kind} {lost.name}")
        sources = [h for h in hosts if _touched(state, h, lost)]
        if not sources:
            yield Loss(lost, (), ())
            continue
        after = _after(state, lost, knowing)
        left = [h for h in hosts if h.node in after.network.nodes]
        if lost.kind == "feed" and _same(state, after):
            yield Loss(lost, (), ())
            continue
        sources = [h for h in sources if h.node in after.network.nodes]
        turned = [
            flow
            for ends, flow in worst(after.flows(sources, left)).items()
            if flow.effect != "exact" and before[ends].effect == "exact"
        ]
        yield Loss(
            lost,
            tuple(f for f in turned if f.effect == "leak"),
            tuple(f for f in turned if f.effect == "break"),
        )


def worst(flows: Iterable[Flow]) -> dict[Ends, Flow]:
    """For each pair of ends the row that fares worst, over all paths."""
    found: dict[Ends, Flow] = {}
    for flow in flows:
        ends = flow.source, flow.destination
        known = found.get(ends)
        if known is None or _WORST.index(flow.effect) < _WORST.index(known.effect):
            found[ends] = flow
    return found


def _after(state: State, lost: Lost, knowing: Callable[[Network], Knowledge]) -> State:
    network = without(state.network, lost)
    judges = {
        name: judge
        for name, judge in state.judges.items()
        if name in network.points and not (lost.kind == "point" and name == lost.name)
    }
    moved = lost.kind in ("link", "node")
    return State(
        state.matrix, network, Paths(network) if moved else state.paths,
        state.knowledge if lost.kind in ("link", "point") else knowing(network), judges,
        state.memo,
    )  # fmt: skip


def _touched(state: State, host: Host, lost: Lost) -> bool:
    """Whether flows from a host can fare otherwise after the loss."""
    if lost.kind == "feed":
        return True
    name = state.network.points[lost.name].node if lost.kind == "point" else lost.name
    nodes, links = state.paths.used(host.node)
    if lost.kind == "link":
        return id(state.network.links[lost.number]) in links
    # A node that is lost may also have fed others what it learned.
    return name in nodes or (lost.kind == "node" and _feeds(state.network, name))


def _feeds(network: Network, name: str) -> bool:
    return any(f.sender == name for f in network.feeds)


def _same(before: State, after: State) -> bool:
    return all(
        before.knowledge.known(name) == after.knowledge.known(name) for name in before.watching
    )
