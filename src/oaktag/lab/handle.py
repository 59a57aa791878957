"""A lab seen from outside: start it, ask it, stop it."""

from __future__ import annotations

import json
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from hashlib import blake2b
from pathlib import Path
from typing import Any

from oaktag.errors import NotPossibleHere, OakTagError
from oaktag.lab.namespaces import UNSHARE, missing
from oaktag.lab.plan import LabPlan

PATIENCE = 20.0


class Lab:
    """The lab of one workspace folder; at most one runs at a time."""

    def __init__(self, workspace: Path) -> None:
        mark = blake2b(str(workspace.resolve()).encode(), digest_size=6).hexdigest()
        self.folder = Path(tempfile.gettempdir()) / f"oaktag-lab-{os.getuid()}-{mark}"

    @property
    def running(self) -> bool:
        """Whether it is up."""
        try:
            self._connect().close()
        except OSError:
            return False
        return True

    def start(self, plan: LabPlan) -> None:
        """Build the network and keep it until ``stop``; one that is up already is replaced.

        Raises:
            NotPossibleHere: this machine lacks something, named in one sentence.
            OakTagError: the network could not be built.
        """
        lacking = missing()
        if lacking is not None:
            raise NotPossibleHere(lacking)
        self.stop()
        shutil.rmtree(self.folder, ignore_errors=True)
        self.folder.mkdir(mode=0o700)
        (self.folder / "plan.json").write_text(plan.dumps(), encoding="utf-8")
        with (self.folder / "log").open("wb") as log:
            process = subprocess.Popen(
                [*UNSHARE, sys.executable, "-m", "oaktag.lab.keeper", str(self.folder)],
                stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True,
            )  # fmt: skip
        (self.folder / "pid").write_text(f"{process.pid}\n", encoding="utf-8")
        deadline = time.monotonic() + PATIENCE
        while not self.running:
            failed = self.folder / "failed"
            if failed.exists() or process.poll() is not None or time.monotonic() > deadline:
                tail = (self.folder / "log").read_text(encoding="utf-8", errors="replace")[-400:]
                said = failed.read_text(encoding="utf-8") if failed.exists() else tail
                process.kill()
                process.wait()
                raise OakTagError(f"the lab could not be built: {said.strip()}")
            time.sleep(0.01)

    def stop(self) -> bool:
        """End the lab; false where none is up."""
        if not self.running:
            return False
        self.ask("stop")
        deadline = time.monotonic() + 5
        pid = int((self.folder / "pid").read_text(encoding="utf-8"))
        while time.monotonic() < deadline and _alive(pid):
            time.sleep(0.01)
        shutil.rmtree(self.folder, ignore_errors=True)
        return True

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
        (self.folder / "found.json").write_text(json.dumps(found), encoding="utf-8")

    def kept(self) -> dict[str, Any]:
        """What was found last.

        Raises:
            OakTagError: nothing was, or no lab is up.
        """
        try:
            found: dict[str, Any] = json.loads((self.folder / "found.json").read_text("utf-8"))
        except OSError:
            raise OakTagError("no probe was sent in a lab that is up") from None
        return found

    def _connect(self) -> socket.socket:
        line = socket.socket(socket.AF_UNIX)
        try:
            line.connect(str(self.folder / "socket"))
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
