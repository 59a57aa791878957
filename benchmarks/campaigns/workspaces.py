"""What the campaigns share: workspaces, commands run in a child process, what a folder holds."""

from __future__ import annotations

import argparse
import io
import os
import shutil
import sys
import time
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path

from oaktag.cli import app
from oaktag.workspace.journal import KEPT
from oaktag.workspace.lock import OWN

BASE = Path(__file__).resolve().parents[2] / "tests/workspaces/first"

#: Commands that change files; each does something on the workspace of ``changeable``.
CHANGES = (
    "rename catalogue books --write",
    "rename front-desks counters --write",
    "pin ada --to kiosks --note why --write",
    "unpin loans-1 --write",
    "grant kiosks loans-db 22/tcp --write --anyway",
    "set patrons catalogue nothing --anyway --write",
    "grant bram loans-db 2222/tcp --only --until 2030-01-31 --write",
    "groups --number --write",
    "compile",
    "merge kiosks patrons --write --anyway",
    "retire wall-displays --write --anyway",
    "split patrons fresh --when site=central --write",
    "correct ada role patron --write --anyway",
    "move matrix/10-shared.csv:2 last --write",
    "renumber kiosks 4000 --write",
    "pin ada bram --to kiosks --write --anyway",
    "members --when kind=device --save kiosks --write --anyway",
)


def changeable(folder: Path, command: str) -> Path:
    """A workspace on which one of ``CHANGES`` does something."""
    shutil.copytree(BASE, folder)
    if command.startswith("groups"):
        groups = folder / "groups.yaml"
        groups.write_text(groups.read_text().replace("groups:\n", "groups:\n  - {id: fresh}\n", 1))
    pins = folder / "assignments.yaml"
    pinned = "pins:\n  - {endpoint: loans-1, group: loans-db}\n"
    pins.write_text(pinned + pins.read_text().replace("pins:\n", "", 1))
    (folder / "lists").mkdir()
    (folder / "lists/hall-edge.nft").write_text("an older list\n")
    return folder


def held(folder: Path) -> dict[str, bytes]:
    """Every file of a folder, the tool's own and those in the making too; not what it keeps of the
    lists that it made."""
    return {
        str(p.relative_to(folder)): p.read_bytes()
        for p in sorted(folder.rglob("*"))
        if p.is_file() and not p.is_symlink() and (p.parent.name != OWN or p.name not in KEPT)
    }


def run(folder: Path, command: str) -> tuple[int, str]:
    """Run a command as ``oaktag`` does, in this process; exit status and all that it says."""
    kept = sys.argv, sys.stdout, sys.stderr
    said = io.StringIO()
    sys.argv = ["oaktag", "-C", str(folder), *command.split()]
    sys.stdout = sys.stderr = said
    try:
        app.run()
    except SystemExit as done:
        return (done.code if isinstance(done.code, int) else 1), said.getvalue()
    finally:
        sys.argv, sys.stdout, sys.stderr = kept


def campaign(
    about: str | None, noun: str, tries: Callable[[int, int], Iterator[tuple[str, str]]], count: int
) -> int:
    """Run a campaign as its command line says, and print what came of it.

    Args:
        about: the campaign's docstring.
        noun: what it tries, as in ``pairs``.
        tries: seed and count → of each how it ended, and what does not hold ("" where all does).
        count: how many, where nothing is said.

    Returns:
        1 where something did not hold.
    """
    parser = argparse.ArgumentParser(description=(about or "").split("\n")[0])
    parser.add_argument("--tries", type=int, default=count)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    begun, ends, bad = time.monotonic(), Counter[str](), 0
    for how, wrong in tries(given.seed, given.tries):
        ends[how] += 1
        if wrong:
            bad += 1
            print(wrong, flush=True)
    took = time.monotonic() - begun
    told = ", ".join(f"{how}: {n}" for how, n in ends.most_common(6))
    print(f"{ends.total()} {noun} in {took:.0f} s (ends: {told}); {bad} did not hold")
    return int(bool(bad))


def forked(work: Callable[[], int]) -> int:
    """Start work in a child process; its number."""
    child = os.fork()
    if child == 0:
        status = 70
        try:
            status = work()
        finally:
            os._exit(status)
    return child


def ended(child: int) -> int:
    """Wait for a child: its exit status, or below 0 the signal that ended it."""
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
