"""A workspace as tests of pytest: what fails there is what the commands say is wrong."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

import oaktag as package


def _run(folder: Path, *words: str) -> tuple[int, dict[str, str], str]:
    """The exit status of pytest, the outcome of each test, and all that was said."""
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-p", "oaktag.pytest_plugin", "-v", "--color=no", "-rf",
         "-c", "/dev/null", "--rootdir", str(folder), str(folder), *words],
        capture_output=True, text=True, check=False, cwd=folder,
        env={**os.environ, "PYTEST_DISABLE_PLUGIN_AUTOLOAD": "1", "PYTEST_ADDOPTS": ""},
    )  # fmt: skip
    found = re.findall(r"^oaktag\.yaml::(.+?) (PASSED|FAILED) ", done.stdout, re.MULTILINE)
    return done.returncode, dict(found), done.stdout


def test_what_fails_is_what_is_wrong(shipped: Path) -> None:
    status, tests, said = _run(shipped, "--oaktag")
    workspace = package.Workspace.load(shipped)
    expected = workspace.expect().expectations
    assert status == 1 and len(tests) > 200
    for row in expected:
        (name,) = [n for n in tests if n.startswith(f"{row['file']}:{row['line']} ")]
        assert (tests[name] == "PASSED") is row["holds"], name
        if not row["holds"]:
            assert f"{row['file']}:{row['line']}: {row['counterexample']['text']}" in said
    wrong: dict[str, bool] = {}
    for row in workspace.reach().flows:
        name = f"reach {row['source']['segment']} → {row['destination']['segment']}"
        bad = row["effect"] != "exact" and not row["accepted"]
        wrong[name] = wrong.get(name, False) or bad
    assert {n: t == "FAILED" for n, t in tests.items() if n.startswith("reach ")} == wrong
    proofs = {n: t for n, t in tests.items() if n.startswith("proof ")}
    assert proofs == {"proof of hall-edge": "PASSED", "proof of county-exit": "PASSED"}
    assert "(no point on the path)" in said and "Traceback" not in said


def test_a_list_over_its_capacity_and_files_that_cannot_be_read(shipped: Path) -> None:
    network = shipped / "network.yaml"
    network.write_text(network.read_text().replace("capacity: 2000", "capacity: 20", 1))
    status, tests, said = _run(shipped, "--oaktag", "-k", "proof")
    assert status == 1 and tests["proof of hall-edge"] == "FAILED"
    assert "hall-edge holds 20 entries, its list has" in said
    network.write_text("nodes: [{node: x, nonsense: 1}]\n")
    status, tests, said = _run(shipped, "--oaktag")
    assert status == 1 and tests == {"workspace": "FAILED"} and "network.yaml:1" in said


def test_nobody_is_asked_who_does_not_ask(shipped: Path) -> None:
    status, tests, _ = _run(shipped)
    assert (status, tests) == (5, {})
