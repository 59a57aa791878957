"""Access lists ↔ text: one row for each dialect."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from typing import Any, NamedTuple

from oaktag.core.abilities import EVERYTHING, Abilities
from oaktag.core.accesslist import AccessList, Standing
from oaktag.core.addressed import AddressList, addressed
from oaktag.core.fitting import as_row, check
from oaktag.core.flatlist import FlatList
from oaktag.core.flatten import count, plain_count
from oaktag.core.templates import Template
from oaktag.dialects import (
    ietf_acl,
    ietf_acl_reader,
    json_list,
    json_list_reader,
    nftables,
    nftables_reader,
    template_list,
)
from oaktag.errors import UnreadableList, UnwritableEntry


class Written(NamedTuple):
    """A list as text, the entries that it takes of its point, and those that it would take if
    every cell had its own."""

    text: str
    entries: int
    plain: int


class Dialect(NamedTuple):
    """How lists are written for a kind of point, and read back, each by itself.

    ``write`` raises UnwritableEntry, ``read`` UnreadableList.
    """

    suffix: str
    #: Protocol numbers that such a point does not see as a packet's protocol on IPv6.
    unseen: frozenset[int]
    #: What such points can do at most; what a list is written for may be less.
    able: Abilities
    #: The same of those that match addresses at both ends, where that is less.
    by_address: Abilities
    #: The limits of a point that count.
    limits: frozenset[str]
    write: Callable[[AccessList, Abilities], Written]
    read: Callable[[str], AccessList]
    standing: Callable[[str], Iterator[Standing]]
    #: Whether lists can be read back, and so are proved.
    reads: bool = True


def _exactly(
    read: Callable[[str], tuple[AccessList, Any]], write: Callable[[Any], str]
) -> Callable[[str], AccessList]:
    """A reader that takes a text only if its dialect's writer makes the same bytes of what was
    read."""

    def reading(text: str) -> AccessList:
        held, form = read(text)
        try:
            again = write(form)
        except UnwritableEntry as error:
            raise UnreadableList(1, f"what this list says cannot be written: {error}") from None
        if again != text:
            raise UnreadableList(*_difference(text, again))
        return held

    return reading


def _difference(text: str, again: str) -> tuple[int, str]:
    """The first line that the writer would write otherwise, and how."""
    lines, others = text.split("\n"), again.split("\n")
    at = next(
        (n for n, (a, b) in enumerate(zip(lines, others, strict=False)) if a != b),
        min(len(lines), len(others)),
    )
    if at >= len(others):
        return at + 1, "nothing stands here where oaktag compile writes the same list"
    return at + 1, f"oaktag compile writes this line of the same list as {others[at].strip()!r}"


def _standing(
    read: Callable[[str], AccessList], standing: Callable[[str], Iterator[Standing]]
) -> Callable[[str], Iterator[Standing]]:
    """Where entries stand, of a text that reads."""

    def found(text: str) -> Iterator[Standing]:
        read(text)
        yield from standing(text)

    return found


def _kernel(held: AccessList, able: Abilities) -> Written:
    check(held, able)
    return Written(*nftables.write_counted(held), held.plain_entries)


def _row(
    write: Callable[[FlatList | AddressList], str],
) -> Callable[[AccessList, Abilities], Written]:
    """For points that hold one row of entries."""

    def written(held: AccessList, able: Abilities) -> Written:
        flat = as_row(held, able)
        entries = count(flat, able)
        if entries > MOST_ENTRIES:
            raise UnwritableEntry(
                f"{held.point}: its list comes to {entries:,} entries, and one is of at most "
                f"{MOST_ENTRIES:,}; narrow its scope, or let the point hold tables of addresses"
            )
        text = write(flat if able.tables else addressed(flat))
        return Written(text, entries, plain_count(held, able))

    return written


#: What RFC 8519 says with the module oaktag-acl, and without it.
ACES = Abilities(ports="ranges", icmp_types="single", apart=True, counters=False)
PLAIN_ACES = ACES._replace(
    tags=False, tables=False, state=False, sctp_ports=False, readable="ports", own=False
)
#: The extension headers of IPv6 (RFC 8200, section 4.1; RFC 4302).
HEADERS = frozenset({0, 43, 44, 51, 60})
#: What a point can be said not to do.
KERNEL_LIMITS = frozenset({"families", "logging", "observing", "answers"})
ALL_LIMITS = KERNEL_LIMITS | {"tables", "ports", "range_costs", "icmp_types"}
#: The most entries of a row.
MOST_ENTRIES = 1_000_000


def of_template(template: Template) -> Dialect:
    """The dialect of a template of the engineer's own."""
    able = EVERYTHING._replace(counters=False).narrowed(template.able)
    read = _exactly(
        partial(template_list.read_form, template), partial(template_list.write, template)
    )
    return Dialect(
        template.suffix, frozenset(), able, able, ALL_LIMITS,
        _row(partial(template_list.write, template)), read,
        _standing(read, partial(template_list.standing, template)), bool(template.read),
    )  # fmt: skip


_READ_KERNEL = _exactly(nftables_reader.read_form, nftables.write)
_READ_JSON = _exactly(json_list_reader.read_form, json_list.write)
_READ_ACES = _exactly(ietf_acl_reader.read_form, ietf_acl.write)

DIALECTS = {
    "nftables": Dialect(
        ".nft", nftables.HEADERS, EVERYTHING, EVERYTHING, KERNEL_LIMITS, _kernel,
        _READ_KERNEL, _standing(_READ_KERNEL, nftables_reader.standing),
    ),
    "json": Dialect(
        ".list.json", frozenset(), EVERYTHING, EVERYTHING, ALL_LIMITS, _row(json_list.write),
        _READ_JSON, _standing(_READ_JSON, json_list_reader.standing),
    ),
    "ietf-acl": Dialect(
        ".acl.json", HEADERS, ACES, PLAIN_ACES, ALL_LIMITS, _row(ietf_acl.write),
        _READ_ACES, _standing(_READ_ACES, ietf_acl_reader.standing),
    ),
}  # fmt: skip
