"""An address that changes hands: what the network does with packets of its new owner while some
tables still say the old one's tag.

Rules kept here (semantics, section 6): points and marking nodes go by the tables that they have;
what is meant goes by the true groups.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

from oaktag.core.bindings import Lookup
from oaktag.core.knowledge import Knowledge
from oaktag.core.placement import Host
from oaktag.core.reach import State

#: Direction and other group, by index.
Toward = tuple[str, int]
#: Packets that pass though they are denied, and such that are dropped though they are allowed.
Wrong = tuple[int, int]


class Late(Knowledge):
    """What nodes know when some of them have not yet heard of a change."""

    def __init__(self, was: Knowledge, now: Knowledge, late: Collection[str]) -> None:
        self.was, self.now, self.late = was, now, frozenset(late)

    def at(self, node: str) -> Lookup:
        """The table of a node: as it was for those that are late."""
        return (self.was if node in self.late else self.now).at(node)


def inherited(
    now: State, was: Knowledge, late: Collection[str], owner: Host, others: Sequence[Host]
) -> dict[Toward, Wrong]:
    """What goes wrong with packets of an owner while some nodes are late, and not when none is.

    Args:
        now: the network when all have heard of the change.
        was: what nodes knew before.
        late: those that still do.
        owner: the new owner at the address, in its true group.
        others: the hosts that it may meet.
    """
    then = State(now.matrix, now.network, now.paths, Late(was, now.knowledge, late), now.judges)
    held, known = _wrong(then, owner, others), _wrong(now, owner, others)
    found = {}
    for toward, (leaks, breaks) in held.items():
        before = known.get(toward, (0, 0))
        left = leaks & ~before[0], breaks & ~before[1]
        if any(left):
            found[toward] = left
    return found


def _wrong(state: State, owner: Host, others: Iterable[Host]) -> dict[Toward, Wrong]:
    others = list(others)
    found: dict[Toward, Wrong] = {}
    for way, flows in (
        ("to", state.flows([owner], others)), ("from", state.flows(others, [owner])),
    ):  # fmt: skip
        for flow in flows:
            other = flow.destination[1] if way == "to" else flow.source[1]
            before = found.get((way, other), (0, 0))
            leaks, breaks = (of.get(owner.family, 0) for of in (flow.leaks, flow.breaks))
            found[way, other] = before[0] | leaks, before[1] | breaks
    return found
