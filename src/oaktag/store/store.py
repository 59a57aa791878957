"""Sessions in the store: records go in, each once; who had which address comes out.

The records are what is kept; the sessions follow from them (``core.session_records``), address by
address, and could be worked out again at any time. A writer keeps the addresses it met at last in
memory, so that a record that comes in its order costs no question.
"""

from __future__ import annotations

import json
from collections import Counter, OrderedDict
from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

from sqlalchemy import Connection, Engine, and_, delete, func, or_, select, tuple_
from sqlalchemy.dialects import postgresql, sqlite

from oaktag.core.addresses import Prefix, address_text, parse_prefix
from oaktag.core.session_records import Record, Spell, Sweep
from oaktag.store import tables
from oaktag.store.database import NoStoreYet, opened, reading, writing
from oaktag.store.tables import about, places, records, sessions

#: So many addresses a writer keeps in memory.
KEPT = 200_000
#: So many names go into one question.
_FEW = 400
_COLUMNS = ("time", "kind", "node", "session", "endpoint", "addresses", "told")
Key = tuple[str, str]
_Item = TypeVar("_Item")


class Taken(NamedTuple):
    """How many records were new, and how many were known."""

    new: int
    known: int


class Held(NamedTuple):
    """What a store holds of a kind: how many rows, and the times of the first and the last."""

    kind: str
    rows: int
    first: int | None
    last: int | None


class Store:
    """The store of a workspace.

    Args:
        url: of the database.
        root: the workspace's folder.
        timeout: so many microseconds a session lasts unconfirmed.
        write: records will be taken; the store is begun where there is none.

    Raises:
        UsageError: there is none, or it is of a later version.
        OakTagError: the database cannot be reached.
    """

    def __init__(self, url: str, root: Path, timeout: int, *, write: bool = False) -> None:
        self.timeout = timeout
        self._engine: Engine = opened(url, root, write=write)
        self._sweeps: OrderedDict[str, Sweep] = OrderedDict()
        self._places: dict[Key, set[str]] = {}
        self._turn = -1
        try:
            if write:
                with writing(self._engine) as db:
                    tables.brought_up(db)
                    if _said(db, "timeout") not in (None, str(timeout)):
                        self._work_out_anew(db)
                    _say(db, "timeout", str(timeout))
            else:
                with reading(self._engine) as db:
                    has = self._engine.dialect.has_table(db, about.name)
                    version = _said(db, "version") if has else None
                if version is None:
                    raise NoStoreYet(f"{self.where} holds no store yet; oaktag listen begins one")
                tables.must_be_readable(int(version))
        except BaseException:
            self.close()
            raise

    @property
    def where(self) -> str:
        """Where it is, without a password."""
        return self._engine.url.render_as_string(hide_password=True)

    def close(self) -> None:
        """End its connections."""
        self._engine.dispose()

    # -- in --------------------------------------------------------------------------------------

    def take(self, told: Sequence[Record], source: str, arrived: int) -> Taken:
        """Take records in; they are there, all of them, when this returns.

        Args:
            told: in any order; those that are known already change nothing.
            source: where they come from.
            arrived: when they came.
        """
        try:
            with writing(self._engine) as db:
                self._in_turn(db)
                new = self._inserted(db, told, source, arrived)
                self._follow(db, new)
        except BaseException:
            # What is in memory may be ahead of what is kept.
            self._forget()
            raise
        return Taken(len(new), len(told) - len(new))

    def _in_turn(self, db: Connection) -> None:
        """Forget what another writer may have changed since."""
        turn = int(_said(db, "turn") or 0)
        if turn != self._turn:
            self._forget()
        self._turn = turn + 1
        _say(db, "turn", str(self._turn))

    def _forget(self) -> None:
        self._sweeps.clear()
        self._places.clear()
        self._turn = -1

    def _insert(self, table: Any) -> Any:
        kind = postgresql if self._engine.dialect.name == "postgresql" else sqlite
        return kind.insert(table)

    def _inserted(
        self, db: Connection, told: Sequence[Record], source: str, arrived: int
    ) -> list[Record]:
        """Those of some records that were not known."""
        if not told:
            return []
        rows = {_row(record): record for record in told}
        last = db.scalar(select(func.max(records.c.id))) or 0
        names = (*_COLUMNS, "source", "arrived")
        insert = self._insert(records).on_conflict_do_nothing()
        _many(db, insert, names, [(*row, source, arrived) for row in rows])
        columns = [records.c[name] for name in _COLUMNS]
        found = db.execute(select(*columns).where(records.c.id > last).order_by(records.c.id))
        return [rows[tuple(row)] for row in found]

    def _follow(self, db: Connection, new: Sequence[Record]) -> None:
        """Bring sessions up to date with new records."""
        self._look_up(db, new)
        fresh: dict[Key, list[str]] = {}
        for record in new:
            known = self._places.setdefault(record.key, set())
            for text in map(_text, record.addresses):
                if text not in known:
                    known.add(text)
                    fresh.setdefault(record.key, []).append(text)
        if fresh:
            held = [(text, *key) for key, some in fresh.items() for text in some]
            insert = self._insert(places).on_conflict_do_nothing()
            _many(db, insert, ("address", "node", "session"), held)
        # Of a session that comes to an address late, that address has not heard what it should.
        late = {a for key in self._known_before(db, fresh, new) for a in fresh[key]}
        by_address: dict[str, list[Record]] = {}
        for record in new:
            restart = record.kind == "restart"
            at = self._at_node(db, record.node) if restart else self._places[record.key]
            for text in at:
                by_address.setdefault(text, []).append(record)
        late |= by_address.keys() - self._sweeps.keys()
        gone: list[str] = []
        rows: list[tuple[Any, ...]] = []
        for text in sorted(by_address.keys() - late):
            sweep, some = self._sweeps[text], sorted(by_address[text], key=lambda r: r.order)
            if not sweep.takes(some[0]):
                late.add(text)
                continue
            self._sweeps.move_to_end(text)
            before = max(len(sweep.spells) - 1, 0)
            was = sweep.spells[before:]
            for record in some:
                sweep.take(record)
            if sweep.spells[before:] != was:
                rows += _spell_rows(sweep, before)
        for text, sweep in self._anew(db, sorted(late)).items():
            self._sweeps[text] = sweep
            gone.append(text)
            rows += _spell_rows(sweep, 0)
        _replace(db, self._insert(sessions), gone, rows)
        while len(self._sweeps) > KEPT:
            self._sweeps.popitem(last=False)
        if len(self._places) > KEPT:
            self._places.clear()

    def _look_up(self, db: Connection, new: Sequence[Record]) -> None:
        """Learn where the sessions of records have been."""
        keys = {r.key for r in new if r.kind != "restart"} - self._places.keys()
        for some in _parts(sorted(keys)):
            asked = select(places).where(tuple_(places.c.node, places.c.session).in_(some))
            for address, node, session in db.execute(asked):
                self._places.setdefault((node, session), set()).add(address)

    @staticmethod
    def _known_before(db: Connection, keys: Iterable[Key], new: Sequence[Record]) -> set[Key]:
        """Sessions of which something was told before, or whose node told of a restart since."""
        found: set[Key] = set()
        first: dict[Key, int] = {}
        of = records.c.node, records.c.session
        for record in new:
            first[record.key] = min(record.time, first.get(record.key, record.time))
        counts = Counter(record.key for record in new)
        for some in _parts(sorted(keys)):
            asked = select(*of, func.count()).where(tuple_(*of).in_(some)).group_by(*of)
            found |= {(n, s) for n, s, rows in db.execute(asked) if rows > counts[n, s]}
        nodes = sorted({node for node, _ in keys})
        since: dict[str, int] = {}
        for part in _parts(nodes):
            asked = select(records.c.node, func.max(records.c.time)).where(
                records.c.node.in_(part), records.c.kind == "restart"
            )
            since |= {row[0]: row[1] for row in db.execute(asked.group_by(records.c.node))}
        return found | {key for key in keys if since.get(key[0], first[key] - 1) >= first[key]}

    @staticmethod
    def _at_node(db: Connection, node: str) -> list[str]:
        asked = select(places.c.address).where(places.c.node == node).distinct()
        return list(db.scalars(asked.order_by(places.c.address)))

    def _anew(self, db: Connection, addresses: Sequence[str]) -> dict[str, Sweep]:
        """Addresses, worked out from all records of the sessions that were ever there."""
        found: dict[str, Sweep] = {}
        for some in _parts(addresses):
            keys: dict[str, list[Key]] = {address: [] for address in some}
            for address, node, session in db.execute(
                select(places).where(places.c.address.in_(some))
            ):
                keys[address].append((node, session))
            told = self._of(db, {key for held in keys.values() for key in held})
            restarts = self._restarts(db, {key[0] for held in keys.values() for key in held})
            for address, held in keys.items():
                every = [r for key in held for r in told.get(key, ())]
                every += [r for node in {key[0] for key in held} for r in restarts.get(node, ())]
                sweep = found[address] = Sweep(parse_prefix(address), self.timeout)
                for record in sorted(every, key=lambda r: r.order):
                    sweep.take(record)
        return found

    @staticmethod
    def _of(db: Connection, keys: set[Key]) -> dict[Key, list[Record]]:
        """All records of some sessions."""
        found: dict[Key, list[Record]] = {}
        columns = [records.c[name] for name in _COLUMNS]
        for some in _parts(sorted(keys)):
            asked = select(*columns).where(
                tuple_(records.c.node, records.c.session).in_(some), records.c.kind != "restart"
            )
            for row in db.execute(asked):
                record = _record(row)
                found.setdefault(record.key, []).append(record)
        return found

    @staticmethod
    def _restarts(db: Connection, nodes: set[str]) -> dict[str, list[Record]]:
        found: dict[str, list[Record]] = {}
        columns = [records.c[name] for name in _COLUMNS]
        for some in _parts(sorted(nodes)):
            asked = select(*columns).where(records.c.node.in_(some), records.c.kind == "restart")
            for row in db.execute(asked):
                found.setdefault(row.node, []).append(_record(row))
        return found

    def _work_out_anew(self, db: Connection) -> None:
        """All sessions, from all records."""
        db.execute(delete(sessions))
        every = list(db.scalars(select(places.c.address).distinct().order_by(places.c.address)))
        for some in _parts(every):
            for sweep in self._anew(db, some).values():
                _replace(db, self._insert(sessions), [], _spell_rows(sweep, 0))

    # -- out -------------------------------------------------------------------------------------

    def newest(self, moment: int) -> list[Spell]:
        """Of each address the last session that had begun by a moment, lasting or not, as it was
        then: what ended it later is not said."""
        place = func.row_number().over(
            partition_by=sessions.c.address, order_by=sessions.c.place.desc()
        )
        ranked = select(*sessions.c, place.label("back")).where(sessions.c.since <= moment)
        held = ranked.subquery()
        asked = select(held).where(held.c.back == 1).order_by(held.c.since, held.c.address)
        with reading(self._engine) as db:
            found = [_spell(row) for row in db.execute(asked)]
        return [
            s._replace(until=None, ended="") if s.until is not None and s.until > moment else s
            for s in found
        ]

    def held(self) -> list[Held]:
        """What it holds, kind by kind."""
        with reading(self._engine) as db:
            return [
                Held(
                    table.name, *db.execute(select(func.count(), func.min(by), func.max(by))).one()
                )
                for table, by in ((sessions, sessions.c.since), (records, records.c.time))
            ]

    def differing(self) -> list[str]:
        """Addresses of which the sessions are not what comes of the records; [] as it should be."""
        with reading(self._engine) as db:
            every = set(db.scalars(select(places.c.address).distinct()))
            every |= set(db.scalars(select(sessions.c.address).distinct()))
            found: list[str] = []
            for some in _parts(sorted(every)):
                kept: dict[str, list[Spell]] = {}
                asked = select(sessions).where(sessions.c.address.in_(some))
                for row in db.execute(asked.order_by(sessions.c.address, sessions.c.place)):
                    kept.setdefault(row.address, []).append(_spell(row))
                meant = self._anew(db, some)
                found += [a for a in some if kept.get(a, []) != meant[a].spells]
        return found

    def drop_before(self, moment: int) -> dict[str, int]:
        """Take out sessions that had ended by a moment, and the records of none that is left.

        Returns:
            how many rows of each kind went.
        """
        over = and_(sessions.c.until.is_not(None), sessions.c.until < moment)
        silent = and_(sessions.c.until.is_(None), sessions.c.confirmed < moment - self.timeout)
        with writing(self._engine) as db:
            self._in_turn(db)
            self._forget()
            before = [tables.count(db, table) for table in (sessions, records)]
            db.execute(delete(sessions).where(or_(over, silent)))
            left = select(sessions.c.node, sessions.c.session)
            old = and_(
                records.c.time < moment,
                or_(
                    records.c.kind == "restart",
                    tuple_(records.c.node, records.c.session).not_in(left),
                ),
            )
            db.execute(delete(records).where(old))
            known = select(records.c.node, records.c.session)
            db.execute(delete(places).where(tuple_(places.c.node, places.c.session).not_in(known)))
            # What is left of an address begins with its first session that is left.
            touched = list(db.scalars(select(places.c.address).distinct()))
            for some in _parts(sorted(touched)):
                swept = self._anew(db, some)
                rows = [row for sweep in swept.values() for row in _spell_rows(sweep, 0)]
                _replace(db, self._insert(sessions), list(swept), rows)
            after = [tables.count(db, table) for table in (sessions, records)]
        return {t.name: b - a for t, b, a in zip((sessions, records), before, after, strict=True)}


def _many(
    db: Connection, statement: Any, columns: Sequence[str], rows: Sequence[tuple[Any, ...]]
) -> None:
    """Run a statement for many rows: compiled once, values given to the driver as they are."""
    if not rows:
        return
    compiled = statement.compile(dialect=db.dialect, column_keys=list(columns))
    held: Any = rows
    if compiled.positiontup is None:
        held = [dict(zip(columns, row, strict=True)) for row in rows]
    else:
        assert tuple(compiled.positiontup) == tuple(columns)
    db.exec_driver_sql(compiled.string, held)


def _replace(
    db: Connection, insert: Any, gone: Sequence[str], rows: Sequence[tuple[Any, ...]]
) -> None:
    """Take all sessions of some addresses out; put some in, in place of those that are there."""
    for some in _parts(gone):
        db.execute(delete(sessions).where(sessions.c.address.in_(some)))
    new = {c.name: insert.excluded[c.name] for c in sessions.c if not c.primary_key}
    upsert = insert.on_conflict_do_update(index_elements=["address", "place"], set_=new)
    _many(db, upsert, [c.name for c in sessions.c], rows)


def _parts(items: Sequence[_Item]) -> Iterator[Sequence[_Item]]:
    return (items[n : n + _FEW] for n in range(0, len(items), _FEW))


@lru_cache(maxsize=1 << 16)
def _text(address: Prefix) -> str:
    return address_text(address.family, address.start)


def _row(record: Record) -> tuple[Any, ...]:
    where = " ".join(map(_text, record.addresses))
    return (*record[:5], where, _json(record.told))


@lru_cache(maxsize=1 << 16)
def _json(told: tuple[tuple[str, str], ...]) -> str:
    return json.dumps(told, ensure_ascii=False, separators=(",", ":"))


def _record(row: Any) -> Record:
    where = tuple(map(parse_prefix, row.addresses.split()))
    return Record(row.time, row.kind, row.node, row.session, row.endpoint, where, _told(row.told))


def _told(text: str) -> tuple[tuple[str, str], ...]:
    return tuple((name, value) for name, value in json.loads(text))


def _spell_rows(sweep: Sweep, begin: int) -> list[tuple[Any, ...]]:
    """Sessions as rows of their table, column by column."""
    address = _text(sweep.address)
    return [
        (address, n, *s[1:-1], _json(s.told)) for n, s in enumerate(sweep.spells[begin:], begin)
    ]


def _spell(row: Any) -> Spell:
    return Spell(
        parse_prefix(row.address), row.endpoint, row.node, row.session, row.since, row.confirmed,
        row.until, row.ended, _told(row.told),
    )  # fmt: skip


def _said(db: Connection, name: str) -> str | None:
    return db.scalar(select(about.c.value).where(about.c.name == name))


def _say(db: Connection, name: str, value: str) -> None:
    if _said(db, name) is None:
        db.execute(about.insert().values(name=name, value=value))
    else:
        db.execute(about.update().where(about.c.name == name).values(value=value))
