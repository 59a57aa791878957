"""A workspace's own repository, tested by pytest: expectations, paths, lists, and a test of ours.

    python examples/tests_of_a_workspace.py [WORKSPACE]

The files beside ``oaktag.yaml`` would be committed with it: ``pytest.ini`` takes the workspace for
a file of tests, and ``test_ours.py`` says in Python what expectations cannot.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

import oaktag

SETTINGS = "[pytest]\noaktag = true\naddopts = -q --tb=short\n"
OURS = """
import pytest
import oaktag

quillmere = oaktag.Workspace.load(".")


def test_no_group_is_empty():
    assert not [g["group"] for g in quillmere.groups().groups if not g["members"]]


@pytest.mark.parametrize("store", ["loans-db", "archive", "office-files"])
def test_nobody_unknown_reaches_data(store):
    assert quillmere.decide("untagged", store, "any").action == "deny"
"""


def main(workspace: Path) -> None:
    """Run the tests of a copy of a workspace, and show what they say."""
    with tempfile.TemporaryDirectory() as place:
        copy = Path(place) / "repository"
        shutil.copytree(workspace, copy)
        (copy / "pytest.ini").write_text(SETTINGS)
        (copy / "test_ours.py").write_text(OURS)
        ran = subprocess.run(
            [sys.executable, "-m", "pytest", "-p", "no:cacheprovider"],
            cwd=copy, capture_output=True, text=True,
        )  # fmt: skip
    lines = ran.stdout.splitlines()
    print("\n".join([*lines[:30], "…", *lines[-5:]] if len(lines) > 40 else lines))


if __name__ == "__main__":
    given = sys.argv[1:]
    main(Path(given[0]) if given else oaktag.sample())
