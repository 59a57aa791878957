"""The card of tests: each test tells just the lines that it names, as the files without them decide;
no card is shorter; and real packets fare as it says."""

from __future__ import annotations

import itertools
import random
from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest

import oaktag as package
from conftest import Ran
from oaktag.core.telling import Change, Kind, fewest
from sizes import scaled
from test_commands import _schema

Run = Callable[..., Ran]


def test_each_test_tells_the_lines_that_it_names_and_no_other(sample: Path, oaktag: Run) -> None:
    """Every line is taken out of the files, or enforced if it is observed, one at a time."""
    ran = oaktag("-C", sample, "expect", "--card", "--json")
    jsonschema.validate(ran.json, _schema("expect-card"))
    card = ran.json
    told: dict[tuple[str, int], set[int]] = {}
    for test in card["tests"]:
        for line in test["tells"]:
            told.setdefault((line["file"], line["line"]), set()).add(test["number"])
        # What it says of the present is what a packet's way is.
        ends = test["source"]["address"], test["destination"]["address"]
        trace = oaktag("-C", sample, "trace", *ends, test["service"], "--json").json
        ways = [way for way in trace["paths"] if way["text"] == test["packet"]]
        assert ways and all(
            way["verdict"].startswith("it arrives, as meant" if test["passes"] else "it is dropped")
            and any(hop["judged"] for hop in way["hops"])
            for way in ways
        ), trace
    layers = sorted((sample / "matrix").iterdir())
    untold = {(row["file"], row["line"]): row["why"] for row in card["untold"]}
    count, kinds = 0, set()
    for layer in layers:
        rows = layer.read_text().splitlines(keepends=True)
        for number, row in enumerate(rows[1:], 2):
            place = f"matrix/{layer.name}", number
            observed = ",observe," in row
            if ",off," in row:
                assert place not in told and place not in untold
                continue
            other = [row.replace(",observe,", ",enforce,")] if observed else []
            layer.write_text("".join([*rows[: number - 1], *other, *rows[number:]]))
            then = package.Workspace.load(sample)
            tells = {
                test["number"]
                for test in card["tests"]
                if then.decide(
                    test["source"]["group"], test["destination"]["group"], test["service"], source_port=50000
                ).action != ("allow" if test["passes"] else "deny")
            }  # fmt: skip
            assert tells == told.get(place, set()), place
            assert bool(tells) != (place in untold), place
            kinds.add(observed)
            count += 1
        layer.write_text("".join(rows))
    assert count == len(package.Workspace.load(sample).model.lines) and kinds == {True, False}
    assert len(told) > 5 and untold


@pytest.mark.parametrize("seed", range(scaled(40)))
def test_no_card_is_shorter(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    rng = random.Random(seed)
    every = [Change("without", n) for n in range(rng.randint(1, 7))]
    kinds = [
        Kind(0, n, 1, frozenset(rng.sample(every, rng.randint(1, len(every)))))
        for n in range(rng.randint(1, 9))
    ]
    whole = frozenset().union(*(k.tells for k in kinds))
    shortest = next(
        size for size in itertools.count(1)
        if any(frozenset().union(*(k.tells for k in some)) == whole for some in itertools.combinations(kinds, size))
    )  # fmt: skip
    exact = fewest(kinds)
    assert frozenset().union(*(k.tells for k in exact)) == whole and len(exact) == shortest
    monkeypatch.setattr("oaktag.core.telling.MOST_EXACT", 0)
    near = fewest(kinds)
    assert frozenset().union(*(k.tells for k in near)) == whole
    for kind in near:  # none that the others make idle
        rest = frozenset().union(*(k.tells for k in near if k is not kind))
        assert not kind.tells <= rest


def test_real_packets_fare_as_the_card_says(
    shipped_mended: Path, oaktag: Run, real_kernel: None
) -> None:
    at = ("-C", shipped_mended)
    card = oaktag(*at, "expect", "--card", "--json").json["tests"]
    assert oaktag(*at, "lab", "up").status == 0
    try:
        ran = oaktag(*at, "lab", "probe", "--card", "--json")
        probes, left = ran.json["probes"], ran.json["not_probed"]
        assert ran.status == 0 and len(probes) + len(left) == len(card) and len(probes) > 30
        assert {p["meant"] for p in probes} == {"allow", "deny"}
        assert {p["verdict"] for p in probes} == {"as meant"}
    finally:
        oaktag(*at, "lab", "down")


def test_the_one_that_tells_most_is_not_always_among_the_fewest() -> None:
    parts = [{0, 1, 2}, {3, 4, 5}, {0, 1, 3, 4}]
    kinds = [
        Kind(0, n, 1, frozenset(Change("without", c) for c in part)) for n, part in enumerate(parts)
    ]
    assert fewest(kinds) == kinds[:2]


def test_isolation_inside_a_segment_has_a_test(tmp_path: Path, oaktag: Run) -> None:
    """All members of a group are on one segment, and a point judges there."""
    files = {
        "oaktag.yaml": "workspace: w\ndefault: allow\nlayers: [m.csv]\nsources: [{file: s.csv, kind: server, id: name, address: ip}]\n",
        "groups.yaml": "groups: [{id: ada, tag: 310}]\n",
        "assignments.yaml": "rules: [{give: ada, when: {kind: server}}]\n",
        "permissions.yaml": "permissions:\n  nothing: [{deny: any}]\n",
        "m.csv": "source,destination,permission\nada,itself,nothing\n",
        "s.csv": "name,ip\na1,10.1.0.1\na2,10.1.0.2\n",
        "network.yaml": "nodes:\n  - {node: gate, point: {inside: true}}\n"
        "segments:\n  - {segment: a, node: gate, prefixes: [10.1.0.0/24]}\nfeeds: [{from: registry, to: gate}]\n",
    }
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    card = oaktag("-C", tmp_path, "expect", "--card", "--json").json
    (test,) = card["tests"]
    assert {test["source"]["endpoint"], test["destination"]["endpoint"]} == {"a1", "a2"}
    assert not test["passes"] and not card["untold"]
    assert [t["line"] for t in test["tells"]] == [2]
