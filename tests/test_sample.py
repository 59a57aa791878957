"""The sample that ships: each command says what is true of it; the mended one has nothing to find."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from pathlib import Path

import oaktag as package
from conftest import Ran

Run = Callable[..., Ran]


def test_a_failed_expectation_says_which_way_the_packet_went(oaktag: Run, shipped: Path) -> None:
    """Nobody knows the tags of ashgrove-public: what is denied passes, what is allowed is dropped."""
    rows = oaktag("-C", shipped, "expect", "--json").json["expectations"]
    wrong = [r["counterexample"] for r in rows if not r["holds"]][1:]
    assert [(e["action"], e["text"].rpartition(" is ")[2]) for e in wrong] == [
        ("allow", "let through, though denied"),
        ("deny", "dropped, though allowed"),
    ]


def test_its_size_is_as_told(shipped: Path) -> None:
    model = package.Workspace.load(shipped).model
    endpoints = model.files.endpoints
    kinds = Counter(str(endpoints.value(row, "kind")[0]) for row in range(len(endpoints)))
    assert kinds == {"user": 60, "device": 120, "server": 25, "network": 2}
    sessions = model.files.inventory.sessions
    assert (len(sessions), {s.address.family for s in sessions}) == (40, {4, 6})
    assert sum(model.assignment.group[s.endpoint] < 0 for s in sessions) == 2
    assert (len(model.groups) - 1, len(model.network.segments)) == (18, 16)


def test_nothing_is_found_on_what_is_mended(oaktag: Run, shipped_mended: Path) -> None:
    for command in ("check", "review"):
        ran = oaktag("-C", shipped_mended, command, "--fail-on", "note")
        assert (ran.status, ran.out) == (0, "nothing found\n")
    assert oaktag("-C", shipped_mended, "expect").status == 0
    reach = oaktag("-C", shipped_mended, "reach", "--json")
    assert (reach.status, set(reach.json["summary"]["effects"])) == (0, {"exact"})
    assert reach.json["unplaced"] == []
