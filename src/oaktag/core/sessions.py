"""Sessions: who has which address now.

Rules kept here (semantics, sections 3, 6 and 8): the newest session owns an address, and of equal
times the later row; a session of an unassigned endpoint binds nothing but ends older ones; an
endpoint whose address is not stable and that has no session is taken to have one at its
inventory address, older than any real one and ended by it; so one that has logged off is nowhere.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple

from oaktag.core.addresses import Prefix
from oaktag.core.arrays import Flags, Ints, NDArray, np
from oaktag.core.columns import Columns
from oaktag.core.endpoints import Endpoints
from oaktag.core.prefixes import Prefixes
from oaktag.located import Location

By = Literal["inventory", "session", "assumed"]
#: How we know of an address, by number.
BY: tuple[By, ...] = ("inventory", "session", "assumed")
INVENTORY, SESSION, ASSUMED = range(3)
#: A time that is older than any known.
UNKNOWN = -(1 << 63)


class Session(NamedTuple):
    """One session, of a file or the store: an endpoint (its row), an address, and since when, in
    microseconds of the Unix epoch; one that is ``over`` has the address no more, and who had it
    before has not got it back."""

    endpoint: int
    address: Prefix
    since: int
    location: Location
    over: bool = False


class Place(NamedTuple):
    """An address that an endpoint has, and how we know."""

    endpoint: int
    address: Prefix
    by: By
    since: int | None
    location: Location


class Places(Columns[Place]):
    """Places as columns.

    Attributes:
        endpoint: int64 [n], whose.
        addresses: which, [n].
        by: uint8 [n], how we know: a place in ``BY``.
        session: int64 [n], the session's number where one says so, else -1.
        since: int64 [n], ``UNKNOWN`` where no time is known.
    """

    def __init__(
        self,
        endpoints: Endpoints,
        sessions: Sequence[Session],
        endpoint: Ints,
        addresses: Prefixes,
        by: NDArray[np.uint8],
        session: Ints,
    ) -> None:
        self._endpoints, self._sessions = endpoints, sessions
        self.endpoint, self.addresses, self.by, self.session = endpoint, addresses, by, session
        times = np.array([s.since for s in sessions] + [UNKNOWN], dtype=np.int64)
        self.since: Ints = times[session]

    def __len__(self) -> int:
        return len(self.endpoint)

    def one(self, at: int) -> Place:
        """One of them, made."""
        row, session = int(self.endpoint[at]), int(self.session[at])
        where = self._endpoints.location(row) if session < 0 else self._sessions[session].location
        since = None if session < 0 else int(self.since[at])
        return Place(row, self.addresses[at], BY[self.by[at]], since, where)

    def take(self, rows: Ints | Flags) -> Places:
        """Those of some rows."""
        return Places(
            self._endpoints, self._sessions, self.endpoint[rows], self.addresses.take(rows),
            self.by[rows], self.session[rows],
        )  # fmt: skip


def owners(sessions: Sequence[Session]) -> dict[Prefix, int]:
    """Address → the number of the session that owns it."""
    newest: dict[Prefix, int] = {}
    for number, session in enumerate(sessions):
        known = newest.get(session.address)
        if known is None or session.since >= sessions[known].since:
            newest[session.address] = number
    return newest


def places(endpoints: Endpoints, sessions: Sequence[Session]) -> Places:
    """Every address of every endpoint, endpoint by endpoint."""
    owned = owners(sessions)
    lasting = {a: n for a, n in owned.items() if not sessions[n].over}
    number = np.array(list(lasting.values()), dtype=np.int64)
    moving = np.array([sessions[n].endpoint for n in number], dtype=np.int64)
    named = np.zeros(len(endpoints), dtype=np.bool_)
    named[[sessions[n].endpoint for n in owned.values()]] = True
    stable, known = endpoints.addresses_of(np.flatnonzero(endpoints.stable))
    resting, inventory = endpoints.addresses_of(np.flatnonzero(~endpoints.stable & ~named))
    if owned:
        free = np.array([address not in owned for address in inventory], dtype=np.bool_)
        resting, inventory = resting[free], inventory.take(free)
    endpoint = np.concatenate([stable, resting, moving])
    counts = [len(stable), len(resting), len(moving)]
    order = np.argsort(endpoint, kind="stable")
    return Places(
        endpoints,
        sessions,
        endpoint[order],
        Prefixes.join([known, inventory, Prefixes.of(lasting)]).take(order),
        np.repeat(np.array([INVENTORY, ASSUMED, SESSION], dtype=np.uint8), counts)[order],
        np.concatenate([np.full(counts[0] + counts[1], -1), number]).astype(np.int64)[order],
    )
