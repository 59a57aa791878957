"""Labs killed while they are built: the next one comes up, and nothing of the others is left.

python -m campaigns.labs --tries 100 --seed 1      (in benchmarks/)
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from campaigns.workspaces import BASE


def keepers() -> int:
    """How many processes keep a lab."""
    count = 0
    for place in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            count += b"oaktag.lab.keeper" in place.read_bytes()
        except OSError:
            continue
    return count


def main() -> int:
    """Run the campaign; exit status 1 where something did not hold."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").split("\n")[0])
    parser.add_argument("--tries", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    rng, bad, begun = random.Random(given.seed), 0, time.monotonic()
    before = socket.if_nameindex(), keepers()
    with tempfile.TemporaryDirectory(prefix="campaign-") as place:
        folder = Path(place) / "w"
        shutil.copytree(BASE, folder)
        os.environ["XDG_RUNTIME_DIR"] = place
        lab = [sys.executable, "-m", "oaktag", "-C", str(folder), "lab"]
        for number in range(given.tries):
            how = rng.choice((signal.SIGKILL, signal.SIGINT, signal.SIGTERM))
            one = subprocess.Popen(
                [*lab, "up"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )
            time.sleep(0.2 + rng.random() * 1.2)
            one.send_signal(how)
            one.wait()
            if number % 10:
                continue
            up = subprocess.run([*lab, "up"], capture_output=True, text=True, check=False)
            down = subprocess.run([*lab, "down"], capture_output=True, text=True, check=False)
            time.sleep(1.5)  # keepers whose folder is gone see it twice a second
            left = sorted(p.name for p in (Path(place) / "oaktag").iterdir())
            after = socket.if_nameindex(), keepers()
            if up.returncode or down.returncode or left or after != before:
                bad += 1
                print(f"after {how.name}: {up.stderr} {down.stderr} {left} {after}", flush=True)
    took = time.monotonic() - begun
    print(f"{given.tries} labs interrupted in {took:.0f} s; {bad} did not hold")
    return int(bool(bad))


if __name__ == "__main__":
    sys.exit(main())
