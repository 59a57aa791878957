"""Findings about the network: each planted on what is sound, found, and true."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest
from hypothesis import given, settings

import oaktag as package
from conftest import Ran
from oaktag.testing.slow_reach import Net
from test_commands import _schema
from test_reach import nets, write_net

Run = Callable[..., Ran]

PLANTED = [
    ("network.yaml", "carrier, carries: false}", "carrier, carries: false, marks: true}", {"OT401"}),
    ("network.yaml", "  - {from: registry, to: hall-edge}", "  - {from: registry, to: hall-edge, only: {groups: [internet, hall]}}", {"OT402"}),
    ("network.yaml", "segments:\n", "  - {node: spare, point: {}}\n\nsegments:\n", {"OT403"}),
    ("assignments.yaml", "pins:\n", "pins:\n  - {prefix: 10.20.1.11, group: kiosks, at: hall-edge}\n", {"OT404"}),
    ("network.yaml", "feeds:\n", "  - {between: [central-core, provider], cost: 11}\n\nfeeds:\n", {"OT405", "OT406"}),
    ("network.yaml", "      stateful: true\n", "      stateful: false\n", set()),
    ("matrix/10-shared.csv", "patrons,itself,nothing,observe", "patrons,itself,nothing,enforce", set()),
]  # fmt: skip


@pytest.mark.parametrize(("name", "old", "new", "codes"), PLANTED)
def test_each_planted_mistake_of_the_network_is_found(
    oaktag: Run, shipped_mended: Path, name: str, old: str, new: str, codes: set[str]
) -> None:
    path = shipped_mended / name
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new, 1))
    ran = oaktag("-C", shipped_mended, "check", "--json")
    jsonschema.validate(ran.json, _schema("check"))
    assert {f["code"] for f in ran.json["findings"]} == codes
    review = oaktag("-C", shipped_mended, "review", "--json").json["findings"]
    isolated = name.startswith("matrix")
    assert [f["code"] for f in review] == ["OT311"] * isolated


def test_a_stateless_point_that_lacks_the_cell_of_answers(
    oaktag: Run, shipped_mended: Path
) -> None:
    path = shipped_mended / "network.yaml"
    text = path.read_text().replace("stateful: true", "stateful: false")
    path.write_text(text.replace("scope: all\n      outside: allow",
                                 "scope: {destinations: [hall, untagged]}\n      outside: deny"))  # fmt: skip
    found = oaktag("-C", shipped_mended, "check", "--json").json["findings"]
    assert [f["code"] for f in found] == ["OT407"]
    traced = oaktag(
        "-C", shipped_mended, "trace", "ada", "loans-1", "loans-api", "--return", "--json"
    )
    back = [a for p in traced.json["paths"] for a in p["answers"]]
    assert back and not any(a["arrives"] for a in back)
    assert {a["hops"][-1]["node"] for a in back} == {"hall-edge"}


@settings(max_examples=30)
@given(net=nets())
def test_dropped_answers_are_dropped_in_a_trace(net: Net, tmp_path: Path) -> None:
    """Where no finding speaks of answers, every answer of a traced flow arrives."""
    workspace = write_net(net, tmp_path)
    codes = {f["code"] for f in workspace.check()["findings"]}
    names = [b.name for b in net.beings]
    for a in names:
        for b in names:
            try:
                traced = workspace.trace(f"endpoint:{a}", f"endpoint:{b}", "https", back=True)
            except package.UsageError:
                continue
            for path in traced["paths"]:
                if path["effect"] == "exact":
                    arrive = all(x["arrives"] for x in path["answers"])
                    assert arrive or codes & {"OT406", "OT407"}, (a, b, codes)
