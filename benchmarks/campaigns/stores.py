"""Writers of a store are killed at random moments: what they acknowledged is there, and the store opens
and agrees with itself.

    python -m campaigns.stores [--tries 1000] [--seed 1] [--url URL]
"""

from __future__ import annotations

import argparse
import random
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from oaktag.core.addresses import parse_prefix
from oaktag.core.session_records import KINDS, Record
from oaktag.store import Store

TIMEOUT = 10
ADDRESSES = [parse_prefix(a) for a in ("10.1.0.1", "10.1.0.2", "2001:db8::1")]
#: What a writer does until it is killed: a batch a time, whose number it then says.
WRITER = """
import sys
sys.path.insert(0, sys.argv[4])
from pathlib import Path
from campaigns.stores import TIMEOUT, steps
from oaktag.store import Store
store = Store(sys.argv[1], Path(sys.argv[2]), TIMEOUT, write=True)
print("open", flush=True)
for number in range(int(sys.argv[3]), 1 << 60):
    store.take(steps(number), "test", number)
    print(number, flush=True)
"""


def steps(number: int) -> list[Record]:
    """The records of one batch: sessions that come, go on and end, at a few addresses."""
    rng = random.Random(number)
    found = []
    for _ in range(5):
        who = rng.choice(["ada", "ben", "cem"])
        at = parse_prefix(f"10.1.{rng.randrange(4)}.{rng.randrange(250)}")
        kind = KINDS[rng.choice((0, 2, 3, 3))]
        session = f"{who}-{rng.randrange(1 << 16)}"
        found.append(Record(number * 3 + rng.randrange(6), kind, "n", session, who, (at,)))
    return found


def tries(url: str, folder: Path, seed: int, count: int) -> Iterator[tuple[int, str]]:
    """Two writers at once, killed: how many batches they acknowledged, and what did not hold."""
    rng = random.Random(seed)
    done = 0
    while done < count:
        begins = [(seed * 1000 + done + n) * 100_000 for n in range(2)]
        writers = [
            subprocess.Popen(
                [sys.executable, "-c", WRITER, url, str(folder), str(begin),
                 str(Path(__file__).resolve().parents[1])],
                stdout=subprocess.PIPE, text=True,
            )
            for begin in begins
        ]  # fmt: skip
        said: set[int] = set()
        told = ""
        for one in writers:  # which have said a batch at least, however slow the machine
            assert one.stdout is not None
            lines = [one.stdout.readline() for _ in range(rng.randrange(2, 6))]
            said |= {int(line) for line in lines if line.strip().isdigit()}
        time.sleep(rng.random() * 0.1)
        for one in writers:
            one.send_signal(signal.SIGKILL)
            assert one.stdout is not None
            said |= {int(line) for line in one.stdout.read().split() if line.isdigit()}
            if one.wait() != -signal.SIGKILL:
                told = "a writer ended by itself"
            done += 1
        store = Store(url, folder, TIMEOUT, write=True)
        try:
            every = [record for number in said for record in steps(number)]
            if not told and store.take(every, "test", 0).new:
                told = "what was acknowledged is not there"
            if not told and done % 50 < 2 and store.differing():
                told = "sessions are not what comes of the records"
        finally:
            store.close()
        yield len(said), told


def main() -> int:
    """Run the campaign; exit status 1 where something did not hold."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").split("\n")[0])
    parser.add_argument("--tries", type=int, default=1000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--url", default="")
    asked = parser.parse_args()
    begun, batches, bad, kills = time.monotonic(), 0, 0, 0
    with tempfile.TemporaryDirectory() as place:
        url = asked.url or f"sqlite:///{place}/store.db"
        for said, told in tries(url, Path(place), asked.seed, asked.tries):
            batches, bad, kills = batches + said, bad + bool(told), kills + 2
            if told:
                print(told, flush=True)
        store = Store(url, Path(place), TIMEOUT)
        bad += bool(store.differing())
        store.close()
    took = time.monotonic() - begun
    print(
        f"{kills:,} writers killed in {took:.0f} s, {batches:,} batches acknowledged; {bad} did not hold"
    )
    return int(bool(bad))


if __name__ == "__main__":
    sys.exit(main())
