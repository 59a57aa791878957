"""What becomes of answers: the way back of everything that the way out lets pass.

Rules kept here (semantics, section 6): an answer passes a stateful point that judged the way out;
a stateful point that did not, and a stateless point, judge it as a packet of its own (a stateless
one allows it by the opposite cell, if that is in its list); a way back may go round the stateful
point that judged the way out.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Literal, NamedTuple

from oaktag.core.judging import Sight, frame_arrives, seen_source
from oaktag.core.paths import Path
from oaktag.core.placement import Host, meet
from oaktag.core.reach import State


class Trouble(NamedTuple):
    """An answer that goes ``round`` a stateful point, or that a point drops.

    ``mask`` holds the answers, as packets from ``b`` to ``a``; ``back`` is their path.
    """

    kind: Literal["round", "dropped"]
    point: str
    a: Host
    b: Host
    out: Path
    back: Path
    mask: int


def troubles(state: State, hosts: Iterable[Host]) -> Iterator[Trouble]:
    """Every trouble of answers between classes of hosts.

    The atoms of the state's matrix must be cut along the exchanged boxes too.
    """
    classes = state.classes(hosts)
    atoms = state.matrix.atoms
    for a, a_tags, a_all in classes:
        for b, b_tags, b_all in classes:
            if not any(meet(x, y, state.network) for x in a_all for y in b_all):
                continue
            ways = [p for p in state.paths_of(b, a) if p is not None]
            for out in state.paths_of(a, b):
                if out is None:
                    continue
                judged, passes = _let(state, a, a_tags, b, b_tags, out, frozenset())
                allowed = passes & _form(state, a, b) & atoms.of_family(a.family)
                if not allowed:
                    continue
                answers = atoms.exchanged(allowed)
                for back in ways:
                    met = {j.point.id for _, j in state.judges_on(back)}
                    for name in sorted(judged - met):
                        if state.judges[name].point.stateful:
                            yield Trouble("round", name, a, b, out, back, answers)
                    yield from _drops(state, (b, b_tags), (a, a_tags), back, answers, judged, out)


def _drops(
    state: State,
    b: tuple[Host, Sequence[int]],
    a: tuple[Host, Sequence[int]],
    back: Path,
    answers: int,
    judged: frozenset[str],
    out: Path,
) -> Iterator[Trouble]:
    for hop, judge in state.judges_on(back):
        point = judge.point
        seen = _sight(state, b, a, back, hop, judge.point.id)
        if seen is None or point.mode != "enforce" or (point.stateful and point.id in judged):
            continue
        lost = answers & ~judge.allowed(seen)
        if lost:
            yield Trouble("dropped", point.id, a[0], b[0], out, back, lost)
            answers &= ~lost


def _let(
    state: State,
    a: Host,
    a_tags: Sequence[int],
    b: Host,
    b_tags: Sequence[int],
    path: Path,
    passed: frozenset[str],
) -> tuple[frozenset[str], int]:
    """The enforcing points that judge a path, and the packets that all of them let pass."""
    judged, passes = set(passed), state.matrix.atoms.full
    for hop, judge in state.judges_on(path):
        sight = _sight(state, (a, a_tags), (b, b_tags), path, hop, judge.point.id)
        if sight is not None and judge.point.mode == "enforce":
            judged.add(judge.point.id)
            passes &= judge.allowed(sight)
    return frozenset(judged), passes


def _sight(
    state: State,
    a: tuple[Host, Sequence[int]],
    b: tuple[Host, Sequence[int]],
    path: Path,
    hop: int,
    name: str,
) -> Sight | None:
    """What a point sees; None where it does not judge."""
    point, node = state.judges[name].point, path.nodes[hop]
    if point.direction(a[0].segment, b[0].segment) is not None:
        return None
    if not point.own and any(h.own and h.node == node for h in (a[0], b[0])):
        return None
    arrives, table = frame_arrives(path, hop, state.network), state.table_of[node]
    frame = a[1][state.table_of[path.nodes[0]]] if arrives else 0
    return Sight(seen_source(point, frame, a[1][table]), b[1][table])


def _form(state: State, a: Host, b: Host) -> int:
    return state.matrix.forms[int(state.matrix.action_form[a.group, b.group])]
