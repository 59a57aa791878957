"""Each file broken in each likely way: one clear message that names the place; never a traceback."""

from __future__ import annotations

import random
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import oaktag as package
from conftest import Ran, first_part

Run = Callable[..., Ran]
YAML = ("oaktag.yaml", "groups.yaml", "assignments.yaml", "permissions.yaml", "network.yaml",
        "expectations.yaml")  # fmt: skip
CSV = ("matrix/10-shared.csv", "matrix/20-reading.csv", "inventory/servers.csv",
       "inventory/people.csv", "inventory/devices.csv")  # fmt: skip

#: file, text, what stands there instead, place, what must be said.
BREAKS = [
    ("oaktag.yaml", "default: deny", "defualt: deny", "5:1", "has no key 'defualt'"),
    ("oaktag.yaml", "default: deny", "default: maybe", "5:10", "one of allow, deny"),
    ("oaktag.yaml", "issue: 2000-2999", "issue: 2999-2000", "4:15", "a range within 1-65535"),
    ("oaktag.yaml", "kind: server", "kind: sever", "9:41", "one of user, device"),
    ("oaktag.yaml", "address: desk", "address: dest", "10:5", "no column 'dest'"),
    ("oaktag.yaml", "service: ssh", "service: shh", "13:54", "no service known"),
    ("oaktag.yaml", "matrix/10-shared.csv", "../10-shared.csv", "7:10", "not a file of the workspace"),
    ("groups.yaml", "tag: 320", "tag: 310", "4:5", "librarians is in line 3"),
    ("groups.yaml", "tag: 320", "tag: 2010", "4:24", "or tag: issued 2010"),
    ("groups.yaml", "issued 2001", "issued 2000", "9:30", "2000, is retired"),
    ("groups.yaml", "tag: 320", "tag: 70000", "4:24", "1 to 65535"),
    ("groups.yaml", "  # what", "  - {id: librarians, tag: 9}\n  # what", "6:10", "is there twice"),
    ("groups.yaml", "  # what", "  - {id: points}\n  # what", "6:10", "a word of Oak Tag's own"),
    ("groups.yaml", "  # what", "  - {id: Makers}\n  # what", "6:10", "lower-case"),
    ("groups.yaml", "[librarians, kiosks]", "[librarians, kiosk]", "16:29", "perhaps kiosks"),
    ("groups.yaml", "[librarians, kiosks]", "[hall, front-desks]", "16:23", "in a circle"),
    ("assignments.yaml", "endpoint: ivo", "endpoint: iwo", "2:16", "perhaps ivo"),
    ("assignments.yaml", "until: 2027-06-30", "until: June", "2:86", "as in 2027-01-31"),
    ("assignments.yaml", '{">=": 4, "<": 9}', '{">>": 4}', "16:62", "has no key '>>'"),
    ("assignments.yaml", "10.20.0.0/16", "10.20.0.1/16", "19:63", "has host bits set"),
    ("assignments.yaml", "give: patrons", "give: patron", "22:11", "perhaps patrons"),
    ("permissions.yaml", "allow: https", "allow: [80,443/tcp]", "13:17", "quotes about them"),
    ("permissions.yaml", "allow: https", "allow: https\n        log: warn", "14:14", "one of emergency"),
    ("permissions.yaml", "- allow: postgresql", "- allow: any", "38:14", "no sender's port"),
    ("permissions.yaml", "  pictures:", "  https: 8443/tcp\n  pictures:", "3:3", "already"),
    ("permissions.yaml", "otherwise: deny", "otherwise: perhaps", "14:16", "one of allow, deny, pass"),
    ("matrix/10-shared.csv", "front-desks,catalogue", "front-desk,catalogue", "5:1", "perhaps front-desks"),
    ("matrix/10-shared.csv", "catalogue,all", "catalogue,al", "5:23", "perhaps all"),
    ("matrix/10-shared.csv", "catalogue,all,enforce", "catalogue,all,enforced", "5:27", "one of enforce"),
    ("matrix/10-shared.csv", "catalogue,all,enforce,to,,network desk,", "catalogue,all", "5", "3 cells, the header 8"),
    ("matrix/10-shared.csv", "source,destination", "source,destinatoin", "1", "perhaps destination"),
    ("matrix/20-reading.csv", "2027-12-31", "2027-12-32", "16:40", "as in 2027-01-31"),
    ("network.yaml", "node: hall-edge\n", "node: hall-edge\n    colour: red\n", "7:5", "has no key 'colour'"),
    ("network.yaml", "cost: 5", "cost: 0", "34:48", "a number from 1"),
    ("network.yaml", "node: ashgrove-access, prefixes: [10.20.12", "node: ashgrove, prefixes: [10.20.12", "28:38", "perhaps ashgrove-access"),
    ("network.yaml", "10.20.12.0/24", "10.20.11.0/24", "28:5", "each prefix on one segment"),
    ("network.yaml", "stateful: true", "stateful: perhaps", "14:17", "one of true, false"),
    ("network.yaml", "cost: 5}", "can: {cary: 3}}", "34:48", "no key 'cary'"),
    ("expectations.yaml", "allowed: none", "allowed: nothing", "1:42", "no service known"),
    ("expectations.yaml", "from: patrons", "from: patron", "1:10", "perhaps patrons"),
    ("expectations.yaml", "is: allowed, path", "is: alowed, path", "8:61", "one of allowed, denied"),
    ("inventory/servers.csv", "10.20.200.24", "10.20.200.240.1", "7:9", "no address or prefix"),
    ("inventory/servers.csv", "names-1,", "catalogue-1,", "4:1", "first in line 2"),
    ("inventory/devices.csv", "10.20.2.33,reserved", "10.20.2.33,forever", "4:63", "one of fixed, reserved"),
    ("inventory/people.csv", "Ada Fenn,", '"Ada Fenn,', "2", "not CSV"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "old", "new", "place", "told"), BREAKS)
def test_one_break_one_message(
    oaktag: Run, sample: Path, name: str, old: str, new: str, place: str, told: str
) -> None:
    path = sample / name
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new, 1))
    ran = oaktag("-C", sample, "groups")
    assert (ran.status, ran.out) == (2, ""), ran
    first, *rest = ran.err.splitlines()
    assert first.startswith(f"{name}:{place}: ") and told in first, ran.err
    assert rest == ["1 fault in the files"], ran.err


@pytest.mark.parametrize("name", [*YAML, *CSV])
def test_what_can_happen_to_any_file(oaktag: Run, sample: Path, name: str) -> None:
    path = sample / name
    good = path.read_bytes()
    cases = {
        b"": "the file is empty",
        good[:5] + b"\0" + good[5:]: ":1:6: there is a NUL byte here",
        good + b"# \xff\n": "0xff is not UTF-8",
    }
    if name in YAML:
        cases[good + b"\n: [\n"] = "this is not YAML"
        cases[b"- {a: 1, a: 2}\n"] = (
            "expectation" if name == "expectations.yaml" else "a mapping with"
        )
        cases[good.replace(b": ", b": &x ", 1) + b"\nz: *x\n"] = f"{name}:"
    else:
        cases[b"\n"] = "the header is missing"
        cases[good.split(b"\n")[0] + b"," + good.split(b",")[0] + b"\n"] = "stands twice"
    for data, told in cases.items():
        path.write_bytes(data)
        ran = oaktag("-C", sample, "check")
        assert ran.status == 2 and told in ran.err and "Traceback" not in ran.err, (data[:60], ran)
    path.write_bytes(b"\xef\xbb\xbf" + good)
    assert oaktag("-C", sample, "check").status == 0
    path.unlink()
    ran = oaktag("-C", sample, "check")
    optional = name in ("assignments.yaml", "network.yaml", "expectations.yaml")
    assert ran.status == (0 if optional else 2) and (
        "no such file" in ran.err or optional or "no oaktag.yaml" in ran.err
    )


def test_all_faults_of_a_run_are_said_together(oaktag: Run, sample: Path) -> None:
    for name, old, new, *_ in BREAKS[1:2] + BREAKS[8:9] + BREAKS[16:17] + BREAKS[26:27]:
        path = sample / name
        path.write_text(path.read_text().replace(old, new, 1))
    ran = oaktag("-C", sample, "decide", "patrons", "loans-db", "ssh", "--json")
    assert ran.status == 2
    assert [(e["file"], e["line"]) for e in ran.json["errors"]] == [
        ("assignments.yaml", 2), ("groups.yaml", 4), ("matrix/10-shared.csv", 5), ("oaktag.yaml", 5),
    ]  # fmt: skip


def test_files_that_contradict_each_other_are_findings_of_check(oaktag: Run, sample: Path) -> None:
    path = sample / "groups.yaml"
    path.write_text(path.read_text().replace("tag: 320", "tag: 310"))
    ran = oaktag("-C", sample, "check", "--json")
    assert ran.status == 1
    assert [(f["code"], f["severity"], f["line"]) for f in ran.json["findings"]] == [
        ("OT100", "error", 4)
    ]
    assert oaktag("-C", sample, "matrix").status == 2


@settings(max_examples=150)
@given(seed=st.integers(0, 10**9))
def test_random_breaks_never_end_in_a_traceback(seed: int, tmp_path: Path) -> None:
    """Bytes cut, doubled, swapped or put in, anywhere: every answer is a workspace or its faults."""
    rng = random.Random(seed)
    folder = tmp_path / "broken"
    shutil.rmtree(folder, ignore_errors=True)
    first_part(folder)
    for _ in range(rng.randint(1, 3)):
        path = folder / rng.choice([*YAML, *CSV])
        data = path.read_bytes()
        at, to = sorted(rng.randrange(len(data) + 1) for _ in range(2))
        to = min(to, at + rng.randint(1, 40))
        other = rng.randrange(len(data) + 1)
        piece = rng.choice([b"", data[at:to] * 2, data[other : other + 20], b"[", b"}", b"\n", b": ",
                            b",", b'"', b"'", b"\x00", b"\xfe", b"*", b"&a ", b"!", b"- ", b"\t", b"9"])  # fmt: skip
        path.write_bytes(data[:at] + piece + data[to if rng.random() < 0.5 else at :])
    try:
        workspace = package.Workspace.load(folder)
    except package.WorkspaceError as error:
        for problem in error.problems:
            assert problem.message and problem.location.file in {*YAML, *CSV, *_named(folder)}
        return
    workspace.check()
    workspace.expect()
    workspace.reach()


def _named(folder: Path) -> set[str]:
    """Whatever the broken configuration now calls a file."""
    import re

    text = (folder / "oaktag.yaml").read_text(errors="replace")
    return {w.strip() for w in re.split(r"[\[\]{},\n]|: ", text)}
