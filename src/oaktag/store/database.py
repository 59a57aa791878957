"""The database: SQLite in the workspace, or PostgreSQL by its URL.

Two processes may write; they take turns, a transaction each, and what is acknowledged is there
whatever happens then.
"""

from __future__ import annotations

import fcntl
import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event, make_url, text
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, OperationalError

from oaktag.errors import NoAnswer, NotPossibleHere, OakTagError, UsageError
from oaktag.workspace.lock import OWN, own_folder

#: So long a process waits for another that writes, in seconds.
PATIENCE = 30
#: The lock of those who write to PostgreSQL; of SQLite's file the database has one itself.
_TURN = 0x0A4_7A6


class NoStoreYet(UsageError):
    """Nothing has been kept yet."""


def opened(url: str, root: Path, *, write: bool) -> Engine:
    """The database; to ``write``, it is made where there is none.

    Raises:
        UsageError: the URL cannot be used, or there is no store.
        NotPossibleHere: a package is missing.
    """
    try:
        parsed = make_url(url)
        kind = parsed.get_backend_name()
        if kind == "postgresql":
            parsed = parsed.set(drivername="postgresql+psycopg")
        if kind not in ("sqlite", "postgresql"):
            raise UsageError(f"a store is kept in sqlite or postgresql, not in {kind}")
        path = Path(parsed.database) if kind == "sqlite" and parsed.database else None
        if kind == "sqlite" and path is None:
            raise UsageError("a store in memory would be gone at the end; name a file")
        if path is not None and not write and not path.exists():
            raise NoStoreYet(f"there is no store at {path} yet; oaktag listen begins one")
        if path is not None and write and path.parent == root.resolve() / OWN:
            own_folder(root)
        engine = create_engine(parsed, isolation_level="SERIALIZABLE" if path else "READ COMMITTED")
    except (ArgumentError, NoSuchModuleError) as error:
        raise UsageError(f"the store's URL cannot be read: {error}") from None
    except ModuleNotFoundError as error:
        raise NotPossibleHere(
            f"a store in PostgreSQL needs the package {error.name}: pip install 'oaktag[postgres]'"
        ) from None
    if path is not None:
        event.listen(engine, "connect", _prepared)
    return engine


def _prepared(connection: sqlite3.Connection, _: Any) -> None:
    # We begin transactions ourselves: the driver would do so only before the first change.
    connection.isolation_level = None
    for told in (f"busy_timeout={PATIENCE * 1000}", "journal_mode=WAL", "synchronous=FULL"):
        connection.execute(f"PRAGMA {told}")


@contextmanager
def writing(engine: Engine) -> Iterator[Connection]:
    """A transaction of one who writes, alone."""
    with told_plainly(engine), _turn(engine), engine.connect() as db:
        if engine.dialect.name == "sqlite":
            db.exec_driver_sql("BEGIN IMMEDIATE")
            try:
                yield db
            except BaseException:
                db.exec_driver_sql("ROLLBACK")
                raise
            db.exec_driver_sql("COMMIT")
        else:
            with db.begin():
                db.execute(text("SELECT pg_advisory_xact_lock(:turn)"), {"turn": _TURN})
                yield db


@contextmanager
def _turn(engine: Engine) -> Iterator[None]:
    """One writer of a file after the other: who asks SQLite alone waits longer and longer between
    two tries, and one who writes all the time would keep everybody else out.

    Raises:
        OakTagError: another has been writing for too long.
    """
    if engine.dialect.name != "sqlite":
        yield
        return
    with open(f"{engine.url.database}-turn", "ab") as held:
        end = time.monotonic() + PATIENCE
        while True:
            try:
                fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                if time.monotonic() > end:
                    raise OakTagError(
                        f"the store {engine.url.database}: another has been writing to it for "
                        f"{PATIENCE} s"
                    ) from None
                time.sleep(0.001)
        yield


@contextmanager
def reading(engine: Engine) -> Iterator[Connection]:
    """A transaction of one who reads, which sees one state of it."""
    with told_plainly(engine), engine.connect() as db:
        if engine.dialect.name == "sqlite":
            db.exec_driver_sql("BEGIN")
            try:
                yield db
            finally:
                db.exec_driver_sql("ROLLBACK")
        else:
            db = db.execution_options(isolation_level="REPEATABLE READ")
            with db.begin():
                yield db


@contextmanager
def told_plainly(engine: Engine) -> Iterator[None]:
    """What a database complains about, as one sentence."""
    try:
        yield
    except DBAPIError as error:
        why = str(error.orig).strip().splitlines() or [type(error.orig).__name__]
        where = engine.url.render_as_string(hide_password=True)
        away = isinstance(error, OperationalError) and engine.dialect.name == "postgresql"
        raise (NoAnswer if away else OakTagError)(f"the store {where}: {why[0]}") from error
    except OSError as error:
        raise OakTagError(f"the store {engine.url.database}: {error.strerror}") from error
