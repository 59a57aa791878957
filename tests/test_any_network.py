"""Every question about networks at random, as users ask it: documents fit their schemas, tables fit a
terminal, what is counted is what is listed, and the same question has the same answer."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest

from conftest import Ran
from networks import SEEDS, random_net, write_net
from sizes import scaled
from test_commands import _schema

Run = Callable[..., Ran]
QUESTIONS = (
    ["check"], ["review"], ["members"], ["members", "--withheld"], ["groups"], ["bindings"],
    ["bindings", "--missing", "n3"], ["bindings", "--at", "n3"], ["matrix"], ["cell", "ada", "cy"],
    ["callers", "cy"], ["callees", "ada"], ["describe", "cy"], ["explain", "b3"], ["explain", "10.3.0.9"],
    ["decide", "ada", "cy", "https"], ["decide", "b1", "b2", "any"], ["reach"], ["reach", "--failures"],
    ["trace", "ada", "cy", "https", "--return"], ["verify"],
)  # fmt: skip
#: What prints the text of lists or numbers wider than a terminal is asked for as JSON alone.
WIDE = ("matrix",)


def _complaints(ran: Ran) -> list[str]:
    """What is said beside the answer, less how far it is."""
    return [line for line in ran.err.splitlines() if not line.endswith("…")]


@pytest.mark.parametrize("seed", SEEDS[: scaled(4)])
def test_every_answer_has_its_form(seed: int, tmp_path: Path, oaktag: Run) -> None:
    write_net(random_net(seed), tmp_path)
    for words in QUESTIONS:
        ran = oaktag("-C", tmp_path, *words, "--json")
        if ran.status == 2:  # who is asked about is nowhere, or of another family
            assert words[0] == "trace" and ran.json["command"] == "error", (words, ran)
            continue
        assert ran.status in (0, 1) and not _complaints(ran), (words, ran)
        jsonschema.validate(ran.json, _schema(ran.json["command"].replace(" ", "-")))
        assert seed or ran.out == oaktag("-C", tmp_path, *words, "--json").out
        told = oaktag("-C", tmp_path, *words)
        assert told.status == ran.status and not _complaints(told), (words, told)
        assert "\x1b" not in told.out and all(
            line == line.rstrip() for line in told.out.splitlines()
        )
        if words[0] not in WIDE:
            assert all(len(line) <= 100 for line in told.out.splitlines()), told.out


@pytest.mark.parametrize("seed", SEEDS[: scaled(8)])
def test_what_is_counted_is_what_is_listed(seed: int, tmp_path: Path, oaktag: Run) -> None:
    """The summary, the first lines and the tables of ``reach`` against its rows."""
    write_net(random_net(seed), tmp_path)
    whole = oaktag("-C", tmp_path, "reach", "--json").json
    flows, summary = whole["flows"], whole["summary"]
    effects = Counter(f["effect"] for f in flows)
    assert summary["effects"] == effects and summary["accepted"] == {}
    assert summary["results"] == Counter(f["result"] for f in flows)
    bad = [f for f in flows if f["effect"] != "exact"]
    causes: Counter[tuple[str, str]] = Counter()
    for flow in bad:
        told = flow["reasons"] or [r for r in flow["amiss"] if r["why"] != "answer-dropped"]
        if flow["effect"] == "one-way":
            told = [r for r in flow["amiss"] if r["why"] == "answer-dropped"]
        causes[flow["effect"], json.dumps(told)] += 1
    assert causes == {
        (c["effect"], json.dumps(c["reasons"])): c["flows"] for c in summary["causes"]
    }
    text = oaktag("-C", tmp_path, "reach").out
    first = next(line for line in text.splitlines() if "flows between" in line)
    for effect, count in effects.items():
        assert f"{count:,} {effect}" in first
    off = Counter(
        tuple(sorted((f["source"]["segment"], f["destination"]["segment"])))
        for f in flows if f["result"] == "unconnected"
    )  # fmt: skip
    assert {tuple(c["between"]): c["flows"] for c in summary["cut_off"]} == off
    assert text.startswith("cut off: ") == bool(off)
    for by, ends in (("cell", "group"), ("segment", "segment")):
        table = oaktag("-C", tmp_path, "reach", "--by", by).out.splitlines()
        counted = Counter(
            (f["source"][ends], f["destination"][ends], f["effect"]) for f in bad
        )  # fmt: skip
        heads = next(n for n, line in enumerate(table) if line.split()[:2] == ["from", "to"])
        assert table[heads].split()[2:] == ["leak", "break", "one-way"]
        rows = [line.split() for line in table[heads + 1 :]]
        rows = rows[: rows.index([])]
        assert {
            (row[0], row[1], effect): int(n)
            for row in rows
            for effect, n in zip(("leak", "break", "one-way"), row[2:], strict=True)
            if n != "0"
        } == counted


@pytest.mark.parametrize("seed", SEEDS[: scaled(4)])
def test_narrowing_takes_rows_and_adds_none(seed: int, tmp_path: Path, oaktag: Run) -> None:
    """``--from`` and ``--to`` a group give the rows of the whole that begin and end there."""
    write_net(random_net(seed), tmp_path)
    whole = oaktag("-C", tmp_path, "reach", "--json").json["flows"]
    rows = Counter(json.dumps(f) for f in whole)
    for group in ("ada", "cy", "untagged"):
        for option, end in (("--from", "source"), ("--to", "destination")):
            some = oaktag("-C", tmp_path, "reach", option, group, "--json").json["flows"]
            assert {f[end]["group"] for f in some} <= {group}
            expected = Counter(json.dumps(f) for f in whole if f[end]["group"] == group)
            assert Counter(json.dumps(f) for f in some) == expected and expected <= rows
