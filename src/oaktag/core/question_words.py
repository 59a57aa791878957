"""What a word means as an end: the words of commands and expectations.

Rule kept here (semantics, section 1): a word is the first of group, set, tag number (decimal or
``0x…``), endpoint, address; ``endpoint:NAME`` says otherwise. An endpoint stands for its assigned
group, an address for what the registry's look-up gives.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import Literal, NamedTuple

from oaktag.core.addresses import is_address, parse_address
from oaktag.core.endpoints import Endpoints
from oaktag.core.groups import STAR, Groups
from oaktag.errors import UsageError
from oaktag.near import perhaps

POINTS = "points"
PREFIX = "endpoint:"


Place = Literal["node", "segment", "site"]
NOWHERE: Mapping[str, Place] = MappingProxyType({})


class End(NamedTuple):
    """An end as written, and what kind of thing it is.

    ``groups`` are indices for ``group``, ``set`` and ``*``; ``endpoint`` is a row;
    ``address`` a family and a number. A ``node`` stands for its own addresses, a ``segment`` or a
    ``site`` for whoever is there.
    """

    word: str
    kind: Literal["group", "set", "endpoint", "address", "points", "node", "segment", "site"]
    groups: tuple[int, ...] = ()
    endpoint: int = -1
    address: tuple[int, int] = (0, 0)


def parse_end(
    word: str,
    groups: Groups,
    endpoints: Endpoints,
    *,
    points: bool = False,
    places: Mapping[str, Place] = NOWHERE,
) -> End:
    """What a word stands for: the first of group, set, tag, endpoint and address that it is; then a
    place.

    Args:
        word: as it is written.
        groups, endpoints: what there is.
        points: whether ``points`` is an end here.
        places: nodes, segments and sites that may be meant here, by name.

    Raises:
        UsageError: it is none of the things it could be; the closest names are given.
    """
    if word.startswith(PREFIX):
        return _endpoint(word, word[len(PREFIX) :], groups, endpoints)
    if word == POINTS and points:
        return End(word, "points")
    if (end := group_end(word, groups)) is not None:
        return end
    if word in endpoints.index:
        return _endpoint(word, word, groups, endpoints)
    if is_address(word):
        return End(word, "address", address=parse_address(word))
    if word in places:
        return End(word, places[word])
    return _unknown(word, [*groups.index, *groups.sets, *endpoints.ids, *places])


def group_end(word: str, groups: Groups) -> End | None:
    """What a word stands for that speaks of groups, which comes before all else it could be."""
    if word in groups.index:
        return End(word, "group", (groups.index[word],))
    if word in groups.sets or word == STAR:
        return End(word, "set", groups.members(word))
    if re.fullmatch(r"\d{1,5}|0x[0-9a-fA-F]{1,4}", word):
        index = groups.by_tag.get(int(word, 0) if word.startswith("0x") else int(word))
        if index is not None:
            return End(word, "group", (index,))
    return None


def _endpoint(word: str, name: str, groups: Groups, endpoints: Endpoints) -> End:
    if name not in endpoints.index:
        return _unknown(name, endpoints.ids)
    return End(word, "endpoint", endpoint=endpoints.index[name])


def _unknown(word: str, known: Sequence[str]) -> End:
    hint = perhaps(word, known)
    told = f"{word!r} is no group, set, tag, endpoint or address"
    raise UsageError(f"{told}; {hint}" if hint else told)
