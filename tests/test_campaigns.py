"""A short run of each campaign: what the long ones do ten thousand times."""

from __future__ import annotations

import random
from collections import Counter
from pathlib import Path

import pytest
from campaigns import (
    datagrams,
    inputs,
    judges,
    kills,
    labs,
    pairs,
    readers,
    repositories,
    room,
    small,
)
from campaigns.workspaces import BASE

from sizes import scaled


@pytest.mark.parametrize("seed", [40_000, 50_000, 60_000])
def test_inputs_changed_at_random(seed: int) -> None:
    came = Counter[str]()
    for how, failure in inputs.tries(BASE, seed, scaled(80)):
        assert failure is None, failure
        came[how] += 1
    assert came["exit status 0"] and came["exit status 2"], came


def test_a_campaign_tells_what_does_not_hold() -> None:
    """The judge of the inputs is no blank."""
    assert inputs.wrong("check", 2, "", "") == "fails without a word"
    assert "exception" in inputs.wrong("check", 2, "", "oaktag: this should not happen: E: x\n")
    assert inputs.wrong("check", 7, "", "x") and inputs.wrong("check", 0, "a\x1b[2J", "")
    assert inputs.wrong("check", 0, "ok\n::error::x\n", "") and inputs.wrong("x --json", 0, "{", "")
    assert inputs.wrong("check", 0, "::1 a\n", "") == ""


def test_readers_fed_at_random(tmp_path: Path) -> None:
    fed = readers.Readers(tmp_path)
    assert {fed.read(name, fed.sound[name]) for name in fed.names} == {"read"}
    came = Counter[str]()
    for number in range(2000):
        rng = random.Random(number)
        name = rng.choice(fed.names)
        data = inputs.changed(fed.sound[name], rng)
        came[fed.read(name, data, whole=rng.random() < 0.02)] += 1
    assert came["read"] > 100 and came["refused"] > 1000, came


def test_datagrams_of_all_kinds() -> None:
    counts, wrong, _ = datagrams.tried(4000, 7)
    assert not wrong, wrong
    assert counts["log-ins accepted"] == 8 and counts["refused: wrong secret"] > 1000, counts
    assert counts["refused: malformed"] and counts["refused: another kind of packet"], counts


def test_changes_killed_at_their_lines() -> None:
    ends = Counter[str]()
    for how, wrong in kills.tries(3, scaled(64, least=16)):
        assert not wrong, wrong
        ends[how] += 1
    assert ends["-9"] > 7 and ends["0"] > 0, ends


def test_two_at_once() -> None:
    assert [wrong for _, wrong in pairs.tries(5, scaled(32)) if wrong] == []


def test_on_a_full_disk(real_kernel: None, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PYTHONPATH", str(Path(room.__file__).parents[1]))
    monkeypatch.setattr("sys.argv", ["room", "--tries", str(scaled(32)), "--seed", "9"])
    assert room.main() == 0


def test_hostile_repositories() -> None:
    assert [wrong for _, wrong in repositories.tries(70, 4) if wrong] == []


def test_the_kernel_as_judge(real_kernel: None, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("sys.argv", ["judges", "--packets", "1000", "--seed", "12"])
    assert judges.main() == 0


def test_labs_killed_at_any_moment(real_kernel: None, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("sys.argv", ["labs", "--tries", "2", "--seed", "4"])
    monkeypatch.setenv("XDG_RUNTIME_DIR", "")
    assert labs.main() == 0


def test_short_rows(monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> None:
    monkeypatch.setattr("sys.argv", ["small", "--tables", "60", "--lists", "12", "--seed", "5"])
    assert small.main() == 0
    assert "60 tables: " in capsys.readouterr().out
