"""The network as RFC 8345 data: valid as an independent judge has it, the same network when it is read
back, and what cannot be taken as it is told or refused."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import jsonschema
import pytest

import oaktag as package
from conftest import Ran
from networks import random_net, write_net
from test_commands import _schema

Run = Callable[..., Ran]
IETF = Path(sys.prefix) / "share" / "yang" / "modules" / "ietf"
MODELS = ("ietf-network", "ietf-network-topology", "ietf-l3-unicast-topology")


def _shape(folder: Path) -> tuple[object, ...]:
    """Nodes, which prefixes are at each, and links with their costs."""
    network = package.Workspace.load(folder).model.network
    at = Counter((s.node, p) for s in network.segments.values() for p in s.prefixes)
    links = Counter((frozenset((k.a, k.b)), k.cost) for k in network.links)
    return set(network.nodes), at, links


def _judge(files: list[Path]) -> list[int]:
    judge = shutil.which("yanglint")
    if judge is None:
        assert not os.environ.get("OAKTAG_REQUIRE_REAL"), "yanglint is not here (libyang2-tools)"
        pytest.skip("yanglint is not here")
    models = [str(IETF / f"{name}.yang") for name in MODELS]
    asked = [judge, "-p", str(IETF), "-t", "config", *models]
    return [subprocess.run([*asked, str(f)], capture_output=True).returncode for f in files]


def _empty(oaktag: Run, folder: Path) -> None:
    """A new workspace, whose network is empty."""
    assert oaktag("new", folder).status == 0
    (folder / "network.yaml").write_text("nodes: []\nsegments: []\nlinks: []\nfeeds: []\n")
    (folder / "inventory/outside.csv").write_text("name,prefixes\n")
    (folder / "assignments.yaml").write_text("pins: []\nrules: []\n")


def test_what_is_written_is_data_of_the_models_and_the_same_network(
    shipped: Path, tmp_path: Path, oaktag: Run
) -> None:
    folders = [shipped]
    for seed in range(12):
        write_net(random_net(seed), tmp_path / f"net{seed}")
        folders.append(tmp_path / f"net{seed}")
    files = []
    for number, folder in enumerate(folders):
        file = tmp_path / f"{number}.json"
        assert oaktag("-C", folder, "network", "--out", file).status == 0
        files.append(file)
        held = oaktag("-C", folder, "network", "--in", file, "--json")
        assert held.json["files"] == [] and held.json["notes"] == []
        fresh = tmp_path / f"fresh{number}"
        _empty(oaktag, fresh)
        ran = oaktag("-C", fresh, "network", "--in", file, "--write", "--json")
        assert ran.status == 0, ran
        jsonschema.validate(ran.json, _schema("network-in"))
        assert _shape(fresh) == _shape(folder)
        again = oaktag("-C", fresh, "network", "--in", file, "--json")
        assert again.json["files"] == []
    assert set(_judge(files)) == {0}
    # The judge judges: a prefix that is none is refused.
    files[0].write_text(files[0].read_text().replace("10.20.1.0/24", "10.20.1.0/99"))
    assert _judge(files[:1]) != [0]


def _data(nodes: Any, links: Any = (), **more: Any) -> dict[str, Any]:
    network = {
        "network-id": "one",
        "node": nodes,
        "ietf-network-topology:link": list(links),
        **more,
    }
    return {"ietf-network:networks": {"network": [network]}}


def _link(name: str, a: str, b: str, cost: Any = None) -> dict[str, Any]:
    made: dict[str, Any] = {
        "link-id": name,
        "source": {"source-node": a},
        "destination": {"dest-node": b},
    }
    if cost is not None:
        made["ietf-l3-unicast-topology:l3-link-attributes"] = {"metric1": cost}
    return made


def _node(name: str, *prefixes: str) -> dict[str, Any]:
    held = [{"prefix": p} for p in prefixes]
    return {"node-id": name, "ietf-l3-unicast-topology:l3-node-attributes": {"prefix": held}}


def test_what_is_not_as_it_is_here_is_told(tmp_path: Path, oaktag: Run) -> None:
    _empty(oaktag, tmp_path / "w")
    file = tmp_path / "t.json"
    nodes = [
        _node("10.0.0.1", "10.1.0.0/24", "10.9.0.0/30"),
        _node("Core_2", "10.9.0.0/30"),
        _node("edge"),
    ]
    links = [_link("a", "10.0.0.1", "Core_2", "5"), _link("b", "Core_2", "10.0.0.1", 7),
             _link("c", "Core_2", "edge"), _link("d", "edge", "Core_2"), _link("e", "Core_2", "edge")]  # fmt: skip
    file.write_text(json.dumps(_data(nodes, links)))
    ran = oaktag("-C", tmp_path / "w", "network", "--in", file, "--write", "--json")
    assert ran.status == 0, ran
    told = "\n".join(ran.json["notes"])
    for part in (
        "the node 10.0.0.1 is called n-10-0-0-1 here", "the node Core_2 is called core-2 here",
        "10.9.0.0/30 is at n-10-0-0-1, core-2: it lies between them",
        "costs 5 one way and 7 the other; here it costs 7 both ways",
        "between core-2 and edge links go one way",
    ):  # fmt: skip
        assert part in told, told
    network = package.Workspace.load(tmp_path / "w").model.network
    assert [s.node for s in network.segments.values()] == ["n-10-0-0-1"]
    assert sorted((k.a, k.b, k.cost) for k in network.links) == [
        ("core-2", "edge", 1), ("core-2", "edge", 1), ("n-10-0-0-1", "core-2", 7),
    ]  # fmt: skip
    # What is there stays: the file gets what it has not, and nothing of it changes.
    path = tmp_path / "w/network.yaml"
    path.write_text(
        path.read_text().replace("{node: edge}", "{node: edge, carries: true, site: far}")
    )
    before = path.read_text()
    file.write_text(json.dumps(_data([*nodes[:2], _node("new", "10.3.0.0/24")])))
    ran = oaktag("-C", tmp_path / "w", "network", "--in", file, "--write")
    assert ran.status == 0 and "the topology has not, and network.yaml keeps: edge" in ran.out
    after = path.read_text()
    assert all(line in after for line in before.splitlines()) and "{node: new}" in after


@pytest.mark.parametrize(
    ("document", "told"),
    [
        ("{", "t.json:1:2: "),
        ("[]", "holds no ietf-network:networks"),
        ({"ietf-network:networks": {"network": []}}, "holds no ietf-network:networks"),
        (_data([{"node": "a"}]), "node 1 has no node-id"),
        (_data([_node("a"), _node("A")]), "two nodes would be called a (A)"),
        (_data([_node("a", "10.0.0.1/24")]), "a has the prefix '10.0.0.1/24', which is none"),
        (_data([_node("a")], [_link("l", "a", "b")]), "the link l names no node of it: b"),
        (_data([_node("a")], [{"link-id": "l"}]), "the link l leads nowhere"),
        (_data([_node("a")], [_link("l", "a", "a")]), "leads from a to itself"),
        (_data([_node("a"), _node("b")], [_link("l", "a", "b", "x")]), "has the metric 'x'"),
        ({"ietf-network:networks": {"network": [{"network-id": "one"}, {"network-id": "two"}]}},
         "say which with --network: one, two"),
    ],
)  # fmt: skip
def test_what_is_no_topology_is_refused(
    document: Any, told: str, tmp_path: Path, oaktag: Run
) -> None:
    _empty(oaktag, tmp_path / "w")
    before = (tmp_path / "w/network.yaml").read_text()
    file = tmp_path / "t.json"
    file.write_text(document if isinstance(document, str) else json.dumps(document))
    ran = oaktag("-C", tmp_path / "w", "network", "--in", file, "--write")
    assert ran.status == 2 and told in ran.err, ran
    assert (tmp_path / "w/network.yaml").read_text() == before
    assert oaktag("-C", tmp_path / "w", "network", "--out", file).status == 2
