"""Killed, out of room, two at once: what is there afterwards is the old or the new, whole."""

from __future__ import annotations

import os
import random
import resource
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import first_part

CHANGES = (
    ["rename", "--write", "catalogue", "books"],
    ["pin", "--write", "ada", "--to", "kiosks", "--note", "for a day"],
    ["grant", "kiosks", "loans-db", "22/tcp", "--write", "--anyway"],
    ["groups", "--number", "--write"],
)


def command(folder: Path, *words: str) -> list[str]:
    return [sys.executable, "-m", "oaktag", "-C", str(folder), *words]


def state(folder: Path) -> dict[str, bytes]:
    """Every file of a workspace, those aside that are being written."""
    return {
        str(p.relative_to(folder)): p.read_bytes()
        for p in sorted(folder.rglob("*"))
        if p.is_file() and not p.name.startswith(".") and ".oaktag" not in p.parts
    }


@pytest.mark.parametrize("change", CHANGES[::2], ids=lambda c: c[0])
def test_a_change_that_is_killed_leaves_whole_files(change: list[str], tmp_path: Path) -> None:
    """Killed at any moment: each file is the old one or the new one, and what is not there yet is
    made by trying again."""
    base = first_part(tmp_path / "base")
    if change[0] == "groups":
        text = (base / "groups.yaml").read_text()
        (base / "groups.yaml").write_text(
            text.replace("groups:\n", "groups:\n  - {id: fresh}\n", 1)
        )
    shutil.copytree(base, tmp_path / "done")
    begun = time.monotonic()
    done = subprocess.run(command(tmp_path / "done", *change), capture_output=True, text=True)
    took = time.monotonic() - begun
    assert done.returncode == 0, done.stderr
    before, after = state(base), state(tmp_path / "done")
    assert before != after
    rng = random.Random(1)
    ended = set()
    for number in range(2):
        folder = tmp_path / f"try{number}"
        shutil.copytree(base, folder)
        one = subprocess.Popen(
            command(folder, *change), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        time.sleep(took * (0.4 + 0.6 * rng.random()))
        one.send_signal(signal.SIGKILL)
        ended.add(one.wait())
        found = state(folder)
        assert found.keys() == before.keys() | (found.keys() & after.keys())
        for name, content in found.items():
            assert content in (before.get(name), after.get(name)), name
        if found != after:
            again = subprocess.run(command(folder, *change), capture_output=True, text=True)
            assert again.returncode == 0 or found != before, again.stderr
    assert ended <= {0, -signal.SIGKILL}


def test_without_room_nothing_is_lost(tmp_path: Path) -> None:
    """No file may grow beyond 100 bytes: one sentence says what could not be written."""
    folder = first_part(tmp_path / "w")
    before = state(folder)

    def small() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (100, 100))

    for change in (*CHANGES[:3], ["compile"], ["demo", str(tmp_path / "demo")]):
        done = subprocess.run(
            command(folder, *change), capture_output=True, text=True, preexec_fn=small, check=False
        )
        assert done.returncode == 2, (change, done)
        assert done.stderr.startswith("oaktag: ") and "Traceback" not in done.stderr, done.stderr
        assert len(done.stderr.splitlines()) <= 3, done.stderr
        assert state(folder) == before, change
        assert not list(folder.rglob(".*")), change


def test_two_at_once_compile_the_same(tmp_path: Path) -> None:
    folder = first_part(tmp_path / "w")
    alone = first_part(tmp_path / "alone")
    assert subprocess.run(command(alone, "compile"), capture_output=True).returncode == 0
    for _ in range(3):
        shutil.rmtree(folder / "lists", ignore_errors=True)
        many = [
            subprocess.Popen(command(folder, "compile"), stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
            for _ in range(3)
        ]  # fmt: skip
        said = [one.communicate()[1] for one in many]
        assert [one.returncode for one in many] == [0, 0, 0], said
        assert state(folder) == state(alone)


def test_what_cannot_be_read_or_written_is_said(tmp_path: Path) -> None:
    """A folder for a file, a closed output, no workspace at all: one sentence, and no traceback."""
    folder = first_part(tmp_path / "w")
    (folder / "taken").mkdir()
    for words in (
        ["matrix", "--figure", "taken"],
        ["compile", "--out", "groups.yaml"],
        ["-C", "groups.yaml", "check"],
        ["compare", "nowhere"],
        ["drift", "nowhere"],
    ):
        done = subprocess.run(command(folder, *words), capture_output=True, text=True, check=False)
        assert done.returncode in (1, 2), (words, done)
        said = done.stderr or done.stdout
        assert said.startswith("oaktag: ") and "Traceback" not in said, (words, said)
    for words in (["members"], ["matrix", "--json"]):
        one = subprocess.Popen(
            command(folder, *words), stdout=subprocess.PIPE, stderr=subprocess.PIPE
        )
        assert one.stdout is not None and one.stderr is not None
        one.stdout.close()  # as ``| head`` does
        told = one.stderr.read()
        one.stderr.close()
        one.wait()
        assert b"Traceback" not in told and b"should not happen" not in told, (words, told)
    empty = tmp_path / "empty"
    empty.mkdir()
    done = subprocess.run(command(empty, "check"), capture_output=True, text=True, check=False)
    assert done.returncode == 2 and "oaktag.yaml" in done.stderr
    if os.geteuid():
        (folder / "groups.yaml").chmod(0)
        done = subprocess.run(command(folder, "check"), capture_output=True, text=True, check=False)
        assert done.returncode == 2 and "groups.yaml" in done.stderr


def test_a_workspace_is_its_folder(tmp_path: Path) -> None:
    """What leads out of it is named and not read; pipes and devices hang nobody; no output goes through
    a link that somebody laid."""
    folder = first_part(tmp_path / "w")
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "secret.csv").write_text("uid,name\nhidden,me\n")
    people = folder / "inventory/people.csv"
    kept = people.read_bytes()
    ways: list[tuple[Callable[[], object], str]] = [
        (lambda: people.symlink_to(outside / "secret.csv"), "outside "),
        (lambda: people.symlink_to("/proc/self/environ"), "outside "),
        (lambda: people.symlink_to("/dev/zero"), "outside "),
        (lambda: os.mkfifo(people), "a pipe or a device"),
        (lambda: people.mkdir(), "a folder"),
        (lambda: people.symlink_to("people.csv"), "leads nowhere"),
    ]
    for lay, told in ways:
        people.unlink() if people.is_symlink() or not people.is_dir() else people.rmdir()
        lay()
        done = subprocess.run(
            command(folder, "members"), capture_output=True, text=True, check=False, timeout=60
        )
        assert done.returncode == 2 and "inventory/people.csv" in done.stderr, done
        assert told in done.stderr and "hidden" not in done.stdout + done.stderr, done
    people.unlink()
    (folder / "inventory/kept.csv").write_bytes(kept)
    people.symlink_to("kept.csv")  # a link inside the folder is nobody's trap
    assert subprocess.run(command(folder, "members"), capture_output=True).returncode == 0
    before = (outside / "secret.csv").read_bytes()
    (folder / "lists").symlink_to(outside)
    (folder / "told.xml").symlink_to(outside / "secret.csv")
    (folder / "drawn.png").symlink_to(outside / "secret.csv")
    (folder / "asked.csv").symlink_to(outside / "secret.csv")
    (folder / "away").symlink_to(outside)
    for words in (
        ["compile"],
        ["expect", "--junit", "told.xml"],
        ["matrix", "--figure", "drawn.png"],
        ["expect", "--junit", "away/told.xml"],
        ["expect", "--junit", "away/deeper/told.xml"],
        ["expect", "--junit", str(folder / "away/deeper/told.xml")],
        ["prove", "lists"],
        ["drift", "away"],
        ["reach", "--observed", "away"],
        ["decide", "--batch", "asked.csv"],
    ):
        done = subprocess.run(command(folder, *words), capture_output=True, text=True, check=False)
        assert done.returncode == 2 and "is a link" in done.stderr, (words, done)
        assert "hidden" not in done.stdout + done.stderr
    (folder / "held").mkdir()
    (folder / "held/hall-edge.nft").symlink_to(outside / "secret.csv")
    (folder / "held/hall-edge.json").symlink_to(outside / "secret.csv")
    for words in (["prove", "held"], ["drift", "held"]):
        done = subprocess.run(command(folder, *words), capture_output=True, text=True, check=False)
        assert done.returncode in (1, 2) and "hidden" not in done.stdout + done.stderr, done
    assert sorted(p.name for p in outside.iterdir()) == ["secret.csv"]
    assert (outside / "secret.csv").read_bytes() == before
