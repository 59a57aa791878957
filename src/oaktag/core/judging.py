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

``Judge`` says this of one packet, ``judging_many.Points`` of many at once; both ask
``seen_source``, ``fault`` and ``cut_of``. A list that was read back is a ``Judge`` too
(``observed``).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from copy import copy
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from oaktag.core.addresses import is_judged
from oaktag.core.bindings import Lookup
from oaktag.core.matrix import Matrix
from oaktag.core.network import Network, Point
from oaktag.core.packets import Region
from oaktag.core.paths import Path
from oaktag.core.placement import Host

if TYPE_CHECKING:
    from oaktag.core.population import Class

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


class Acting(NamedTuple):
    """All that counts of a point once it judges: how it acts, and the book of its cells."""

    enforces: bool
    stateful: bool
    outside: str
    book: int


def cut_of(kind: Acting, source: int, destination: int, held: bool) -> Cut | None:
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

    def under(self, matrix: Matrix) -> Judge:
        """The same point, compiled for another matrix of the same groups."""
        other = copy(self)
        other.matrix = matrix
        return other

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
        return self.point.origins, self.point.families

    @property
    def to_key(self) -> object:
        """What ``judges_to`` depends on."""
        return self.point.targets

    def judges_from(self, host: Host) -> bool:
        """Whether it judges packets from there."""
        if host.family not in self.point.families:
            return False
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


def answering(
    state: Judged, b: Class, a: Class, back: Path, outs: Sequence[Path]
) -> Iterator[Meeting]:
    """The enforcing points on a way back that judge answers, for they do not know the flow over one
    of some ways out."""
    crossed = set.intersection(*(flows_kept(state, out) for out in outs))
    for met in meetings(state, b, a, back):
        if met.judged and met.judge.enforces and met.judge.state not in crossed:
            yield met


def dropping(
    state: Judged, b: Class, a: Class, back: Path, outs: Sequence[Path], arriving: int
) -> Iterator[tuple[Meeting, Region]]:
    """The points that drop answers on a way back, each with packets whose answers it drops (also
    where one before it drops them already), where the packets took one of some ways out.

    Args:
        b, a: who answers, and whom.
        arriving: the packets from ``a`` that arrive at ``b``.
    """
    for met in answering(state, b, a, back, outs):
        for region in state.matrix.atoms.unanswered(arriving, met.judge.allowed(met.sight))[:1]:
            yield met, region
