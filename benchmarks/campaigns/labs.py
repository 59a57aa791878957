"""Labs killed at any moment: while they are built, changed, probed or idle; their commands, their
keeper, or a program that the keeper runs. ``lab down`` leaves nothing behind, and the next lab comes
up; another lab beside it does not notice.

    python -m campaigns.labs --tries 500 --seed 1      (in benchmarks/)
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
from collections import Counter
from pathlib import Path

from campaigns.workspaces import BASE

SIGNALS = (signal.SIGKILL, signal.SIGKILL, signal.SIGINT, signal.SIGTERM)


def processes(place: str) -> list[int]:
    """The processes of labs below a folder: whatever names it, and what these have begun."""
    held: dict[int, tuple[int, bool]] = {}
    for path in Path("/proc").glob("[0-9]*"):
        try:
            command = (path / "cmdline").read_bytes()
            parent = int((path / "stat").read_text().rpartition(")")[2].split()[1])
        except OSError:
            continue
        held[int(path.name)] = parent, place.encode() in command and b"lab.keeper" in command
    found = {pid for pid, (_, mine) in held.items() if mine}
    while more := {pid for pid, (parent, _) in held.items() if parent in found} - found:
        found |= more
    return sorted(found)


def main() -> int:
    """Run the campaign; exit status 1 where something did not hold."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").split("\n\n")[0])
    parser.add_argument("--tries", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    rng, bad, begun = random.Random(given.seed), 0, time.monotonic()
    killed: Counter[str] = Counter()
    before = socket.if_nameindex()
    with tempfile.TemporaryDirectory(prefix="campaign-") as place:
        os.environ["XDG_RUNTIME_DIR"] = place
        labs = []
        for name in ("w", "beside"):
            shutil.copytree(BASE, Path(place) / name)
            labs.append([sys.executable, "-m", "oaktag", "-C", str(Path(place) / name), "lab"])
        lab, beside = labs
        subprocess.run([*beside, "up"], capture_output=True, check=True)
        other = {p.name for p in (Path(place) / "oaktag").iterdir()}
        theirs = set(processes(place))
        for number in range(given.tries):
            do = rng.choice(("up", "up", "apply", "probe", "idle"))
            if do != "up":
                subprocess.run([*lab, "up"], capture_output=True, check=False)
                with (Path(place) / "w/inventory/servers.csv").open("a") as file:
                    file.write(f"clone-{number},10.20.200.{100 + number % 100},catalogue,\n")
            quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
            words = [*lab, do] if do != "idle" else ["sleep", "0.5"]
            one = subprocess.Popen(words, **quiet)  # type: ignore[call-overload]
            time.sleep(rng.random() * (2.5 if do == "up" else 1.5))
            mine = [p for p in processes(place) if p not in theirs]
            target = rng.choice([one.pid, *mine, *mine])
            try:
                os.kill(target, rng.choice(SIGNALS) if target == one.pid else signal.SIGKILL)
                killed[
                    f"{do}, {'the command' if target == one.pid else 'a process of the lab'}"
                ] += 1
            except OSError:
                killed[f"{do}, nothing: it had ended"] += 1
            one.wait()
            up = subprocess.run([*lab, "up"], capture_output=True, text=True, check=False) if (
                number % 10 == 0
            ) else None  # fmt: skip
            down = subprocess.run([*lab, "down"], capture_output=True, text=True, check=False)
            end = time.monotonic() + 5  # a keeper whose folder is gone sees it twice a second
            while time.monotonic() < end:
                left = {p.name for p in (Path(place) / "oaktag").iterdir()} - other
                running = set(processes(place)) - theirs
                if not left and not running:
                    break
                time.sleep(0.1)
            after = socket.if_nameindex()
            gone = theirs - set(processes(place))
            if (
                (up and up.returncode)
                or down.returncode
                or left
                or running
                or gone
                or after != before
            ):
                bad += 1
                told = f"{up.stderr if up else ''} {down.stderr}"
                print(f"try {number}, {do}: {told} {left} {running} {gone} {after}", flush=True)
            if (number + 1) % 50 == 0:
                shutil.copytree(BASE, Path(place) / "w", dirs_exist_ok=True)
                print(f"{number + 1} …", file=sys.stderr, flush=True)
        said = subprocess.run([*beside, "probe"], capture_output=True, text=True, check=False)
        if "counters agree" not in said.stdout:
            bad += 1
            print(f"the lab beside: {said.stdout[-400:]} {said.stderr}")
        subprocess.run([*beside, "down"], capture_output=True, check=False)
    took = time.monotonic() - begun
    print(", ".join(f"{what}: {n}" for what, n in sorted(killed.items())))
    print(f"{given.tries} labs killed in {took:.0f} s; {bad} did not hold")
    return int(bool(bad))


if __name__ == "__main__":
    sys.exit(main())
