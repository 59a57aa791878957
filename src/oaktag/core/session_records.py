"""What nodes tell of sessions → who had which address, from when to when.

Rules kept here (live.md, Sessions): a session starts with a start or the first interim record, each
interim record confirms it, and it ends with a stop, with a restart of its node, when another takes
its address, or when nothing confirmed it for a while. Records come twice, late and out of order:
what comes of them depends on what they say, and not on when they arrive.

One address is looked at by itself, along the times that its records name. A session that has lost
its address is not brought back by its later records while another has it; one that was stopped only
by a new start.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from oaktag.core.addresses import Prefix

Kind = Literal["stop", "restart", "start", "interim"]
#: What of one moment counts first: what ends, then what begins.
KINDS: tuple[Kind, ...] = ("stop", "restart", "start", "interim")
Why = Literal["", "stopped", "restarted", "taken", "moved", "silent"]
_RANK = {kind: n for n, kind in enumerate(KINDS)}


class Record(NamedTuple):
    """What a node says of a session at a time, in microseconds of the Unix epoch; a restart is of
    the node alone.

    Attributes:
        node: who says so.
        session: its name there, for as long as the session lasts.
        endpoint: whose it is.
        addresses: single addresses that the endpoint has; () where nothing is said of them.
        told: further attributes, sorted.
    """

    time: int
    kind: Kind
    node: str
    session: str = ""
    endpoint: str = ""
    addresses: tuple[Prefix, ...] = ()
    told: tuple[tuple[str, str], ...] = ()

    @property
    def key(self) -> tuple[str, str]:
        """The session, among those of all nodes."""
        return self.node, self.session

    @property
    def order(self) -> tuple[object, ...]:
        """Its place among the records of an address."""
        return self.time, _RANK[self.kind], *self[2:]


class Spell(NamedTuple):
    """An endpoint's time at an address.

    Attributes:
        until: when it ended; None while nothing is known to have ended it.
        ended: what ended it.
        confirmed: the last record that says it was there.
    """

    address: Prefix
    endpoint: str
    node: str
    session: str
    since: int
    confirmed: int
    until: int | None
    ended: Why
    told: tuple[tuple[str, str], ...]

    @property
    def key(self) -> tuple[str, str]:
        """The session, among those of all nodes."""
        return self.node, self.session

    def ends(self, timeout: int) -> int:
        """When it ended, or will if nothing confirms it any more."""
        return self.confirmed + timeout if self.until is None else self.until

    def at(self, moment: int, timeout: int) -> bool:
        """Whether it lasts at a moment."""
        return self.since <= moment < self.ends(timeout)


@dataclass(slots=True)
class Sweep:
    """One address, along the times of its records.

    Attributes:
        spells: what came of them; only the last may last still.
        last: the place of the last record taken; a record before it can not be taken any more.
    """

    address: Prefix
    timeout: int
    spells: list[Spell] = field(default_factory=list)
    last: tuple[object, ...] = ()
    #: Sessions that were here and are not: whether only a new start brings them back.
    _gone: dict[tuple[str, str], bool] = field(default_factory=dict)

    def takes(self, record: Record) -> bool:
        """Whether a record comes in its place, behind all that were taken."""
        return not self.last or record.order >= self.last

    def take(self, record: Record) -> None:
        """The next record; one of another address too, if it is of a session that was here."""
        self.last = record.order
        held = self._held()
        if held is not None and record.time >= held.confirmed + self.timeout:
            self._end(held.confirmed + self.timeout, "silent")
            self._gone[held.key] = False
            held = None
        mine = held is not None and held.key == record.key
        if record.kind == "restart":
            # Names of sessions begin anew with their node.
            self._gone = {k: v for k, v in self._gone.items() if k[0] != record.node}
            if held is not None and held.node == record.node:
                self._end(record.time, "restarted")
        elif record.kind == "stop":
            if mine:
                self._end(record.time, "stopped")
            self._gone[record.key] = True
        elif self.address in record.addresses:
            self._here(record, held)
        elif mine and any(a.family == self.address.family for a in record.addresses):
            self._end(record.time, "moved")

    def _here(self, record: Record, held: Spell | None) -> None:
        if held is not None and (held.key, held.endpoint) == (record.key, record.endpoint):
            self.spells[-1] = held._replace(confirmed=record.time, told=record.told or held.told)
            return
        gone = record.kind != "start" and record.key in self._gone
        if gone and (held is not None or self._gone[record.key]):
            return
        if held is not None:
            self._end(record.time, "taken")
            self._gone[held.key] = False
        self._gone.pop(record.key, None)
        time, endpoint = record.time, record.endpoint
        self.spells.append(
            Spell(self.address, endpoint, *record.key, time, time, None, "", record.told)
        )

    def _held(self) -> Spell | None:
        """The session that has the address, as far as is known."""
        return self.spells[-1] if self.spells and self.spells[-1].until is None else None

    def _end(self, when: int, why: Why) -> None:
        self.spells[-1] = self.spells[-1]._replace(until=when, ended=why)


def spells(address: Prefix, records: Iterable[Record], timeout: int) -> list[Spell]:
    """Who had an address, one after the other.

    Args:
        address: a single address.
        records: all of the sessions ever there, and restarts of their nodes; in any order.
        timeout: so many microseconds a session lasts unconfirmed.
    """
    sweep = Sweep(address, timeout)
    for record in sorted(records, key=lambda r: r.order):
        sweep.take(record)
    return sweep.spells
