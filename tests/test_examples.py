"""The examples run and say what their heads promise."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

EXAMPLES = Path(__file__).parent.parent / "examples"


def _run(name: str, *arguments: str | Path) -> str:
    done = subprocess.run(
        [sys.executable, EXAMPLES / name, *map(str, arguments)],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    return done.stdout


def test_who_may_reach(sample: Path) -> None:
    said = _run("who_may_reach.py", sample, "loans-db", "8443/tcp").splitlines()
    assert "  patrons          deny  by matrix/10-shared.csv:11" in said
    assert "  librarians       allow  by matrix/20-reading.csv:2" in said
    assert any(
        x.startswith("  patrons          allow, would deny")
        for x in _run("who_may_reach.py", sample, "patrons", "ssh").splitlines()
    )


def test_without_files() -> None:
    assert _run("without_files.py").splitlines() == [
        "untagged → shelves: icmp/echo-request",
        "readers → shelves: 443/tcp",
        "shelves → shelves: icmp/echo-request",
        "the list has 15 entries; refuted: None",
    ]
    assert len(list(EXAMPLES.glob("*.py"))) == 2
