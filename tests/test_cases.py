"""Worked cases of the repository's own, run through the commands; and the runner can fail."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from pathlib import Path

CASES = Path(__file__).parent / "cases"
RUNNER = Path(__file__).parent.parent / "tools/run_cases.py"


def _run(folder: Path) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, str(RUNNER), str(folder)], capture_output=True, text=True, check=False
    )


def test_all_cases_agree() -> None:
    done = _run(CASES)
    count = len(list(CASES.glob("*/expected.json")))
    assert (done.returncode, done.stdout.splitlines()[-1]) == (
        0,
        f"{count} of {count} cases agree",
    ), done.stdout


def test_a_wrong_or_unknown_key_fails(tmp_path: Path) -> None:
    case = tmp_path / "case"
    shutil.copytree(CASES / "bakery-both-ways", case)
    expected = json.loads((case / "expected.json").read_text())
    expected["decide"][0]["would"] = "deny"
    expected["groups"]["shop"]["colour"] = "red"
    expected["lookup"]["10.30.2.1"] = 1
    expected["check"] = ["nobody is in the group bakers"]
    expected["weather"] = []
    (case / "expected.json").write_text(json.dumps(expected))
    done = _run(tmp_path)
    faults = [line.strip() for line in done.stdout.splitlines() if line.startswith("   ")]
    assert done.returncode == 1 and len(faults) == 6, done.stdout
    for told in (
        "would is 'allow'",
        "'colour' is not known",
        "10.30.2.1: 2000",
        "nothing says",
        "'weather'",
    ):
        assert any(told in fault for fault in faults), (told, faults)
    assert _run(tmp_path / "nothing").returncode == 1
