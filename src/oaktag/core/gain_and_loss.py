"""Who gains and who loses between two versions, pair by pair of beings, with the cause.

Rules kept here (semantics, section 4): for each pair of endpoints that both versions know, and of
unknown hosts by segment and stretch, the packets that change from deny to allow (gained) and back
(lost), whatever the cause. Endpoints that fare alike are one row. An endpoint that only one version
knows is new or gone. What fares the same for everybody is no gain and no loss. A node's own address
is a being like any other.

Beings are told apart only by the groups that they have in the two versions: all of one *kind* gain
and lose the same. An endpoint without a group has at each of its addresses the group that the
registry's look-up gives there (section 3).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.bindings import FAMILIES
from oaktag.core.comparison import renamed, spoken_cells
from oaktag.core.groups import ITSELF, STAR, UNTAGGED
from oaktag.core.lines import Permission
from oaktag.core.matrix import Matrix, Piece
from oaktag.core.model import Model
from oaktag.core.placement import (
    cuts_between,
    free_address,
    network_bounds,
    node_hosts,
    stretches_of,
    taken_addresses,
)
from oaktag.core.ranges import distinct
from oaktag.located import Location

Ints = NDArray[np.int64]
CauseKind = Literal["line", "permission", "service", "set", "default", "move"]
#: So many pairs of kinds have their cause looked for one by one; beyond, pairs of the same two
#: forms share the cause of the first of them.
MOST_CAUSES = 5_000
#: So many pairs are compared at a time.
CHUNK = 1 << 22


class Being(NamedTuple):
    """Somebody who is not an endpoint: a node, or the unknown hosts of a segment in a group."""

    kind: Literal["node", "unknown"]
    name: str
    group: str


class Cause(NamedTuple):
    """Why somebody gains or loses: a place in the files, or a move of endpoints: the first of them,
    and how many move so."""

    kind: CauseKind
    location: Location
    endpoint: str = ""
    was: str = ""
    now: str = ""
    movers: int = 0


@dataclass
class Kind:
    """Beings of the same groups in both versions: of each its place in the older version and in the
    newer one; several groups are those of different addresses of one being."""

    was: tuple[int, ...]
    now: tuple[int, ...]
    endpoints: Ints = field(default_factory=lambda: np.empty(0, dtype=np.int64))
    beings: list[Being] = field(default_factory=list)


class Row(NamedTuple):
    """Kinds of sources and of destinations between which the same packets change, of one cause."""

    sources: tuple[int, ...]
    destinations: tuple[int, ...]
    packets: int
    cause: Cause


class Found(NamedTuple):
    """Everything that two versions do otherwise for somebody."""

    kinds: Sequence[Kind]
    gained: Sequence[Row]
    lost: Sequence[Row]
    #: Rows of the newer version's endpoints that the older has not, and the other way round.
    new: Ints
    gone: Ints


def compare_people(was: Model, now: Model) -> Found:
    """Who gains and who loses from one version to another.

    Args:
        was, now: two versions over the same atoms.

    Raises:
        ValueError: the two are cut along different atoms.
    """
    if was.atoms is not now.atoms:
        raise ValueError("both versions must be cut along the same atoms")
    return _Comparison(was, now).found()


class _Comparison:
    def __init__(self, was: Model, now: Model) -> None:
        self.was, self.now = was, now
        new_names = renamed(was.groups, now.groups)
        index = now.groups.index
        #: The place in the newer version of each group of the older one; -1 where it is gone.
        self.place = np.array(
            [index.get(new_names.get(g.id, g.id), -1) for g in was.groups.all], dtype=np.int64
        )
        self.causes = _Causes(was, now)

    def found(self) -> Found:
        """All kinds, rows, and those whom one version alone knows."""
        kinds, new, gone = self._kinds()
        self.kinds = kinds
        gained: dict[tuple[int, Cause], dict[int, list[int]]] = {}
        lost: dict[tuple[int, Cause], dict[int, list[int]]] = {}
        for s, d, before, after in self._changed():
            for rows, mask in ((gained, after & ~before), (lost, before & ~after)):
                for packets, cause in self._caused(s, d, mask, gain=rows is gained):
                    rows.setdefault((packets, cause), {}).setdefault(s, []).append(d)
        return Found(kinds, _rectangles(gained), _rectangles(lost), new, gone)

    # -- kinds ---------------------------------------------------------------------------------

    def _kinds(self) -> tuple[list[Kind], Ints, Ints]:
        was, now = self.was, self.now
        before, after, gone, new = _matched(was, now)
        group_was = was.assignment.group[before].astype(np.int64)
        group_now = now.assignment.group[after].astype(np.int64)
        found: dict[tuple[tuple[int, ...], tuple[int, ...]], Kind] = {}

        def kind(of_was: tuple[int, ...], of_now: tuple[int, ...]) -> Kind:
            return found.setdefault((of_was, of_now), Kind(of_was, of_now))

        sure = (group_was >= 0) & (group_now >= 0)
        rows = np.flatnonzero(sure)
        code = group_was[rows] * (len(now.groups) + 1) + group_now[rows]
        order = np.argsort(code, kind="stable")
        rows, code = rows[order], code[order]
        firsts = np.flatnonzero(np.diff(code, prepend=-1))
        for part in np.split(rows, firsts[1:]) if len(rows) else ():
            one = kind((int(group_was[part[0]]),), (int(group_now[part[0]]),))
            one.endpoints = np.sort(after[part])
        loose = np.flatnonzero(~sure)
        if len(loose):
            groups = [
                _by_address(m, rows[loose], other)
                for m, rows, other in ((was, before, now), (now, after, was))
            ]
            for place in loose.tolist():
                held = groups[0].get(int(before[place]), {})
                holds = groups[1].get(int(after[place]), {})
                for incarnation in sorted(_incarnations(held, holds)):
                    one = kind(*incarnation)
                    one.endpoints = np.append(one.endpoints, after[place])
        for being, group, group_then in self._others():
            kind((group,), (group_then,)).beings.append(being)
        return list(found.values()), new, gone

    def _others(self) -> Iterator[tuple[Being, int, int]]:
        """Nodes and unknown hosts that both versions have, with their groups."""
        was, now = self.was, self.now
        names = [g.id for g in now.groups.all]
        own: list[dict[tuple[str, int, int], int]] = [
            {
                (h.node, h.family, h.address): h.group
                for h in node_hosts(m.groups, m.network, m.registry, points=False)
            }
            for m in (was, now)
        ]
        told: dict[tuple[Being, int, int], None] = {}
        for key, group in own[1].items():
            if key in own[0]:
                told[Being("node", key[0], names[group]), own[0][key], group] = None
        for segment, before, after in _unknown_in_both(was, now):
            told[Being("unknown", segment, names[after]), before, after] = None
        yield from told

    # -- pairs ---------------------------------------------------------------------------------

    def moved(self, kind: Kind) -> bool:
        """Whether beings of a kind are in other groups, renamed ones aside."""
        return tuple(int(self.place[g]) for g in kind.was) != kind.now

    def _changed(self) -> Iterator[tuple[int, int, int, int]]:
        """Pairs of kinds whose decisions differ, with what each version allows."""
        plain = [n for n, k in enumerate(self.kinds) if len(k.was) == len(k.now) == 1]
        several = [n for n in range(len(self.kinds)) if n not in set(plain)]
        spoken = spoken_cells(self.was.matrix, self.now.matrix)
        if spoken is not None:
            pairs: Iterable[tuple[int, int]] = self._candidates(spoken, plain)
            yield from self._one_by_one(pairs)
        else:
            yield from self._at_once(np.array(plain, dtype=np.int64))
        every = range(len(self.kinds))
        odd = {(s, d) for s in several for d in every} | {(s, d) for s in every for d in several}
        yield from self._one_by_one(sorted(odd))

    def _candidates(
        self, spoken: set[tuple[int, int]], plain: Sequence[int]
    ) -> set[tuple[int, int]]:
        """Pairs of kinds that can differ where all cells but some are the same in both versions."""
        moved = [n for n in plain if self.moved(self.kinds[n])]
        found = {p for m in moved for n in plain for p in ((m, n), (n, m))}
        by_group: dict[int, list[int]] = {}
        for n in plain:
            by_group.setdefault(self.kinds[n].now[0], []).append(n)
        for s, d in spoken:
            found |= {(a, b) for a in by_group.get(s, ()) for b in by_group.get(d, ())}
        return found

    def _one_by_one(self, pairs: Iterable[tuple[int, int]]) -> Iterator[tuple[int, int, int, int]]:
        for s, d in sorted(pairs):
            one, two = self.kinds[s], self.kinds[d]
            before = _allowed(self.was.matrix, one.was, two.was)
            after = _allowed(self.now.matrix, one.now, two.now)
            if before != after and self._meet(s, d):
                yield s, d, before, after

    def _at_once(self, plain: Ints) -> Iterator[tuple[int, int, int, int]]:
        of_was = np.array([self.kinds[n].was[0] for n in plain.tolist()], dtype=np.int64)
        of_now = np.array([self.kinds[n].now[0] for n in plain.tolist()], dtype=np.int64)
        painted = self.was.matrix.action_form, self.now.matrix.action_form
        forms = self.was.matrix.forms, self.now.matrix.forms
        known: dict[int, tuple[int, int] | None] = {}
        size = max(1, CHUNK // max(len(plain), 1))
        for start in range(0, len(plain), size):
            part = slice(start, start + size)
            pairs = (painted[0][np.ix_(of_was[part], of_was)].astype(np.int64) << 32) | painted[1][
                np.ix_(of_now[part], of_now)
            ]
            differ = []
            for pair in distinct(pairs.ravel()).tolist():
                if pair not in known:
                    held, holds = forms[0][pair >> 32], forms[1][pair & 0xFFFFFFFF]
                    known[pair] = (held, holds) if held != holds else None
                if known[pair] is not None:
                    differ.append(pair)
            if not differ:
                continue
            for s, d in np.argwhere(np.isin(pairs, differ)).tolist():
                one, two = int(plain[start + s]), int(plain[d])
                masks = known[int(pairs[s, d])]
                if masks is not None and self._meet(one, two):
                    yield one, two, *masks

    def _meet(self, s: int, d: int) -> bool:
        """Whether two kinds have two different beings; unknown hosts stand for many."""
        one, two = self.kinds[s], self.kinds[d]
        if any(b.kind == "unknown" for b in (*one.beings, *two.beings)):
            return True
        every = {*one.endpoints.tolist()[:2], *two.endpoints.tolist()[:2]}
        return len(every | {b.name for b in (*one.beings, *two.beings)}) > 1

    # -- causes --------------------------------------------------------------------------------

    def _caused(self, s: int, d: int, mask: int, *, gain: bool) -> Iterator[tuple[int, Cause]]:
        """The packets of a pair by what they change by: first lines, then moves."""
        if not mask:
            return
        one, two = self.kinds[s], self.kinds[d]
        ends = one.was[0], two.was[0]
        stay = int(self.place[ends[0]]), int(self.place[ends[1]])
        if not (self.moved(one) or self.moved(two)):
            yield from self.causes.of(ends, stay, mask, gain=gain)
            return
        if min(stay) >= 0:
            # What would change if all had stayed in their groups is by the matrix.
            kept = _allowed(self.now.matrix, (stay[0],), (stay[1],))
            by_lines = mask & (kept if gain else ~kept)
            yield from self.causes.of(ends, stay, by_lines, gain=gain)
            mask &= ~by_lines
        # Where both move, whatever the source's move alone would do comes from that.
        if self.moved(one):
            alone = mask
            if self.moved(two) and min(stay) >= 0:
                there = _allowed(self.now.matrix, one.now, (stay[1],))
                alone = mask & (there if gain else ~there)
            if alone:
                yield alone, self._move(one)
            mask &= ~alone
        if mask:
            yield mask, self._move(two)

    def _move(self, kind: Kind) -> Cause:
        was, now = self.was, self.now
        then, since = (
            "|".join(m.groups.all[g].id for g in groups)
            for m, groups in ((was, kind.was), (now, kind.now))
        )
        count = len(kind.endpoints) + len(kind.beings)
        if len(kind.endpoints):
            row = int(kind.endpoints[0])
            place = _assigned_by(now, row) or now.given.endpoints.location(row)
            return Cause("move", place, now.given.endpoints.ids[row], then, since, count)
        being = kind.beings[0]
        held = now.network.segments if being.kind == "unknown" else now.network.nodes
        return Cause("move", held[being.name].location, being.name, then, since, count)


def _matched(was: Model, now: Model) -> tuple[Ints, Ints, Ints, Ints]:
    """The rows of endpoints that both versions know, in the older and in the newer; and those that
    only the older has, and only the newer."""
    one, two = was.given.endpoints, now.given.endpoints
    if one is two or one.ids == two.ids:
        every = np.arange(len(two), dtype=np.int64)
        none = np.empty(0, dtype=np.int64)
        return every, every, none, none
    at = one.index
    before = np.array([at.get(name, -1) for name in two.ids], dtype=np.int64)
    after = np.flatnonzero(before >= 0)
    gone = np.setdiff1d(np.arange(len(one), dtype=np.int64), before)
    return before[after], after, gone, np.flatnonzero(before < 0)


def _unknown_in_both(was: Model, now: Model) -> list[tuple[str, int, int]]:
    """Unknown hosts of segments that two versions have, one of them with a default tag.

    Returns:
        segment, the group that the older version gives them, and the newer one; each once, for all
        stretches of addresses on which they are these two.
    """
    tagged = [
        s.name
        for s in now.network.segments.values()
        if s.name in was.network.segments
        and (s.group, was.network.segments[s.name].group) != (None, None)
    ]
    if not tagged:
        return []
    if was.same_places(now):
        there = {
            (h.segment, h.group) for h in now.hosts.take(now.hosts.endpoint < 0) if h.segment
        }  # fmt: skip
        return sorted((segment, group, group) for segment, group in there)
    wide = [*was.wide, *now.wide]
    taken = [taken_addresses(m.network, m.known_hosts) for m in (was, now)]
    known = {family: taken[0][family] | taken[1][family] for family in FAMILIES}
    spans = [s for m in (was, now) for of in m.network.spans.values() for s in of]
    cuts = cuts_between((was.registry, now.registry), wide, spans)
    bounds = network_bounds(now.network, wide)
    found: set[tuple[str, int, int]] = set()
    for name in tagged:
        at_home = [
            (h.family, h.address, h.end or h.address) for h in wide if h.segment == name
        ]  # fmt: skip
        for span in now.network.spans[name]:
            for start, end in stretches_of(span, cuts[span.family]):
                if any(f == span.family and a <= start and end <= b for f, a, b in at_home):
                    continue
                address = free_address(start, end, known[span.family], bounds[span.family])
                if address is None or was.network.segment_at(span.family, address) != name:
                    continue
                groups = (
                    m.groups.by_tag.get(m.registry.tag(span.family, address), 0) for m in (was, now)
                )
                found.add((name, *groups))  # type: ignore[arg-type]
    return sorted(found)


def _by_address(model: Model, rows: Ints, other: Model) -> dict[int, dict[tuple[int, int], int]]:
    """Of some endpoints the group of each of their addresses: their own, or the registry's."""
    assigned = model.assignment.group
    found: dict[int, dict[tuple[int, int], int]] = {}
    for row in rows[assigned[rows] >= 0].tolist():
        found[row] = {(0, 0): int(assigned[row])}
    lost = rows[assigned[rows] < 0]
    places = model.places.take(np.isin(model.places.endpoint, lost))
    single = places.take(~places.addresses.wide)
    groups = model.groups.by_tag
    tags = model.registry.tags_of(single.addresses).tolist()
    for place, tag in zip(single, tags, strict=True):
        key = place.address.family, place.address.start
        found.setdefault(place.endpoint, {})[key] = groups.get(tag, 0)
    if len(single) < len(places):
        wide = set(lost.tolist())
        for host in model.hosts_told((other.registry,)):
            if host.endpoint in wide and (host.family, host.address) not in found.get(
                host.endpoint, {}
            ):
                found.setdefault(host.endpoint, {})[host.family, host.address] = host.group
    for row in lost.tolist():
        found.setdefault(row, {(0, 0): 0})
    return found


def _incarnations(
    held: Mapping[tuple[int, int], int], holds: Mapping[tuple[int, int], int]
) -> set[tuple[tuple[int, ...], tuple[int, ...]]]:
    """The groups of one endpoint in both versions: address by address where it is at the same ones,
    else all together."""
    if held.keys() == holds.keys():
        return {((group,), (holds[key],)) for key, group in held.items()}
    return {(tuple(sorted(set(held.values()))), tuple(sorted(set(holds.values()))))}


def _allowed(matrix: Matrix, sources: Sequence[int], destinations: Sequence[int]) -> int:
    mask = 0
    for s in sources:
        for d in destinations:
            mask |= matrix.forms[matrix.form(s, d)]
    return mask


def _assigned_by(model: Model, row: int) -> Location | None:
    assignment = model.assignment
    place: Location | None = None
    if assignment.pin[row] >= 0:
        place = assignment.pins[assignment.pin[row]].location
    elif assignment.rule[row] >= 0:
        place = assignment.rules[assignment.rule[row]].location
    return place


def _rectangles(found: Mapping[tuple[int, Cause], Mapping[int, Sequence[int]]]) -> list[Row]:
    """Pairs of the same packets and cause as rows: sources with the same destinations together."""
    rows = []
    for (packets, cause), by_source in found.items():
        alike: dict[tuple[int, ...], list[int]] = {}
        for source, destinations in by_source.items():
            alike.setdefault(tuple(sorted(destinations)), []).append(source)
        for destinations, sources in alike.items():
            rows.append(Row(tuple(sorted(sources)), destinations, packets, cause))
    return sorted(rows, key=lambda r: (r.cause.location, r.cause[2:], r.sources, r.destinations))


class _Causes:
    """Which place of the files a changed decision comes from."""

    def __init__(self, was: Model, now: Model) -> None:
        self.was, self.now = was, now
        self._looked_for = 0
        self._shared: dict[tuple[int, int, int, bool], list[tuple[int, Cause]]] = {}

    def of(
        self, before: tuple[int, int], after: tuple[int, int], mask: int, *, gain: bool
    ) -> Iterator[tuple[int, Cause]]:
        """The causes of changed packets of a cell, which has one pair of places in each version."""
        if not mask:
            return
        key = self.was.matrix.form(*before), self.now.matrix.form(*after), mask, gain
        if key in self._shared and self._looked_for > MOST_CAUSES:
            yield from self._shared[key]
            return
        self._looked_for += 1
        self._shared[key] = list(self._look_for(before, after, mask))
        yield from self._shared[key]

    def _look_for(
        self, before: tuple[int, int], after: tuple[int, int], mask: int
    ) -> Iterator[tuple[int, Cause]]:
        found: dict[Cause, int] = {}
        decided = self.was.matrix.pieces(*before, "action")
        for piece in self.now.matrix.pieces(*after, "action"):
            for held in decided:
                both = piece.mask & held.mask & mask
                if both:
                    cause = self._cause(piece, held, before, after, both)
                    found[cause] = found.get(cause, 0) | both
        for cause, packets in found.items():
            yield packets, cause

    def _cause(
        self,
        piece: Piece,
        held: Piece,
        before: tuple[int, int],
        after: tuple[int, int],
        mask: int,
    ) -> Cause:
        """Why one line decides now and another did before, of the same packets."""
        news = self._news(self.was, self.now, piece, before, mask)
        if news is not None:
            return news
        olds = self._news(self.now, self.was, held, after, mask)
        if olds is not None:
            return olds
        if piece.row < 0 or held.row < 0:
            return Cause("default", Location("oaktag.yaml"))
        return Cause("line", self._line(self.now, piece).location)  # its place among others

    @staticmethod
    def _line(model: Model, piece: Piece):  # type: ignore[no-untyped-def]
        return model.lines[model.matrix.rows[piece.row].line]

    def _news(
        self, other: Model, model: Model, piece: Piece, cell: tuple[int, int], mask: int
    ) -> Cause | None:
        """What is special to one version in that a piece decides there; None if the other version
        has a line that says the same of these packets in its cell."""
        if piece.row < 0:
            return None
        row = model.matrix.rows[piece.row]
        line = model.lines[row.line]
        same = self._by_key[other is self.now].get(model.keys[row.line])
        if same is None or not other.lines[same].counts(other.today):
            return Cause("line", line.location)
        applying = [n for n in other.matrix.rows_of(*cell) if other.matrix.rows[n].line == same]
        if not applying:
            return Cause("set", self._set_of(model, row.source, row.destination, other, cell))
        steps = other.matrix.effects[other.lines[same].permission].steps
        for action, packets in steps:
            if packets & mask:
                if action == piece.action and not mask & ~packets:
                    return None
                break
        permissions = (
            model.given.policy.permissions[line.permission],
            other.given.policy.permissions[other.lines[same].permission],
        )
        kind: CauseKind = "service" if _same_words(*permissions) else "permission"
        return Cause(kind, permissions[0].location)

    @cached_property
    def _by_key(self) -> tuple[dict[str, int], dict[str, int]]:
        """The line of each key, in the older and in the newer version."""
        one, two = ({key: n for n, key in enumerate(m.keys)} for m in (self.was, self.now))
        return one, two

    @staticmethod
    def _set_of(
        model: Model, source: str, destination: str, other: Model, cell: tuple[int, int]
    ) -> Location:
        """The set whose groups are others in the two versions."""
        for word, group in ((source, cell[0]), (destination, cell[1])):
            if word in (STAR, ITSELF, UNTAGGED) or word not in model.groups.sets:
                continue
            if word not in other.groups.sets or group not in other.groups.members(word):
                return model.groups.sets[word].location
        return Location("groups.yaml")


def _same_words(one: Permission, other: Permission) -> bool:
    """Whether two permissions are written alike, so that a service in them is another."""
    return [(e.action, e.text) for e in one.steps] == [(e.action, e.text) for e in other.steps]
