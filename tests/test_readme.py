"""The README's first quarter of an hour does what it says; its pictures are there."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

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


@pytest.mark.usefixtures("real_kernel")
def test_the_afternoon_in_the_lab(shipped_mended: Path) -> None:
    """The commands of docs/lab.md, one after the other, and what they say."""
    page = (ROOT / "docs/lab.md").read_text(encoding="utf-8")
    parts = re.split(r"^## ", page, flags=re.MULTILINE)
    said = {}
    for part in parts:
        script = "\n".join(re.findall(r"```sh\n(.*?)```", part, re.DOTALL))
        if script:
            said[part.split("\n")[0]] = " ".join(_run(script, shipped_mended).split())
    assert len(said) == 10
    for title, told in {
        "Before anything: the baseline": "that a list will deny",
        "The policy, watched first": "would-deny: patrons (320) 02:00:5e:20:00:01 → loans-db (520)",
        "Enforce": "as meant then: ",
        "A cloned server": "no rule changed, 2 ranges of addresses bound otherwise",
        "A lost feed": "hall-edge knows otherwise: 26 bindings gone",
        "Somebody logs in": "accepted as librarians accounting acknowledged its tag is known at "
        "central-access (310), ",
        "A link that strips tags": "blocked though allowed",
        "One-way traffic": "2 probes: 2 the answer is lost",
        "What the nodes say, and the end": "written: ",
        "A part of a large network": "a part of the network: hall-edge",
    }.items():
        part = next(text for name, text in said.items() if name.startswith(title))
        assert told in part, (title, part)
