"""Changes killed at every line of what writes: each workspace is the old one or the new one, whole.

A child process does a change and kills itself at one line of the files that write (lock, journal,
text files); then the workspace is read again, sometimes by a process that is killed as well. What
is there afterwards must be all of the change or none, with nothing left over.

    python -m campaigns.kills --tries 10000 --seed 1      (in benchmarks/)
"""

from __future__ import annotations

import os
import random
import shutil
import signal
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from types import FrameType
from typing import Any

from campaigns.workspaces import CHANGES, campaign, changeable, ended, forked, held, run

WRITING = (
    "workspace/journal.py",
    "workspace/lock.py",
    "workspace/textfile.py",
    "workspace/folder.py",
)


def killed(folder: Path, command: str, at: int) -> int:
    """Do a change and be killed at the line of that number; the exit status, -9 if it was."""

    def work() -> int:
        left = at

        def lines(frame: FrameType, event: str, _: Any) -> Any:
            nonlocal left
            if event == "line":
                left -= 1
                if left == 0:
                    os.kill(os.getpid(), signal.SIGKILL)
            return lines

        def calls(frame: FrameType, event: str, _: Any) -> Any:
            return lines if frame.f_code.co_filename.endswith(WRITING) else None

        sys.settrace(calls)
        return run(folder, command)[0]

    return ended(forked(work))


def tries(seed: int, count: int, linked: bool = True) -> Iterator[tuple[str, str]]:
    """So many kills; of each its exit status (-9: killed), and what does not hold ("" where all does)."""
    rng = random.Random(seed)
    with tempfile.TemporaryDirectory(prefix="campaign-") as place:
        old: dict[str, dict[str, bytes]] = {}
        after: dict[str, dict[str, bytes]] = {}
        for number in range(count):
            command = CHANGES[number % len(CHANGES)]
            folder = changeable(Path(place) / "w", command)
            if command not in after:
                old[command] = held(folder)
                _, said = run(folder, command)
                after[command] = held(folder)
                assert after[command] != old[command], (command, said)
                shutil.rmtree(folder)
                changeable(folder, command)
            before = old[command]
            twin = Path(place) / "twin"
            if linked and rng.random() < 0.3:  # a second name of a file that is changed
                name = rng.choice([n for n in before if before[n] != after[command].get(n)])
                os.link(folder / name, twin)
            # Most lines lie in reading; the last of them, in writing, are the ones that count.
            status = killed(folder, command, rng.randrange(1, 1500))
            if rng.random() < 0.3:
                killed(folder, "groups", rng.randrange(1, 400))
            came, said = run(folder, "groups")
            now = held(folder)
            wrong = ""
            if came not in (0, 1):
                wrong = f"cannot be read any more: {said[:200]}"
            elif now not in (before, after[command]):
                odd = [n for n in now.keys() | before.keys() if now.get(n) != before.get(n)]
                wrong = f"is neither old nor new: {odd}"
            elif status == 0 and now != after[command]:
                wrong = "says that it is done, and it is not"
            elif twin.exists() and twin.read_bytes() not in now.values():
                wrong = "lost its second name"
            yield f"{status}", f"{command}: {wrong}" if wrong else ""
            shutil.rmtree(folder)
            twin.unlink(missing_ok=True)


if __name__ == "__main__":
    sys.exit(campaign(__doc__, "changes", tries, 1000))
