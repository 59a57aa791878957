"""Do tags reach every point on every path, and what does the network do where they do not?

Rules kept here (semantics, sections 6 and 8): each (source segment and group) → (destination
segment and group) and path has a result, a place, reasons and an effect. Where addresses of one
group fare differently: the weakest result (of several enforced, the one latest on the path), the
worst effect. Above 64 equal paths of one pair, rows are grouped by result.

Rows are made from batches: pairs of units (``population``) and paths, walked at once (``walks``).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from copy import copy
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.batches import Batch, Batches
from oaktag.core.bindings import Lookup
from oaktag.core.effects import EFFECTS, Effect, Member, Outcome, either
from oaktag.core.judging import Judge, Meeting, dropping, flows_kept, meetings
from oaktag.core.knowledge import Knowledge
from oaktag.core.many_paths import Crowd
from oaktag.core.matrix import Matrix
from oaktag.core.network import Network
from oaktag.core.packets import Region
from oaktag.core.paths import MOST_PATHS, Path, Paths
from oaktag.core.placement import Host
from oaktag.core.population import Class, classes, place_of

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]
Result = Literal["enforced", "observed", "unenforced", "unconnected"]
RESULTS: tuple[Result, ...] = ("unenforced", "observed", "enforced")


class Reason(NamedTuple):
    """Why a flow is not enforced at a node; ``no-point`` has no node."""

    node: str | None
    why: str


@dataclass(frozen=True, slots=True)
class Flow:
    """One row of reach.

    ``leaks`` and ``breaks`` are masks of atoms by family, ``unanswered`` regions of packets that
    arrive and whose answers are dropped; ``path`` is None where the ends are not connected;
    ``open_for_answers`` says that stateless points let denied packets pass as answers to what is
    allowed the other way; ``ways`` counts the paths that a grouped row stands for; ``amiss`` holds
    what a row's effect comes from, where that is no reason why it is not enforced: what enforcing
    points see wrongly, and who drops answers.
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
    unanswered: tuple[Region, ...] = ()

    @property
    def causes(self) -> tuple[Reason, ...]:
        """What its effect comes from."""
        if self.effect == "one-way":
            return tuple(r for r in self.amiss if r.why == "answer-dropped")
        return self.reasons or tuple(r for r in self.amiss if r.why != "answer-dropped")

    @property
    def effect(self) -> Effect:
        """What the network does, against what the matrix says of the true groups."""
        if any(self.leaks.values()):
            return "leak"
        if any(self.breaks.values()):
            return "break"
        return "one-way" if self.unanswered else "exact"

    @property
    def cut_off(self) -> bool:
        """Whether nothing joins its ends."""
        return self.path is None


class State:
    """A network with what its nodes know and what its points hold.

    Args:
        matrix: the decisions, by true groups.
        network: nodes, segments, links.
        paths: its least-cost paths.
        knowledge: what each node knows.
        judges: point id → its list; points that are off are left out.
        tables: more tables of bindings by which hosts shall be told apart.

    Attributes:
        tags: the tags that somebody is known by, groups' first; ``wrongs`` are places in it.
    """

    def __init__(
        self,
        matrix: Matrix,
        network: Network,
        paths: Paths,
        knowledge: Knowledge,
        judges: Mapping[str, Judge],
        tables: Iterable[Lookup] = (),
    ) -> None:
        self.matrix = matrix
        self.network = network
        self.paths = paths
        self.knowledge = knowledge
        self.judges = {i: j for i, j in judges.items() if j.point.mode != "off"}
        self._more = tuple(tables)
        self._examples: dict[tuple[str, str], tuple[Path, ...]] = {}
        self.tags = matrix.groups.tags.tolist()
        self._place = {tag: n for n, tag in enumerate(self.tags)}
        self.wrongs: list[int] = []
        self._wrong: dict[int, int] = {}
        self._held = [j for j in self.judges.values() if j.held]
        self.books = {j.point.id: n + 1 for n, j in enumerate(self._held)}
        #: Lists that were read back may differ in every cell: then each group is a unit.
        self.by_group = bool(self._held)

    def moved(self, network: Network, paths: Paths, knowledge: Knowledge) -> State:
        """The same points in a network of the same nodes and segments."""
        if knowledge is not self.knowledge:
            return State(self.matrix, network, paths, knowledge, self.judges)
        moved = copy(self)  # what was worked out holds there too
        moved.network, moved.paths, moved._examples = network, paths, {}
        return moved

    @cached_property
    def segment_numbers(self) -> dict[str, int]:
        """The number of each segment, in file order."""
        return {name: n for n, name in enumerate(self.network.segments)}

    @cached_property
    def held_books(self) -> dict[int, Any]:
        """The books of lists that were read back."""
        return {n + 1: j.book_of(self.tags) for n, j in enumerate(self._held)}  # type: ignore[attr-defined]

    @cached_property
    def _seats(self) -> dict[str, tuple[Lookup, Lookup]]:
        return {
            name: judge.tables(self.knowledge.at(judge.point.node))
            for name, judge in self.judges.items()
        }

    @cached_property
    def tables(self) -> list[Lookup]:
        """All tables by which points and marking nodes go, each once."""
        network = self.network
        marking = [self.knowledge.at(n.name) for n in network.nodes.values() if n.marks]
        every = [t for pair in self._seats.values() for t in pair]
        found = list({id(t): t for t in (*every, *marking, *self._more)}.values())
        known = set(self.tags)
        for table in found:
            for tag in sorted({*np.unique(table.bindings.tags).tolist()} - known):
                known.add(tag)
                self._place[tag] = len(self.tags)
                self.tags.append(tag)
        return found

    @cached_property
    def _table_number(self) -> dict[int, int]:
        return {id(table): n for n, table in enumerate(self.tables)}

    @cached_property
    def table_of(self) -> dict[str, int]:
        """The number of the table by which each marking node marks."""
        return {
            n.name: self._table_number[id(self.knowledge.at(n.name))]
            for n in self.network.nodes.values()
            if n.marks
        }

    @cached_property
    def tables_of(self) -> dict[str, tuple[int, int]]:
        """The numbers of the tables by which each point sees sources and destinations."""
        return {
            name: (self._table_number[id(a)], self._table_number[id(b)])
            for name, (a, b) in self._seats.items()
        }

    def wrong(self, tag: int) -> int:
        """The number of a tag that somebody is wrongly known by."""
        if tag not in self._wrong:
            self._wrong[tag] = len(self.wrongs)
            self.wrongs.append(self._place[tag])
        return self._wrong[tag]

    def classes(self, hosts: Iterable[Host]) -> list[Class]:
        """Hosts that fare alike; the tags of each by ``tables``."""
        marks = [t for j in self._held for t in j.marks]  # type: ignore[attr-defined]
        return classes(hosts, [*self.tables, *marks])

    def flows(self, sources: Iterable[Host], destinations: Iterable[Host]) -> Iterator[Flow]:
        """Every row between the hosts, in order of segments, groups and paths."""
        ones = list(sources)
        twos = ones if destinations is sources else list(destinations)
        held = self.classes(ones)
        yield from self.rows(held, held if twos is ones else self.classes(twos))

    def wrong_flows(self, hosts: Iterable[Host]) -> list[Flow]:
        """The rows between the hosts that are not exact or are cut off, in the same order."""
        held = self.classes(list(hosts))
        reach = Reach(self, held, held)
        return sorted((f for b in reach.batches() for f in reach.wrong_in(b)), key=_order)

    def wrong_flows_under(
        self, hosts: Iterable[Host], matrix: Matrix
    ) -> tuple[list[Flow], list[Flow]]:
        """The same, as it is and as another matrix of the same groups would have it, between those
        groups for whose packets the two come to different things on some path."""
        held = self.classes(list(hosts))
        reach = Reach(self, held, held)
        other = reach.under(matrix)
        batches = list(reach.batches())
        unlike = reach.effects.unlike(other.effects)
        one, two = (
            sorted((f for b in batches for f in r.wrong_in(b, unlike)), key=_order)
            for r in (reach, other)
        )
        return one, two

    def under(self, matrix: Matrix) -> State:
        """The same network where every point was compiled for another matrix of the same groups."""
        other = copy(self)
        other.matrix = matrix
        other.judges = {i: j if j.held else j.under(matrix) for i, j in self.judges.items()}
        return other

    def rows(self, sources: Sequence[Class], destinations: Sequence[Class]) -> Iterator[Flow]:
        """Every row between some classes, in order of segments, groups and paths."""
        found = list(Reach(self, sources, destinations).flows())
        yield from sorted(found, key=_order)

    def meetings(self, a: Class, b: Class, path: Path) -> Iterator[Meeting]:
        """What each point on a path sees of packets between two classes."""
        return meetings(self, a, b, path)

    def flows_kept(self, path: Path) -> set[str]:
        """The names of the flows that points on a path know of what crosses it."""
        return flows_kept(self, path)

    def paths_of(self, a: Class, b: Class) -> Iterator[Path | None]:
        """All paths between two classes, or None alone where there is none; of more than 64
        examples of each kind, which meet and go round together what all do."""
        ends = a.host.node, b.host.node
        if inside(a.host, b.host) or self.paths.count(*ends) <= MOST_PATHS:
            yield from self.ways_back(a, b)
            return
        for paths, *_ in Crowd(self, *ends).rows(Reach(self, [a], [b]), [(0, 0)]):
            yield from paths

    def ways_back(self, b: Class, a: Class) -> Iterator[Path | None]:
        """The paths that answers take: the same, but of more than 64 so many as meet and go round
        together what all do."""
        ends = b.host.node, a.host.node
        count = self.paths.count(*ends)
        if inside(b.host, a.host):
            yield Path((ends[0],))
        elif not count:
            yield None
        elif count <= MOST_PATHS:
            yield from self.paths.between(*ends)
        else:
            if ends not in self._examples:
                self._examples[ends] = Crowd(self, *ends).examples()
            yield from self._examples[ends]


def inside(a: Host, b: Host) -> bool:
    """Whether packets between two hosts stay inside one segment."""
    return a.segment is not None and a.segment == b.segment and not (a.own or b.own)


def _order(flow: Flow) -> tuple[object, ...]:
    way = () if flow.path is None else (flow.path.nodes, tuple(k.name for k in flow.path.links))
    return flow.source, flow.destination, way, flow.result, flow.at or ""


class Place(NamedTuple):
    """Where rows are: the path (None: not connected), what becomes of their members there, and the
    two units."""

    path: Path | None
    members: Sequence[tuple[Member, int, int, Result, str | None]]
    units: tuple[int, int]


class Between(NamedTuple):
    """What becomes of packets between two classes on one path, or on several alike: then the others
    are examples of them, which with the first meet and go round together what all do."""

    a: Class
    b: Class
    path: Path
    outcome: Outcome
    others: tuple[Path, ...] = ()

    @property
    def paths(self) -> tuple[Path, ...]:
        """The path and the other examples."""
        return self.path, *self.others


class Reach(Batches):
    """All rows between two sides."""

    def grouped(self, batch: Batch) -> Iterator[Flow]:
        """Rows over more than 64 paths, grouped by result."""
        for found, other in batch.crowded:
            for g, h in self.pairs(batch.source, other):
                yield from self._grouped(found, g, h)

    def _grouped(self, found: list[Any], g: int, h: int) -> Iterator[Flow]:
        alike: dict[object, Flow] = {}
        for done in found:
            flow = self._row(g, h, *done)
            key = flow.result, flow.at, flow.causes[-1:], flow.effect
            known = alike.get(key)
            alike[key] = flow if known is None else replace(
                known, ways=known.ways + flow.ways, leaks=either(known.leaks, flow.leaks),
                breaks=either(known.breaks, flow.breaks),
                unanswered=tuple(dict.fromkeys((*known.unanswered, *flow.unanswered))),
                open_for_answers=known.open_for_answers or flow.open_for_answers,
            )  # fmt: skip
        yield from alike.values()

    # -- rows ------------------------------------------------------------------------------------

    def pairs(self, unit: int, other: int) -> list[tuple[int, int]]:
        """The groups of two units that are a row together."""
        return [
            (g, h)
            for g in self.one.groups[unit].tolist()
            for h in self.two.groups[other].tolist()
            if not (g == h and self.alone(unit, other, g, h))
        ]

    def alone(self, unit: int, other: int, g: int, h: int) -> bool:
        """Whether two groups of two units are one group that does not meet itself there."""
        block = self.one.blocks[int(self.one.block[unit])]
        same = g == h and block == self.two.blocks[int(self.two.block[other])]
        return same and (block, g) in self.company.lonely

    def flows(self) -> Iterator[Flow]:
        """Every row."""
        for batch in self.batches():
            yield from self.grouped(batch)
            yield from self.rows(batch)

    def under(self, matrix: Matrix) -> Reach:
        """What reads the same batches as another matrix of the same groups would have them."""
        other = copy(self)
        other.state, other.effects = self.state.under(matrix), self.effects.under(matrix)
        other._said = {}
        return other

    def wrong_in(self, batch: Batch, between: Flags | None = None) -> Iterator[Flow]:
        """Every row of a batch that is not exact or is cut off; no other is made.

        Args:
            batch: the batch.
            between: the groups between which there are to be rows, shape [G+1, G+1], where there
                are not more than 64 paths; None: all.
        """
        yield from (flow for flow in self.grouped(batch) if flow.effect != "exact")
        self._said.clear()
        groups = self.one.groups[batch.source]
        asked = self.effects.placed
        if between is not None:
            asked = asked[between[np.ix_(groups, asked)].any(axis=0)]
        for mix in np.unique(batch.mix).tolist():
            places = np.flatnonzero(batch.mix == mix).tolist()
            if mix >= 0 and not self.effects.cells(mix, groups, asked)[0].any():
                continue
            for n in places:
                pairs = self.pairs(batch.source, int(batch.unit[n]))
                if between is not None:
                    pairs = [pair for pair in pairs if between[pair]]
                if mix >= 0:
                    pairs = [(g, h) for g, h in pairs if self.is_wrong(mix, g, h)]
                if pairs:
                    yield from self.chosen(batch, n, pairs)

    def is_wrong(self, mix: int, g: int, h: int) -> bool:
        """Whether what a mix does between two groups is not exact."""
        return any(self.effects.outcome(m, g, h).code for m in self.effects.mixes[mix])

    def by_class(self) -> Iterator[Between]:
        """What becomes of packets between every two classes, on every path."""
        for batch in self.batches():
            for n in np.flatnonzero(batch.entry >= 0).tolist():
                path = self.trees.path(batch.tree, int(batch.entry[n]))
                yield from self._classes(
                    batch, int(batch.unit[n]), path, self.members_on(batch, n, path)
                )
            for found, other in batch.crowded:
                for (path, *others), members, *_ in found:
                    yield from self._classes(batch, other, path, members, tuple(others))

    def _classes(
        self,
        batch: Batch,
        other: int,
        path: Path,
        members: Sequence[Any],
        others: tuple[Path, ...] = (),
    ) -> Iterator[Between]:
        for g, h in self.pairs(batch.source, other):
            for member, es, ed, *_ in members:
                outcome = self.effects.outcome(member, g, h)
                for a in self.one.classes_of(es, g):
                    for b in self.two.classes_of(ed, h):
                        yield Between(a, b, path, outcome, others)

    def rows(self, batch: Batch, only: Sequence[int] | None = None) -> Iterator[Flow]:
        """The rows of a batch, or of some places in it."""
        self._said.clear()
        for n in range(len(batch.entry)) if only is None else only:
            yield from self.chosen(batch, n, self.pairs(batch.source, int(batch.unit[n])))

    def chosen(self, batch: Batch, n: int, pairs: Sequence[tuple[int, int]]) -> Iterator[Flow]:
        """The rows of one place in a batch, between some groups."""
        place = self.place(batch, n)
        for g, h in pairs:
            yield self.row_between(g, h, place)

    def place(self, batch: Batch, n: int) -> Place:
        """All that rows of one place in a batch have in common."""
        units = batch.source, int(batch.unit[n])
        if batch.entry[n] < 0:
            return Place(None, (), units)
        path = self.trees.path(batch.tree, int(batch.entry[n]))
        return Place(path, tuple(self.members_on(batch, n, path)), units)

    def row_between(self, g: int, h: int, place: Place) -> Flow:
        """The row of two groups there."""
        paths = () if place.path is None else (place.path,)
        return self._row(g, h, paths, place.members, 1, place.units)

    def members_on(
        self, batch: Batch, n: int, path: Path
    ) -> list[tuple[Member, int, int, Result, str | None]]:
        """The members of one place in a batch: elements, and result and place of each."""
        found: list[tuple[Member, int, int, Result, str | None]] = []
        for place, member in enumerate(self.effects.mixes[int(batch.mix[n])]):
            m = int(batch.first[n]) + place
            hop = int(batch.members.hop[m])
            result = RESULTS[int(batch.members.result[m])]
            es, ed = (int(side[m]) for side in batch.elements)
            found.append((member, es, ed, result, path.nodes[hop] if hop >= 0 else None))
        return found

    def _row(
        self,
        g: int,
        h: int,
        paths: tuple[Path, ...],
        members: Sequence[tuple[Member, int, int, Result, str | None]],
        ways: int,
        units: tuple[int, int],
    ) -> Flow:
        blocks = [
            side.blocks[int(side.block[u])]
            for side, u in zip((self.one, self.two), units, strict=True)
        ]
        source, destination = ((place_of(b), x) for b, x in zip(blocks, (g, h), strict=True))
        if not paths:
            return Flow(source, destination, None, "unconnected", None, (), {}, {}, ways=ways)
        outcomes = [self.effects.outcome(m, g, h) for m, *_ in members]
        best = max(
            (n for n, m in enumerate(members) if m[0].counts),
            key=lambda n: (outcomes[n].code, -n),
        )
        worst = max(o.code for o in outcomes)
        blamed = (
            best
            if outcomes[best].code == worst
            else max(range(len(members)), key=lambda n: (outcomes[n].code, -n))
        )
        _, es, ed, result, at = members[best]
        path = paths[0]
        reasons, amiss = self._told(path, es, ed, g, h)
        if result != "unenforced":
            reasons = ()
        else:
            amiss = ()
        if EFFECTS[worst] == "one-way":
            member, es, ed, *_ = members[blamed]
            arriving = self.effects.should(member.family, g, h) & ~outcomes[blamed].breaks
            amiss = (*amiss, *self._droppers(paths, es, ed, g, h, arriving))
        leaks: dict[int, int] = {}
        breaks: dict[int, int] = {}
        unanswered: dict[Region, None] = {}
        for (member, *_), outcome in zip(members, outcomes, strict=True):
            leaks = either(leaks, {member.family: outcome.leaks})  # IPv4 first, whoever comes first
            breaks = either(breaks, {member.family: outcome.breaks})
            unanswered.update(dict.fromkeys(outcome.unanswered))
        return Flow(
            source, destination, path, result, at, reasons, leaks, breaks,
            any(o.open_for_answers for o in outcomes), ways, amiss, tuple(unanswered),
        )  # fmt: skip

    def _told(
        self, path: Path, es: int, ed: int, g: int, h: int
    ) -> tuple[tuple[Reason, ...], tuple[Reason, ...]]:
        """Why a row is not enforced, and what is amiss at points that enforce."""
        # What is told is the same for all groups of a unit; the path is kept, for its identity.
        key = id(path), es, ed
        if key not in self._said:
            a, b = self.one.classes_of(es, g)[0], self.two.classes_of(ed, h)[0]
            reasons: list[Reason] = []
            amiss: list[Reason] = []
            met = False
            for one in self.state.meetings(a, b, path):
                met = True
                if one.why is not None:
                    reasons.append(Reason(path.nodes[one.hop], one.why))
                    if one.judged and one.judge.enforces:
                        amiss.append(reasons[-1])
            if not met:
                reasons.append(Reason(None, "no-point"))
            self._said[key] = tuple(reasons), tuple(amiss), path
        found = self._said[key]
        return found[0], found[1]

    def _droppers(
        self, paths: tuple[Path, ...], es: int, ed: int, g: int, h: int, arriving: int
    ) -> tuple[Reason, ...]:
        """Who drops the answers to packets that arrive."""
        a, b = self.one.classes_of(es, g)[0], self.two.classes_of(ed, h)[0]
        found: dict[Reason, None] = {}
        for back in self.state.ways_back(b, a):
            if back is not None:
                for met, _ in dropping(self.state, b, a, back, paths, arriving):
                    found[Reason(back.nodes[met.hop], "answer-dropped")] = None
        return tuple(found)
