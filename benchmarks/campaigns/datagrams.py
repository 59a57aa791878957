"""Datagrams of all kinds against a running ``oaktag listen``: none ends it, none that is not signed by a
client counts, and its memory stays what it was.

    python -m campaigns.datagrams [--tries 1000000] [--seed 1]
"""

from __future__ import annotations

import argparse
import json
import os
import random
import socket
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

from pyrad.packet import AcctPacket, AuthPacket

from oaktag.demo.sample import write_sample
from oaktag.protocols import radius

SECRET = b"a secret of the campaign"
LISTEN = """
listen:
  at: [127.0.0.1]
  accounting: 0
  login: 0
  clients: [{address: 127.0.0.1, secret: {env: OAKTAG_TRIED}}]
"""
#: So many are sent before it is waited for what came of them.
BURST = 500


def sound(number: int, secret: bytes) -> tuple[str, bytes]:
    """A request as a node sends it, of one kind or the other."""
    if number % 2:
        packet = AuthPacket(secret=secret, id=number % 256, dict=radius._dictionary())
        packet.AddAttribute("User-Name", f"user-{number % 97}")
        packet.add_message_authenticator()
        return "login", bytes(packet.RequestPacket())
    packet = AcctPacket(secret=secret, id=number % 256, dict=radius._dictionary())
    packet.AddAttribute("Acct-Status-Type", (1, 2, 3, 7)[number // 2 % 4])
    packet.AddAttribute("Acct-Session-Id", f"s{number % 89}")
    packet.AddAttribute("User-Name", f"user-{number % 97}")
    packet.AddAttribute("Framed-IP-Address", f"10.20.{number % 50}.{number % 200 + 1}")
    return "accounting", bytes(packet.RequestPacket())


def made(number: int, rng: random.Random) -> tuple[str, bytes]:
    """A datagram that is not to count."""
    kind, data = sound(number, SECRET)
    how = rng.randrange(5)
    if how == 0:
        return kind, rng.randbytes(rng.choice((0, 1, 19, 20, 21, rng.randrange(4200))))
    if how == 1:
        return sound(number, b"another")
    if how == 2:  # of the other kind
        return ("login" if kind == "accounting" else "accounting"), data
    changed = bytearray(data)
    at = rng.randrange(4, len(changed)) if how == 3 else rng.randrange(2, len(changed))
    changed[at] = (changed[at] + rng.randrange(1, 256)) % 256
    if how == 4:
        changed += rng.randbytes(rng.randrange(1, 60))
        changed[2:4] = len(changed).to_bytes(2, "big")
    return kind, bytes(changed)


def memory(process: int) -> int:
    """What a process has in memory, in KiB."""
    lines = Path(f"/proc/{process}/status").read_text().splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("VmRSS"))


def tried(tries: int, seed: int) -> tuple[dict[str, int], list[str], str]:
    """Send so many; what was counted, what did not hold, and a few figures in words."""
    rng, bad = random.Random(seed), list[str]()
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "quillmere"
        write_sample(folder)
        with (folder / "oaktag.yaml").open("a") as file:
            file.write(LISTEN)
        process = subprocess.Popen(
            [sys.executable, "-m", "oaktag", "-C", str(folder), "listen"], text=True,
            stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            env={**os.environ, "OAKTAG_TRIED": SECRET.decode()},
        )  # fmt: skip
        assert process.stdout is not None
        said: list[dict[str, Any]] = [json.loads(process.stdout.readline())]
        ports = {at["what"]: at["port"] for at in said[0]["at"]}
        stream = process.stdout
        reading = threading.Thread(target=lambda: said.extend(map(json.loads, stream)), daemon=True)
        reading.start()
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
            sender.settimeout(10)
            first, number = 0, 0
            while number < tries and not bad:
                for _ in range(min(BURST, tries - number)):
                    kind, data = made(number, rng)
                    sender.sendto(data, ("127.0.0.1", ports[kind]))
                    number += 1
                # One that is sound is answered, behind all of these.
                kind, data = sound(2 * (number // BURST) + 1, SECRET)
                sender.sendto(data, ("127.0.0.1", ports[kind]))
                try:
                    if sender.recv(4096)[0] not in (2, 3):
                        bad.append("an answer to what does not count")
                except TimeoutError:
                    bad.append(f"no answer after {number} datagrams")
                first = first or (memory(process.pid) if number > 20_000 else 0)
            last = memory(process.pid) if process.poll() is None else 0
        process.terminate()
        reading.join()  # to the end of what it says, of which the counts are the last line
        assert process.stderr is not None
        complaint = process.stderr.read()
        process.wait()
        if process.returncode or complaint:
            bad.append(f"it ended with {process.returncode}: {complaint[:500]}")
        counts: dict[str, int] = said[-1].get("counts", {})
        if counts.get("records kept"):
            bad.append("records were kept")
        if first and last > first + 20_000:
            bad.append(f"memory went from {first} to {last} KiB")
    return counts, bad, f"memory {first:,} KiB after 20,000, {last:,} KiB at the end"


def main() -> int:
    """Run the campaign; exit status 1 where something did not hold."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").split("\n")[0])
    parser.add_argument("--tries", type=int, default=1_000_000)
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    begun = time.monotonic()
    counts, bad, told = tried(asked.tries, asked.seed)
    for one in bad:
        print(one)
    print(", ".join(f"{what}: {number:,}" for what, number in counts.items()))
    took = time.monotonic() - begun
    print(f"{asked.tries:,} datagrams in {took:.0f} s; {told}; {len(bad)} did not hold")
    return int(bool(bad))


if __name__ == "__main__":
    sys.exit(main())
