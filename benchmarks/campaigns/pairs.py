"""Two changes at once: none is lost, and none is half done.

Two child processes pin (or one of them unpins, or renames) in the same workspace, a moment apart.
Whoever ends with 0 must have his change in the files; whoever does not must have said why.

    python -m campaigns.pairs --tries 2000 --seed 1      (in benchmarks/)
"""

from __future__ import annotations

import random
import shutil
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from campaigns.workspaces import campaign, changeable, ended, forked, held, run

#: A change, and what is in the files when it was made.
CHANGES: tuple[tuple[str, Callable[[dict[str, bytes]], bool]], ...] = (
    ("pin ada --to kiosks --write", lambda now: b"endpoint: ada" in now["assignments.yaml"]),
    ("pin bram --to kiosks --write", lambda now: b"endpoint: bram" in now["assignments.yaml"]),
    ("unpin loans-1 --write", lambda now: b"endpoint: loans-1" not in now["assignments.yaml"]),
    ("rename wall-displays screens --write", lambda now: b"wall-displays" not in now["groups.yaml"]),
    (
        "grant kiosks loans-db 22/tcp --write --anyway",
        lambda now: b"only-22-tcp" in now["permissions.yaml"],
    ),
)  # fmt: skip
SAID = ("another change of this workspace goes on", "changed since")


def tries(seed: int, count: int) -> Iterator[tuple[str, str]]:
    """So many pairs; of each how they ended, and what does not hold ("" where all does)."""
    rng = random.Random(seed)
    with tempfile.TemporaryDirectory(prefix="campaign-") as place:
        for _ in range(count):
            folder = changeable(Path(place) / "w", "")
            both = rng.sample(CHANGES, 2)
            waits = ["", " --wait"][rng.random() < 0.5]

            def work(command: str, delay: float, folder: Path = folder) -> Callable[[], int]:
                def done() -> int:
                    time.sleep(delay)
                    status, said = run(folder, command)
                    if status and not any(s in said for s in SAID):
                        print(said, flush=True)
                        return 60
                    return status

                return done

            children = [forked(work(command + waits, rng.random() * 0.05)) for command, _ in both]
            ends = [ended(child) for child in children]
            now = held(folder)
            wrong = [
                f"{command} ended with {status}, and is {'' if there(now) else 'not '}in the files"
                for (command, there), status in zip(both, ends, strict=True)
                if there(now) != (status == 0) or status not in (0, 2) or (waits and status)
            ]
            status, said = run(folder, "groups")
            wrong += [said[:200]] if status else []
            wrong += [n for n in held(folder) if ".oaktag" in n]
            yield " ".join(map(str, sorted(ends))), "; ".join(wrong)
            shutil.rmtree(folder)


if __name__ == "__main__":
    sys.exit(campaign(__doc__, "pairs", tries, 500))
