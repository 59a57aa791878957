"""The README's first quarter of an hour does what it says; its pictures are there."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parent.parent
README = (ROOT / "README.md").read_text(encoding="utf-8")


def _blocks(kind: str) -> str:
    part = README.split("## A first quarter of an hour")[1].split("\n## ")[0]
    return "\n".join(re.findall(rf"```{kind}\n(.*?)```", part, re.DOTALL))


def _run(script: str, folder: Path) -> str:
    path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    done = subprocess.run(
        ["bash", "-euo", "pipefail", "-c", script], cwd=folder, capture_output=True, text=True,
        env={**os.environ, "PATH": path}, check=False,
    )  # fmt: skip
    assert done.returncode == 0, (done.stdout[-1500:], done.stderr)
    return done.stdout


def test_the_first_quarter_of_an_hour(tmp_path: Path, real_kernel: None) -> None:
    said = _run(_blocks("sh"), tmp_path)
    for told in (
        "+  - {id: scales, tag: issued 2000}", "no source gives the attribute 'hostname'", "nothing found",
        "FAILS", "gate does not know the", "2 of 2 hold", "equal, for all packets",
    ):  # fmt: skip
        assert told in said, told
    assert said.index("FAILS") < said.index("2 of 2 hold")
    probes = _run(_blocks("sh lab"), tmp_path / "mill")
    assert "counters agree" in probes
    assert (
        re.search(r"probes: \d+ as meant, \d passes though denied", probes)
        and "1 probe: 1 as meant" in probes
    )


def test_everything_linked_is_there() -> None:
    for page in (ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))):
        for link in re.findall(r"\]\(([^)#:]+)\)", page.read_text(encoding="utf-8")):
            assert (page.parent / link).exists(), (page.name, link)
    pictures = {p.name for p in (ROOT / "docs/screenshots").glob("*.png")}
    assert pictures and all(name in README for name in pictures)
