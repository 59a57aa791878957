"""What becomes of answers: the way back of everything that the way out lets pass.

Rules kept here (semantics, section 6): a way back may go round the stateful point that judged the
way out, or meet a point that did not see the way out and drops the answer.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Literal, NamedTuple

from oaktag.core.judging import dropping
from oaktag.core.packets import Packet
from oaktag.core.paths import Path
from oaktag.core.placement import Host
from oaktag.core.reach import Between, Reach, State


class Trouble(NamedTuple):
    """An answer from ``b`` to ``a`` that goes ``round`` a stateful point, or that a point drops;
    ``back`` is its path, ``packet`` an example of it."""

    kind: Literal["round", "dropped"]
    point: str
    a: Host
    b: Host
    out: Path
    back: Path
    packet: Packet


def troubles(state: State, hosts: Iterable[Host]) -> Iterator[Trouble]:
    """Every trouble of answers between classes of hosts."""
    classes = state.classes(hosts)
    for row in Reach(state, classes, classes).by_class():
        several = state.paths.count(row.path.nodes[0], row.path.nodes[-1]) > 1
        if several or row.outcome.unanswered:
            yield from _of(state, row)


def _of(state: State, row: Between) -> Iterator[Trouble]:
    a, b, atoms = row.a, row.b, state.matrix.atoms
    family = a.host.family
    cell = a.host.group, b.host.group
    should = state.matrix.forms[state.matrix.form(*cell)] & atoms.of_family(family)
    arriving = should & ~row.outcome.breaks
    answered = atoms.unanswered(arriving, 0)
    if not answered:
        return
    judged = [
        m.judge
        for m in state.meetings(a, b, row.path)
        if m.judged and m.judge.enforces and m.judge.stateful
    ]
    for back in state.paths_of(b, a):
        if back is None:
            continue
        there = state.flows_kept(back)
        for judge in judged:
            if judge.state not in there:
                packet = answered[0].usual(family).exchanged()
                yield Trouble("round", judge.point.id, a.host, b.host, row.path, back, packet)
        for met, lost in dropping(state, b, a, back, row.path, arriving):
            packet = lost.usual(family).exchanged()
            yield Trouble("dropped", met.judge.point.id, a.host, b.host, row.path, back, packet)
