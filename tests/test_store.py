"""The store: records go in, once, in any order, from two processes that may be killed; who had which
address comes out, the same on SQLite and on a real PostgreSQL."""

from __future__ import annotations

import itertools
import os
import random
import sqlite3
import subprocess
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path

import pytest
from campaigns import stores
from campaigns.stores import ADDRESSES, TIMEOUT
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import create_engine, text

from databases import postgres, programs
from oaktag.core.addresses import Prefix, parse_prefix
from oaktag.core.session_records import KINDS, Kind, Record, Spell, spells
from oaktag.errors import OakTagError, UsageError
from oaktag.store import Store
from sizes import scaled

FORM = "{0.endpoint}@{0.node} {0.since}-{0.until} {0.ended}"


@pytest.fixture(scope="module")
def server() -> Iterator[str]:
    if programs() is None:
        if os.environ.get("OAKTAG_REQUIRE_REAL") == "1":
            pytest.fail("PostgreSQL is not here (postgresql)")
        pytest.skip("PostgreSQL is not here (postgresql)")
    with postgres() as url:
        yield url


@pytest.fixture(params=["sqlite", "postgresql"])
def database(request: pytest.FixtureRequest, tmp_path: Path) -> str:
    """The URL of an empty database of each kind."""
    if request.param == "sqlite":
        return f"sqlite:///{tmp_path}/store.db"
    url: str = request.getfixturevalue("server")
    _emptied(url)
    return url


def _emptied(url: str) -> None:
    """Nothing is left of an earlier store."""
    if url.startswith("sqlite"):
        for end in ("", "-wal", "-shm"):
            Path(url.removeprefix("sqlite:///") + end).unlink(missing_ok=True)
        return
    engine = create_engine(url.replace("postgresql:", "postgresql+psycopg:"))
    with engine.begin() as db:
        for name in ("about", "records", "places", "sessions"):
            db.execute(text(f"DROP TABLE IF EXISTS {name}"))
    engine.dispose()


def _opened(url: str, folder: Path, timeout: int = TIMEOUT) -> Store:
    return Store(url, folder, timeout, write=True)


@st.composite
def tellings(draw: st.DrawFn) -> list[Record]:
    """What two nodes tell of a few sessions, in no order, some of it twice."""
    found = []
    for _ in range(draw(st.integers(1, 14))):
        kind = draw(st.sampled_from([*KINDS, "start", "interim"]))
        time, node = draw(st.integers(0, 40)), draw(st.sampled_from(["n", "m"]))
        if kind == "restart":
            found.append(Record(time, "restart", node))
            continue
        where = draw(st.lists(st.sampled_from(ADDRESSES), max_size=2, unique=True))
        told = draw(st.sampled_from([(), (("port", "1"),), (("port", "2"),)]))
        ends = draw(st.sampled_from("ab")), draw(st.sampled_from(["ada", "ben"]))
        found.append(Record(time, kind, node, *ends, tuple(where), told))
    return found + draw(st.lists(st.sampled_from(found), max_size=4))


def _of(address: Prefix, told: Sequence[Record]) -> list[Spell]:
    """What comes of all records, by those that speak of an address."""
    keys = {r.key for r in told if address in r.addresses}
    nodes = {key[0] for key in keys}
    mine = {r for r in told if r.key in keys or (r.kind == "restart" and r.node in nodes)}
    return spells(address, mine, TIMEOUT)


def _record(words: str) -> Record:
    """``8 start n/a ada 10.1.0.1``, or ``9 restart n``."""
    time, kind, where, *more = words.split()
    node, _, session = where.partition("/")
    at = tuple(map(parse_prefix, more[1:]))
    return Record(int(time), _kind(kind), node, session, more[0] if more else "", at)


def _kind(word: str) -> Kind:
    return next(kind for kind in KINDS if kind == word)


@pytest.mark.parametrize(
    ("told", "meant"),
    [
        ("1 start n/a ada A", "ada@n 1-None "),
        ("1 interim n/a ada A", "ada@n 1-None "),
        ("1 start n/a ada A; 5 stop n/a ada", "ada@n 1-5 stopped"),
        ("1 start n/a ada A; 11 interim n/a ada A", "ada@n 1-11 silent; ada@n 11-None "),
        ("1 start n/a ada A; 10 interim n/a ada A", "ada@n 1-None "),
        ("1 start n/a ada A; 5 restart n; 6 interim n/a ada A", "ada@n 1-5 restarted; ada@n 6-None "),
        ("1 start n/a ada A; 5 restart m", "ada@n 1-None "),
        ("5 start n/a ada A; 5 restart n", "ada@n 5-None "),
        ("1 start n/a ada A; 4 start m/b ben A", "ada@n 1-4 taken; ben@m 4-None "),
        # What has lost the address does not get it back by going on to confirm it …
        ("1 start n/a ada A; 4 start m/b ben A; 6 interim n/a ada A", "ada@n 1-4 taken; ben@m 4-None "),
        # … while the other is there; what was stopped, only by a new start.
        (
            "1 start n/a ada A; 4 start m/b ben A; 5 stop m/b ben; 6 interim n/a ada A",
            "ada@n 1-4 taken; ben@m 4-5 stopped; ada@n 6-None ",
        ),
        ("1 start n/a ada A; 2 stop n/a ada; 3 interim n/a ada A", "ada@n 1-2 stopped"),
        ("1 start n/a ada A; 2 stop n/a ada; 3 start n/a ada A", "ada@n 1-2 stopped; ada@n 3-None "),
        # Names of sessions begin anew with their node, and with no other.
        (
            "1 start n/a ada A; 2 stop n/a ada; 3 restart n; 4 interim n/a ada A",
            "ada@n 1-2 stopped; ada@n 4-None ",
        ),
        (
            "1 start n/a ada A; 2 stop n/a ada; 3 interim m/b ben A; 4 restart m; 5 interim n/a ada A",
            "ada@n 1-2 stopped; ben@m 3-4 restarted",
        ),
        ("1 start n/a ada A; 4 interim n/a ada B", "ada@n 1-4 moved"),
        ("1 start n/a ada A; 4 interim n/a ada C", "ada@n 1-None "),
        ("1 start n/a ada; 4 interim n/a ada A", "ada@n 4-None "),
        ("1 start n/a ada A; 4 interim n/a ben A", "ada@n 1-4 taken; ben@n 4-None "),
    ],
)  # fmt: skip
def test_what_comes_of_records(told: str, meant: str) -> None:
    named = {letter: str(a).split("/")[0] for letter, a in zip("ABC", ADDRESSES, strict=True)}
    words = [" ".join(named.get(w, w) for w in one.split()) for one in told.split("; ")]
    every = [_record(one) for one in words]
    for some in (every, every[::-1], [*every, *every]):
        found = spells(ADDRESSES[0], some, TIMEOUT)
        assert "; ".join(map(FORM.format, found)) == meant


def test_what_is_told_of_a_session_is_what_was_told_last() -> None:
    (one,) = spells(
        ADDRESSES[0],
        [
            Record(1, "start", "n", "a", "ada", (ADDRESSES[0],), (("port", "1"),)),
            Record(2, "interim", "n", "a", "ada", (ADDRESSES[0],), (("port", "2"),)),
            Record(3, "interim", "n", "a", "ada", (ADDRESSES[0],)),
        ],
        TIMEOUT,
    )
    assert (one.told, one.confirmed, one.ends(TIMEOUT)) == ((("port", "2"),), 3, 13)
    assert [one.at(moment, TIMEOUT) for moment in (0, 1, 12, 13)] == [False, True, True, False]


@given(tellings(), st.randoms(use_true_random=False))
def test_later_records_change_nothing_that_was(told: list[Record], rng: random.Random) -> None:
    """What was at a moment follows from what had been told by then; and it is told once."""
    moment = rng.randrange(45)
    for address in ADDRESSES:
        held = _of(address, told)
        assert _of(address, rng.sample(told, len(told))) == held
        then = [s for s in held if s.at(moment, TIMEOUT)]
        early = [r for r in told if r.time <= moment]
        keys = {r.key for r in told if address in r.addresses}
        known = [r for r in early if r.key in keys or r.kind == "restart"]
        before = [s for s in spells(address, known, TIMEOUT) if s.at(moment, TIMEOUT)]
        assert [s[:5] for s in then] == [s[:5] for s in before] and len(then) <= 1
        for one, other in itertools.pairwise(held):
            assert one.until is not None and one.since <= one.until <= other.since


def test_the_store_holds_what_comes_of_records(database: str, tmp_path: Path) -> None:
    """In whatever order and parts they come, from two writers by turns: what is held is what comes
    of all of them; so it is worked out anew for another timeout."""

    @settings(max_examples=scaled(40 if database.startswith("sqlite") else 15))
    @given(tellings(), st.randoms(use_true_random=False))
    def tried(told: list[Record], rng: random.Random) -> None:
        _emptied(database)
        writers = [_opened(database, tmp_path) for _ in range(2)]
        rest, new = rng.sample(told, len(told)), 0
        while rest:
            size = rng.randint(1, 5)
            new += rng.choice(writers).take(rest[:size], "test", 99).new
            rest = rest[size:]
        moment = rng.randrange(45)
        meant = {a: _of(a, told) for a in ADDRESSES}
        for store in writers:
            assert store.differing() == []
            found = {s.address: s for s in store.newest(moment)}
            begun = {a: [s for s in some if s.since <= moment] for a, some in meant.items()}
            assert found.keys() == {a for a, some in begun.items() if some}
            for a, one in found.items():
                assert one[:5] == begun[a][-1][:5], (a, moment)
                assert one.at(moment, TIMEOUT) == begun[a][-1].at(moment, TIMEOUT)
        rows = {h.kind: h.rows for h in writers[0].held()}
        assert rows["records"] == new == len(set(told))
        assert rows["sessions"] == sum(map(len, meant.values()))
        again = _opened(database, tmp_path, 3)
        assert again.differing() == []
        for store in (*writers, again):
            store.close()

    tried()


def test_what_is_dropped_is_over(database: str, tmp_path: Path) -> None:
    store = _opened(database, tmp_path)
    words = (
        "1 start n/a ada 10.1.0.1", "2 stop n/a ada", "1 start n/b ben 10.1.0.2", "8 interim n/b ben 10.1.0.2",
        "16 interim n/b ben 10.1.0.2", "3 restart m",
    )  # fmt: skip
    store.take([_record(one) for one in words], "test", 20)
    assert [(h.kind, h.rows, h.first, h.last) for h in store.held()] == [
        ("sessions", 2, 1, 1), ("records", 6, 1, 16)
    ]  # fmt: skip
    assert store.drop_before(10) == {"sessions": 1, "records": 3}
    assert [FORM.format(s) for s in store.newest(20)] == ["ben@n 1-None "]
    assert store.differing() == [] and store.drop_before(10) == {"sessions": 0, "records": 0}
    assert store.take([_record(words[2])], "test", 21) == (0, 1)
    store.close()


def test_a_store_of_a_later_version_is_left_alone(database: str, tmp_path: Path) -> None:
    with pytest.raises(UsageError, match=r"there is no store at|holds no store yet"):
        Store(database, tmp_path, TIMEOUT)
    _opened(database, tmp_path).close()
    Store(database, tmp_path, TIMEOUT).close()
    engine = create_engine(database.replace("postgresql:", "postgresql+psycopg:"))
    with engine.begin() as db:
        db.execute(text("UPDATE about SET value = '7' WHERE name = 'version'"))
    engine.dispose()
    for write in (False, True):
        with pytest.raises(UsageError, match=r"are of version 7, .* up to version 1"):
            Store(database, tmp_path, TIMEOUT, write=write)


def test_nothing_acknowledged_is_lost(database: str, tmp_path: Path) -> None:
    """Two writers at once, killed at random moments, again and again: what they said is in is there,
    and the store opens and agrees with itself."""
    batches = 0
    for said, told in stores.tries(database, tmp_path, 4, 8):
        assert not told, told
        batches += said
    assert batches >= 8  # one of each writer, before it is killed
    store = _opened(database, tmp_path)
    assert store.differing() == []
    store.close()


def test_a_file_that_is_no_store_is_told_so(tmp_path: Path) -> None:
    path = tmp_path / "store.db"
    path.write_bytes(b"no database at all" * 100)
    with pytest.raises(OakTagError, match=r"the store .*: No such file"):
        _opened(f"sqlite:///{tmp_path}/nowhere/store.db", tmp_path)
    with pytest.raises(OakTagError, match=r"the store sqlite.*file is not a database"):
        _opened(f"sqlite:///{path}", tmp_path)
    path.unlink()
    sqlite3.connect(path).close()
    for url, why in (
        ("mysql://x/y", "in sqlite or postgresql, not in mysql"), ("sqlite://", "would be gone"),
        ("no url", "cannot be read"), (f"sqlite:///{path}", "holds no store yet"),
    ):  # fmt: skip
        with pytest.raises(UsageError, match=why):
            Store(url, tmp_path, TIMEOUT)


FULL = """
import sys
sys.path[:0] = sys.argv[2:]
from pathlib import Path
from campaigns.stores import TIMEOUT, steps
from oaktag.errors import OakTagError
from oaktag.store import Store
place = Path(sys.argv[1])
store, said = Store(f"sqlite:///{place}/store.db", place, TIMEOUT, write=True), 0
filler = (place / "filler").open("wb", buffering=0)
filler.write(b"x" * 200_000)
try:
    while True:
        store.take(steps(said), "test", 0)
        said += 1
except OakTagError as error:
    print(error)
(place / "filler").unlink()
filler.close()
assert all(store.take(steps(n), "test", 0).new == 0 for n in range(said)), said
assert store.take(steps(said), "test", 0).new and store.differing() == []
print(said)
"""


def test_a_full_disk_loses_nothing_acknowledged(real_kernel: None, tmp_path: Path) -> None:
    mounted = f'mount -t tmpfs -o size=900k tmpfs {tmp_path} && exec {sys.executable} -c "$0" "$@"'
    tests = Path(__file__).parent
    done = subprocess.run(
        ["unshare", "-Urm", "sh", "-c", mounted, FULL, str(tmp_path), str(tests),
         str(tests.parent / "benchmarks")],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    why, said = done.stdout.splitlines()
    assert "full" in why and int(said) > 3, done.stdout
