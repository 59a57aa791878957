"""What names, notes and values hold acts on nothing: no terminal, no table, no JSON."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from xml.etree import ElementTree

import pytest

from conftest import Ran
from oaktag.letters import shown, shown_json

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
    ["rename", "kiosks", "booths"], ["trace", "kiosks", "catalogue", "https"], ["groups", "--unlike"],
    ["expect", "--card"], ["bindings", "10.20.2.101", "--taken-by", "kiosks"], ["renumber", "kiosks"],
    ["members", "--when", "kind=device", "--save", "patrons"], ["pin", "ada", "bram", "--to", "kiosks"],
    ["report", "--out", "page.html"],
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


@pytest.mark.parametrize("odd", ["\r", "\x0b", "\x0c", "\x1c", "\x85", "\u2028", "\u2029"])
@pytest.mark.parametrize("name", ["groups.yaml", "matrix/10-shared.csv", "inventory/people.csv"])
def test_lines_end_in_one_way(name: str, odd: str, sample: Path, oaktag: Run) -> None:
    """What follows such a character in a comment or a note is a line of its own for some readers."""
    path = sample / name
    lines = path.read_bytes().split(b"\n")
    if name.endswith("yaml"):
        lines[1] = b"  # tags" + odd.encode() + b"  - {id: hidden, tag: 999}"
    else:
        lines[1] += odd.encode() + lines[2]
    path.write_bytes(b"\n".join(lines))
    ran = oaktag("-C", sample, "groups")
    assert ran.status == 2 and f"{name}:2:" in ran.err and f"U+{ord(odd):04X}" in ran.err, ran
    assert not ACTING.search(ran.err)
    path.write_bytes(path.read_bytes().replace(odd.encode(), b"").replace(b"\n", b"\r\n"))
    assert "U+" not in oaktag("-C", sample, "groups").err  # CRLF throughout is fine


def test_ids_and_keys_hold_letters_that_are_seen(sample: Path, oaktag: Run) -> None:
    for name, old, new in (
        ("inventory/people.csv", "\nada,", "\nad\u202ea,"),
        ("inventory/people.csv", "name,", "na\x07me,"),
        ("permissions.yaml", "  nothing:", '  "not\\u2067hing":'),
        ("groups.yaml", "title: Self", '"tit\\x1ble": Self'),
    ):
        path = sample / name
        text = path.read_text()
        assert old in text, (name, old)
        path.write_bytes(text.replace(old, new, 1).encode())
        ran = oaktag("-C", sample, "members")
        assert ran.status == 2 and name in ran.err and "U+" in ran.err, (name, new, ran)
        assert not ACTING.search(ran.err)
        path.write_bytes(text.encode())


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


#: What a table, a picture, a mention or an order to a CI system is made of.
NAMES = (
    "::error::",
    "##[x]",
    "a|b",
    "<img-src=x>",
    "![x](y)",
    "@team",
    "`tick`",
    "*bold*",
    "$x_{$",
    "_u_",
)


def test_markdown_tables_ci_logs_and_figures(sample: Path, oaktag: Run, tmp_path: Path) -> None:
    """Endpoints of such names, moved from one group to another."""
    people = sample / "inventory/people.csv"
    head, rest = people.read_text().split("\n", 1)
    width = head.count(",") - 2
    row = ",x,{}" + "," * width + "\n"
    people.write_text(head + "\n" + "".join(n + row.format("patron") for n in NAMES) + rest)
    shutil.copytree(sample, tmp_path / "before")
    people.write_text(head + "\n" + "".join(n + row.format("librarian") for n in NAMES) + rest)
    ran = oaktag("-C", sample, "compare", str(tmp_path / "before"), "--summary")
    table = [r for r in ran.out.splitlines() if r.startswith("| ")][1:]
    rows = [r for r in table if "untagged | librarians" in r]
    assert len(rows) == len(NAMES), ran.out
    for name in NAMES:
        escaped = name.replace("|", "\\|")
        fenced = f"`` {escaped} ``" if "`" in name else f"`{escaped}`"
        assert f"| {fenced} | untagged | librarians |" in rows, name
    for words in (
        ["members", "--all"],
        ["explain", "::error::"],
        ["compare", str(tmp_path / "before")],
    ):
        said = oaktag("-C", sample, *words).out
        assert "::error::" in said and not re.search(r"^\s*(::.*::|##\[)", said, re.MULTILINE), (
            words
        )
        assert "\\::error::" in said
    ran = oaktag("-C", sample, "decide", "::nobody::x", "catalogue", "ssh")
    assert ran.status == 2 and not ran.err.startswith("::")
    site = sample / "network.yaml"
    site.write_text(site.read_text().replace("site: central,", 'site: "$x_{$ <b>&",'))
    for name in ("n.svg", "n.png"):
        assert oaktag("-C", sample, "reach", "--figure", name).status in (0, 1)
    drawn = (sample / "n.svg").read_text()
    assert "<b>" not in drawn
    ElementTree.fromstring(drawn)


def test_reports_are_valid_xml_whatever_names_hold(sample: Path, oaktag: Run) -> None:
    odd = "x\ufffe\uffff\U0001f600]]>&<\x1b"
    text = (sample / "oaktag.yaml").read_text()
    name = json.dumps(odd).replace("\\ud83d\\ude00", "\U0001f600")
    (sample / "oaktag.yaml").write_text(
        re.sub("workspace: .*", lambda _: f"workspace: {name}", text)
    )
    assert oaktag("-C", sample, "expect", "--junit", "told.xml").status in (0, 1)
    told = ElementTree.fromstring((sample / "told.xml").read_bytes())
    assert told.attrib["name"] == "x\\ufffe\\uffff\U0001f600]]>&<\\x1b"


def test_streams_that_end_or_are_not_there(sample: Path) -> None:
    """A reader that has seen enough is no finding; a full disk, a closed stream and a narrow encoding
    are one sentence, or nothing at all."""
    program = f"{sys.executable} -m oaktag -C {sample}"

    def shell(line: str, **more: str) -> tuple[int, str]:
        done = subprocess.run(
            ["bash", "-c", f"set -o pipefail; {line}"], capture_output=True, text=True, check=False,
            env={**os.environ, **more},
        )  # fmt: skip
        return done.returncode, done.stderr

    for command in ("members --all", "attributes --json", "reach --json"):
        done, err = shell(f"{program} {command} | head -c 10")
        assert (done, err) == (0, ""), (command, err)
        done, err = shell(f"{program} {command} > /dev/full")
        assert done == 2 and err.count("\n") == 1 and "No space left" in err, (command, err)
        assert shell(f"{program} {command} >&-")[1] == ""
    assert shell(f"{program} decide nobody x y 2> /dev/full") == (2, "")
    assert shell(f"{program} decide nobody x y 2>&-") == (2, "")
    done, err = shell(f"{program} decide patrons loans-db ssh", PYTHONIOENCODING="ascii")
    assert (done, err) == (0, "")
    assert shell(f"{program} decide patrons loans-db ssh", LC_ALL="xx_YY.odd")[0] == 0
