"""Hosts that fare alike: classes, and units of groups whose classes fare alike.

Rules kept here (semantics, section 6): each address stands for itself, so hosts are one *class*
only where family, place and true group are the same, and every table of bindings says the same of
them. Groups of one segment that all tables know alike, and that the scopes which see them hold
alike, are a *unit*: what points do to one of them they do to all. An *element* is one way in which
tables know addresses of a unit. Nobody talks to himself: classes of which no two hosts meet are
units of their own, and told apart.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.addresses import UNJUDGED, is_judged, keys
from oaktag.core.bindings import FAMILIES, Lookup
from oaktag.core.judging import WRONG
from oaktag.core.placement import Host, Hosts, Some, meet, together
from oaktag.core.prefixes import Prefixes
from oaktag.core.ranges import distinct, spread

Ints = NDArray[np.int64]
#: The largest tag.
MOST = 65535
Flags = NDArray[np.bool_]


class Class(NamedTuple):
    """Hosts that fare alike: one of them, the tag that each table has for it, and all."""

    host: Host
    tags: Sequence[int]
    hosts: Sequence[Host]


def classes(hosts: Iterable[Host], tables: Sequence[Lookup]) -> list[Class]:
    """The classes of some hosts, each where its first host comes.

    Args:
        hosts: N of them.
        tables: K different tables of bindings.

    Returns:
        classes; ``tags`` of each has K numbers, 0 for what is not bound.
    """
    every = Hosts.of(hosts)
    kind, count = _kinds(every)
    bound: list[list[tuple[Ints, Ints]]] = [[] for _ in tables]
    for family in FAMILIES:
        here = np.flatnonzero(every.first.family == family)
        address = every.first.take(here).starts(family)
        order = np.argsort(address)
        here, address = here[order], address[order]
        for number, table in enumerate(tables if len(here) else ()):
            of = table.tables[family]
            low = np.searchsorted(address, of.starts, side="left")
            high = np.searchsorted(address, of.ends, side="right")
            touched, tags = here[spread(low, high)], np.repeat(of.tags, high - low)
            touched, tags = touched[tags != 0], tags[tags != 0]
            bound[number].append((touched, tags))
            # Those of one class that the table tells apart go on as classes of their own.
            _, inverse = np.unique(kind[touched] * (MOST + 1) + tags, return_inverse=True)
            kind[touched] = count + inverse
            count += int(inverse.max()) + 1 if len(inverse) else 0
    return _gathered(every, kind, bound)


def _kinds(hosts: Hosts) -> tuple[Ints, int]:
    """A number for all that counts of a host besides its tags, and how many there are."""
    kind = np.zeros(len(hosts), dtype=np.int64)
    count = min(len(hosts), 1)
    for column in (
        hosts.node, hosts.segment + 1, hosts.own, hosts.group, hosts.first.family,
        hosts.endpoint < 0, judged(hosts.first),
    ):  # fmt: skip
        most = int(column.max()) + 1 if len(column) else 1
        if most > 1:
            found, kind = np.unique(kind * most + column, return_inverse=True)
            count = len(found)
    return kind, count


def judged(prefixes: Prefixes) -> Flags:
    """Whether points judge packets of each address: not if it is link-local or multicast."""
    found = np.ones(len(prefixes), dtype=np.bool_)
    for span in UNJUDGED:
        here = np.flatnonzero(prefixes.family == span.family)
        address = prefixes.take(here).starts(span.family)
        first, last = keys(span.family, [span.start, span.end])
        found[here[(first <= address) & (address <= last)]] = False
    return found


def _gathered(
    hosts: Hosts, kind: Ints, bound: Sequence[Sequence[tuple[Ints, Ints]]]
) -> list[Class]:
    order = np.argsort(kind, kind="stable")
    begins = np.flatnonzero(np.diff(kind[order], prepend=-1))
    first = order[begins]
    place = np.empty(len(first), dtype=np.int64)
    place[np.argsort(first)] = np.arange(len(first))
    mine = np.empty(len(hosts), dtype=np.int64)
    mine[order] = np.repeat(place, np.diff(np.append(begins, len(order))))
    tags = np.zeros((len(first), len(bound)), dtype=np.int64)
    for number, found in enumerate(bound):
        for touched, of in found:
            tags[mine[touched], number] = of
    members = np.split(order, begins[1:])
    few = tags.size <= 1 << 20
    rows: Sequence[Sequence[int]] = tags.tolist() if few else list(tags)
    return [
        Class(hosts[int(first[n])], row, Some(hosts, members[n]))
        for n, row in zip(np.argsort(place), rows, strict=True)
    ]


#: One segment at one node, or the own addresses of a node there.
Block = tuple[str, str | None, bool]


def place_of(block: Block) -> str:
    """What the place of a block is called: the segment, or the node of own addresses."""
    node, segment, own = block
    return node if own else segment or node


class Side:
    """Classes by block, then unit, then element; blocks, units and elements are numbered.

    Two elements more stand at the end for whom no table knows: of some group, and untagged.

    Attributes:
        blocks: of each its node, segment and whether it is a node's own addresses.
        units: the numbers of each block's units.
        groups: the groups of each unit, sorted.
        held: unit → group → element → classes.
        block: the block of each unit.
        unit, family, node, segment, own, unjudged, untagged, group: of each element its unit, and
            what all of its hosts have in common (``group`` is its first).
        seen: int [elements, tables]: how each table knows it: 0, 1, or 2 + place of a wrong tag.
        hosts: one host of each element.
        at_node: elements ``at_node[n] .. at_node[n+1]-1`` are at node n.
    """

    def __init__(
        self, state: Any, classes: Sequence[Class], alone: frozenset[tuple[Block, int]]
    ) -> None:
        self.every = list(classes)
        by_block: dict[Block, list[int]] = {}
        for number, one in enumerate(classes):
            by_block.setdefault((one.host.node, one.host.segment, one.host.own), []).append(number)
        names = {name: n for n, name in enumerate(state.network.nodes)}
        order = sorted(by_block, key=lambda b: names[b[0]])
        self.blocks = order
        kinds = _Kinds(state, self.every)
        self.units: list[list[int]] = []
        self.held: list[dict[int, dict[int, list[int]]]] = []
        block_of: list[int] = []
        elements: list[tuple[int, int]] = []  # unit, and a class of it
        for number, block in enumerate(order):
            by_group: dict[int, list[int]] = {}
            for c in by_block[block]:
                by_group.setdefault(classes[c].host.group, []).append(c)
            by_kind: dict[object, list[int]] = {}
            for group, mine in by_group.items():
                apart = group if state.by_group or (block, group) in alone else None
                by_kind.setdefault((apart, kinds.of(group, mine)), []).append(group)
            self.units.append([])
            for groups in by_kind.values():
                unit = len(self.held)
                self.units[-1].append(unit)
                block_of.append(number)
                place: dict[object, int] = {}
                held: dict[int, dict[int, list[int]]] = {}
                for group in sorted(groups):
                    for c in by_group[group]:
                        # Of those that must be told apart each class is an element of its own.
                        key = c if (block, group) in alone else kinds.element(c)
                        if key not in place:
                            place[key] = len(elements)
                            elements.append((unit, c))
                        held.setdefault(group, {}).setdefault(place[key], []).append(c)
                self.held.append(held)
        self.block = np.array(block_of, dtype=np.int64)
        self.groups = [np.array(list(held), dtype=np.int64) for held in self.held]
        self.size = np.array([len(g) for g in self.groups], dtype=np.int64)
        self.flat = np.concatenate([*self.groups, np.empty(0, dtype=np.int64)]).astype(np.int64)
        self.first = np.concatenate([[0], np.cumsum(self.size)[:-1]]).astype(np.int64)
        self._columns(state, elements, names, kinds)

    def _columns(
        self, state: Any, elements: list[tuple[int, int]], names: dict[str, int], kinds: _Kinds
    ) -> None:
        of = [self.every[c].host for _, c in elements]
        nobody = [Host(-1, 4, 0, None, "", 0), Host(-1, 4, 0, None, "", 0)]
        self.hosts = [*of, *nobody]
        self.count = len(of)
        self.nobody, self.stranger = self.count, self.count + 1
        self.unit = np.array([u for u, _ in elements], dtype=np.int64)
        self.family = np.array([h.family for h in self.hosts], dtype=np.int64)
        self.node = np.array([names.get(h.node, -1) for h in self.hosts], dtype=np.int64)
        places = state.segment_numbers
        self.segment = np.array([places.get(h.segment, -1) for h in self.hosts], dtype=np.int64)
        self.own = np.array([h.own for h in self.hosts], dtype=np.bool_)
        self.unjudged = np.array(
            [not is_judged(h.family, h.address) for h in of] + [False, False], dtype=np.bool_
        )
        self.odd = bool(self.own.any() or self.unjudged.any())
        first = [int(self.groups[u][0]) for u, _ in elements]
        self.group = np.array([*first, 0, 0], dtype=np.int64)
        self.untagged = self.group == 0
        self.untagged[self.nobody] = False
        self.seen = np.zeros((len(self.hosts), len(state.tables)), dtype=np.int64)
        if elements:
            self.seen[: self.count] = kinds.known[[c for _, c in elements]]
        self.at_node = np.searchsorted(self.node[: self.count], np.arange(len(names) + 1))
        self.of_unit: list[list[int]] = [[] for _ in self.held]
        for number, (unit, _) in enumerate(elements):
            self.of_unit[unit].append(number)
        #: Which tables know an element, as bits of 64 at a time; the last bit is for whom points
        #: must be asked one by one.
        words = -(-(len(state.tables) + 1) // 64)
        bits = np.zeros((len(self.hosts), words * 64), dtype=np.bool_)
        bits[:, : len(state.tables)] = self.seen != 0
        bits[self.own | self.unjudged, -1] = True
        self.bits = np.packbits(bits, axis=1, bitorder="little").view(np.uint64)

    def summed(self, values: Ints) -> Ints:
        """A number for each group, summed over the groups of each unit."""
        return np.add.reduceat(values[self.flat], self.first) if len(self.flat) else self.size

    def classes_of(self, element: int, group: int) -> list[Class]:
        """The classes of one group in an element."""
        held = self.held[int(self.unit[element])].get(group, {})
        return [self.every[c] for c in held.get(element, ())]


class _Kinds:
    """What makes groups of one block a unit: how the tables know their addresses of each family,
    and which scopes hold them, of those whose points can see the tag."""

    def __init__(self, state: Any, classes: Sequence[Class]) -> None:
        self._classes = classes
        every = np.array([c.tags for c in classes], dtype=np.int64).reshape(
            len(classes), len(classes[0].tags) if classes else len(state.tables)
        )
        tags, marks = every[:, : len(state.tables)], every[:, len(state.tables) :]
        true = np.array([state.matrix.groups.tag(c.host.group) for c in classes], dtype=np.int64)
        self.known = np.where(tags == 0, 0, np.where(tags == true[:, None], 1, -1))
        for row, column in np.argwhere(self.known < 0).tolist():
            self.known[row, column] = WRONG + state.wrong(int(tags[row, column]))
        ways: dict[bytes, int] = {}
        self._elements: list[Element] = []
        for one, known, marked in zip(classes, self.known, marks, strict=True):
            way = ways.setdefault(known.tobytes() + marked.tobytes(), len(ways))
            host = one.host
            self._elements.append((host.family, way, is_judged(host.family, host.address)))
        self._sets, self._sources, self._targets = _scopes(state)
        self._frames = any(n.marks for n in state.network.nodes.values())
        self._told: dict[tuple[Element, ...], Ints] = {}

    def element(self, number: int) -> Element:
        """What a class shares with others of its element."""
        return self._elements[number]

    def of(self, group: int, mine: Sequence[int]) -> tuple[object, ...]:
        """What a group shares with others of its unit."""
        elements = tuple(sorted({self._elements[c] for c in mine}))
        if elements not in self._told:
            seen = (self.known[list(mine)] == 1).any(axis=0)
            tables = np.flatnonzero(seen).tolist()
            # A tag that comes in a frame is seen by points that go by any table.
            told = range(len(self._sources)) if tables and self._frames else tables
            rows = {row for table in told for row in self._sources[table]}
            rows |= {row for table in tables for row in self._targets[table]}
            self._told[elements] = np.array(sorted(rows), dtype=np.int64)
        return group == 0, elements, self._sets[self._told[elements], group].tobytes()


#: Family, the way in which tables know addresses, and whether points judge them.
Element = tuple[int, int, bool]


def _scopes(state: Any) -> tuple[Flags, list[set[int]], list[set[int]]]:
    """All sets of groups that scopes name, as rows; and of the points that go by each table which
    of them they name as sources, and as destinations."""
    row: dict[frozenset[int], int] = {}
    sources: list[set[int]] = [set() for _ in state.tables]
    targets: list[set[int]] = [set() for _ in state.tables]
    for name, judge in state.judges.items():
        one, two = state.tables_of[name]
        sources[one].add(row.setdefault(judge.sources, len(row)))
        targets[two].add(row.setdefault(judge.destinations, len(row)))
    sets = np.zeros((max(len(row), 1), len(state.matrix.groups)), dtype=np.bool_)
    for groups, number in row.items():
        sets[number, list(groups)] = True
    return sets, sources, targets


class Company(NamedTuple):
    """Who of two sides does not meet: pairs of classes, by number, and what follows from them.

    ``lonely`` are groups of a block that do not meet themselves there at all; ``alone`` are, for
    each side, groups of a block whose classes must be looked at one by one.
    """

    apart: frozenset[tuple[int, int]]
    lonely: frozenset[tuple[Block, int]]
    alone: tuple[frozenset[tuple[Block, int]], frozenset[tuple[Block, int]]]


def company(one: Sequence[Class], two: Sequence[Class]) -> Company:
    """Who of two sides does not meet, though of one family: it would be to talk to himself."""
    apart = {
        (a, b)
        for a, b in _sharing(one, two)
        if one[a].host.family == two[b].host.family and not classes_meet(one[a], two[b])
    }
    by_place: dict[tuple[Block, int], list[tuple[int, int]]] = {}
    lonely: set[tuple[Block, int]] = set()
    alone: tuple[set[tuple[Block, int]], set[tuple[Block, int]]] = set(), set()
    for a, b in apart:
        places = _place(one[a].host), _place(two[b].host)
        if places[0] == places[1]:
            by_place.setdefault(places[0], []).append((a, b))
        else:
            alone[0].add(places[0])
            alone[1].add(places[1])
    if by_place:
        held = [_by_place(side, by_place) for side in (one, two)]
        for place, pairs in by_place.items():
            whole = sum(
                one[a].host.family == two[b].host.family
                for a in held[0][place]
                for b in held[1][place]
            )
            if whole == len(pairs):
                lonely.add(place)
            else:
                alone[0].add(place)
                alone[1].add(place)
    return Company(
        frozenset(apart), frozenset(lonely - alone[0] - alone[1]),
        (frozenset(alone[0]), frozenset(alone[1])),
    )  # fmt: skip


def classes_meet(a: Class, b: Class) -> bool:
    """Whether some two hosts of two classes meet."""
    if meet(a.host, b.host):
        return True
    if len(a.hosts) == len(b.hosts) == 1:
        return False
    return any(meet(x, y) for x in a.hosts for y in b.hosts)


def _place(h: Host) -> tuple[Block, int]:
    return (h.node, h.segment, h.own), h.group


def _by_place(
    side: Sequence[Class], wanted: dict[tuple[Block, int], list[tuple[int, int]]]
) -> dict[tuple[Block, int], list[int]]:
    found: dict[tuple[Block, int], list[int]] = {}
    for number, held in enumerate(side):
        place = _place(held.host)
        if place in wanted:
            found.setdefault(place, []).append(number)
    return found


def _sharing(one: Sequence[Class], two: Sequence[Class]) -> set[tuple[int, int]]:
    """Pairs of classes that share an endpoint or an address."""
    endpoints = [_endpoints(side) for side in ((one,) if one is two else (one, two))]
    keys1, first = endpoints[0]
    keys2, second = endpoints[-1]
    low, high = (
        np.searchsorted(keys2, keys1, side="left"),
        np.searchsorted(keys2, keys1, side="right"),
    )
    pairs = distinct(np.repeat(first, high - low) * len(two) + second[spread(low, high)])
    found = {
        (a, b)
        for a, b in zip(*(c.tolist() for c in np.divmod(pairs, max(len(two), 1))), strict=True)
    }
    if one is two and _all_distinct(two):
        return found
    at: dict[tuple[int, int], list[int]] = {}
    for place, of in enumerate(two):
        for h in of.hosts:
            at.setdefault((h.family, h.address), []).append(place)
    for place, of in enumerate(one):
        for h in of.hosts:
            found |= {(place, other) for other in at.get((h.family, h.address), ())}
    return found


def _endpoints(side: Sequence[Class]) -> tuple[Ints, Ints]:
    """Which endpoints are in which classes: both columns, sorted by endpoint, each pair once."""
    number = np.repeat(np.arange(len(side)), [len(c.hosts) for c in side])
    endpoint = together([c.hosts for c in side]).endpoint
    known = endpoint >= 0
    keys = distinct(endpoint[known] * len(side) + number[known])
    found, of = np.divmod(keys, max(len(side), 1))
    return found, of


def _all_distinct(side: Sequence[Class]) -> bool:
    """Whether no address stands there twice."""
    first = together([c.hosts for c in side]).first
    for family in FAMILIES:
        addresses = np.sort(first.take(first.family == family).starts(family))
        if (addresses[1:] == addresses[:-1]).any():
            return False
    return True
