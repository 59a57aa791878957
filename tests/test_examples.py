"""The examples run and say what their heads promise."""

from __future__ import annotations

import doctest
import importlib
import subprocess
import sys
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import nbformat
import pytest
from nbclient import NotebookClient

import oaktag

ROOT = Path(__file__).parent.parent
EXAMPLES = ROOT / "examples"


def _run(name: str, *arguments: str | Path) -> str:
    done = subprocess.run(
        [sys.executable, EXAMPLES / name, *map(str, arguments)],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    return done.stdout


@pytest.mark.parametrize("path", sorted(EXAMPLES.glob("*.py")), ids=lambda p: p.stem)
def test_every_example_runs_as_it_stands(path: Path) -> None:
    """Without arguments, on the sample; it ends with something to look at, and README lists it."""
    said = _run(path.name)
    assert len(said.splitlines()) >= 4, said
    assert f"`{path.name}`" in (ROOT / "README.md").read_text(encoding="utf-8")
    assert f"python examples/{path.name}" in path.read_text(encoding="utf-8")


def test_what_examples_say(sample: Path) -> None:
    said = _run("who_may_reach.py", sample, "loans-db", "8443/tcp").splitlines()
    assert "  patrons          deny  by matrix/10-shared.csv:11" in said
    assert "  librarians       allow  by matrix/20-reading.csv:2" in said
    assert any(
        x.startswith("  patrons          allow, would deny")
        for x in _run("who_may_reach.py", sample, "patrons", "ssh").splitlines()
    )
    assert _run("without_files.py").splitlines() == [
        "untagged → shelves: none",
        "readers → shelves: icmp/echo-request, 443/tcp",
        "shelves → shelves: none",
        "the list of gate: 12 entries; refuted: None",
        "desks → hall: enforced, exact",
        "hall → desks: enforced, exact",
    ]
    told = "in its frame: the list says deny, the matrix allow"
    assert told in _run("lists_and_proof.py")
    assert "2 flows between segments and groups: 2 exact" in _run("from_objects.py")


def test_examples_in_docstrings() -> None:
    """They run, and give what they say: on one workspace, loaded once."""
    sample = oaktag.sample()
    loaded = oaktag.Workspace.load(sample)

    def load(path: Path, *arguments: Any, **named: Any) -> oaktag.Workspace:
        once = path == sample and not arguments and not named
        return loaded if once else oaktag.Workspace.load(path, *arguments, **named)

    names = {name: getattr(oaktag, name) for name in oaktag.__all__}
    names |= {
        "sample": lambda **how: oaktag.sample(**how) if how else sample,
        "Workspace": SimpleNamespace(load=load),
    }
    tried = 0
    parts = ("workspace", "of_people", "of_policy", "of_changes", "of_network")
    for module in (oaktag, *(importlib.import_module(f"oaktag.operations.{p}") for p in parts)):
        result = doctest.testmod(module, extraglobs={"oaktag": SimpleNamespace(**names)})
        assert result.failed == 0
        tried += result.attempted
    assert tried > 80


def test_a_large_workspace_is_one(tmp_path: Path) -> None:
    """What the generator writes reads, and every part of it is there; the same for one seed."""
    script = [sys.executable, str(ROOT / "benchmarks/generate.py"), "--scale", "0.002"]
    for name in ("a", "b"):
        subprocess.run([*script, "--out", str(tmp_path / name)], check=True, timeout=120)
    files = sorted(
        p.relative_to(tmp_path / "a") for p in (tmp_path / "a").rglob("*") if p.is_file()
    )
    assert all(
        (tmp_path / "a" / f).read_bytes() == (tmp_path / "b" / f).read_bytes() for f in files
    )
    workspace = oaktag.Workspace.load(tmp_path / "a")
    model = workspace.model
    assert len(model.files.endpoints) == 2000 and len(model.assignment.rules) == 501
    assert all(f["severity"] != "error" for f in workspace.check()["findings"])
    summary = workspace.reach()["summary"]
    assert sum(summary["effects"].values()) == sum(summary["results"].values()) > 10_000


def test_the_notebook_runs_and_its_answers_show_themselves() -> None:
    """In a real kernel; each answer as a table, the matrix with what each cell allows."""
    book = nbformat.read(EXAMPLES / "quillmere.ipynb", as_version=4)  # type: ignore[no-untyped-call]
    assert not any(cell.get("outputs") for cell in book.cells)
    NotebookClient(book, timeout=120, kernel_name="python3").execute()
    shown = [
        "".join(out["data"].get("text/html", "") for out in cell.outputs if "data" in out)
        for cell in book.cells
        if cell.cell_type == "code"
    ]
    assert len(shown) == 8 and all("<table" in html for html in shown[1:6])
    assert "OT203" in shown[0] and "not written" in shown[7]
    assert "title='kiosks → catalogue: any'" in shown[1] and "librarians → loans-db: " in shown[1]
    assert "assignments.yaml" in shown[3] and "no point on the path" in shown[5]
    assert "<script" not in "".join(shown[:6])


def test_a_repository_of_a_workspace_is_tested(shipped_mended: Path) -> None:
    said = _run("tests_of_a_workspace.py", shipped_mended)
    assert " failed" not in said and " passed" in said
    said = _run("tests_of_a_workspace.py")
    assert "IPv4 tcp from port 50000 to port" in said and " failed, " in said
