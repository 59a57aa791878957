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
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from hashlib import blake2b
from pathlib import Path
from typing import Any, NamedTuple

from oaktag.errors import NotPossibleHere, OakTagError
from oaktag.lab.namespaces import UNSHARE, missing, socket_of
from oaktag.lab.plan import LabPlan

PATIENCE = 300.0
#: When a lab ends by itself.
HOURS = 8.0
#: Seconds for which a change waits for another one.
WAIT = 30.0
VERSION = "version-"
NOT_UP = "no lab is up; oaktag lab up builds it"
Progress = Callable[[str], None]


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


class Version(NamedTuple):
    """A version of a workspace: its files, what else it goes by (``facts``), and its plan."""

    files: Mapping[str, bytes]
    facts: dict[str, Any]
    plan: LabPlan

    def lay(self, folder: Path) -> str:
        """Write it into a lab's folder; the name under which it lies there."""
        facts, plan = json.dumps(self.facts, sort_keys=True), self.plan.dumps()
        digest = blake2b(digest_size=12)
        for part in (facts.encode(), plan.encode(), *self.files.values()):
            digest.update(len(part).to_bytes(8, "big") + part)
        name = f"{VERSION}{digest.hexdigest()}"
        place = folder / name
        if place.is_dir():
            return name
        fresh = Path(tempfile.mkdtemp(prefix="new-", dir=folder))
        (fresh / "plan.json").write_text(plan, encoding="utf-8")
        told = {"files": list(self.files), "facts": self.facts}
        (fresh / "facts.json").write_text(json.dumps(told), encoding="utf-8")
        for number, held in enumerate(self.files.values()):
            (fresh / str(number)).write_bytes(held)
        fresh.rename(place)
        return name


class Held(NamedTuple):
    """What a lab is made as: the files, what else that goes by, and whether its points hold their
    lists."""

    files: dict[str, bytes]
    facts: dict[str, Any]
    lists: bool


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

    def start(
        self, version: Version, hours: float = HOURS, progress: Progress | None = None
    ) -> None:
        """Build the network without lists and keep it until ``stop``; one that is up already is
        replaced.

        Args:
            version: what to build.
            hours: when it ends by itself.
            progress: told what is done.

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
                self._build(folder, version, hours, progress)
            except BaseException:  # Ctrl-C too: the keeper ends with its folder
                shutil.rmtree(folder, ignore_errors=True)
                raise

    def _build(
        self, folder: Path, version: Version, hours: float, progress: Progress | None
    ) -> None:
        first = {"version": version.lay(folder), "lists": False}
        (folder / "first.json").write_text(json.dumps(first), encoding="utf-8")
        keeper = [sys.executable, "-m", "oaktag.lab.keeper", str(folder), str(hours)]
        with (folder / "log").open("wb") as log:
            process = subprocess.Popen(
                [*UNSHARE, *keeper],
                stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True,
            )  # fmt: skip
        try:
            (folder / "pid").write_text(f"{process.pid}\n", encoding="utf-8")
            told, plan = time.monotonic(), version.plan
            deadline = told + PATIENCE
            while not self.running:
                failed = folder / "failed"
                if failed.exists() or process.poll() is not None or time.monotonic() > deadline:
                    tail = (folder / "log").read_text(encoding="utf-8", errors="replace")[-400:]
                    said = failed.read_text(encoding="utf-8") if failed.exists() else tail
                    raise OakTagError(f"the lab could not be built: {said.strip()}")
                if progress is not None and time.monotonic() > told + 1:
                    told = time.monotonic()
                    progress(f"{len(plan.nodes)} nodes, {len(plan.hosts)} hosts")
                time.sleep(0.01)
        except BaseException:
            process.kill()
            process.wait()
            raise

    def apply(self, version: Version, *, lists: bool, restore: bool = False) -> dict[str, Any]:
        """Make the network of another version of it, in place; with ``restore`` points get their
        list again where somebody has changed it.

        Returns:
            of each kind what has come, is gone or is another by now; how many flows were ended.

        Raises:
            OakTagError: no lab is up, or it cannot be changed.
        """
        with self._alone(WAIT):
            folder = self._where()
            name = version.lay(folder)
            done = self.ask("apply", version=name, lists=lists, restore=restore)
            for other in folder.glob(f"{VERSION}*"):
                if other.name != name:
                    shutil.rmtree(other, ignore_errors=True)
        return done

    def held(self) -> Held:
        """The version that it is made as.

        Raises:
            OakTagError: no lab is up.
        """
        said = self.ask("held")
        place = self._where() / said["version"]
        facts = json.loads((place / "facts.json").read_text(encoding="utf-8"))
        files = {name: (place / str(n)).read_bytes() for n, name in enumerate(facts["files"])}
        return Held(files, facts["facts"], said["lists"])

    def watch(self, until: float | None = None) -> Iterator[dict[str, Any]]:
        """Flows that are opened at its points, as they are; first an empty event, when it is
        listened for them.

        Args:
            until: when to end, by the monotonic clock; None: never.

        Raises:
            OakTagError: no lab is up, or somebody else listens.
        """
        try:
            line = self._connect()
        except OSError:
            raise OakTagError(NOT_UP) from None
        with line, line.makefile("rb") as stream:
            line.sendall(b'{"do": "watch"}\n')
            while True:
                if until is not None:
                    line.settimeout(max(until - time.monotonic(), 0.001))
                try:
                    said = stream.readline()
                except TimeoutError:
                    return
                if not said:
                    raise OakTagError("the lab has ended")
                event = json.loads(said)
                if "error" in event:
                    raise OakTagError(f"the lab says: {event['error']}")
                yield event

    def entering(self, name: str) -> list[str]:
        """The words before a command that is to run in the namespace of a node or a host.

        Raises:
            OakTagError: no lab is up, or there is nobody of that name.
        """
        space = self.ask("space", name=name)["space"]
        return [*self._within(), "ip", "netns", "exec", space]

    def _within(self) -> list[str]:
        """The words before a command that is to run in the namespaces of the keeper."""
        outer = int((self._where() / "pid").read_text(encoding="utf-8"))
        children = Path(f"/proc/{outer}/task/{outer}/children").read_text(encoding="ascii")
        inside = ["-U", "-m", "-n", "-p", "--preserve-credentials"]
        return ["nsenter", "-t", children.split()[0], *inside]

    def doing(self, module: str, request: dict[str, Any]) -> dict[str, Any]:
        """Let a module of ours do something in the keeper's namespaces: it gets a JSON document on
        its standard input, and prints one.

        Raises:
            OakTagError: no lab is up, or it fails, with the last that it says.
        """
        done = subprocess.run(
            [*self._within(), sys.executable, "-m", module],
            input=json.dumps(request), capture_output=True, text=True,
        )  # fmt: skip
        if done.returncode:
            said = done.stderr.strip().splitlines()[-1:] or [str(done.returncode)]
            raise OakTagError(f"the lab says: {said[0]}")
        answer: dict[str, Any] = json.loads(done.stdout)
        return answer

    def _where(self) -> Path:
        folder = self.folder
        if folder is None:
            raise OakTagError(NOT_UP)
        return folder

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
    def _alone(self, patience: float = 0.0) -> Iterator[None]:
        """While this goes on, nobody else builds, changes or ends this lab; one who does so now is
        waited for, some seconds."""
        path, end = _base() / f"{self.mark}.lock", time.monotonic() + patience
        while (handle := _locked(path)) is None:
            if time.monotonic() > end:
                raise OakTagError("this lab is being built or ended by another command")
            time.sleep(0.05)
        try:
            yield
        finally:
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
            raise OakTagError(NOT_UP) from None
        with line, line.makefile("rb") as stream:
            line.sendall(json.dumps({"do": what, **fields}).encode() + b"\n")
            said = stream.readline()
        if not said:
            raise OakTagError("the lab ended while it was asked")
        answer: dict[str, Any] = json.loads(said)
        if "error" in answer:
            raise OakTagError(f"the lab says: {answer['error']}")
        return answer

    def keep(self, name: str, found: object) -> None:
        """Remember something, for as long as the lab is up."""
        (self._where() / f"{name}.json").write_text(json.dumps(found), encoding="utf-8")

    def kept(self, name: str) -> Any:
        """What was remembered; None where nothing was.

        Raises:
            OakTagError: no lab is up.
        """
        path = self._where() / f"{name}.json"
        return json.loads(path.read_text("utf-8")) if path.exists() else None

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


def _locked(path: Path) -> int | None:
    """A lock that is ours until it is closed; None where it is another's."""
    import fcntl

    handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    with contextlib.suppress(BlockingIOError, FileNotFoundError):
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        if os.path.samestat(os.fstat(handle), path.lstat()):
            return handle
    os.close(handle)
    return None


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
