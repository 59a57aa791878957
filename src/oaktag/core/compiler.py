"""Forms and knowledge → the access list of one point.

Rules kept here (semantics, section 5): the list decides as the matrix does for the tags that the
point sees; equal chains are shared and named by their content, so that a change elsewhere renames
nothing (those of one entry with the lines that it cites, so that each cell cites its own); a cell
of which something is recorded has a chain of its own, whose records name the cell and its lines.

A *block* is what all sources of a scope may do to one destination. Cells to which lines of the same
permissions apply in the same order differ in the keys of these lines alone; so each kind of cell is
worked out once, and each block once for all points that act alike.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from hashlib import blake2b
from typing import NamedTuple

from oaktag.core.accesslist import DEFAULT_KEY, AccessList, Block, Frames, ListEntry, head_of
from oaktag.core.addresses import Range, Span
from oaktag.core.cells import Acting, Rows, entries_of
from oaktag.core.matrix import Matrix
from oaktag.core.network import Network, Point, own_addresses, turn_of
from oaktag.errors import UnwritableEntry

#: The most cells of one list.
MOST_CELLS = 1 << 24
#: So many cells are kept in blocks that were compiled.
MOST_KNOWN = 1 << 18
#: A chain: its name, and its entries.
Chain = tuple[str, tuple[ListEntry, ...]]


class _Kind(NamedTuple):
    """Cells that differ in their lines' keys alone: entries that cite these by their place; and the
    name of their chain, where it is the same for all of them."""

    name: str | None
    entries: tuple[ListEntry, ...]


class Blocks:
    """The blocks of a matrix, each worked out once for points that act alike.

    Args:
        matrix: all decisions.
        keys: the key of each line of the policy.
    """

    def __init__(self, matrix: Matrix, keys: Sequence[str]) -> None:
        self.matrix, self._keys = matrix, keys
        self._kinds: dict[tuple[object, ...], _Kind] = {}
        self._known: dict[tuple[Acting, int, tuple[int, ...]], Block] = {}
        self._cells = 0
        self._columns: dict[tuple[Acting, int], list[Chain]] = {}

    def block(self, acting: Acting, sources: tuple[int, ...], destination: int) -> Block:
        """What some sources may do to a destination.

        Args:
            acting: how a point acts.
            sources, destination: indices of groups.
        """
        key = acting, destination, sources
        if key not in self._known:
            if self._cells > MOST_KNOWN:
                self._known.clear()
                self._cells = 0
            self._known[key] = self._block(*key)
            self._cells += len(sources)
        return self._known[key]

    def _block(self, acting: Acting, destination: int, sources: tuple[int, ...]) -> Block:
        column = self._column(acting, destination)
        groups = self.matrix.groups
        # Cells without a line of their own share one chain, as an object.
        distinct = {id(column[s]): column[s] for s in sources}
        row = sorted((groups.tag(s), column[s][0]) for s in sources)
        chains = gathered(distinct.values())
        cited = {
            groups.tag(s): column[s][1]
            for s in sources
            if column[s][1] is not chains[column[s][0]] and column[s][1] != chains[column[s][0]]
        }
        return Block(row, chains, cited)

    def _column(self, acting: Acting, destination: int) -> list[Chain]:
        """The chains of all sources toward a destination."""
        key = acting, destination
        if key not in self._columns:
            if len(self._columns) * len(self.matrix.groups) > MOST_KNOWN:
                self._columns.clear()
            toward = self.matrix.rows_toward(destination)
            back = {} if acting.stateful else self.matrix.rows_from(destination)
            # Most cells have no line of their own: these share one chain, unless it names the cell.
            size = len(self.matrix.groups)
            bare = self._chain(acting, (0, destination), Rows((), ()))
            column = [bare] * size
            named = any(entry.cell for entry in bare[1])
            for source in range(size) if named else toward.keys() | back.keys():
                rows = Rows(toward.get(source, ()), back.get(source, ()))
                column[source] = self._chain(acting, (source, destination), rows)
            self._columns[key] = column
        return self._columns[key]

    def _chain(self, acting: Acting, ends: tuple[int, int], rows: Rows) -> Chain:
        """The chain of one cell."""
        lines = [self.matrix.rows[n].line for n in (*rows.own, *rows.back)]
        places = {line: n for n, line in reversed(list(enumerate(lines)))}
        policy = self.matrix.policy
        key = acting, len(rows.own), *(
            (places[line], policy.lines[line].permission, policy.lines[line].mode,
             policy.lines[line].layer)
            for line in lines
        )  # fmt: skip
        if key not in self._kinds:
            self._kinds[key] = self._kind(acting, rows, places)
        kind = self._kinds[key]
        keys = {str(n): self._keys[line] for line, n in places.items()}
        keys[DEFAULT_KEY] = DEFAULT_KEY
        cited = {e.keys: tuple(sorted({keys[k] for k in e.keys})) for e in kind.entries}
        groups = self.matrix.groups
        cell = groups.tag(ends[0]), groups.tag(ends[1])
        entries = tuple(
            ListEntry(
                e.region, e.action, e.would, e.log, e.answer,
                cited[e.keys], e.readable,
                cell if e.recorded else None, e.words,
            )
            for e in kind.entries
        )  # fmt: skip
        return kind.name or _name(entries), entries

    def _kind(self, acting: Acting, rows: Rows, places: Mapping[int, int]) -> _Kind:
        names = {line: str(n) for line, n in places.items()}
        entries = tuple(entries_of(self.matrix, rows, names, acting))
        own = len(entries) == 1 or any(e.recorded for e in entries)
        return _Kind(None if own else _name(entries), entries)


def _name(entries: Sequence[ListEntry]) -> str:
    """The name of a chain, by its content."""
    whole = len(entries) == 1
    content = repr([replace(e, keys=e.keys if e.cell or whole else (), words=()) for e in entries])
    return "p" + blake2b(content.encode(), digest_size=5).hexdigest()


def gathered(chains: Iterable[Chain]) -> dict[str, tuple[ListEntry, ...]]:
    """Chains by name; those of one name cite the lines of all of them."""
    some: dict[str, dict[int, tuple[ListEntry, ...]]] = {}
    for name, entries in chains:
        some.setdefault(name, {})[id(entries)] = entries
    return {
        name: next(iter(held.values())) if len(held) == 1 else tuple(map(_citing, *held.values()))
        for name, held in sorted(some.items())
    }


def _citing(*alike: ListEntry) -> ListEntry:
    keys = tuple(sorted({key for entry in alike for key in entry.keys}))
    words = tuple(sorted({word for entry in alike for word in entry.words}))
    e = alike[0]
    return ListEntry(e.region, e.action, e.would, e.log, e.answer, keys, e.readable, e.cell, words)


def compile_point(
    point: Point,
    blocks: Blocks,
    network: Network,
    bindings: Sequence[Range],
    scope: tuple[Sequence[int], Sequence[int]],
) -> AccessList:
    """The access list of one point.

    Args:
        point: what to compile for.
        blocks: all decisions.
        network: for the addresses of segments.
        bindings: what the point knows, as disjoint ranges.
        scope: indices of source and destination groups whose cells it holds.

    Raises:
        UnwritableEntry: these are too many cells for one list.
    """
    groups = blocks.matrix.groups
    cells = len(scope[0]) * len(scope[1])
    if cells > MOST_CELLS:
        raise UnwritableEntry(
            f"{point.id}: its scope has {cells:,} cells, and a list is of at most {MOST_CELLS:,}; "
            "narrow it: scope: known, or {sources: […], destinations: […]}"
        )
    acting = Acting(point.stateful, point.mode == "observe", point.families)
    sources = tuple(scope[0])
    # A scope without sources, of sets that hold no group, has no cells.
    targets = scope[1] if sources else ()
    held = {groups.tag(d): blocks.block(acting, sources, d) for d in targets}
    only = next(iter(held.values())) if len(held) == 1 else None
    chains = (
        only.chains
        if only is not None
        else gathered(chain for block in held.values() for chain in block.chains.items())
    )
    bindings = tuple(b for b in bindings if b.family in point.families)
    frames: Frames = "ignored" if point.source_by == "address" else point.if_differ
    return AccessList(
        point=point.id,
        head=head_of(
            frames=frames,
            stateful=point.stateful,
            origins=network.spans_of(point.origins),
            targets=network.spans_of(point.targets),
            inside=_minded(point, network, bindings, 0 in scope[1]),
            families=point.families,
        ),
        restores=frames != "frame",
        source_bindings=bindings,
        destination_bindings=bindings,
        blocks=dict(sorted(held.items())),
        chains=chains,
        outside=("allow" if point.mode == "observe" else point.outside, point.outside),
        own=own_addresses(point, network),
        turn=turn_of(point, network),
        names=_names(blocks.matrix, scope, bindings),
    )


def _minded(
    point: Point, network: Network, bindings: Sequence[Range], untagged: bool
) -> tuple[tuple[Span, Span], ...]:
    """The pairs of addresses inside a segment for which the list must let packets pass by itself.

    Where what has no tag is in no cell, and passes, those are left out that lead to none.
    """
    if point.inside:
        return ()
    pairs = network.inside_pairs
    if untagged or point.outside != "allow":
        return pairs
    starts, sides = network.inside_by_target
    places: set[int] = set()
    for one in bindings:
        n = max(bisect_right(starts, (one.family, one.start)) - 1, 0)
        while n < len(sides) and (sides[n][0].family, sides[n][0].start) <= (one.family, one.end):
            span, numbers = sides[n]
            if span.family == one.family and span.end >= one.start:
                places.update(numbers)
            n += 1
    return tuple(pairs[n] for n in sorted(places))


def _names(
    matrix: Matrix, scope: tuple[Sequence[int], Sequence[int]], bindings: Sequence[Range]
) -> dict[int, str]:
    groups = matrix.groups
    every = groups.by_tag
    here = {g for side in scope for g in side} | {every[b.tag] for b in bindings if b.tag in every}
    if len(here) == len(groups):
        return groups.named
    return {tag: name for tag, name in groups.named.items() if every[tag] in here}
