"""``groups --unlike``: groups whose members fare differently in the network, though the matrix says
the same of all of them; and what tells these members apart."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import ClassVar

from oaktag.core.effects import EFFECTS
from oaktag.core.reach import Reach
from oaktag.errors import UsageError
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row

#: So many pairs of hosts that fare alike are followed.
MOST_PAIRS = 4_000_000
#: Direction and other group → what becomes of packets.
Profile = Mapping[tuple[str, int], set[int]]


@dataclass(frozen=True, eq=False, repr=False)
class Unlike(Result):
    """Groups whose members fare differently, in parts that fare alike, the largest first."""

    unlike: list[Row]
    command: ClassVar[str] = "groups unlike"
    shown_by: ClassVar[str] = "unlike"
    table: ClassVar[str] = "unlike"


def unlike(model: Model) -> Unlike:
    """Groups whose members fare differently toward, or from, one and the same group.

    Raises:
        UsageError: there are too many kinds of hosts to follow each.
    """
    state = model.state
    classes = state.classes(model.hosts)
    if len(classes) ** 2 > MOST_PAIRS:
        raise UsageError(
            f"there are {len(classes):,} kinds of hosts, too many to follow each two: oaktag reach "
            "counts what goes wrong by cause, --by endpoint for some"
        )
    # As reach tells it: at one place and on one path the worst of both families.
    worst: dict[int, dict[tuple[str, int], dict[object, int]]] = defaultdict(
        lambda: defaultdict(dict)
    )
    segments: dict[int, set[str]] = defaultdict(set)
    for between in Reach(state, classes, classes).by_class():
        code = between.outcome.code
        a, b = between.a, between.b
        ways = tuple(between.path.nodes), tuple(link.name for link in between.path.links)
        for mine, other, way in ((a, b, "to"), (b, a, "from")):
            place = mine.host.segment, other.host.segment, ways
            for endpoint in {h.endpoint for h in mine.hosts if h.endpoint >= 0}:
                held = worst[endpoint][way, other.host.group]
                held[place] = max(held.get(place, 0), code)
    found = {
        endpoint: {key: set(codes.values()) for key, codes in told.items()}
        for endpoint, told in worst.items()
    }
    for told in found.values():  # where nothing goes wrong, there is nothing to tell apart
        for key in [key for key, codes in told.items() if not any(codes)]:
            del told[key]
    for host in model.hosts:
        if host.endpoint >= 0:
            segments[host.endpoint].add(host.segment or host.node)
    by_group: dict[int, list[int]] = defaultdict(list)
    for endpoint in sorted(found):
        by_group[max(int(model.assignment.group[endpoint]), 0)].append(endpoint)
    rows = [_parted(model, g, rows, found, segments) for g, rows in sorted(by_group.items()) if g]
    return Unlike(unlike=[row for row in rows if len(row["parts"]) > 1])


def _parted(
    model: Model, group: int, endpoints: Sequence[int], found: Mapping[int, Profile],
    segments: Mapping[int, set[str]],
) -> Document:  # fmt: skip
    """A group in parts that fare alike."""
    parts: dict[object, list[int]] = defaultdict(list)
    for endpoint in endpoints:
        told = found[endpoint]
        parts[frozenset((key, frozenset(codes)) for key, codes in told.items())].append(endpoint)
    every = {key for endpoint in endpoints for key in found[endpoint]}
    differ = [
        key for key in sorted(every)
        if len({frozenset(found[rows[0]].get(key, ())) for rows in parts.values()}) > 1
    ]  # fmt: skip
    ids = model.files.endpoints.ids

    def fares(row: int, key: tuple[str, int]) -> Document:
        effects = [EFFECTS[code] for code in sorted(found[row].get(key, ()))]
        return {
            "direction": key[0], "other": model.groups.all[key[1]].id, "effects": effects,
        }  # fmt: skip

    def rest(rows: Sequence[int]) -> list[int]:
        mine = set(rows)
        return [e for e in endpoints if e not in mine]

    return {
        "group": model.groups.all[group].id,
        "parts": [
            {
                "endpoints": [ids[e] for e in rows],
                "segments": sorted({s for e in rows for s in segments[e]}),
                "when": next(_telling(model, rows, rest(rows)), None),
                "fares": [fares(rows[0], key) for key in differ],
            }
            for rows in sorted(parts.values(), key=lambda rows: (-len(rows), rows))
        ],
    }  # fmt: skip


def _telling(model: Model, mine: Sequence[int], others: Sequence[int]) -> Iterator[str]:
    """Conditions on one attribute that take some endpoints and none of the others."""
    endpoints = model.files.endpoints
    for attribute in endpoints.columns:
        if attribute in ("address", "id"):
            continue
        values = [set(endpoints.value(row, attribute)) for row in mine]
        for value in sorted(set.intersection(*values)) if values else ():
            if not any(value in endpoints.value(row, attribute) for row in others):
                yield f"{attribute}={value}"
