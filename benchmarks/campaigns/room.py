"""Changes on a disk that is full, almost full, or full in the middle: old or new, and said in one line.

In a small file system of its own (namespaces, no root) all but some pages are filled up, a change is
tried, room is made again, and the workspace is read.

    python -m campaigns.room --tries 300 --seed 1      (in benchmarks/)
"""

from __future__ import annotations

import contextlib
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from functools import partial
from pathlib import Path

from campaigns.workspaces import CHANGES, campaign, changeable, ended, forked, held, run

SMALL = "2m"
#: Where it is mounted: set in the namespaces alone.
DISK = "OAKTAG_CAMPAIGN_DISK"


def filled(filler: Path, left: int) -> None:
    """Fill the file system up, all but some bytes."""
    with contextlib.suppress(OSError), filler.open("wb", buffering=0) as file:
        while file.write(b"x" * 4096):
            pass
    if filler.exists():
        os.truncate(filler, max(filler.stat().st_size - left, 0))


def tries(place: Path, seed: int, count: int) -> Iterator[tuple[str, str]]:
    """So many changes in a small file system; of each its end, and what does not hold."""
    rng = random.Random(seed)
    for number in range(count):
        command = CHANGES[number % len(CHANGES)]
        folder = changeable(place / "w", command)
        before = held(folder)
        filled(place / "filler", rng.choice((0, 0, 4096 * rng.randrange(1, 40))))
        said = place.parent / "said"

        def work(folder: Path = folder, command: str = command, said: Path = said) -> int:
            status, told = run(folder, command)
            said.write_text(told)
            return status

        status = ended(forked(work))
        told = said.read_text() if said.exists() else ""
        (place / "filler").unlink(missing_ok=True)
        came, read = run(folder, "groups")
        now = held(folder)
        shutil.rmtree(folder)
        changeable(folder, command)
        run(folder, command)
        after = held(folder)
        wrong = ""
        if came:
            wrong = f"cannot be read any more: {read[:200]}"
        elif now not in (before, after):
            wrong = "is neither old nor new"
        elif (status == 0) != (now == after) and "finished" not in read:
            wrong = f"ended with {status}, and the files say otherwise"
        elif status and ("should not happen" in told or len(told.splitlines()) > 2 or not told):
            wrong = f"says {told[:200]!r}"
        yield str(status), f"{command}: {wrong}" if wrong else ""
        shutil.rmtree(folder)


def main() -> int:
    """Run the campaign in namespaces of its own, with a small file system mounted there."""
    disk = os.environ.get(DISK)
    if disk is None:
        with tempfile.TemporaryDirectory(prefix="campaign-") as place:
            again = [sys.executable, "-m", "campaigns.room", *sys.argv[1:]]
            inside = {**os.environ, DISK: place}
            return subprocess.run(["unshare", "-Urm", *again], check=False, env=inside).returncode
    mounted = Path(disk) / "disk"
    mounted.mkdir()
    subprocess.run(
        ["mount", "-t", "tmpfs", "-o", f"size={SMALL}", "tmpfs", str(mounted)], check=True
    )
    return campaign(__doc__, "changes", partial(tries, mounted), 100)


if __name__ == "__main__":
    sys.exit(main())
