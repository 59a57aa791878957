"""Hosts that fare alike: one of a class stands for all of it.

Rules kept here (semantics, section 6): each address stands for itself, so hosts are one class only
where family, place and true group are the same, and every table of bindings says the same of them.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.addresses import keys
from oaktag.core.bindings import FAMILIES, Lookup
from oaktag.core.placement import Host
from oaktag.core.ranges import spread

Ints = NDArray[np.int64]


class Class(NamedTuple):
    """Hosts that fare alike: one of them, the tag that each table has for it, and all."""

    host: Host
    tags: Sequence[int]
    hosts: list[Host]


def classes(hosts: Iterable[Host], tables: Sequence[Lookup]) -> list[Class]:
    """The classes of some hosts, each where its first host comes.

    Args:
        hosts: N of them.
        tables: K different tables of bindings.

    Returns:
        classes; ``tags`` of each has K numbers, 0 for what is not bound.
    """
    every = list(hosts)
    kind = _kinds(every)
    bound: list[list[tuple[Ints, Ints]]] = [[] for _ in tables]
    count = int(kind.max()) + 1 if every else 0
    for family in FAMILIES:
        here = np.array([n for n, h in enumerate(every) if h.family == family], dtype=np.int64)
        address = keys(family, [every[n].address for n in here])
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
            pairs = np.stack([kind[touched], tags])
            apart, inverse = np.unique(pairs, axis=1, return_inverse=True)
            kind[touched] = count + inverse.ravel()
            count += apart.shape[1]
    return _gathered(every, kind, bound)


def _kinds(hosts: Sequence[Host]) -> Ints:
    """A number for all that counts of a host besides its tags."""
    known: dict[tuple[object, ...], int] = {}
    return np.array(
        [
            known.setdefault(
                (h.family, h.segment, h.node, h.group, h.own, h.endpoint < 0), len(known)
            )
            for h in hosts
        ],
        dtype=np.int64,
    )


def _gathered(
    hosts: Sequence[Host], kind: Ints, bound: Sequence[Sequence[tuple[Ints, Ints]]]
) -> list[Class]:
    _, first, inverse = np.unique(kind, return_index=True, return_inverse=True)
    place = np.empty(len(first), dtype=np.int64)
    place[np.argsort(first)] = np.arange(len(first))
    mine = place[inverse.ravel()]
    tags = np.zeros((len(first), len(bound)), dtype=np.int64)
    for number, found in enumerate(bound):
        for touched, of in found:
            tags[mine[touched], number] = of
    members: list[list[Host]] = [[] for _ in first]
    for host, number in zip(hosts, mine.tolist(), strict=True):
        members[number].append(host)
    few = tags.size <= 1 << 20
    rows: Sequence[Sequence[int]] = tags.tolist() if few else list(tags)
    return [Class(of[0], row, of) for of, row in zip(members, rows, strict=True)]
