"""Do tags reach every point on every path, and what does the network do where they do not?

Rules kept here (semantics, sections 6 and 8): each (source segment and group) → (destination
segment and group) and path has a result, a place, reasons and an effect. All enforcing points
that judge act: a packet passes if each allows it. Where addresses of one group fare differently:
the weakest result (of several enforced, the one latest on the path), the worst effect.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal, NamedTuple

from oaktag.core.bindings import Lookup
from oaktag.core.classes import Class, classes
from oaktag.core.judging import Judge, Sight, fault, frame_arrives, seen_source
from oaktag.core.knowledge import Knowledge
from oaktag.core.matrix import Matrix
from oaktag.core.network import Network
from oaktag.core.paths import Path, Paths
from oaktag.core.placement import Host, meet

Result = Literal["enforced", "observed", "unenforced", "unconnected"]
Effect = Literal["exact", "leak", "break"]
MOST_PATHS = 64
_WEAKEST_FIRST = ("unenforced", "observed", "enforced")


class Reason(NamedTuple):
    """Why a flow is not enforced at a node; ``no-point`` has no node."""

    node: str | None
    why: str


@dataclass(frozen=True, slots=True)
class Flow:
    """One row of reach.

    ``leaks`` and ``breaks`` are masks of atoms by family; ``path`` is None where the ends are not
    connected; ``open_for_answers`` says that stateless points let denied packets pass as answers
    to what is allowed the other way; ``ways`` counts the paths that a grouped row stands for;
    ``amiss`` holds, of a row that is enforced or observed, what enforcing points see wrongly.
    """

    source: tuple[str, int]
    destination: tuple[str, int]
    path: Path | None
    result: Result
    at: str | None
    reasons: tuple[Reason, ...]
    leaks: Mapping[int, int]
    breaks: Mapping[int, int]
    open_for_answers: bool = False
    ways: int = 1
    amiss: tuple[Reason, ...] = ()

    @property
    def causes(self) -> tuple[Reason, ...]:
        """What a leak or a break comes from: its reasons, or what is amiss though enforced."""
        return self.reasons or self.amiss

    @property
    def effect(self) -> Effect:
        """What the network does, against what the matrix says of the true groups."""
        if any(self.leaks.values()):
            return "leak"
        return "break" if any(self.breaks.values()) else "exact"


class State:
    """A network with what its nodes know and what its points hold.

    Args:
        matrix: the decisions, by true groups.
        network: nodes, segments, links.
        paths: its least-cost paths.
        knowledge: what each node knows.
        judges: point id → its list; points that are off are left out.
        memo: rows by all that they depend on, shared by states of one matrix whose nodes and
            points are the same where both have them.

    Attributes:
        watching: the nodes that mark, or have a point that counts.
    """

    def __init__(
        self,
        matrix: Matrix,
        network: Network,
        paths: Paths,
        knowledge: Knowledge,
        judges: Mapping[str, Judge],
        memo: dict[tuple[object, ...], Flow] | None = None,
    ) -> None:
        self.memo = {} if memo is None else memo
        self.matrix = matrix
        self.network = network
        self.paths = paths
        self.knowledge = knowledge
        self.judges = {i: j for i, j in judges.items() if j.point.mode != "off"}
        self._alike: dict[tuple[str, str], list[tuple[Path, int]]] = {}
        self.watching = [
            name
            for name, node in network.nodes.items()
            if node.marks or any(p.id in self.judges for p in node.points)
        ]

    @cached_property
    def tables(self) -> list[Lookup]:
        """What the watching nodes know, each table once."""
        return list({id(t): t for t in map(self.knowledge.at, self.watching)}.values())

    @cached_property
    def table_of(self) -> dict[str, int]:
        """The number of each watching node's table."""
        number = {id(table): n for n, table in enumerate(self.tables)}
        return {node: number[id(self.knowledge.at(node))] for node in self.watching}

    def classes(self, hosts: Iterable[Host]) -> list[Class]:
        """Hosts that fare alike; the tags of each by ``table_of``."""
        return classes(hosts, self.tables)

    def flows(self, sources: Iterable[Host], destinations: Iterable[Host]) -> Iterator[Flow]:
        """Every row between the hosts, in order of segments, groups and paths."""
        yield from self.rows(self.classes(sources), self.classes(destinations))

    def rows(self, sources: Sequence[Class], destinations: Sequence[Class]) -> Iterator[Flow]:
        """Every row between some classes, in order of segments, groups and paths."""
        merged: dict[tuple[object, ...], Flow] = {}
        for a, a_tags, a_all in sources:
            for b, b_tags, b_all in destinations:
                if not any(meet(x, y, self.network) for x in a_all for y in b_all):
                    continue
                for path, ways in self.ways_of(a, b):
                    way = None if path is None else (path.nodes, tuple(k.name for k in path.links))
                    flow = self.row(a, a_tags, b, b_tags, path)
                    flow = flow if ways == 1 else replace(flow, ways=ways)
                    key = (flow.source, flow.destination, way)
                    merged[key] = weaker(merged[key], flow) if key in merged else flow
        yield from _grouped(list(merged.values()))

    def paths_of(self, a: Host, b: Host) -> Iterator[Path | None]:
        """The paths of ``ways_of`` without their numbers."""
        return (path for path, _ in self.ways_of(a, b))

    def ways_of(self, a: Host, b: Host) -> Iterator[tuple[Path | None, int]]:
        """All paths between two hosts, each with 1, or None alone where there is none; of more
        than 64 one for all that meet the same points with the same frames, and how many."""
        count = self.paths.count(a.node, b.node)
        if a.segment == b.segment and a.segment is not None and not b.own:
            yield Path((a.node,)), 1
        elif not count:
            yield None, 1
        elif count <= MOST_PATHS:
            yield from ((path, 1) for path in self.paths.between(a.node, b.node))
        else:
            if (a.node, b.node) not in self._alike:
                self._alike[a.node, b.node] = self._alike_paths(a.node, b.node)
            yield from self._alike[a.node, b.node]

    def _alike_paths(self, source: str, destination: str) -> list[tuple[Path, int]]:
        """One path for all that are alike, node by node from the source outward."""
        nodes, paths = self.network.nodes, self.paths
        out, back = paths.costs(source), paths.costs(destination)
        total = out[paths.number[destination]]
        order = sorted(
            (float(out[n]), n, name)
            for name, n in paths.number.items()
            if out[n] + back[n] == total
        )
        judging = {j.point.node for j in self.judges.values()}
        # For each node: (does a frame arrive, what was met so far) → (a path, how many).
        held: dict[str, dict[tuple[bool, tuple[tuple[str, bool], ...]], tuple[Path, int]]] = {
            source: {(nodes[source].marks, ()): (Path((source,)), 1)}
        }
        for _, _, name in order[1:]:
            here = held.setdefault(name, {})
            for before, link in paths.before(source, name):
                carries = link.carries and (before == source or nodes[before].carries)
                for (arrived, met), (path, ways) in held[before].items():
                    arrives = arrived and carries
                    seen = (*met, (name, arrives)) if name in judging else met
                    known = here.get((arrives, seen))
                    if known is None:
                        path = Path((*path.nodes, name), (*path.links, link))
                        here[arrives, seen] = path, ways
                    else:
                        here[arrives, seen] = known[0], known[1] + ways
        return list(held[destination].values())

    def row(
        self,
        a: Host,
        a_tags: Sequence[int],
        b: Host,
        b_tags: Sequence[int],
        path: Path | None,
    ) -> Flow:
        """The row of two classes, judged once for all that are alike in everything that counts."""
        way = None if path is None else (path.nodes, tuple(k.name for k in path.links))
        tables = () if path is None else [self.table_of.get(n) for n in path.nodes]
        seen = tuple(None if t is None else (a_tags[t], b_tags[t]) for t in tables)
        on = () if path is None else tuple(j.point.id for _, j in self.judges_on(path))
        key = (
            a.family, a.segment, a.node, a.group, a.own, b.segment, b.node, b.group, b.own, way,
            seen, on,
        )  # fmt: skip
        if key not in self.memo:
            self.memo[key] = self._judge(a, a_tags, b, b_tags, path)
        return self.memo[key]

    def _judge(
        self, a: Host, a_tags: Sequence[int], b: Host, b_tags: Sequence[int], path: Path | None
    ) -> Flow:
        ends = (a.segment or a.node, a.group), (b.segment or b.node, b.group)
        if path is None:
            return Flow(*ends, None, "unconnected", None, (), {}, {})
        groups, atoms = self.matrix.groups, self.matrix.atoms
        true = groups.tag(a.group), groups.tag(b.group)
        passes = by_cells = atoms.full
        reasons: list[Reason] = []
        amiss: list[Reason] = []
        enforced = observed = None
        met = False
        for hop, judge in self.judges_on(path):
            met = True
            point, node = judge.point, path.nodes[hop]
            why = point.direction(a.segment, b.segment)
            if not point.own and any(h.own and h.node == node for h in (a, b)):
                why = "direction"
            if why is None:
                arrives, table = frame_arrives(path, hop, self.network), self.table_of[node]
                frame = a_tags[self.table_of[path.nodes[0]]] if arrives else 0
                sight = Sight(seen_source(point, frame, a_tags[table]), b_tags[table])
                why = fault(sight, *true, judge.holds(sight))
                if point.mode == "enforce":
                    passes &= judge.allowed(sight)
                    by_cells &= judge.opening(sight)
                    amiss += [Reason(node, why)] if why else []
            if why is not None:
                reasons.append(Reason(node, why))
            elif point.mode == "enforce":
                enforced = node if enforced is None else enforced
            else:
                observed = node if observed is None else observed
        if not met:
            reasons.append(Reason(None, "no-point"))
        should, back = (
            self.matrix.forms[int(self.matrix.action_form[cell])]
            for cell in ((a.group, b.group), (b.group, a.group))
        )
        family = atoms.of_family(a.family)
        answers = passes & ~by_cells & ~should & family
        answers &= atoms.exchanged(back) if answers else 0
        leaks = {a.family: passes & ~should & ~answers & family}
        breaks = {a.family: should & ~passes & family}
        result: Result = "observed" if enforced is None else "enforced"
        at = observed if enforced is None else enforced
        if at is None:
            result, amiss = "unenforced", []
        return Flow(
            *ends, path, result, at, () if at else tuple(reasons), leaks, breaks, bool(answers),
            amiss=tuple(amiss),
        )  # fmt: skip

    def judges_on(self, path: Path) -> Iterator[tuple[int, Judge]]:
        """The points on a path that count, each with its hop."""
        for hop, name in enumerate(path.nodes):
            for point in self.network.nodes[name].points:
                if point.id in self.judges:
                    yield hop, self.judges[point.id]


def weaker(a: Flow, b: Flow) -> Flow:
    """One row for two: the weakest result, the packets of both."""

    def strength(flow: Flow) -> tuple[int, int, int]:
        if flow.path is None:
            return 0, 0, 0
        result = _WEAKEST_FIRST.index(flow.result)
        late = flow.path.nodes.index(flow.at) if flow.at is not None else 0
        return result, ("leak", "break", "exact").index(flow.effect) if result == 0 else 0, -late

    weak = min(a, b, key=strength)
    return replace(
        weak, leaks=_either(a.leaks, b.leaks), breaks=_either(a.breaks, b.breaks),
        open_for_answers=a.open_for_answers or b.open_for_answers,
    )  # fmt: skip


def _either(a: Mapping[int, int], b: Mapping[int, int]) -> dict[int, int]:
    return {family: a.get(family, 0) | b.get(family, 0) for family in sorted({*a, *b})}


def _grouped(flows: Sequence[Flow]) -> Iterator[Flow]:
    """Rows as they are; above 64 equal paths of one pair, one for each result."""
    by_pair: dict[tuple[object, object], list[Flow]] = {}
    for flow in flows:
        by_pair.setdefault((flow.source, flow.destination), []).append(flow)
    for pair in sorted(by_pair, key=str):
        rows = by_pair[pair]
        if sum(flow.ways for flow in rows) <= MOST_PATHS:
            yield from rows
            continue
        alike: dict[object, Flow] = {}
        for flow in rows:
            key = (flow.result, flow.at, flow.causes, flow.effect)
            known = alike.get(key)
            if known is None:
                alike[key] = flow
            else:
                alike[key] = replace(
                    known, ways=known.ways + flow.ways, leaks=_either(known.leaks, flow.leaks),
                    breaks=_either(known.breaks, flow.breaks),
                    open_for_answers=known.open_for_answers or flow.open_for_answers,
                )  # fmt: skip
        yield from alike.values()
