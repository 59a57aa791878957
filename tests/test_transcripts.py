"""What the commands say on the samples, to the last character: a text file for each sample holds the
commands and what came of them, as they stand one after the other at a prompt.

``OAKTAG_TRANSCRIPTS=write pytest tests/test_transcripts.py`` writes the files anew; read what changed.
"""

from __future__ import annotations

import hashlib
import os
import shlex
import shutil
from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest

from conftest import Ran
from oaktag.demo.sample import write_sample
from test_commands import _schema

Run = Callable[..., Ran]

FOLDER = Path(__file__).parent / "transcripts"
PROMPT = "$ oaktag "
TODAY = "2026-12-01"
MADE: dict[str, Callable[[Path], object]] = {
    "sample": write_sample,
    "mended": lambda folder: write_sample(folder, mended=True),
}


@pytest.mark.parametrize("name", MADE)
def test_what_is_said_is_what_was_said(name: str, oaktag: Run, tmp_path: Path) -> None:
    """Text, complaints and exit status; of one answer of each form the sum of its JSON's bytes, which
    its schema knows."""
    folder, path = tmp_path / "quillmere", FOLDER / f"{name}.txt"
    MADE[name](folder)
    MADE["sample"](tmp_path / "other") if name == "mended" else None
    shutil.copytree(folder, tmp_path / "before")
    held = path.read_text(encoding="utf-8")
    commands = [line for line in held.splitlines() if line.startswith(PROMPT)]
    forms: set[str] = set()
    said = "".join(f"{line}\n{_said(oaktag, folder, line, forms)}\n" for line in commands)
    if os.environ.get("OAKTAG_TRANSCRIPTS") == "write":
        path.write_text(said, encoding="utf-8")
    assert [p for p in _parts(said) if p not in _parts(held)] == [], f"{path} says otherwise"
    assert said == held


def _parts(text: str) -> list[str]:
    """Each command with what came of it."""
    return text.split(f"\n{PROMPT}")


def _said(oaktag: Run, folder: Path, line: str, forms: set[str]) -> str:
    words = ["--today", TODAY, "-C", str(folder), *shlex.split(line.removeprefix(PROMPT))]
    ran = oaktag(*words)
    rows = [told for told in ran.out.splitlines() if not told.startswith("→")]
    quotes = {"find", "--summary"} & set(words)  # which show lines of files, or are Markdown
    assert quotes or all(len(told) <= 100 for told in rows), ran.out
    # What goes on is told after a second, and only to who waits for it.
    errors = [told for told in ran.err.splitlines() if not told.endswith(" …")]
    parts = [*ran.out.splitlines(), *(f"! {told}" for told in errors)]
    if ran.status:
        parts.append(f"[exit status {ran.status}]")
    form = " ".join(w for n, w in enumerate(words) if n == 4 or w.startswith("--"))
    if ran.status < 2 and form not in forms and not {"--write", "--summary", "help"} & set(words):
        forms.add(form)
        document = oaktag(*words, "--json")
        assert document.status == ran.status, line
        jsonschema.validate(document.json, _schema(document.json["command"].replace(" ", "-")))
        text = document.out.replace(str(folder.parent), "PLACE")
        parts.append(f"[json {hashlib.sha256(text.encode()).hexdigest()[:16]}]")
    return "".join(f"{told.replace(str(folder.parent), 'PLACE').rstrip()}\n" for told in parts)
