"""Sizes, depths, counts: each limit is named with what to do, and comes before the memory does."""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

import oaktag as package
from conftest import Ran
from oaktag.core import matrix
from oaktag.operations.model import Model
from oaktag.workspace.times import SECOND, instant_text, parse_instant

Run = Callable[..., Ran]


def change(folder: Path, file: str, old: str, new: str) -> None:
    path = folder / file
    text = path.read_text()
    assert old in text, (file, old)
    path.write_text(text.replace(old, new, 1))


NINES = "9" * 5000
#: A file, what in it becomes what, and what is said of it (at which place).
TOO_MUCH = [
    ("groups.yaml", "groups:", "#" * (1 << 24) + "\ngroups:", "groups.yaml: it holds 16 MiB, and at most 16 MiB"),
    ("permissions.yaml", "services:", f"x: {'[' * 51}{']' * 51}\nservices:", "permissions.yaml:1:53: this is nested more than 50 deep"),
    ("permissions.yaml", "services:", f"x:\n  {'- ' * 60}x\nservices:", "nested more than 50 deep"),
    ("permissions.yaml", "services:", "x: " + "[" * 100_000 + "\nservices:", "exceeded maximum nesting depth"),
    ("inventory/people.csv", "uid,name", "uid," + ",".join(f"c{n}" for n in range(1000)) + ",name", "people.csv:1:4890: the header has 1,006 columns (at most 1,000"),
    ("inventory/people.csv", "Ada Fenn", f'"{"x" * ((1 << 20) + 1)}"', "a cell is larger than 1 MiB"),
    ("groups.yaml", "tag: 310", f"tag: {NINES}", "the tag of librarians is"),
    ("permissions.yaml", "8443/tcp", f"{NINES}/tcp", "is not a port"),
    ("network.yaml", "cost: 10", f"cost: {NINES}", "a number from 1 to"),
    ("oaktag.yaml", "layers: [", "layers: [[a], ", "a layer is a list"),
    ("assignments.yaml", "rules:\n", "rules:\n  - {give: kiosks, when: {site: {'>=': 1e999}}}\n", "is no number"),
    ("assignments.yaml", "note: helps", 'note: "\\ud800 helps"', "not YAML"),
]  # fmt: skip


@pytest.mark.parametrize(("file", "old", "new", "told"), TOO_MUCH, ids=lambda v: str(v)[:20])
def test_too_much_is_named(
    oaktag: Run, sample: Path, file: str, old: str, new: str, told: str
) -> None:
    change(sample, file, old, new)
    ran = oaktag("-C", sample, "check")
    assert ran.status == 2 and told in ran.err, ran.err[:600]
    assert len(ran.err) < 4000


def test_odd_words_of_a_command_are_named(oaktag: Run, sample: Path) -> None:
    for words in (
        ["decide", "patrons", "loans-db", f"{NINES}/tcp"],
        ["decide", NINES, "loans-db", "ssh"],
        ["bindings", f"1.2.3.4/{NINES}"],
        ["reach", "--mend", "--seconds", "nan"],
        ["reach", "--mend", "--seconds", "-1"],
        ["set", "--write", "--where", f"line={NINES}", "--mode", "off"],
        ["compare", "./" + "a" * 300],
        ["matrix", "--figure", "a" * 300 + ".png"],
    ):
        ran = oaktag("-C", sample, *words)
        assert ran.status == 2 and "should not happen" not in ran.err, (words[:2], ran.err[:300])


def test_faults_are_counted_and_the_first_of_each_kind_shown(oaktag: Run, sample: Path) -> None:
    layer = sample / "matrix/10-shared.csv"
    rows = [f"patronn{n},loans-db,nothing,,,,,\n" for n in range(300)]
    rows += [f"patrons,loans-db,nothing,odd{n},,,,\n" for n in range(20)]
    layer.write_text(layer.read_text() + "".join(rows))
    ran = oaktag("-C", sample, "check")
    lines = ran.err.splitlines()
    assert ran.status == 2 and len(lines) == 8 + 8 + 2 + 1, ran.err
    assert "10-shared.csv: 292 more of: there is no group or set …" in ran.err
    assert "320 faults in the files; oaktag check --all shows every one" in ran.err
    assert "perhaps patrons" in lines[0]
    assert len(oaktag("-C", sample, "check", "--all").err.splitlines()) == 321
    layer.write_text(
        layer.read_text() + "".join(f"x{n},loans-db,nothing,,,,,\n" for n in range(12_000))
    )
    ran = oaktag("-C", sample, "check", "--json")
    assert ran.json["count"] == 12_320 and len(ran.json["errors"]) <= 10_001
    clashing = [row for row in layer.read_text().splitlines() if ",odd" not in row]
    layer.write_text("\n".join(clashing) + "\n")
    ran = oaktag("-C", sample, "check")
    assert (
        ran.status == 1
        and "2,300 more faults were found" in oaktag("-C", sample, "check", "--all").out
    )
    change(sample, "inventory/people.csv", "10.20.1.11", "10.20.1.300")
    ran = oaktag("-C", sample, "check")
    assert ran.status == 2 and "people.csv:2:" in ran.err, (
        "unreadable, though told behind all others"
    )


def many(folder: Path, groups: int) -> Path:
    folder.mkdir()
    for name, text in {
        "oaktag.yaml": "workspace: x\nlayers: [m.csv]\nsources: [{file: s.csv, kind: server, id: n, address: ip}]\n",
        "groups.yaml": "groups:\n" + "".join(f"  - {{id: g{n}, tag: {n}}}\n" for n in range(1, groups + 1))
        + "sets:\n  few: [g1, g2, g3]\n",
        "permissions.yaml": "permissions:\n  web:\n    - allow: 443/tcp\n  none:\n    - deny: any\n",
        "m.csv": "source,destination,permission,mode,way\nfew,g2,web,,both\ng3,few,none,,\n*,itself,web,observe,\nuntagged,*,web,,\n",
        "s.csv": "n,ip,role\na,10.0.0.1,g1\nb,10.0.0.2,g2\n",
        "assignments.yaml": 'rules:\n  - give: "{role}"\n',
        "network.yaml": "nodes: [{node: a, point: {}}]\nsegments: [{segment: s, node: a, prefixes: [10.0.0.0/8]}]\n",
    }.items():  # fmt: skip
        (folder / name).write_text(text)
    return folder


def test_questions_about_one_group_where_all_are_too_many(
    oaktag: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The same answers with a limit so low that each cell, or each row of cells, is worked out alone;
    what needs all cells says so."""
    folder = many(tmp_path / "w", 40)
    asked = (
        ["cell", "few", "g2"], ["cell", "g1", "g2"], ["decide", "g2", "g1", "https"], ["explain", "a"],
        ["explain", "g3"], ["callers", "g2", "https"], ["callees", "g1"], ["describe", "g2"],
        ["describe", "g3"], ["around", "few"], ["trace", "a", "b", "https"],
        ["matrix", "--from", "few", "--to", "g2"],
    )  # fmt: skip
    before = [oaktag("-C", folder, *words, "--json") for words in asked]
    assert all(ran.status in (0, 1, 2) and ran.out for ran in before[1:])
    monkeypatch.setattr(matrix, "MOST_CELLS", 100)
    for few in (0, 4, 1 << 30):
        monkeypatch.setattr(matrix, "FEW", few)
        for words, ran in zip(asked, before, strict=True):
            now = oaktag("-C", folder, *words, "--json")
            if words[0] == "matrix":  # forms are numbered as they are met
                assert now.json["cells"] and [f["allows"] for f in now.json["forms"]] == [
                    f["allows"] for f in ran.json["forms"]
                ]
            else:
                assert now == ran, (few, words)
    for words in (["review"], ["reach"], ["grant", "g1", "g3", "ssh"], ["compare", str(folder)]):
        ran = oaktag("-C", folder, *words)
        assert ran.status == 2 and "the matrix of 40 groups has 1,681 cells" in ran.err, (
            words,
            ran,
        )
    model = Model.read(folder)
    spoken = [
        [model.matrix.spoken(g, axis).nonzero()[0].tolist() for axis in (0, 1)] for g in (2, 5)
    ]
    assert spoken == [[[1, 2, 3], [0, 1, 2, 3]], [[5], [0, 5]]]


def test_at_65535_groups_a_cell_takes_little_memory(tmp_path: Path) -> None:
    folder = many(tmp_path / "w", 65_535)

    def little() -> None:
        resource.setrlimit(resource.RLIMIT_AS, (3 << 30, 3 << 30))

    def run(*words: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "oaktag", "-C", str(folder), *words]
        return subprocess.run(
            command, capture_output=True, text=True, preexec_fn=little, timeout=120, check=False,
            env={**os.environ, "OPENBLAS_NUM_THREADS": "1"},
        )  # fmt: skip

    done = run("decide", "g65535", "g2", "https", "--json")
    assert done.returncode == 0 and json.loads(done.stdout)["action"] == "deny", done
    done = run("compile")
    assert done.returncode == 1 and "4,294,967,296 cells, and a list is of at most" in done.stderr
    done = run("review")
    assert done.returncode == 2 and "4,294,967,296 cells" in done.stderr, done.stderr


def test_a_question_about_groups_reads_nobody(oaktag: Run, sample: Path) -> None:
    """Not even where the inventory is a pipe that nobody writes into; but whoever is named is read,
    and where something else is wrong all that is wrong is said."""
    people = sample / "inventory/people.csv"
    people.unlink()
    os.mkfifo(people)
    for words in (
        ["decide", "patrons", "loans-db", "ssh"],
        ["decide", "320", "0x1fe", "ssh"],
        ["cell", "patrons", "loans-db"],
    ):
        assert oaktag("-C", sample, *words).status == 0, words
    for words in (
        ["decide", "ada", "loans-db", "ssh"],
        ["decide", "endpoint:patrons", "loans-db", "ssh"],
        ["callers", "loans-db"],
    ):
        ran = oaktag("-C", sample, *words)
        assert ran.status == 2 and "a pipe or a device" in ran.err, words
    change(sample, "permissions.yaml", "8443/tcp", "x/tcp")
    ran = oaktag("-C", sample, "decide", "patrons", "loans-db", "ssh")
    assert ran.status == 2 and "2 faults" in ran.err, ran.err


#: RFC 3339, section 5.8 and its grammar: a text and the second of the epoch, or what is none.
TIMES = [
    ("1985-04-12T23:20:50.52Z", 482196050.52),
    ("1996-12-19T16:39:57-08:00", 851042397),
    ("1990-12-31T23:59:60Z", 662687999.999999),
    ("1990-12-31T15:59:60-08:00", 662687999.999999),
    ("1937-01-01T12:00:27.87+00:20", -1041337172.13),
    ("2026-11-25t08:00:00z", 1795593600),
    ("2026-11-25 08:00:00Z", 1795593600),
    ("2026-11-25", 1795564800),
    ("2026-11-25T08:00", 1795593600),
    ("9999-12-31T23:59:59-23:59", 253402387139),
    ("0001-01-01T00:00:00+23:59", -62135683140),
    *[(text, None) for text in (
        "2026-11-25T12:30:60Z", "2026-11-25T24:00:00Z", "2026-02-29", "0000-01-01", "2026-W48", "20261125",
        "2026-11-25T08:00:00+24:00", "2026-11-25T08:00:00+0100", "2026-11-25T08:00:00.Z", "", "now",
        "2026-11-25T8:00:00Z", "２０２６-11-25", "2026-11-25T08:00:00,5Z", "2026-11-25Z",
    )],
]  # fmt: skip


@pytest.mark.parametrize(("text", "seconds"), TIMES)
def test_times_are_rfc_3339(text: str, seconds: float | None) -> None:
    found = parse_instant(text)
    assert found == (None if seconds is None else round(seconds * SECOND))
    if found is not None and "9999" not in text and "0001" not in text:
        assert parse_instant(instant_text(found)) == found
    elif found is not None:
        assert instant_text(found)[:4] in ("9999", "0001")


def test_the_newest_session_is_told_to_the_microsecond(oaktag: Run, sample: Path) -> None:
    """And one that is far in the future is none yet."""
    (sample / "seen.csv").write_text(
        "endpoint,address,since\nada,10.20.1.99,2026-11-25T08:00:00.9Z\nbram,10.20.1.99,2026-11-25T08:00:00.1Z\n"
        "cleo,10.20.1.99,9999-12-31T23:59:59-23:59\n"
    )
    change(sample, "oaktag.yaml", "keep_open:", "sessions: seen.csv\nkeep_open:")
    rows = oaktag("-C", sample, "--today", "2026-11-26", "bindings", "10.20.1.99", "--json").json
    held = package.Workspace.load(sample).model
    assert "ada" in json.dumps(rows["bindings"] if rows["bindings"] else rows), rows
    assert len(held.files.inventory.sessions) == 2


def test_a_thousand_faults_in_one_long_line(oaktag: Run, sample: Path) -> None:
    """Each is told with its column; the line is gone through once, not once a fault."""
    name = "x" * 10_000
    layer = sample / "matrix/10-shared.csv"
    layer.write_text(",".join([name] * 1000) + "\n" + layer.read_text().split("\n", 1)[1])
    ran = oaktag("-C", sample, "check")
    assert ran.status == 2 and "matrix/10-shared.csv:1:10002: the column" in ran.err, ran.err[:300]
    assert "stands twice" in ran.err
