"""A real PostgreSQL for the tests, thrown away behind them."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


def programs() -> Path | None:
    """Where the programs of the newest PostgreSQL of this machine are; None where there is none."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"), key=lambda p: p.parts[-3])
    if found:
        return found[-1].parent
    named = shutil.which("initdb")
    return None if named is None else Path(named).resolve().parent


@contextmanager
def postgres() -> Iterator[str]:
    """A server of its own, at a socket of its own; its URL."""
    where = programs()
    assert where is not None
    # It refuses to be run by root; and a socket's path may hold 107 letters.
    as_other = ["runuser", "-u", "postgres", "--"] if os.geteuid() == 0 else []
    place = Path(tempfile.mkdtemp(prefix="pg-", dir="/tmp"))
    if as_other:
        shutil.chown(place, "postgres")

    def run(*command: str) -> None:
        subprocess.run([*as_other, *command], check=True, capture_output=True, cwd="/")

    try:
        data = str(place / "data")
        run(str(where / "initdb"), "--no-sync", "-A", "trust", "-U", "oaktag", "-D", data)
        settings = f"-k {place} -c listen_addresses= -c fsync=off"
        run(
            str(where / "pg_ctl"),
            "-w",
            "-D",
            data,
            "-l",
            str(place / "log"),
            "-o",
            settings,
            "start",
        )
        yield f"postgresql://oaktag@/postgres?host={place}"
        run(str(where / "pg_ctl"), "-w", "-m", "immediate", "-D", data, "stop")
    finally:
        shutil.rmtree(place, ignore_errors=True)
