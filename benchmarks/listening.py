"""How many accounting records a running ``oaktag listen`` takes in, kept and acknowledged, and what
memory it needs for that; beside it, what pyrad alone parses on one core.

    python benchmarks/listening.py [--records 1000000] [--sessions 20000]
"""

from __future__ import annotations

import argparse
import json
import os
import socket
import subprocess
import sys
import tempfile
import time
from multiprocessing import Process, Queue
from pathlib import Path
from threading import Thread
from typing import Any

from campaigns.datagrams import LISTEN, SECRET, memory
from pyrad.packet import AcctPacket

from oaktag.demo.sample import write_sample
from oaktag.protocols import radius

#: So many are under way at most.
WINDOW = 200


def packet(number: int, sessions: int) -> bytes:
    """The record of a number: sessions start, go on, and end, one round after the other."""
    session, round_ = number % sessions, number // sessions
    made = AcctPacket(secret=SECRET, id=number % 256, dict=radius._dictionary())
    made.AddAttribute("Acct-Status-Type", 1 if round_ == 0 else 3)
    made.AddAttribute("Acct-Session-Id", f"{session:08x}")
    made.AddAttribute("User-Name", f"user-{session}")
    made.AddAttribute("NAS-IP-Address", f"10.9.{session % 4}.1")
    made.AddAttribute("NAS-Port-Id", f"ge-0/{session % 48}")
    made.AddAttribute("Called-Station-Id", "02-00-5E-00-00-01")
    made.AddAttribute(
        "Framed-IP-Address",
        f"10.{64 + session // 62500}.{session // 250 % 250}.{session % 250 + 1}",
    )
    made.AddAttribute("Event-Timestamp", int(time.time()) - 3600 + round_ * 30)
    return bytes(made.RequestPacket())


def sending(first: int, last: int, sessions: int, port: int, told: Any) -> None:
    """Send some records, as many as are answered; in a process of its own."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
        one.settimeout(2)
        waiting: dict[int, bytes] = {}
        again = 0
        for number in range(first, last):
            data = packet(number, sessions)
            one.sendto(data, ("127.0.0.1", port))
            waiting[number] = data
            while len(waiting) >= WINDOW or (number == last - 1 and waiting):
                try:
                    answer = one.recv(4096)
                except TimeoutError:
                    for held in waiting.values():
                        one.sendto(held, ("127.0.0.1", port))
                    again += len(waiting)
                    continue
                key = next((k for k in waiting if k % 256 == answer[1]), None)
                if key is not None:
                    del waiting[key]
        told.put(again)


def main() -> None:
    """Measure, and print one line for each figure."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").split("\n")[0])
    parser.add_argument("--records", type=int, default=1_000_000)
    parser.add_argument("--sessions", type=int, default=20_000)
    parser.add_argument("--store", default="")
    asked = parser.parse_args()
    some = [packet(n, 1000) for n in range(5000)]
    begun = time.process_time()
    for data in some:
        held = AcctPacket(packet=data, secret=SECRET, dict=radius._dictionary())
        assert held.VerifyAcctRequest() and held["User-Name"] and held["Framed-IP-Address"]
    alone = len(some) / (time.process_time() - begun)
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "quillmere"
        write_sample(folder)
        with (folder / "oaktag.yaml").open("a") as file:
            file.write(LISTEN)
        os.environ["OAKTAG_TRIED"] = SECRET.decode()
        if asked.store:
            os.environ["OAKTAG_STORE"] = asked.store
        server = subprocess.Popen(
            [sys.executable, "-m", "oaktag", "-C", str(folder), "listen"],
            stdout=subprocess.PIPE,
            text=True,
        )
        assert server.stdout is not None
        first = json.loads(server.stdout.readline())
        port = next(at["port"] for at in first["at"] if at["what"] == "accounting")
        figures: list[int] = []
        lines: list[str] = []
        stream = server.stdout
        reading = Thread(target=lambda: lines.extend(stream))
        reading.start()
        told: Any = Queue()
        begun = time.monotonic()
        sender = Process(target=sending, args=(0, asked.records, asked.sessions, port, told))
        sender.start()
        while sender.is_alive():
            sender.join(5)
            figures.append(memory(server.pid))
        took = time.monotonic() - begun
        ticks = Path(f"/proc/{server.pid}/stat").read_text().rsplit(")", 1)[1].split()
        busy = (int(ticks[11]) + int(ticks[12])) / os.sysconf("SC_CLK_TCK")
        server.terminate()
        reading.join()
        last = json.loads(lines[-1])
    kept = last["counts"]["records kept"]
    print(f"pyrad alone, parsing and verifying: {alone:,.0f} records a second on one core")
    print(f"taken in, kept and acknowledged: {kept:,} in {took:.0f} s, {kept / took:,.0f} a second; "
          f"{busy:.0f} s of one core, {kept / busy:,.0f} a second of it; {told.get()} told again")  # fmt: skip
    tenth = max(len(figures) // 10, 1)
    print(f"memory: {figures[tenth - 1]:,} KiB after a tenth, {figures[-1]:,} KiB at the end")


if __name__ == "__main__":
    main()
