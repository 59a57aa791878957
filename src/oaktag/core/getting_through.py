"""Who really gets through: what becomes of packets between each two classes of hosts.

Rule kept here (semantics, section 6): questions about *who* are asked of each class of hosts that
all tables treat alike, never of a row's union or of one host for all; the answer is what a trace of
every pair would give. Packets that arrive without their answers are told apart from those that get
through.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple, TypeVar

from oaktag.core.judging import dropping
from oaktag.core.model import Model
from oaktag.core.packets import ECHO, ICMP_OF, PORTED, Box, boxes_of, exchanged
from oaktag.core.paths import Path
from oaktag.core.placement import Host
from oaktag.core.population import Class, classes_meet
from oaktag.core.reach import Reach, Reason


class Fates(NamedTuple):
    """What becomes of the packets between two classes on one path (None: nothing joins them), or on
    several alike with the other examples, as masks of atoms of their family: what gets through with
    its answers, what arrives and its answer does not come back, what leaks, and what is dropped
    though it is allowed."""

    a: Class
    b: Class
    path: Path | None
    through: int
    unanswered: int
    leaks: int
    dropped: int
    others: tuple[Path, ...] = ()

    @property
    def arriving(self) -> int:
        """All packets that arrive, meant or not, answered or not."""
        return self.through | self.unanswered | self.leaks


#: Echo requests, which have an answer though no entry may speak of them.
ECHOES = tuple(
    Box(family, (protocol, protocol), (ECHO[family][0],) * 2, (0, 255))
    for family, protocol in ICMP_OF.items()
)
ModelType = TypeVar("ModelType", bound=Model)


def cut_for_answers(model: ModelType, asked: Sequence[Box] = ()) -> ModelType:
    """A workspace with the packet space cut along some packets that are asked about, and along the
    answers of all, as :func:`fates` needs it."""
    every = [*model.boxes(), *asked, *ECHOES]
    return model.cut_along([*every, *exchanged(every)])


def fates(model: Model, sources: Iterable[Host], destinations: Iterable[Host]) -> Iterator[Fates]:
    """What becomes of packets between every two classes that meet, path by path.

    Args:
        model: a workspace that was :func:`cut_for_answers`.
        sources, destinations: hosts of both sides.
    """
    state, atoms, matrix = model.state, model.atoms, model.matrix
    ones, twos = state.classes(sources), state.classes(destinations)
    joined: set[tuple[int, int]] = set()
    for a, b, path, outcome, others in Reach(state, ones, twos).by_class():
        joined.add((id(a), id(b)))
        allowed = matrix.forms[matrix.form(a.host.group, b.host.group)]
        allowed &= atoms.of_family(a.host.family)
        boxes = [_of_both(box) for region in outcome.unanswered for box in boxes_of(region)]
        arrives = allowed & ~outcome.breaks
        lost = atoms.mask(boxes) & arrives if boxes else 0
        yield Fates(a, b, path, arrives & ~lost, lost, outcome.leaks, outcome.breaks, others)
    for a in ones:
        for b in twos:
            if (id(a), id(b)) not in joined and classes_meet(a, b):
                allowed = matrix.forms[matrix.form(a.host.group, b.host.group)]
                yield Fates(a, b, None, 0, 0, 0, allowed & atoms.of_family(a.host.family))


def _of_both(box: Box) -> Box:
    """A box with both families where these share atoms, for nothing tells their ports apart."""
    return box._replace(family=0) if box.protocols[0] in PORTED else box


def causes_of(model: Model, one: Fates) -> tuple[Reason, ...]:
    """Why points on the path do not enforce what is meant, as rows of reach say it; and who drops
    answers."""
    if one.path is None:
        return ()
    reasons: dict[Reason, None] = {}
    met = False
    if one.leaks or one.dropped:
        for meeting in model.state.meetings(one.a, one.b, one.path):
            met = True
            if meeting.why is not None:
                reasons[Reason(one.path.nodes[meeting.hop], meeting.why)] = None
        if not met:
            reasons[Reason(None, "no-point")] = None
    if one.unanswered:
        outs = one.path, *one.others
        for back in model.state.ways_back(one.b, one.a):
            if back is not None:
                for drop, _ in dropping(model.state, one.b, one.a, back, outs, one.unanswered):
                    reasons[Reason(back.nodes[drop.hop], "answer-dropped")] = None
    return tuple(reasons)
