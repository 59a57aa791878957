"""How things are written: services, YAML values, CSV cells, files on a crash, shell completion."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import oaktag as package
from conftest import Ran
from oaktag.core.groups import Group, Groups, GroupSet, Numbering, Selector, find_cycle
from oaktag.core.packets import ICMP_OF, PORTED, Atoms, Box, Packet
from oaktag.core.service_names import NAMED
from oaktag.core.service_text import set_text
from oaktag.core.services import parse_service
from oaktag.errors import UsageError
from oaktag.testing.strategies import SERVICES
from oaktag.workspace.folder import Folder
from oaktag.workspace.textfile import Problems, write_text
from oaktag.workspace.times import SECOND
from oaktag.workspace.yamlfile import YamlFile
from test_packets import within

Run = Callable[..., Ran]
PLAIN = [s for s in SERVICES if s not in ("own", "any")]


@given(chosen=st.lists(st.sampled_from(PLAIN), min_size=1, max_size=4, unique=True))
def test_a_set_of_packets_reads_back_as_itself(chosen: list[str]) -> None:
    """What people see of a set of services, parsed again, is the same set."""
    boxes = [b for s in chosen for b in parse_service(s)]
    atoms = Atoms(boxes)
    text = set_text(atoms, atoms.mask(boxes))
    again: list[Box] = []
    for word in text.split(", "):
        word, _, family = word.partition(" on IPv")
        head, _, tail = word.rpartition("/") if word.count("/") else (word, "", "")
        parts = head.split(",") if tail in ("tcp", "udp", "sctp") else [word]
        for part in parts:
            form = f"{part}/{tail}" if len(parts) > 1 or tail in ("tcp", "udp", "sctp") else part
            found = _spoken(form)
            again += [b._replace(family=int(family)) for b in found] if family else found
    both = Atoms([*boxes, *again])
    assert both.mask(again) == both.mask(boxes), text


def _spoken(form: str) -> list[Box]:
    if form.startswith("any/"):
        return list(parse_service(f"0-65535/{form[4:]}"))
    if form.startswith("proto/"):
        boxes: list[Box] = []
        for part in form[6:].split(","):
            low, _, high = part.partition("-")
            boxes.append(Box(protocols=(int(low), int(high or low))))
        return boxes
    if form in ("icmp4", "icmp6"):
        family = int(form[-1])
        return [Box(family, (ICMP_OF[family],) * 2)]
    return list(parse_service(form))


@given(data=st.data(), chosen=st.lists(st.sampled_from(PLAIN), max_size=4, unique=True))
def test_atoms_tell_apart_just_what_boxes_do(data: st.DataObject, chosen: list[str]) -> None:
    """Every packet is in one atom; a set holds a packet if and only if one of its boxes does."""
    boxes = [b for s in chosen for b in parse_service(s)]
    atoms = Atoms(boxes)
    kept = data.draw(st.lists(st.sampled_from(boxes), unique=True)) if boxes else []
    mask = atoms.mask(kept)
    family = data.draw(st.sampled_from((4, 6)))
    protocol = data.draw(st.sampled_from((0, 1, 6, 17, 47, 58, 132, 255)))
    top = 65535 if protocol in PORTED else 255 if ICMP_OF[family] == protocol else 0
    ends = st.sampled_from(
        [n for n in (0, 3, 4, 8, 53, 80, 85, 443, 1024, 5010, 65535) if n <= top]
    )
    packet = Packet(family, protocol, data.draw(ends), data.draw(ends))
    assert bool(mask >> atoms.atom(packet) & 1) == any(b.holds(packet) for b in kept)
    inside = [r for r in atoms.regions(mask) if within(r, packet)]
    assert len(inside) == (1 if mask >> atoms.atom(packet) & 1 else 0)
    if mask:
        shown = atoms.packet(mask)
        assert mask >> atoms.atom(shown) & 1
    assert packet.exchanged().exchanged() == packet


@pytest.mark.parametrize(
    "text",
    ["", "80", "80/icmp", "http/tcp/x", "90-80/tcp", "65536/tcp", "icmp/ping", "icmp4", "icmp4/256",
     "icmp6/1/2/3", "proto/256", "proto/tcp", "icmp/8", "nothing", "80,443", "80,/tcp", "-1/tcp", "ntp/icmp"],
)  # fmt: skip
def test_what_is_no_service(text: str) -> None:
    with pytest.raises(UsageError):
        parse_service(text)


def test_the_last_numbers_are_services() -> None:
    assert parse_service("proto/255") == (Box(protocols=(255, 255)),)
    assert parse_service("icmp4/255/255") == (Box(4, (1, 1), (255, 255), (255, 255)),)
    assert parse_service("0-65535/tcp") == (Box(protocols=(6, 6)),)


#: RFC 792, RFC 1256, RFC 4443, RFC 4861: each type by its number in IPv4 and IPv6.
ICMP_NUMBERS = """
echo-reply 0 129 | destination-unreachable 3 1 | source-quench 4 - | redirect 5 137 | echo-request 8 128
router-advertisement 9 134 | router-solicitation 10 133 | time-exceeded 11 3 | parameter-problem 12 4
timestamp-request 13 - | timestamp-reply 14 - | packet-too-big - 2 | neighbor-solicitation - 135
neighbor-advertisement - 136
"""


def test_icmp_types_have_the_numbers_of_the_standards() -> None:
    rows = [row.split() for row in ICMP_NUMBERS.replace("\n", "|").split("|") if row.strip()]
    for name, four, six in rows:
        said = {(b.family, b.protocols[0], *b.sources) for b in parse_service(f"icmp/{name}")}
        numbers = {(4, 1): four, (6, 58): six}
        assert said == {(f, p, int(n), int(n)) for (f, p), n in numbers.items() if n != "-"}, name
    assert len(rows) == 14


def test_named_services() -> None:
    """Every name of the table reads; a name before a slash gives its ports for that protocol."""
    for name, forms in NAMED.items():
        assert parse_service(name) == tuple(b for f in forms for b in parse_service(f))
    assert parse_service("domain/sctp") == (Box(0, (132, 132), (0, 65535), (53, 53)),)
    assert [b.protocols for b in parse_service("domain")] == [(6, 6), (17, 17)]


VALUES = "a: no\nb: 0012\nc: 11:22:33:44:55:66\nd: 12:30\ne: off\nf: 1_000\ng: ~\nh: 'x'\ni: 2026-11-25\n"


def test_yaml_values_stay_what_was_written(tmp_path: Path) -> None:
    """Nothing is guessed: text where text is meant, and complaints that name the place."""
    (tmp_path / "x.yaml").write_text(VALUES)
    problems = Problems()
    file = YamlFile(Folder(tmp_path), "x.yaml", problems)
    assert file.root is not None
    found = {key: file.text(value, key) for key, _, value in file.pairs(file.root, "x")}
    assert found == {
        "a": "no", "b": "0012", "c": "11:22:33:44:55:66", "d": "12:30", "e": "off", "f": "1_000",
        "g": None, "h": "x", "i": "2026-11-25",
    }  # fmt: skip
    assert [str(p) for p in problems.all] == ["x.yaml:7:4: g is nothing (text)"]
    nodes = {key: value for key, _, value in file.pairs(file.root, "x")}
    before = len(problems.all)
    assert (
        file.number(nodes["b"], "b", 0, 99) is None
        and file.number(nodes["f"], "f", 0, 9999) is None
    )
    assert file.flag(nodes["a"], "a", default=True) is True
    assert (
        file.day(nodes["i"], "i") == 739945 and file.instant(nodes["i"], "i") == 1795564800 * SECOND
    )
    assert (
        file.day(nodes["d"], "d") is None and file.choice(nodes["e"], "e", ("on", "off")) == "off"
    )
    assert [p.location.line for p in problems.all[before:]] == [2, 6, 1, 4]


@given(
    tags=st.lists(st.integers(1, 12), unique=True, max_size=6), unnumbered=st.integers(0, 5),
    low=st.integers(1, 8), high=st.integers(4, 12), retired=st.sets(st.integers(1, 12), max_size=3),
    issued_to=st.integers(0, 12),
)  # fmt: skip
def test_no_number_is_given_twice(
    tags: list[int], unnumbered: int, low: int, high: int, retired: set[int], issued_to: int
) -> None:
    """The next above the highest that was ever issued; only then the lowest that is free."""
    issued_to = issued_to if low <= issued_to <= high else 0
    numbering = Numbering(low, high, frozenset(retired), issued_to)
    listed = [Group(f"g{n}", t) for n, t in enumerate(tags)]
    listed += [Group(f"u{n}", None) for n in range(unnumbered)]
    groups = Groups(listed, (), numbering)
    ever = {n for n in (issued_to, *tags, *(() if issued_to else retired)) if low <= n <= high}
    expected: list[int] = []
    for _ in range(unnumbered):
        free = [n for n in range(low, high + 1) if n not in {*tags, *retired, *expected}]
        above = [n for n in free if n > max(ever, default=0)]
        expected += (above or free)[:1]
    issued = [groups.tag(1 + len(tags) + n) for n in range(unnumbered)]
    assert issued == expected + [-1] * (unnumbered - len(expected))
    assert groups.name(0) == "untagged" and groups.name(60_000) == "60000"


def test_sets_and_circles() -> None:
    """Sets of sets, selectors, ``untagged`` only by name; every circle is found once."""
    groups = Groups(
        [Group("a", 1, traits={"t": ("x",)}), Group("b", 2, traits={"t": ("y", "z")}), Group("c", 3)],
        [
            GroupSet("first", ("a", "second")), GroupSet("second", (Selector({"t": ("z",)}),)),
            GroupSet("all", (Selector({"t": ("x", "y")}), "untagged")), GroupSet("none", ()),
        ],
    )  # fmt: skip
    assert [groups.members(w) for w in ("first", "second", "all", "none", "*", "untagged", "c")] == [
        (1, 2), (2,), (0, 1, 2), (), (0, 1, 2, 3), (0,), (3,),
    ]  # fmt: skip
    rings = [
        GroupSet("a", ("b",)),
        GroupSet("b", ("c", "a")),
        GroupSet("c", ("c",)),
        GroupSet("d", ("a",)),
    ]
    assert sorted(find_cycle(rings)) == [("a", "b", "a"), ("c", "c")]


def test_a_crash_leaves_the_old_file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "groups.yaml"
    write_text(path, "old\n")
    path.chmod(0o640)

    def broken(*_: object) -> None:
        raise OSError("no space left")

    monkeypatch.setattr(Path, "replace", broken)
    with pytest.raises(OSError, match="no space"):
        write_text(path, "new\n")
    monkeypatch.undo()
    assert path.read_text() == "old\n" and [p.name for p in tmp_path.iterdir()] == ["groups.yaml"]
    write_text(path, "new\n")
    assert path.read_text() == "new\n" and path.stat().st_mode & 0o777 == 0o640


def test_the_shell_completes_groups_and_endpoints(sample: Path) -> None:
    def complete(words: str) -> list[str]:
        number = len(words.split()) - (0 if words.endswith(" ") else 1)
        done = subprocess.run(
            [sys.executable, "-c", "from oaktag.cli import main; main()"], cwd=sample,
            capture_output=True, text=True, check=False,
            env={**os.environ, "_OAKTAG_COMPLETE": "bash_complete", "COMP_WORDS": words,
                 "COMP_CWORD": str(number)},
        )  # fmt: skip
        return [line.partition(",")[2] for line in done.stdout.splitlines()]

    assert complete("oaktag members ki") == ["kiosks"]
    assert complete("oaktag decide ad") == ["ada"]
    assert complete("oaktag bindings --at hall") == ["hall-edge"]
    assert "explain" in complete("oaktag ex")


def test_a_traceback_is_shown_only_when_asked_for(
    oaktag: Run, sample: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(*_: object, **__: object) -> None:
        raise ZeroDivisionError("a fault of ours")

    monkeypatch.setattr("oaktag.operations.workspace.Workspace.check", broken)
    ran = oaktag("-C", sample, "check")
    assert ran.status == 2 and "this should not happen: ZeroDivisionError" in ran.err
    assert "--debug" in ran.err and "Traceback" not in ran.err
    traced = oaktag("--debug", "-C", sample, "check")
    assert traced.status == 2 and "Traceback" in traced.err and "ZeroDivisionError" in traced.err
    wrong = oaktag("--debug", "-C", sample, "explain", "nobody-at-all")
    assert wrong.status == 2 and "Traceback" in wrong.err, "the same exit status as without"


def test_the_error_names_every_fault_as_an_attribute(sample: Path) -> None:
    (sample / "groups.yaml").write_text("groups:\n  - {id: a, tag: 0}\n  - {id: a, tagg: 1}\n")
    with pytest.raises(package.WorkspaceError) as caught:
        package.Workspace.load(sample)
    mine = [p for p in caught.value.problems if p.location.file == "groups.yaml"]
    assert [(p.location.line, p.location.column, p.kind) for p in mine] == [
        (2, 18, "form"), (3, 10, "clash"), (3, 13, "form"),
    ]  # fmt: skip
    assert caught.value.problems == tuple(
        sorted(caught.value.problems, key=lambda p: (p.location, p.message))
    )
