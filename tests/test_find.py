"""Where something occurs: held against a plain reading of the files, token by token."""

from __future__ import annotations

import ipaddress
import json
import re
from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest

import oaktag as package
from conftest import Ran

Run = Callable[..., Ran]
SCHEMA = Path(package.__file__).parent / "schemas/find.json"


def _lines(folder: Path) -> list[tuple[str, int, str]]:
    """All lines of all files that a workspace is read from."""
    names = [
        p for p in sorted(folder.rglob("*")) if p.is_file() and p.suffix in (".yaml", ".csv", ".ldif")
        and p.parent.name not in (".oaktag", "observed", "lists")
    ]  # fmt: skip
    return [
        (path.relative_to(folder).as_posix(), number, line)
        for path in names
        for number, line in enumerate(path.read_text().splitlines(), 1)
    ]


def _networks(line: str) -> list[ipaddress.IPv4Network | ipaddress.IPv6Network]:
    found = []
    for word in re.split(r"[\s,;\[\]{}\"'|]+", line):
        try:
            if "." in word or ":" in word:
                found.append(ipaddress.ip_network(word.rstrip(":"), strict=False))
        except ValueError:
            pass
    return found


@pytest.mark.parametrize(
    "asked",
    [
        "10.20.2.41",
        "10.20.2.0/26",
        "10.20.0.0/16",
        "2001:db8:20:2::41",
        "2001:db8::/32",
        "0.0.0.0/0",
    ],
)
def test_addresses_are_found_where_one_holds_them_or_is_inside(asked: str, sample: Path) -> None:
    mine = ipaddress.ip_network(asked)
    found = package.Workspace.load(sample).find(asked)
    meant = {
        (file, number)
        for file, number, line in _lines(sample)
        for other in _networks(line)
        if other.version == mine.version and other.overlaps(mine)
    }
    told = {(p["file"], p["line"]) for p in found.places}
    assert told == meant and meant
    held = package.Workspace.load(sample).bindings().bindings
    assert [b["prefix"] for b in found.bindings] == [
        b["prefix"]
        for b in held
        if ipaddress.ip_network(b["prefix"]).version == mine.version
        and ipaddress.ip_network(b["prefix"]).overlaps(mine)
    ]


@pytest.mark.parametrize(
    "asked", ["kiosks", "ADA", "network desk", "isolation:", "a.b", "(", "[10"]
)
def test_text_is_found_as_it_stands_whatever_the_case(asked: str, sample: Path) -> None:
    found = package.Workspace.load(sample).find(asked)
    meant = {(f, n) for f, n, line in _lines(sample) if asked.lower() in line.lower()}
    assert {(p["file"], p["line"]) for p in found.places} == meant
    lines = {(f, n): line for f, n, line in _lines(sample)}
    for place in found.places:
        line = lines[place["file"], place["line"]]
        assert place["text"] == line.strip()[:160]
        assert line[place["column"] - 1 :].lower().startswith(asked.lower()), place


def test_a_service_is_found_in_ranges_in_the_lines_that_use_it_and_in_lists(
    sample: Path, oaktag: Run
) -> None:
    assert oaktag("-C", sample, "compile").status == 0
    workspace = package.Workspace.load(sample)
    found = oaktag("-C", sample, "find", "8444/tcp", "--json").json
    whys = {(p["file"], p["why"]) for p in found["places"]}
    assert ("permissions.yaml", "some of the packets") in whys
    uses = [p for p in found["places"] if p["why"] == "uses use-loans"]
    lines = (sample / "matrix/20-reading.csv").read_text().splitlines()
    assert [p["line"] for p in uses] == [
        n for n, line in enumerate(lines, 1) if ",use-loans," in line
    ]
    for row in found["lists"]:
        text = Path(row["file"]).read_text().splitlines()
        assert row["text"] == text[row["line"] - 1].strip()[:160] and "8443-8444" in row["text"]
        assert row["lines"] == sum("8443-8444" in line for line in text) > 0
    # Nothing names this port; what speaks of any packet speaks of it too.
    everything = {
        (f, n) for f, n, line in _lines(sample) if re.search(r"(allow|deny|pass): any\b", line)
    }
    told = workspace.find("9999/tcp").places
    assert {(p["file"], p["line"]) for p in told if p["why"] == "all packets"} == everything
    named = {
        m[1]
        for m in re.finditer(
            r"^  ([a-z-]+):\n    - \w+: any\b", (sample / "permissions.yaml").read_text(), re.M
        )
    }
    assert {p["why"] for p in told} == {
        "all packets",
        *(f"uses {name}" for name in named),
    } and named
    assert {p["why"] for p in workspace.find("22").places} >= {"some of the packets"}


def test_a_tag_is_found_by_its_group_in_any_writing(sample: Path, oaktag: Run) -> None:
    workspace = package.Workspace.load(sample)
    by_name = workspace.find("kiosks")
    exact = [p for p in by_name.places if p["why"] == "as it is"]
    for asked in ("340", "0x154", "0X154"):
        found = workspace.find(asked)
        assert found.taken_for[0] == "the tag of kiosks"
        assert [b["prefix"] for b in found.bindings] == [b["prefix"] for b in by_name.bindings]
        places = {(p["file"], p["line"]) for p in found.places}
        assert places >= {(p["file"], p["line"]) for p in exact}
    assert len(by_name.bindings) == len(workspace.find("340").bindings) > 5
    ran = oaktag("-C", sample, "find", "kiosks")
    assert ran.status == 0 and ran.out.startswith("kiosks (a group")
    assert oaktag("-C", sample, "find", " ").status == 2


def test_what_is_nowhere_is_an_answer_and_no_name_does_harm(sample: Path, oaktag: Run) -> None:
    for odd in ("nobody-has-this", "\x1b[31m", "1" * 400, "0x", "::/0/0", "99999", "a" * 5000):
        ran = oaktag("-C", sample, "find", odd)
        assert ran.status == 0 and "no file" in ran.out and "\x1b" not in ran.out, odd
    for asked in ("zzz", "340", "10.20.2.0/24", "8444/tcp"):
        said = oaktag("-C", sample, "find", asked, "--json").json
        jsonschema.validate(said, json.loads(SCHEMA.read_text()))
        assert bool(said["places"]) is (asked != "zzz")
