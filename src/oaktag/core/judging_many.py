"""What points judge, see and let pass of many packets at once, on arrays; the rules are those of
``judging``, and asked there.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from oaktag.core.arrays import Flags, Ints, np
from oaktag.core.judging import (
    DIRECTION,
    INSIDE,
    TRUE,
    WRONG,
    Acting,
    Cut,
    Judge,
    cut_of,
    fault,
    seen_source,
)

if TYPE_CHECKING:
    from oaktag.core.population import Side


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
        kinds: dict[Acting, int] = {}
        self.kind = np.array(
            [
                kinds.setdefault(
                    Acting(j.enforces, j.stateful, j.outside, state.books.get(j.point.id, 0)),
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
