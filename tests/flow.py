"""A flow through a lab, run by ``lab shell``: echoes that are sent as long as it goes on.

``flow.py serve ADDRESS PORT`` answers TCP and UDP; ``flow.py send ADDRESS PORT SECONDS`` sends a
datagram and a byte every two milliseconds, and prints what came back as JSON.
"""

import contextlib
import json
import socket
import sys
import threading
import time


def serve(address: str, port: int) -> None:
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    listening = socket.create_server((address, port), family=family)
    datagrams = socket.socket(family, socket.SOCK_DGRAM)
    datagrams.bind((address, port))

    def echo(line: socket.socket) -> None:
        with contextlib.suppress(OSError):
            while data := line.recv(100):
                line.sendall(data)

    def accept() -> None:
        while True:
            threading.Thread(target=echo, args=(listening.accept()[0],), daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    while True:
        data, sender = datagrams.recvfrom(100)
        datagrams.sendto(data, sender)


def send(address: str, port: int, seconds: float) -> None:
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    lines = {
        "tcp": socket.create_connection((address, port)),
        "udp": socket.socket(family, socket.SOCK_DGRAM),
    }
    lines["udp"].connect((address, port))
    for line in lines.values():
        line.settimeout(0.3)
    sent, lost = 0, {"tcp": 0, "udp": 0}
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        sent += 1
        for name, line in lines.items():
            try:
                line.send(b"x")
                if not line.recv(100):
                    lost[name] += 1
            except OSError:
                lost[name] += 1
        time.sleep(0.002)
    print(json.dumps({"sent": sent, **lost}))


if __name__ == "__main__":
    if sys.argv[1] == "serve":
        serve(sys.argv[2], int(sys.argv[3]))
    else:
        send(sys.argv[2], int(sys.argv[3]), float(sys.argv[4]))
