"""One writer at a time: the lock on a workspace's files, in its folder ``.oaktag``.

The lock is the operating system's (``flock``), so that whoever is killed holds nothing; the file
says who has it. The folder is the tool's own: no link, and out of git by its own ``.gitignore``; it
goes when nothing else is in it.
"""

from __future__ import annotations

import contextlib
import errno
import os
import stat
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from threading import get_ident

from oaktag.errors import UsageError
from oaktag.letters import shown

#: The tool's own folder in a workspace.
OWN = ".oaktag"
#: So long a change waits for another where nothing else is asked for, in seconds.
PATIENCE = 1.0
#: So often the lock's file may go while it is waited for.
TAKEN_AWAY = 10_000
#: What the lock file may say at most of who holds it.
_MOST_SAID = 400
#: Folders whose lock this process holds, with the thread that took it.
_held: dict[Path, int] = {}


class Busy(UsageError):
    """Another change of the workspace goes on."""


def own_folder(root: Path) -> Path:
    """The tool's own folder, made if it is not there.

    Raises:
        UsageError: it is a link, or no folder.
        OSError: it cannot be made.
    """
    place = root / OWN
    for _ in range(TAKEN_AWAY):
        try:
            place.mkdir()
        except FileExistsError:
            # Looked at once: who had the lock may take it away at this moment.
            with contextlib.suppress(FileNotFoundError):
                if not stat.S_ISDIR(place.lstat().st_mode):
                    told = f"{place} is no folder of oaktag's own; take it away"
                    raise UsageError(told) from None
        try:
            ignore = place / ".gitignore"
            if not os.path.lexists(ignore):
                with contextlib.suppress(FileExistsError):
                    _written(ignore, "*\n")
            return place
        except FileNotFoundError:
            if not root.is_dir():
                raise
    raise UsageError(f"{place} comes and goes all the time; does this file system keep locks?")


def _written(path: Path, text: str) -> None:
    """Write a file that is not there yet, through no link."""
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o644)
    with os.fdopen(handle, "w") as file:
        file.write(text)


@contextmanager
def one_writer(
    root: Path,
    what: str,
    *,
    patience: float | None = PATIENCE,
    waiting: Callable[[str], None] | None = None,
) -> Iterator[None]:
    """Hold the workspace's lock; what holds it already holds it on.

    Args:
        root: the workspace's folder.
        what: what is done, for whoever waits.
        patience: how long to wait for another, in seconds; None without end.
        waiting: called once with who is waited for.

    Raises:
        Busy: another change went on for longer than that.
        UsageError: the lock is no plain file.
        OSError: it cannot be made.
    """
    real = root.resolve()
    if _held.get(real) == get_ident():
        yield
        return
    end = None if patience is None else time.monotonic() + patience
    try:
        handle = _taken(root, end, waiting)
    except OSError as error:  # the name of a file of ours would tell nobody what is wrong
        told = (
            f"{root.resolve()}: its files cannot be changed: {error.strerror}; nothing is changed"
        )
        raise OSError(error.errno, told) from error
    try:
        clock = time.strftime("%H:%M:%S")
        with contextlib.suppress(OSError):  # no room to say it
            os.ftruncate(handle, 0)
            os.pwrite(handle, f"{what}, process {os.getpid()}, since {clock}".encode(), 0)
        _held[real] = get_ident()
        yield
    finally:
        _held.pop(real, None)
        _left(root / OWN)
        os.close(handle)


def _taken(root: Path, end: float | None, waiting: Callable[[str], None] | None) -> int:
    """The lock's file, opened and locked."""
    for _ in range(TAKEN_AWAY):
        try:
            path = own_folder(root) / "lock"
            handle = _opened(path)
        except FileNotFoundError:
            if not root.is_dir():
                raise
            continue  # who had it took the folder away
        try:
            _locked(handle, end, waiting)
            if os.path.samestat(os.fstat(handle), path.stat(follow_symlinks=False)):
                return handle
        except FileNotFoundError:
            pass
        except BaseException:
            os.close(handle)
            raise
        os.close(handle)  # who had it took the file away
    raise UsageError(f"{root / OWN} comes and goes all the time; does this file system keep locks?")


def _left(place: Path) -> None:
    """Take away what is only there for the lock; who waits for it makes it anew."""
    with contextlib.suppress(OSError):
        (place / "lock").unlink()
        if {p.name for p in place.iterdir()} <= {".gitignore"}:
            (place / ".gitignore").unlink()
            place.rmdir()


def _opened(path: Path) -> int:
    flags = os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
    try:
        handle = os.open(path, flags, 0o666)
    except OSError as error:
        if error.errno not in (errno.ELOOP, errno.EISDIR, errno.ENXIO):
            raise
        raise UsageError(f"{path} is no lock of oaktag's; take it away") from None
    if not stat.S_ISREG(os.fstat(handle).st_mode):
        os.close(handle)
        raise UsageError(f"{path} is no lock of oaktag's; take it away")
    return handle


def _locked(handle: int, end: float | None, waiting: Callable[[str], None] | None) -> None:
    import fcntl

    told = False
    while True:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return
        except BlockingIOError:
            pass
        said = os.pread(handle, _MOST_SAID, 0).decode("utf-8", "replace")
        who = shown(said.split("\n")[0]) or "another process"
        if end is not None and time.monotonic() > end:
            raise Busy(
                f"another change of this workspace goes on ({who}); nothing is changed; "
                "run it again, or with --wait"
            )
        if waiting is not None and not told:
            waiting(who)
            told = True
        time.sleep(0.02)
