"""Network namespaces without root: entering them, and whether this machine has what it takes.

Everything happens inside a user namespace of the keeper's; with its PID namespace all ends.
"""

from __future__ import annotations

import ctypes
import os
import shutil
import subprocess
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from oaktag.errors import OakTagError

CLONE_NEWNET = 0x40000000
NETNS = Path("/run/netns")
#: Where the lab's folder is seen inside: its path may lie under /run, which another one hides.
PLACE = Path("/run/lab")
UNSHARE = ("unshare", "-Urnmpf", "--mount-proc", "--kill-child")
TOOLS = {"unshare": "util-linux", "ip": "iproute2", "nft": "nftables"}

_libc = ctypes.CDLL(None, use_errno=True)


def with_tools() -> dict[str, str]:
    """The environment, with the folders of the system's tools on the path: those of a user may lack
    them."""
    path = os.environ.get("PATH", os.defpath)
    return {**os.environ, "PATH": f"{path}:/usr/sbin:/sbin"}


def missing() -> str | None:
    """What this machine lacks for a lab, in one sentence; None where it lacks nothing."""
    held = with_tools()
    for tool, package in TOOLS.items():
        if shutil.which(tool, path=held["PATH"]) is None:
            return f"The lab needs the program {tool} (package {package}), which is not here."
    tried = subprocess.run([*UNSHARE, "true"], capture_output=True, text=True, env=held)
    if tried.returncode:
        why = tried.stderr.strip().splitlines()[-1:] or ["no reason given"]
        return f"The lab needs user namespaces, which this machine does not allow ({why[0]})."
    return None


@contextmanager
def socket_of(folder: Path) -> Iterator[str]:
    """The path of a lab's socket, short however long its folder's is: a socket's may hold 107 bytes
    (unix(7))."""
    place = os.open(folder, os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        yield f"/proc/self/fd/{place}/socket"
    finally:
        os.close(place)


@contextmanager
def inside(name: str) -> Iterator[None]:
    """Run in a network namespace: sockets made here stay there, and so do child processes."""
    before = os.open("/proc/thread-self/ns/net", os.O_RDONLY)
    there = os.open(NETNS / name, os.O_RDONLY)
    try:
        _setns(there)
        yield
    finally:
        _setns(before)
        os.close(there)
        os.close(before)


def _setns(descriptor: int) -> None:
    if _libc.setns(descriptor, CLONE_NEWNET):
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number))


def run(command: Sequence[str], text: str = "") -> str:
    """Run a program with text on its standard input; returns what it prints.

    Raises:
        OakTagError: with what it says, where it fails.
    """
    done = subprocess.run(list(command), input=text, capture_output=True, text=True, check=False)
    if done.returncode:
        said = done.stderr.strip().splitlines()
        raise OakTagError(f"{' '.join(command)}: {' / '.join(said[:4]) or done.returncode}")
    return done.stdout


def load(text: str) -> None:
    """Give text to the packet filter of the namespace that we are in, all or nothing."""
    run(["nft", "-f", "-"], text)


def settings(values: dict[str, str]) -> None:
    """Set kernel parameters of the namespace that we are in."""
    for name, value in values.items():
        Path("/proc/sys/net", name).write_text(value)
