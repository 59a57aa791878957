"""What names, notes and values hold acts on nothing: no terminal, no table, no JSON."""

from __future__ import annotations

import json
import re
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Ran
from oaktag.cli.shown import shown, shown_json

Run = Callable[..., Ran]
#: Colours and the bell, a turn of direction, line ends of other kinds, a lone half of a character.
EVIL = "\x1b[31mred\x07 \u202eevil\u2066 \x9b2J \u200f"
ACTING = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ufeff]"
)
COMMANDS = (
    ["check"], ["review"], ["members", "--all"], ["groups"], ["bindings"], ["matrix"], ["reach"],
    ["reach", "--flows"], ["describe", "kiosks"], ["explain", "kiosks"], ["cell", "kiosks", "catalogue"],
    ["callers", "catalogue"], ["attributes"], ["attributes", "model"], ["expect"], ["verify"],
    ["compare", "../before/"], ["decide", "kiosks", "catalogue", "https"],
    ["rename", "kiosks", "booths", "--dry-run"], ["trace", "kiosks", "catalogue", "https"],
)  # fmt: skip


@pytest.fixture
def hostile(sample: Path, tmp_path: Path) -> Path:
    """The sample with such text wherever text may stand."""
    shutil.copytree(sample, tmp_path / "before")
    quoted = json.dumps(EVIL)
    for name, old, new in (
        ("groups.yaml", "title: Self-check kiosks", f"title: {quoted}"),
        ("groups.yaml", "owner: reading services}", f"owner: {quoted}}}"),
        ("matrix/10-shared.csv", "until the new kiosks are in", f'"{EVIL}"'),
        ("matrix/10-shared.csv", ",network desk,", f',"{EVIL}",'),
        ("network.yaml", "site: central,", f"site: {quoted},"),
    ):
        path = sample / name
        text = path.read_text()
        assert old in text, (name, old)
        path.write_bytes(text.replace(old, new).encode())
    for path in (sample / "inventory").glob("*.csv"):
        head, *rows = path.read_text().splitlines()
        rows = [f"{row},{EVIL}" for row in rows]
        path.write_bytes("\n".join([f"{head},remark", *rows]).encode() + b"\n")
    return sample


def test_nothing_acts(hostile: Path, oaktag: Run) -> None:
    escaped = 0
    for words in COMMANDS:
        ran = oaktag("-C", hostile, *words)
        assert ran.status in (0, 1), (words, ran)
        assert not ACTING.search(ran.out + ran.err), (words, ACTING.findall(ran.out + ran.err))
        escaped += "\\x1b[31mred" in ran.out
        document = oaktag("-C", hostile, *words, "--json")
        assert not ACTING.search(document.out), words
        if EVIL in json.dumps(document.json, ensure_ascii=False):
            raise AssertionError("JSON has escapes for controls of its own")
        escaped += EVIL in _texts(document.json)
    assert escaped > 4


def _texts(value: object) -> list[str]:
    if isinstance(value, dict):
        return [t for v in value.values() for t in _texts(v)]
    if isinstance(value, list):
        return [t for v in value for t in _texts(v)]
    return [value] if isinstance(value, str) else []


def test_errors_show_it_escaped(sample: Path, oaktag: Run) -> None:
    path = sample / "groups.yaml"
    path.write_text(path.read_text().replace("id: kiosks", f"id: {json.dumps(EVIL)}"))
    ran = oaktag("-C", sample, "check")
    assert ran.status in (1, 2) and "\\x1b[31mred" in ran.out + ran.err
    assert not ACTING.search(ran.out + ran.err)


def test_what_is_shown_reads_back() -> None:
    every = "".join(map(chr, [*range(0x250), *range(0x2000, 0x2070), 0xFEFF, 0xD800, 0x1F600]))
    said = shown(every)
    assert not ACTING.search(said) and said.encode()
    assert shown("a\tb\nc\r\nd") == "a\tb\nc\r\nd" and shown("a\rb") == "a\\x0db"
    text = shown_json(json.dumps(every, ensure_ascii=False))
    assert json.loads(text) == every and text.encode() and not ACTING.search(text)
