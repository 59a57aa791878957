"""Groups shared with another domain, and another's that are adopted.

Rules kept here (live.md, The other domain): only stable bindings are shared, so that who logs in
changes nothing; each address is in at most one group of what is shared, as the registry has it; no
other domain may speak of our addresses, nor of those that a third one speaks of.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from typing import NamedTuple

from oaktag.core.addresses import Keys, Prefix, prefixes_of
from oaktag.core.arrays import Ints, np
from oaktag.core.bindings import BINDING_SOURCES, FAMILIES, Bindings, Lookup
from oaktag.core.groups import Groups
from oaktag.core.prefixes import Prefixes
from oaktag.core.ranges import flatten
from oaktag.core.registry import PrefixPin
from oaktag.located import Location

#: Sources whose bindings come and go.
PASSING = ("session",)
BETWEEN = "/"


class SharedGroup(NamedTuple):
    """A group as its domain tells of it; the tag is that domain's."""

    id: str
    tag: int
    title: str
    owner: str
    prefixes: tuple[Prefix, ...]


class Receipt(NamedTuple):
    """What a domain holds of another: which document, and a digest of its groups."""

    origin: str
    serial: int
    digest: str


class Shared(NamedTuple):
    """A document: whose, the how-manieth, since when (microseconds of the Unix epoch), its groups,
    and what that domain holds of others."""

    origin: str
    serial: int
    made: int
    groups: tuple[SharedGroup, ...]
    holds: tuple[Receipt, ...] = ()

    @property
    def prefixes(self) -> list[Prefix]:
        """All prefixes of its groups."""
        return [p for g in self.groups for p in g.prefixes]


def name_of(origin: str, group: str) -> str:
    """A group of another domain, as it is called here."""
    return f"{origin}{BETWEEN}{group}"


def origin_of(name: str) -> str:
    """The domain of a group; "" for our own."""
    return name.partition(BETWEEN)[0] if BETWEEN in name else ""


def shared_groups(
    groups: Groups, wanted: Collection[int], bindings: Bindings, order: Sequence[str]
) -> tuple[SharedGroup, ...]:
    """Some groups with their stable bindings, by their ids; the fewest prefixes that hold just the
    addresses that the registry has in each, whatever comes and goes.

    Args:
        groups: all groups.
        wanted: indices of those that are shared.
        bindings: all that the registry holds.
        order: the sources of bindings, the strongest first.
    """
    passing = [BINDING_SOURCES.index(s) for s in PASSING]
    table = Lookup(bindings.take(~np.isin(bindings.sources, passing)), order)
    held: dict[int, list[Prefix]] = {}
    for family, start, end, tag in table.ranges:
        held.setdefault(tag, []).extend(prefixes_of(family, start, end))
    chosen = sorted((groups.all[i] for i in wanted), key=lambda g: g.id)
    return tuple(
        SharedGroup(g.id, tag, g.title, g.owner, tuple(held.get(tag, ())))
        for g in chosen
        for tag in [groups.tag(groups.index[g.id])]
    )


def pins_of(shared: Shared, groups: Groups, place: Location) -> Iterator[PrefixPin]:
    """Another domain's bindings here; of groups that have no tag of ours, none."""
    for group in shared.groups:
        name = name_of(shared.origin, group.id)
        for prefix in group.prefixes if name in groups.index else ():
            yield PrefixPin(
                prefix, groups.index[name], place, shared.made, None, "adopted", shared.origin
            )


class Contested(NamedTuple):
    """A prefix that a domain speaks of, and whose it is."""

    prefix: Prefix
    whose: str


class Claims:
    """Who speaks of which addresses; asked whether another's overlap.

    Args:
        prefixes: what is claimed; prefixes of length 0 claim nothing, for all is inside them.
        name: tells whose one of them is, by its place; "" where it is nobody's, nor what wider ones
            hold of it.
    """

    def __init__(self, prefixes: Prefixes, name: Callable[[int], str]) -> None:
        self._name = name
        self._held: dict[int, tuple[Keys, Keys, Ints]] = {}
        for family in FAMILIES:
            rows = np.flatnonzero((prefixes.family == family) & (prefixes.length > 0))
            mine = prefixes.take(rows)
            starts, ends, owner = flatten(
                family, mine.starts(family), mine.ends(family), mine.length.astype(np.int64)
            )
            named = np.array([bool(name(row)) for row in rows.tolist()], dtype=np.bool_)
            claimed = named[owner] if len(owner) else owner.astype(np.bool_)
            self._held[family] = starts[claimed], ends[claimed], rows[owner[claimed]]

    def contested(self, asked: Sequence[Prefix]) -> Iterator[Contested]:
        """The prefixes that overlap with what is claimed, each with one that claims it."""
        every = Prefixes.of(asked)
        for family in FAMILIES:
            starts, ends, owner = self._held[family]
            theirs = every.take(every.family == family)
            # They meet where the first stretch that does not end before them does not begin behind.
            at = np.searchsorted(ends, theirs.starts(family))
            behind = np.flatnonzero(at < len(ends))
            hit = behind[starts[at[behind]] <= theirs.ends(family)[behind]]
            for row in hit.tolist():
                yield Contested(theirs[row], self._name(int(owner[at[row]])))
