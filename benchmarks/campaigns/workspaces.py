"""What the campaigns share: workspaces, commands run in a child process, what a folder holds."""

from __future__ import annotations

import io
import os
import shutil
import sys
from collections.abc import Callable
from pathlib import Path

from oaktag.cli import app

BASE = Path(__file__).resolve().parents[2] / "tests/workspaces/first"

#: Commands that change files; each does something on the workspace of ``changeable``.
CHANGES = (
    "rename catalogue books",
    "rename front-desks counters",
    "pin ada --to kiosks --note why",
    "unpin loans-1",
    "grant kiosks loans-db 22/tcp --write --anyway",
    "set patrons catalogue nothing --anyway",
    "groups --number",
    "compile",
)


def changeable(folder: Path, command: str) -> Path:
    """A workspace on which one of ``CHANGES`` does something."""
    shutil.copytree(BASE, folder)
    if command == "groups --number":
        groups = folder / "groups.yaml"
        groups.write_text(groups.read_text().replace("groups:\n", "groups:\n  - {id: fresh}\n", 1))
    pins = folder / "assignments.yaml"
    pinned = "pins:\n  - {endpoint: loans-1, group: loans-db}\n"
    pins.write_text(pinned + pins.read_text().replace("pins:\n", "", 1))
    (folder / "lists").mkdir()
    (folder / "lists/hall-edge.nft").write_text("an older list\n")
    return folder


def held(folder: Path) -> dict[str, bytes]:
    """Every file of a folder, the tool's own and those in the making too."""
    return {
        str(p.relative_to(folder)): p.read_bytes()
        for p in sorted(folder.rglob("*"))
        if p.is_file() and not p.is_symlink()
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
