"""Shared by all tests: folders, the sample, running commands, and real parts that must be there."""

from __future__ import annotations

import gc
import json
import os
import shutil
import signal
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner
from hypothesis import HealthCheck, Phase, settings

from oaktag.cli import app as cli_app
from oaktag.demo.sample import write_sample
from oaktag.lab.namespaces import missing, with_tools
from sizes import scaled

os.environ.update(with_tools())
# Thousands of small models: looking for cycles among them every 700 objects takes a twentieth of the time.
gc.set_threshold(100_000, 50, 100)

settings.register_profile(
    "oaktag", deadline=None, max_examples=scaled(60), derandomize=True,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture],
)  # fmt: skip
settings.register_profile("quick", settings.get_profile("oaktag"), phases=[Phase.generate])
settings.load_profile("quick" if os.environ.get("OAKTAG_TESTS") == "quick" else "oaktag")


@dataclass(slots=True)
class Ran:
    """What a command line did."""

    status: int
    out: str
    err: str

    @property
    def json(self) -> dict[str, Any]:
        document: dict[str, Any] = json.loads(self.out)
        return document


def hear_interrupts() -> None:
    """Let a process hear Ctrl-C though the tests run in the background, where it is ignored."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


@pytest.fixture
def oaktag(monkeypatch: pytest.MonkeyPatch) -> Callable[..., Ran]:
    """Run ``oaktag`` as users do: arguments in, exit status and both streams out."""

    def run(*args: str | Path, stdin: str = "") -> Ran:
        words = [str(a) for a in args]
        monkeypatch.setattr("sys.argv", ["oaktag", *words])

        class Whole:
            """The whole program, errors included, as the runner expects a command."""

            name = "oaktag"

            def main(self, *_: object, **__: object) -> None:
                cli_app.run()

        done = CliRunner().invoke(Whole(), [], input=stdin)  # type: ignore[arg-type]
        if done.exception is not None and not isinstance(done.exception, SystemExit):
            raise done.exception
        return Ran(done.exit_code, done.stdout, done.stderr)

    return run


WORKSPACES = Path(__file__).parent / "workspaces"


def first_part(folder: Path, *, mended: bool = False) -> Path:
    """The first part of Quillmere, small enough to be broken in every way."""
    shutil.copytree(WORKSPACES / "first", folder)
    if mended:
        shutil.copytree(WORKSPACES / "first-mended", folder, dirs_exist_ok=True)
    return folder


@pytest.fixture
def sample(tmp_path: Path) -> Path:
    return first_part(tmp_path / "quillmere")


@pytest.fixture
def mended(tmp_path: Path) -> Path:
    return first_part(tmp_path / "quillmere-mended", mended=True)


@pytest.fixture
def shipped(tmp_path: Path) -> Path:
    """The sample that ships with the package, with its honest mistakes."""
    write_sample(tmp_path / "quillmere")
    return tmp_path / "quillmere"


@pytest.fixture
def shipped_mended(tmp_path: Path) -> Path:
    write_sample(tmp_path / "quillmere-mended", mended=True)
    return tmp_path / "quillmere-mended"


@pytest.fixture
def real_kernel() -> None:
    """The packet filter and namespaces of this machine; without them the test is skipped, or
    fails where OAKTAG_REQUIRE_REAL is set."""
    lacking = missing()
    if lacking is not None:
        if os.environ.get("OAKTAG_REQUIRE_REAL") == "1":
            pytest.fail(lacking)
        pytest.skip(lacking)
