"""The tables of the store, and how older ones become these. docs/store.md says what they hold.

Times are whole microseconds of the Unix epoch, UTC. Everything has a source and a time of arrival.
"""

from __future__ import annotations

from collections.abc import Callable

from sqlalchemy import (
    BigInteger,
    Column,
    Connection,
    Index,
    Integer,
    MetaData,
    Table,
    Text,
    UniqueConstraint,
    func,
    select,
)

from oaktag.errors import UsageError

#: The version of the tables that this code reads and writes.
VERSION = 1

metadata = MetaData()
#: SQLite counts by Integer alone.
_NUMBER = BigInteger().with_variant(Integer, "sqlite")

#: What is known of the store itself, by name: its version, and by what sessions were told apart.
about = Table(
    "about", metadata, Column("name", Text, primary_key=True), Column("value", Text, nullable=False)
)

#: What nodes told of sessions, each once.
records = Table(
    "records",
    metadata,
    Column("id", _NUMBER, primary_key=True, autoincrement=True),
    Column("time", BigInteger, nullable=False),
    Column("kind", Text, nullable=False),
    Column("node", Text, nullable=False),
    Column("session", Text, nullable=False),
    Column("endpoint", Text, nullable=False),
    Column("addresses", Text, nullable=False),
    Column("told", Text, nullable=False),
    Column("source", Text, nullable=False),
    Column("arrived", BigInteger, nullable=False),
    UniqueConstraint("node", "session", "time", "kind", "endpoint", "addresses", "told"),
)
Index("records_by_time", records.c.time)

#: Which sessions were ever at which address.
places = Table(
    "places",
    metadata,
    Column("address", Text, primary_key=True),
    Column("node", Text, primary_key=True),
    Column("session", Text, primary_key=True),
)
Index("places_by_session", places.c.node, places.c.session)

#: Who had which address from when to when: what comes of the records, address by address.
sessions = Table(
    "sessions",
    metadata,
    Column("address", Text, primary_key=True),
    Column("place", Integer, primary_key=True, autoincrement=False),
    Column("endpoint", Text, nullable=False),
    Column("node", Text, nullable=False),
    Column("session", Text, nullable=False),
    Column("since", BigInteger, nullable=False),
    Column("confirmed", BigInteger, nullable=False),
    Column("until", BigInteger),
    Column("ended", Text, nullable=False),
    Column("told", Text, nullable=False),
)
Index("sessions_by_since", sessions.c.since)

#: Of each version how its tables become those of the next, in the transaction of all of it.
STEPS: dict[int, Callable[[Connection], None]] = {}


def brought_up(db: Connection) -> None:
    """Make the tables, or of older ones those of this version.

    Raises:
        UsageError: they are of a later version.
    """
    metadata.create_all(db, tables=[about])
    found = db.scalar(select(about.c.value).where(about.c.name == "version"))
    version = VERSION if found is None else int(found)
    must_be_readable(version)
    metadata.create_all(db)
    for step in range(version, VERSION):
        STEPS[step](db)
    if found is None:
        db.execute(about.insert().values(name="version", value=str(VERSION)))
    elif version != VERSION:
        db.execute(about.update().where(about.c.name == "version").values(value=str(VERSION)))


def must_be_readable(version: int) -> None:
    """That this code can read tables of a version.

    Raises:
        UsageError: they are of a later one.
    """
    if version > VERSION:
        raise UsageError(
            f"the store's tables are of version {version}, and this oaktag reads them up to "
            f"version {VERSION}; use the oaktag that wrote them, or a later one"
        )


def count(db: Connection, table: Table) -> int:
    """How many rows a table has."""
    return db.scalar(select(func.count()).select_from(table)) or 0
