"""As of a time: what git had then, with the sessions that had begun; the same as that commit checked
out and asked on that day."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

import oaktag as package
from conftest import Ran
from oaktag.core.addresses import parse_prefix
from oaktag.core.session_records import KINDS, Record
from oaktag.store import Store
from oaktag.workspace.config_file import DAY
from oaktag.workspace.times import parse_instant
from oaktag.workspace.whereabouts import url_of

Run = Callable[..., Ran]
TIMES = ("2026-11-20T10:00:00Z", "2026-11-22T10:00:00Z", "2026-11-24T10:00:00Z")


def _git(folder: Path, *words: str, time: str = "") -> str:
    names = ["-c", "user.name=a", "-c", "user.email=a@b.c"]
    held = {**os.environ, **({"GIT_COMMITTER_DATE": time, "GIT_AUTHOR_DATE": time} if time else {})}
    done = subprocess.run(
        ["git", "-C", str(folder), *names, *words],
        env=held,
        check=True,
        capture_output=True,
        text=True,
    )
    return done.stdout.strip()


@pytest.fixture
def past(shipped: Path) -> Path:
    """Three commits, and more in the folder that is in none; a branch of its own."""
    _git(shipped, "init", "-q", "-b", "main")
    sessions = shipped / "inventory/sessions.csv"
    head = sessions.read_text().splitlines()[0].split(",")
    row = {"endpoint": "ada", "address": "10.20.4.99", "since": "2026-11-22T12:00:00Z"}
    for number, time in enumerate(TIMES):
        if number == 1:
            layer = shipped / "matrix/20-reading.csv"
            layer.write_text(
                layer.read_text() + "tablets,archive,search-only,enforce,to,2026-11-23,,\n"
            )
            assert oaktag_pin(shipped)
            sessions.write_text(
                sessions.read_text() + ",".join(row.get(c, "") for c in head) + "\n"
            )
        if number == 2:
            (shipped / "assignments.yaml").write_text(
                (shipped / "assignments.yaml")
                .read_text()
                .replace("group: volunteers", "group: kiosks")
            )
        _git(shipped, "add", "-A")
        _git(shipped, "commit", "-q", "-m", str(number), time=time)
    _git(shipped, "branch", "other", "HEAD~2")
    layer.write_text(layer.read_text() + "patrons,office-files,search-only,,,,,\n")
    return shipped


def oaktag_pin(folder: Path) -> bool:
    path = folder / "assignments.yaml"
    path.write_text(
        path.read_text().replace("pins:\n", "pins:\n  - {endpoint: bram, group: volunteers}\n", 1)
    )
    return "bram" in path.read_text()


def test_answers_are_those_of_the_commit_on_that_day(
    past: Path, tmp_path: Path, oaktag: Run
) -> None:
    for number, commit, day in (
        (0, "HEAD~2", "2026-11-21"), (1, "HEAD~1", "2026-11-23"), (2, "HEAD", "2026-11-25"),
    ):  # fmt: skip
        there = tmp_path / f"then{number}"
        _git(past, "worktree", "add", "-q", "--detach", str(there), commit)
        for words in (
            "members --all", "explain bram", "explain ada", "bindings", "bindings --at hall-edge",
            "decide tablets archive https", "decide patrons office-files https",
            "trace bram catalogue-1 https", "reach", "callers archive", "callees bram", "describe tablets",
            "cell tablets archive", "matrix", "expect", "groups", "around data-stores", "review", "find bram",
        ):  # fmt: skip
            asked = oaktag("-C", past, *words.split(), "--at", f"{day}T23:59:59.999999Z", "--json")
            held = oaktag("-C", there, "--today", day, *words.split(), "--json")
            assert asked.json == held.json and asked.status == held.status, (words, day)
            assert "as of " in asked.err and _git(past, "rev-parse", commit)[:12] in asked.err


def test_a_session_counts_from_its_beginning_and_a_line_to_its_end(past: Path, oaktag: Run) -> None:
    def group(time: str) -> str:
        found = oaktag("-C", past, "bindings", "10.20.4.99", "--at", time, "--json").json["found"]
        return str(found[0]["group"])

    assert group("2026-11-22T11:59:59Z") == "untagged" != group("2026-11-22T12:00:00Z")
    for time, action in (
        ("2026-11-22T09:59:59Z", "deny"), ("2026-11-22T10:00:00Z", "allow"),
        ("2026-11-22T12:00:00+02:00", "allow"), ("2026-11-23T23:59:59Z", "allow"), ("2026-11-24", "deny"),
    ):  # fmt: skip
        ran = oaktag("-C", past, "decide", "tablets", "archive", "https", "--at", time, "--json")
        assert ran.json["action"] == action, time
    ran = oaktag("-C", past, "explain", "bram", "--at", "2026-11-25", "--branch", "other", "--json")
    assert ran.json["endpoint"].get("group") == "librarians"
    ran = oaktag("-C", past, "explain", "bram", "--at", "2026-11-25", "--json")
    assert ran.json["endpoint"].get("group") == "kiosks"


def test_what_was_merged_later_was_not_in_force_before(past: Path, oaktag: Run) -> None:
    """A commit of a side branch is older than the merge that brought it."""
    _git(past, "checkout", "-q", "--", ".")
    _git(past, "checkout", "-q", "-b", "side")
    layer = past / "matrix/20-reading.csv"
    layer.write_text(layer.read_text() + "tablets,office-files,search-only,,,,,\n")
    _git(past, "commit", "-qam", "side", time="2026-11-26T10:00:00Z")
    _git(past, "checkout", "-q", "main")
    _git(past, "merge", "-q", "--no-ff", "-m", "merge", "side", time="2026-11-28T10:00:00Z")
    for time, action in (
        ("2026-11-27", "deny"),
        ("2026-11-28T09:59:59Z", "deny"),
        ("2026-11-28T10:00:00Z", "allow"),
    ):
        words = "decide", "tablets", "office-files", "https", "--at", time, "--json"
        assert oaktag("-C", past, *words).json["action"] == action, time
    assert (
        oaktag("-C", past, *words[:4], "--at", "2026-11-27", "--branch", "side", "--json").json[
            "action"
        ]
        == "allow"
    )
    said = oaktag("-C", past, "compare", "2026-11-27", "2026-11-28T10:00:00Z", "--json").json
    assert {(r["cause"]["file"], r["cause"]["kind"]) for r in said["gained"]} == {
        ("matrix/20-reading.csv", "line")
    }
    assert not said["lost"] and said["gained"]
    assert oaktag("-C", past, "compare", "2026-11-99").status == 2


def test_what_cannot_be_asked_of_a_time(past: Path, tmp_path: Path, oaktag: Run) -> None:
    for words, told in (
        ("members --at yesterday", "'yesterday' is no time"),
        ("members --at 2026-11-19", "the first commit is of 2026-11-20T10:00:00+00:00"),
        ("members --branch other", "--branch goes with a time"),
        ("members --at 2026-11-25 --branch nosuch", "git knows no branch 'nosuch'"),
        ("--today 2026-11-25 members --at 2026-11-25", "leave out --today"),
        ("members --at 2026-11-25 --when kind=user --save kiosks", "what was cannot be changed"),
        ("reach --observed observed --at 2026-11-25", "what nodes report is of the present"),
        ("bindings --at 2026-11-25 --at 2026-11-24", "one node and one time"),
    ):
        ran = oaktag("-C", past, *words.split())
        assert ran.status == 2 and told in ran.err, (words, ran.err)
    before = (past / "assignments.yaml").read_text()
    then = package.Workspace.load(past, at="2026-11-25")
    assert not then.pin("cleo", "kiosks").written
    with pytest.raises(package.UsageError, match="what was cannot be changed"):
        then.pin("cleo", "kiosks", write=True, anyway=True)
    assert (past / "assignments.yaml").read_text() == before
    assert oaktag("new", tmp_path / "alone").status == 0
    ran = oaktag("-C", tmp_path / "alone", "members", "--at", "2026-11-25")
    assert ran.status == 2 and "this is no git repository" in ran.err


def test_sessions_of_the_store_as_of_a_time(past: Path, oaktag: Run) -> None:
    """Of the store counts who was there then; what ended later had not, and what it does not know it
    says."""
    at = parse_prefix("10.20.11.77")
    told = [
        ("2026-11-22T08:00:00Z", "start", "s1", "gus"), ("2026-11-22T20:00:00Z", "start", "s2", "ada"),
        ("2026-11-23T09:00:00Z", "stop", "s2", "ada"),
    ]  # fmt: skip
    records = []
    for time, kind, session, who in told:
        moment = parse_instant(time)
        assert moment is not None
        word = next(k for k in KINDS if k == kind)
        records.append(Record(moment, word, "ashgrove-access", session, who, (at,)))
    store = Store(url_of(past), past, DAY, write=True)
    store.take(records, "test", 0)
    store.close()

    def there(time: str) -> list[tuple[str, str]]:
        rows = oaktag("-C", past, "bindings", "--at", time, "--json").json["bindings"]
        return [(r["group"], r["since"][:13]) for r in rows if r["prefix"] == f"{at}"]

    assert there("2026-11-22T07:59:59Z") == []
    assert there("2026-11-22T08:00:00Z") == [("network-desk", "2026-11-22T08")]
    assert there("2026-11-22T19:59:59Z") == [("network-desk", "2026-11-22T08")]
    assert there("2026-11-22T20:00:00Z") == [("librarians", "2026-11-22T20")]
    assert there("2026-11-23T08:59:59Z") == [("librarians", "2026-11-22T20")]
    # She logged off, and who had it before her has not got it back.
    assert there("2026-11-23T09:00:00Z") == []
    ran = oaktag("-C", past, "members", "--at", "2026-11-22T21:00:00Z", "--json")
    (row,) = (r for r in ran.json["endpoints"] if r["endpoint"] == "ada")
    told_of = {s["address"]: (s["since"], s["from"]) for s in row["sessions"]}
    assert told_of["10.20.11.77"] == ("2026-11-22T20:00:00+00:00", "store:ashgrove-access")
    assert "and those of the store" in ran.err
    ran = oaktag("-C", past, "members", "--at", "2026-11-21", "--json")
    assert "the store knows of no session before 2026-11-22T08:00:00+00:00" in ran.err


def test_what_a_commit_did_not_have_is_not_taken_for_what_is_there(sample: Path) -> None:
    """The rules came after the first commit: since then everybody moved, whichever is read first."""
    rules = sample / "assignments.yaml"
    text = rules.read_text()
    rules.unlink()
    _git(sample, "init", "-q", "-b", "main")
    _git(sample, "add", "-A")
    _git(sample, "commit", "-q", "-m", "1", time=TIMES[0])
    rules.write_text(text)
    then, now = (package.Workspace.load(sample, at=at) for at in (TIMES[1], None))
    moves = [c.endpoints for c in (then.compare(sample), now.compare("HEAD"))]
    assert moves[0] and sorted((m["endpoint"], m["is"], m["was"]) for m in moves[0]) == sorted(
        (m["endpoint"], m["was"], m["is"]) for m in moves[1]
    )
