"""Sessions: who has which address now.

Rules kept here (semantics, sections 3, 6 and 8): the newest session owns an address, and of equal
times the later row; a session of an unassigned endpoint binds nothing but ends older ones; an
endpoint whose address is not stable and that has no session is taken to have one at its
inventory address, older than any real one and ended by it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Literal, NamedTuple

from oaktag.core.addresses import Prefix
from oaktag.core.endpoints import Endpoints
from oaktag.located import Location


class Session(NamedTuple):
    """One row of a sessions file: an endpoint (its row), an address, seconds of the Unix epoch."""

    endpoint: int
    address: Prefix
    since: int
    location: Location


class Place(NamedTuple):
    """An address that an endpoint has, and how we know."""

    endpoint: int
    address: Prefix
    by: Literal["inventory", "session", "assumed"]
    since: int | None
    location: Location


def owners(sessions: Sequence[Session]) -> dict[Prefix, Session]:
    """Address → the session that owns it."""
    newest: dict[Prefix, Session] = {}
    for session in sessions:
        known = newest.get(session.address)
        if known is None or session.since >= known.since:
            newest[session.address] = session
    return newest


def places(endpoints: Endpoints, sessions: Sequence[Session]) -> Iterator[Place]:
    """Every address of every endpoint, endpoint by endpoint."""
    owned = owners(sessions)
    of: dict[int, list[Session]] = {}
    for session in owned.values():
        of.setdefault(session.endpoint, []).append(session)
    for row in range(len(endpoints)):
        where = endpoints.location(row)
        mine = of.get(row, [])
        if endpoints.is_stable(row):
            for address in endpoints.addresses(row):
                yield Place(row, address, "inventory", None, where)
        elif not mine:
            for address in endpoints.addresses(row):
                if address not in owned:
                    yield Place(row, address, "assumed", None, where)
        for session in mine:
            yield Place(row, session.address, "session", session.since, session.location)
