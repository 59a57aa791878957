"""What a point judges, sees, lets pass, and lets pass as an answer: the one place for it.

Rules kept here (semantics, sections 5, 6 and 8):

* A point judges packets from the segments in ``from`` toward those in ``toward``; inside one
  segment only with ``inside``, to and from its node's own address only with ``own``. Link-local
  and multicast addresses are judged by nobody. ``inside`` is reported before ``direction``.
* The source tag is the frame's where one arrives, else what the point's own bindings say;
  ``if_differ`` says which counts; a point that matches sources by address ignores frames; tag 0
  counts as not known. The destination tag is the point's own bindings'.
* A judging point reports the source before the destination before the cell: ``unknown`` where it
  sees untagged for a tag, else ``wrong``.
* A judged packet whose cell is not in the list meets ``outside``. A stateless point also lets the
  answers pass to what the opposite cell allows.
* An answer passes a stateful point that its packet crossed, or that shares its state.

``Judge`` says this of one packet, ``Points`` of many at once; both ask ``seen_source``, ``fault``
and ``cut_of``. A list that was read back is a ``Judge`` too (``observed``).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from oaktag.core.addresses import is_judged
from oaktag.core.bindings import Lookup
from oaktag.core.groups import Groups
from oaktag.core.matrix import Matrix
from oaktag.core.network import Network, Point, Segment
from oaktag.core.packets import Region
from oaktag.core.paths import Path, Paths
from oaktag.core.placement import Host

if TYPE_CHECKING:
    from oaktag.core.population import Class, Side

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]

#: How a tag is known: not at all, truly, or wrongly (and then as which: WRONG + a number).
UNKNOWN, TRUE, WRONG = 0, 1, 2
#: Why a point on the path does not enforce the true cell; the place is the code on arrays.
WHY = (
    None, "source-unknown", "source-wrong", "destination-unknown", "destination-wrong", "no-cell",
    "direction", "inside", "answer-dropped",
)  # fmt: skip
DIRECTION, INSIDE = 6, 7


class Sight(NamedTuple):
    """The tags that a point sees."""

    source: int
    destination: int


# -- the rules -----------------------------------------------------------------------------------


def seen_source(frame: Any, bound: Any, by_address: Any, frame_first: Any) -> Any:
    """The source tag that counts, of the frame's and the bindings' (0: not known); numbers, or
    arrays of them."""
    first, second = np.where(frame_first, frame, bound), np.where(frame_first, bound, frame)
    return np.where(by_address, bound, np.where(first == 0, second, first))


def fault(source: int, destination: int, held: bool) -> int:
    """What a judging point gets wrong first, as a place in ``WHY``: 0 where it has the true cell.

    Args:
        source, destination: how it knows the two tags.
        held: whether the cell of the tags that it sees is in its list.
    """
    if source != TRUE:
        return 1 if source == UNKNOWN else 2
    if destination != TRUE:
        return 3 if destination == UNKNOWN else 4
    return 0 if held else 5


class Cut(NamedTuple):
    """What an enforcing point lets pass: the packets that a cell of a book allows (``stateless``:
    and answers to the opposite cell), by how it knows the two tags. ``NOTHING`` passes nothing."""

    book: int
    stateless: bool
    source: int
    destination: int


NOTHING = Cut(-1, False, 0, 0)


class Kind(NamedTuple):
    """All that counts of a point once it judges: how it acts, and the book of its cells."""

    enforces: bool
    stateful: bool
    outside: str
    book: int


def cut_of(kind: Kind, source: int, destination: int, held: bool) -> Cut | None:
    """What an enforcing point lets pass of what it judges; None where that is everything."""
    if not kind.enforces:
        return None
    if held:
        return Cut(kind.book, not kind.stateful, source, destination)
    return None if kind.outside == "allow" else NOTHING


def known_as(tag: int, true: int) -> int:
    """How a tag is known, for one packet: which wrong one it is does not matter."""
    return TRUE if tag == true else WRONG if tag else UNKNOWN


# -- one packet ----------------------------------------------------------------------------------


class Book(Protocol):
    """The cells of a list, by places of tags (``State.tags``), as numbers of forms."""

    def opening(self, sources: Ints, destinations: Ints) -> Ints:
        """What each cell itself allows."""

    def allowed(self, sources: Ints, destinations: Ints, *, stateless: bool) -> Ints:
        """The same, with the answers that a stateless point lets pass."""


class Judge:
    """A point's list as far as packets can tell.

    Attributes:
        point: the point, in the mode that counts.
        sources, destinations: the groups whose cells it holds.
        frames: which source tag counts: ``frame`` first, ``bindings`` first, ``ignored``.
        stateful: whether the rest of a flow passes once its first packet crossed it.
        held: whether it is a list that was read back (``observed``): then cells, bindings and
            addresses are those of the list.
    """

    held = False

    def __init__(
        self, point: Point, matrix: Matrix, scope: tuple[Iterable[int], Iterable[int]]
    ) -> None:
        self.point = point
        self.matrix = matrix
        self.sources, self.destinations = frozenset(scope[0]), frozenset(scope[1])
        self.frames = "ignored" if point.source_by == "address" else point.if_differ
        self.stateful = point.stateful
        self.outside = point.outside

    @property
    def enforces(self) -> bool:
        """Whether it acts, or only records."""
        return self.point.mode == "enforce"

    @property
    def state(self) -> str | None:
        """The name of the flows that it knows, which points of one name share; None for a stateless
        point, which knows none."""
        if not self.stateful:
            return None
        return f"shared {self.point.shares_state}" if self.point.shares_state else self.point.id

    # What makes two judges alike on one side: the place of each host is then asked only once.
    @property
    def from_key(self) -> object:
        """What ``judges_from`` depends on."""
        return self.point.origins

    @property
    def to_key(self) -> object:
        """What ``judges_to`` depends on."""
        return self.point.targets

    def judges_from(self, host: Host) -> bool:
        """Whether it judges packets from there."""
        return self.point.origins is None or host.segment in self.point.origins

    def judges_to(self, host: Host) -> bool:
        """Whether it judges packets toward there."""
        return self.point.targets is None or host.segment in self.point.targets

    def within(self, a: Host, b: Host) -> bool:
        """Whether it leaves packets between the two alone, as being inside one segment."""
        return not self.point.inside and a.segment is not None and a.segment == b.segment

    def tables(self, known: Lookup) -> tuple[Lookup, Lookup]:
        """The bindings by which it sees sources and destinations, where its node knows some."""
        return known, known

    def idle(self, a: Host, b: Host) -> int:
        """Why it does not judge packets between two hosts, as a place in ``WHY``; 0: it does."""
        if self.within(a, b):
            return INSIDE
        at_home = any(h.own and h.node == self.point.node for h in (a, b))
        if at_home and not self.point.own:
            return DIRECTION
        if not all(is_judged(h.family, h.address) for h in (a, b)):
            return DIRECTION
        return 0 if self.judges_from(a) and self.judges_to(b) else DIRECTION

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
        if not self.stateful and self.holds(sight):
            back = self._form(Sight(sight.destination, sight.source))
            allowed |= self.matrix.atoms.exchanged(back)
        return allowed

    def opening(self, sight: Sight) -> int:
        """The packets that it lets pass by the cell itself, not as an answer."""
        if not self.holds(sight):
            return self.matrix.atoms.full if self.outside == "allow" else 0
        return self._form(sight)

    def _form(self, sight: Sight) -> int:
        return self.matrix.forms[self.matrix.form(*self._cell(sight))]

    def _cell(self, sight: Sight) -> tuple[int, int]:
        by_tag = self.matrix.groups.by_tag
        return by_tag.get(sight.source, -1), by_tag.get(sight.destination, -1)


class Meeting(NamedTuple):
    """A point on a path, met by a packet: what it sees, and why it does not enforce the true cell
    (None where it does). ``frame`` is the tag that arrives, 0 for none."""

    hop: int
    judge: Judge
    sight: Sight
    frame: int
    judged: bool
    why: str | None


def frame_arrives(path: Path, hop: int, network: Network) -> bool:
    """Whether a tag put into the frame at the path's first node is there still at a hop.

    Every link up to the point, and every node strictly between, must carry tags.
    """
    if hop == 0 or not network.nodes[path.nodes[0]].marks:
        return False
    return all(link.carries for link in path.links[:hop]) and all(
        network.nodes[name].carries for name in path.nodes[1:hop]
    )


class Judged(Protocol):
    """What a walk needs of a state."""

    @property
    def network(self) -> Network:
        """Nodes, segments and links."""

    @property
    def judges(self) -> Mapping[str, Judge]:
        """The points that count."""

    @property
    def matrix(self) -> Matrix:
        """The true decisions."""

    @property
    def table_of(self) -> Mapping[str, int]:
        """The number of the table by which each marking node marks."""

    @property
    def tables_of(self) -> Mapping[str, tuple[int, int]]:
        """The numbers of the tables by which each point sees sources and destinations."""


def judges_on(state: Judged, path: Path) -> Iterator[tuple[int, Judge]]:
    """The points on a path that count, each with its hop."""
    for hop, name in enumerate(path.nodes):
        for point in state.network.nodes[name].points:
            if point.id in state.judges:
                yield hop, state.judges[point.id]


def flows_kept(state: Judged, path: Path) -> set[str]:
    """The names of the flows that points on a path know of what crosses it."""
    return {j.state for _, j in judges_on(state, path) if j.state is not None}


def meetings(state: Judged, a: Class, b: Class, path: Path) -> Iterator[Meeting]:
    """What each point on a path sees of packets between two classes of hosts."""
    groups = state.matrix.groups
    true = groups.tag(a.host.group), groups.tag(b.host.group)
    for hop, judge in judges_on(state, path):
        frame = 0
        if frame_arrives(path, hop, state.network):
            frame = int(a.tags[state.table_of[path.nodes[0]]])
        here = state.tables_of[judge.point.id]
        bound = int(a.tags[here[0]])
        source = seen_source(frame, bound, judge.frames == "ignored", judge.frames == "frame")
        sight = Sight(int(source), int(b.tags[here[1]]))
        why = judge.idle(a.host, b.host)
        judged = why == 0
        if judged:
            known = [known_as(tag, of) for tag, of in zip(sight, true, strict=True)]
            why = fault(known[0], known[1], judge.holds(sight))
        yield Meeting(hop, judge, sight, frame, judged, WHY[why])


def answering(state: Judged, b: Class, a: Class, back: Path, out: Path) -> Iterator[Meeting]:
    """The enforcing points on a way back that judge answers, for they do not know the flow; ``out``
    is the way of the packets."""
    crossed = flows_kept(state, out)
    for met in meetings(state, b, a, back):
        if met.judged and met.judge.enforces and met.judge.state not in crossed:
            yield met


def dropping(
    state: Judged, b: Class, a: Class, back: Path, out: Path, arriving: int
) -> Iterator[tuple[Meeting, Region]]:
    """The points that drop answers on a way back, each with packets whose answers it drops (also
    where one before it drops them already); ``out`` is the way of the packets.

    Args:
        b, a: who answers, and whom.
        arriving: the packets from ``a`` that arrive at ``b``.
    """
    for met in answering(state, b, a, back, out):
        for region in state.matrix.atoms.unanswered(arriving, met.judge.allowed(met.sight))[:1]:
            yield met, region


# -- many packets --------------------------------------------------------------------------------


class Seen(NamedTuple):
    """What points do with packets: arrays of shape [n].

    ``why`` is a place in ``WHY``; ``cut`` the number of what is let pass, 0 for everything;
    ``enforces`` and ``judges`` as for one packet.
    """

    why: Ints
    cut: Ints
    enforces: Flags
    judges: Flags


class Points:
    """All points that count, as arrays, node after node in file order.

    Args:
        state: the network.
        sides: the two sides between which packets go, in either direction.
        cuts: numbers what is let pass; number 0 is everything.
    """

    def __init__(self, state: Any, sides: tuple[Side, Side], cuts: dict[Cut | None, int]) -> None:
        nodes = state.network.nodes
        held = [
            [state.judges[p.id] for p in n.points if p.id in state.judges] for n in nodes.values()
        ]
        self.every: list[Judge] = [judge for here in held for judge in here]
        self.sides = sides
        self._cuts = cuts
        self.count = np.array([len(here) for here in held], dtype=np.int64)
        self.first = np.concatenate([[0], np.cumsum(self.count)[:-1]]).astype(np.int64)
        self.most = int(self.count.max(initial=0))
        self.node = np.repeat(np.arange(len(held)), self.count)
        self.number = {j.point.id: n for n, j in enumerate(self.every)}
        by_address = [j.frames == "ignored" for j in self.every]
        self.by_address = np.array(by_address, dtype=np.bool_)
        self.by_frame = np.array([j.frames == "frame" for j in self.every], dtype=np.bool_)
        self.own = np.array([j.point.own for j in self.every], dtype=np.bool_)
        self.acts = np.array([j.enforces for j in self.every], dtype=np.bool_)
        names: dict[str, int] = {}
        self.state = np.array(
            [-1 if j.state is None else names.setdefault(j.state, len(names)) for j in self.every],
            dtype=np.int64,
        )
        self.shared = len(names) < int((self.state >= 0).sum())
        kinds: dict[Kind, int] = {}
        self.kind = np.array(
            [
                kinds.setdefault(
                    Kind(j.enforces, j.stateful, j.outside, state.books.get(j.point.id, 0)),
                    len(kinds),
                )
                for j in self.every
            ],
            dtype=np.int64,
        )
        self._kinds = list(kinds)
        self._held_by = np.array([k.book for k in self._kinds] or [0], dtype=np.int64)[self.kind]
        self._books: dict[int, Any] = state.held_books
        width = len(state.tags)
        self.source_row, self.source_sets = _sets([j.sources for j in self.every], width)
        self.target_row, self.target_sets = _sets([j.destinations for j in self.every], width)
        self._places(sides)
        self._within = [(n, j) for n, j in enumerate(self.every) if j.held]
        self.inside = np.array([j.point.inside for j in self.every], dtype=np.bool_)
        for n, _ in self._within:
            self.inside[n] = True  # asked one by one
        self._wide = WRONG + len(state.wrongs)
        self._wrongs = np.array([0] * WRONG + state.wrongs, dtype=np.int64)
        size = max(len(self._kinds), 1) * self._wide * self._wide * 2
        self._type = np.full(size, -1, dtype=np.int64)
        self._told: list[tuple[int, int]] = []
        self._table = np.zeros((0, 2), dtype=np.int64)

    def _places(self, sides: tuple[Side, Side]) -> None:
        """Which elements of either side each point judges from, and toward."""
        self.from_row, self.from_flags = self._allowing("from", sides)
        self.to_row, self.to_flags = self._allowing("to", sides)
        whole = np.array([flags.all() for flags in self.to_flags[1]], dtype=np.bool_)
        #: Points that do not judge toward everywhere.
        self.partial = np.array([j.held for j in self.every], dtype=np.bool_)
        self.partial |= ~whole[self.to_row] if len(self.every) else False
        whole = np.array([flags.all() for flags in self.from_flags[0]], dtype=np.bool_)
        #: Points that do not judge from everywhere.
        self.choosy = ~whole[self.from_row] if len(self.every) else self.partial
        self.everywhere = len(self.from_flags[0]) == len(self.to_flags[0]) == 1 and all(
            f.all() for f in (*self.from_flags, *self.to_flags)
        )

    def _allowing(self, word: str, sides: tuple[Side, Side]) -> tuple[Ints, tuple[Flags, Flags]]:
        row: dict[object, int] = {}
        asked: list[Any] = []
        place = []
        for judge in self.every:
            key = getattr(judge, f"{word}_key")
            if key not in row:
                row[key] = len(asked)
                asked.append(None if key is None else getattr(judge, f"judges_{word}"))
            place.append(row[key])
        flags = tuple(
            np.array(
                [
                    np.ones(len(side.hosts), dtype=np.bool_)
                    if ask is None
                    else np.array([ask(h) for h in side.hosts], dtype=np.bool_)
                    for ask in asked
                ],
                dtype=np.bool_,
            ).reshape(len(asked), len(side.hosts))
            for side in sides
        )
        return np.array(place, dtype=np.int64), (flags[0], flags[1])

    def idle(self, p: Ints, a: int, es: Ints, ed: Ints, *, crossing: bool = False) -> Ints:
        """Why points do not judge, as places in ``WHY``, 0 where they do.

        Args:
            p: numbers of points, shape [n].
            a: the side of the sources, 0 or 1; the destinations are of the other.
            es, ed: elements of these sides, shape [n].
            crossing: the ends are known to be on different segments.
        """
        one, two = self.sides[a], self.sides[1 - a]
        found = np.zeros(len(p), dtype=np.int64)
        if not self.everywhere:
            judged = self.from_flags[a][self.from_row[p], es]
            judged &= self.to_flags[1 - a][self.to_row[p], ed]
            found = np.where(judged, 0, DIRECTION)
        if one.odd or two.odd:
            node = self.node[p]
            home = one.own[es] & (one.node[es] == node) | two.own[ed] & (two.node[ed] == node)
            apart = one.unjudged[es] | two.unjudged[ed]
            found = np.where(home & ~self.own[p] | apart, DIRECTION, found)
        if not crossing or one.odd or two.odd:
            inner = (one.segment[es] == two.segment[ed]) & (one.segment[es] >= 0)
            found = np.where(inner & ~self.inside[p], INSIDE, found)
        for number, judge in self._within:
            mine = np.flatnonzero(p == number)
            for n in mine.tolist():
                if judge.within(one.hosts[es[n]], two.hosts[ed[n]]):
                    found[n] = INSIDE
        return found

    def seen(
        self, view: View, p: Ints, a: int, es: Ints, ed: Ints, arrives: Flags | bool
    ) -> tuple[Ints, Ints]:
        """Of packets that points judge: why they do not enforce the true cell, as places in
        ``WHY``, and the number of what they let pass."""
        one, two = self.sides[a], self.sides[1 - a]
        bound = one.seen[es, view.source_table[p]]
        frame = np.where(arrives, view.frames[a][es], 0)
        source = seen_source(frame, bound, self.by_address[p], self.by_frame[p])
        source = np.where((source == 0) & one.untagged[es], TRUE, source)
        target = two.seen[ed, view.target_table[p]]
        target = np.where((target == 0) & two.untagged[ed], TRUE, target)
        places = [
            np.where(known == TRUE, side.group[elements], self._wrongs[known])
            for known, side, elements in ((source, one, es), (target, two, ed))
        ]
        held = self.source_sets[self.source_row[p], places[0]]
        held &= self.target_sets[self.target_row[p], places[1]]
        if self._books:
            held = held.copy()
            for n in np.flatnonzero(self._held_by[p] > 0).tolist():
                book = self._books[int(self._held_by[p[n]])]
                held[n] = book.holds(int(places[0][n]), int(places[1][n]))
        code = ((self.kind[p] * self._wide + source) * self._wide + target) * 2 + held
        kinds = self._type[code]
        if (kinds < 0).any():
            for fresh in np.unique(code[kinds < 0]).tolist():
                self._type[fresh] = len(self._told)
                self._told.append(self._tell(fresh))
            self._table = np.array(self._told, dtype=np.int64)
            kinds = self._type[code]
        return self._table[kinds, 0], self._table[kinds, 1]

    def _tell(self, code: int) -> tuple[int, int]:
        rest, held = divmod(code, 2)
        rest, target = divmod(rest, self._wide)
        kind, source = divmod(rest, self._wide)
        cut = cut_of(self._kinds[kind], source, target, bool(held))
        return fault(source, target, bool(held)), self._cuts.setdefault(cut, len(self._cuts))

    def judged(
        self, view: View, p: Ints, a: int, es: Ints, ed: Ints, arrives: Flags | bool,
        *, crossing: bool = False,
    ) -> Seen:  # fmt: skip
        """What points do with packets, whether they judge them or not."""
        why, cut = self.seen(view, p, a, es, ed, arrives)
        acts = self.acts[p]
        judges = np.ones(len(p), dtype=np.bool_)
        if not crossing or not self.everywhere or self._within or any(s.odd for s in self.sides):
            idle = self.idle(p, a, es, ed, crossing=crossing)
            judges = idle == 0
            why, cut = np.where(judges, why, idle), np.where(judges, cut, 0)
        if view.lost >= 0:
            gone = p == view.lost
            why, cut = np.where(gone, 0, why), np.where(gone, 0, cut)
            judges = judges & ~gone
        return Seen(why, cut, acts & judges, judges)

    def may_cut(self, view: View, a: int, ed: Ints, p: Ints | slice = slice(None)) -> Flags:
        """Which points (some of them) might drop something toward elements, whatever comes; shape
        [elements, points]."""
        two = self.sides[1 - a]
        elements = ed[:, None]
        target = two.seen[elements, view.target_table[p]]
        target = np.where((target == 0) & two.untagged[elements], TRUE, target)
        place = np.where(target == TRUE, two.group[elements], self._wrongs[target])
        held = self.target_sets[self.target_row[p], place] | (self._held_by[p] > 0)
        deny = np.array([k.outside == "deny" for k in self._kinds] or [False])[self.kind[p]]
        cuts: Flags = self.acts[p] & (held | deny)
        return cuts


class View(NamedTuple):
    """Which table of bindings each point goes by, for sources and for destinations; the tag, as it
    is known, that elements of either side put into frames; a point that is lost (-1: none)."""

    source_table: Ints
    target_table: Ints
    frames: tuple[Ints, Ints]
    lost: int = -1


def _sets(held: Sequence[frozenset[int]], width: int) -> tuple[Ints, Flags]:
    """Sets of groups as rows of flags, and the row of each."""
    row: dict[frozenset[int], int] = {}
    place = np.array([row.setdefault(groups, len(row)) for groups in held], dtype=np.int64)
    flags = np.zeros((max(len(row), 1), width), dtype=np.bool_)
    for groups, number in row.items():
        flags[number, list(groups)] = True
    return place, flags


# -- scopes --------------------------------------------------------------------------------------


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
) -> tuple[list[int], list[int]]:
    """Indices of the source and destination groups whose cells the point holds.

    Args:
        point: the point.
        groups: all groups.
        network: the network.
        paths: its least-cost paths.
        placed: segment → the groups of all hosts there, known or unknown.
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
