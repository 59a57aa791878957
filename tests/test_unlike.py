"""Groups whose members fare differently: told where they do, part by part, as reach tells it of each."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from pathlib import Path

import jsonschema

import oaktag as package
from conftest import Ran
from test_commands import _schema

Run = Callable[..., Ran]


def test_parts_are_those_that_reach_tells_apart(shipped: Path, oaktag: Run) -> None:
    ran = oaktag("-C", shipped, "groups", "--unlike", "--json")
    jsonschema.validate(ran.json, _schema("groups-unlike"))
    workspace = package.Workspace.load(shipped)
    told = {row["group"]: row["parts"] for row in ran.json["unlike"]}
    for group in ("kiosks", "network-desk", "wall-displays", "catalogue"):
        alike: dict[object, set[str]] = defaultdict(set)
        for member in workspace.members(group).endpoints:
            name = member["endpoint"]
            fares: dict[tuple[str, str], set[str]] = defaultdict(set)
            for way, rows in (
                ("to", workspace.reach(name, None).flows), ("from", workspace.reach(None, name).flows),
            ):  # fmt: skip
                for row in rows:
                    end = row["destination" if way == "to" else "source"]
                    fares[way, end["group"]].add(row["effect"])
            if fares:
                wrong = {k: frozenset(v) for k, v in fares.items() if v != {"exact"}}
                alike[frozenset(wrong.items())].add(name)
        parts = {frozenset(names) for names in alike.values()}
        if len(parts) == 1:
            assert group not in told
            continue
        assert {frozenset(p["endpoints"]) for p in told[group]} == parts
        for part in told[group]:
            if part["when"]:
                taken = {e["endpoint"] for e in workspace.members(when=part["when"]).endpoints}
                mine = {e["endpoint"] for e in workspace.members(group).endpoints}
                assert taken & mine == set(part["endpoints"])
    assert "kiosks" in told and "catalogue" not in told


def test_where_the_network_does_what_is_meant_nothing_is_told(
    shipped_mended: Path, oaktag: Run
) -> None:
    ran = oaktag("-C", shipped_mended, "groups", "--unlike")
    effects = package.Workspace.load(shipped_mended).reach().summary["effects"]
    assert set(effects) == {"exact"} and "all members of each group fare alike" in ran.out
