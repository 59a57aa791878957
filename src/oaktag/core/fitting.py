"""A list made to fit what its point can do, or why it cannot be.

Rules kept here (semantics, section 5): what a point cannot express is an error that names the
point, the cell and the entry; what is merely long is written.
"""

from __future__ import annotations

from collections.abc import Collection

from oaktag.core.abilities import Abilities
from oaktag.core.accesslist import AccessList, ListEntry
from oaktag.core.flatlist import FlatList
from oaktag.core.flatten import flattened
from oaktag.core.network import Point
from oaktag.core.service_text import regions_text
from oaktag.errors import UnwritableEntry


def unfit(point: Point, able: Abilities) -> str:
    """Why a point cannot be what it is said to be; empty where it can."""
    by_tag = "tag" in (point.source_by, point.destination_by)
    if point.own and not able.own:
        return "it does not judge what goes to its own node; take own: true out"
    if point.stateful and not able.state:
        return "it knows no flows; say stateful: false"
    if by_tag and not (able.tags and able.tables):
        lacks = "sees no tags" if not able.tags else "holds no tables of addresses"
        return f"it {lacks}; say match: {{source: address, destination: address}}"
    return ""


def check(held: AccessList, able: Abilities) -> None:
    """That a point can do what each entry says, whatever it matches.

    Raises:
        UnwritableEntry: it cannot, with the first such entry.
    """
    wrong = {
        name: found
        for name, chain in held.chains.items()
        if (found := next(((e, why) for e in chain if (why := able.refused(e))), None)) is not None
    }
    if not wrong:
        return
    for destination, row in sorted(held.blocks.items()):
        for source, chain in sorted(row.items()):
            if chain in wrong:
                raise _refusal(held, (source, destination), *wrong[chain])


def as_row(held: AccessList, able: Abilities) -> FlatList:
    """The list as one row of entries, each of which the point can hold.

    Raises:
        UnwritableEntry: it cannot, with the first such entry.
    """
    check(held, able)
    flat = flattened(held, able)
    for one in flat.entries:
        entry = one.entry
        if entry.region and (why := able.unseen(entry.region, readable=entry.readable)):
            ends = _first(one.sources, flat.sources), _first(one.destinations, flat.destinations)
            raise _refusal(held, ends, one.entry, why)
    return flat


def _first(some: Collection[int] | None, every: Collection[int]) -> int:
    return min(every if some is None else some)


def _refusal(
    held: AccessList, cell: tuple[int, int], entry: ListEntry, why: str
) -> UnwritableEntry:
    ends = " ".join(held.names.get(tag, str(tag)) for tag in cell)
    packets = "any" if entry.region is None else regions_text([entry.region])
    words = f" ({', '.join(entry.words)})" if entry.words else ""
    return UnwritableEntry(
        f"{held.point}: the cell {ends} has the entry {entry.action} {packets}{words}, which {why}"
    )
