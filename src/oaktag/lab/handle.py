"""A lab seen from outside: start it, ask it, stop it."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import socket
import stat
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from hashlib import blake2b
from pathlib import Path
from typing import Any

from oaktag.errors import NotPossibleHere, OakTagError
from oaktag.lab.namespaces import UNSHARE, missing, socket_of
from oaktag.lab.plan import LabPlan

PATIENCE = 20.0
#: When a lab ends by itself.
HOURS = 8.0


def _base() -> Path:
    """The folder in which labs live: the user's alone.

    Raises:
        OakTagError: what lies there is not.
    """
    given = os.environ.get("XDG_RUNTIME_DIR", "")
    place = (
        Path(given) / "oaktag" if given else Path(tempfile.gettempdir()) / f"oaktag-{os.getuid()}"
    )
    try:
        place.mkdir(mode=0o700)
    except FileExistsError:
        pass
    except FileNotFoundError:
        if not given:
            raise
        place = Path(tempfile.gettempdir()) / f"oaktag-{os.getuid()}"
        place.mkdir(mode=0o700, exist_ok=True)
    found = place.lstat()
    if not stat.S_ISDIR(found.st_mode) or found.st_uid != os.getuid() or found.st_mode & 0o077:
        raise OakTagError(f"{place} is not yours alone (a folder of mode 700); take it away")
    return place


class Lab:
    """The lab of one workspace folder; at most one runs at a time.

    It lives in a folder of a name that cannot be guessed, inside one that is the user's alone.
    """

    def __init__(self, workspace: Path) -> None:
        self.mark = blake2b(str(workspace.resolve()).encode(), digest_size=6).hexdigest()

    @property
    def folder(self) -> Path | None:
        """Where it lives; None where there is none."""
        return next(iter(self._folders()), None)

    def _folders(self) -> list[Path]:
        return [p for p in sorted(_base().glob(f"{self.mark}-*")) if p.is_dir()]

    @property
    def running(self) -> bool:
        """Whether it is up."""
        try:
            self._connect().close()
        except OSError:
            return False
        return True

    def start(self, plan: LabPlan, hours: float = HOURS) -> None:
        """Build the network and keep it until ``stop``; one that is up already is replaced.

        Args:
            plan: what to build.
            hours: when it ends by itself.

        Raises:
            NotPossibleHere: this machine lacks something, named in one sentence.
            OakTagError: the network could not be built, or another one is being built.
        """
        lacking = missing()
        if lacking is not None:
            raise NotPossibleHere(lacking)
        with self._alone():
            self._stop()
            folder = Path(tempfile.mkdtemp(prefix=f"{self.mark}-", dir=_base()))
            try:
                self._build(folder, plan, hours)
            except BaseException:  # Ctrl-C too: the keeper ends with its folder
                shutil.rmtree(folder, ignore_errors=True)
                raise

    def _build(self, folder: Path, plan: LabPlan, hours: float) -> None:
        (folder / "plan.json").write_text(plan.dumps(), encoding="utf-8")
        keeper = [sys.executable, "-m", "oaktag.lab.keeper", str(folder), str(hours)]
        with (folder / "log").open("wb") as log:
            process = subprocess.Popen(
                [*UNSHARE, *keeper],
                stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True,
            )  # fmt: skip
        try:
            (folder / "pid").write_text(f"{process.pid}\n", encoding="utf-8")
            deadline = time.monotonic() + PATIENCE
            while not self.running:
                failed = folder / "failed"
                if failed.exists() or process.poll() is not None or time.monotonic() > deadline:
                    tail = (folder / "log").read_text(encoding="utf-8", errors="replace")[-400:]
                    said = failed.read_text(encoding="utf-8") if failed.exists() else tail
                    raise OakTagError(f"the lab could not be built: {said.strip()}")
                time.sleep(0.01)
        except BaseException:
            process.kill()
            process.wait()
            raise

    def stop(self) -> bool:
        """End the lab; false where none is up."""
        with self._alone():
            return self._stop()

    def _stop(self) -> bool:
        running = self.running
        if running:
            self.ask("stop")
        for folder in self._folders():
            with contextlib.suppress(OSError, ValueError):
                pid = int((folder / "pid").read_text(encoding="utf-8"))
                deadline = time.monotonic() + 5
                while running and time.monotonic() < deadline and _alive(pid):
                    time.sleep(0.01)
            shutil.rmtree(folder, ignore_errors=True)
        return running

    @contextmanager
    def _alone(self) -> Iterator[None]:
        """While this goes on, nobody else builds or ends this lab."""
        import fcntl

        path, locked = _base() / f"{self.mark}.lock", False
        handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
        try:
            with contextlib.suppress(BlockingIOError, FileNotFoundError):
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                if os.path.samestat(os.fstat(handle), path.lstat()):
                    locked = True
            if not locked:
                raise OakTagError("this lab is being built or ended by another command")
            yield
        finally:
            if locked:
                path.unlink(missing_ok=True)
            os.close(handle)

    def ask(self, what: str, **fields: Any) -> dict[str, Any]:
        """Ask the keeper for something.

        Raises:
            OakTagError: no lab is up, or it fails at what was asked.
        """
        try:
            line = self._connect()
        except OSError:
            raise OakTagError("no lab is up; oaktag lab up builds it") from None
        with line, line.makefile("rb") as stream:
            line.sendall(json.dumps({"do": what, **fields}).encode() + b"\n")
            said = stream.readline()
        if not said:
            raise OakTagError("the lab ended while it was asked")
        answer: dict[str, Any] = json.loads(said)
        if "error" in answer:
            raise OakTagError(f"the lab says: {answer['error']}")
        return answer

    def keep(self, found: dict[str, Any]) -> None:
        """Remember what was found, for as long as the lab is up."""
        if self.folder is not None:
            (self.folder / "found.json").write_text(json.dumps(found), encoding="utf-8")

    def kept(self) -> dict[str, Any]:
        """What was found last.

        Raises:
            OakTagError: nothing was, or no lab is up.
        """
        try:
            folder = self.folder or Path("nowhere")
            found: dict[str, Any] = json.loads((folder / "found.json").read_text("utf-8"))
        except OSError:
            raise OakTagError("no probe was sent in a lab that is up") from None
        return found

    def _connect(self) -> socket.socket:
        folder = self.folder
        if folder is None:
            raise FileNotFoundError
        line = socket.socket(socket.AF_UNIX)
        try:
            with socket_of(folder) as path:
                line.connect(path)
        except OSError:
            line.close()
            raise
        return line


def _alive(pid: int) -> bool:
    try:
        done, _ = os.waitpid(pid, os.WNOHANG)
    except ChildProcessError:
        try:
            os.kill(pid, 0)
        except OSError:
            return False
        return True
    return done == 0
