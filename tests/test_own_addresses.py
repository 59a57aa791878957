"""A point that guards its node's own addresses: compiled, proved, refuted, told, loaded and probed."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path
from typing import Any

import pytest

import oaktag as package
from oaktag.core.acting import act
from oaktag.core.packets import Packet
from oaktag.operations.lists import dialect_of, list_text, refute

POINT = "      if_differ: frame\n"
ADDRESS = "    address: 10.20.200.1\n"
HOMES = '    address: [10.20.200.1, "2001:db8:20:200::1"]\n    group: core-services\n'


def _guarding(folder: Path, *, own: bool = True, dialect: str = "nftables") -> None:
    network = folder / "network.yaml"
    text = network.read_text().replace("dialect: nftables", f"dialect: {dialect}")
    text = text.replace(ADDRESS, HOMES, 1)
    if own:
        text = text.replace(POINT, f"{POINT}      own: true\n", 1)
    network.write_text(text)


@pytest.mark.parametrize("dialect", ["nftables", "json"])
def test_the_proof_looks_at_what_arrives_and_what_leaves(
    dialect: str, shipped_mended: Path
) -> None:
    """Addresses of its own that a list forgets, or takes for its own, are packets that differ; and
    such a list does with them what the proof says."""
    _guarding(shipped_mended, own=False, dialect=dialect)
    plain = package.Workspace.load(shipped_mended).model
    meant = plain.network.points["hall-edge"]
    unguarded = list_text(plain, meant)
    _guarding(shipped_mended)
    model = package.Workspace.load(shipped_mended).model
    point = model.network.points["hall-edge"]
    text = list_text(model, point)
    read = dialect_of(model, point).read
    assert refute(model, point, text) is None
    assert read(text).own and read(text).names[530] == "core-services"
    against = refute(model, point, unguarded)
    assert against is not None and against.what == "as it arrives at the node itself"
    # The other way: nobody asked that it be guarded.
    against = refute(plain, meant, text)
    assert against is not None and against.what == "as it arrives at the node itself"
    changes = {
        "nftables": (
            ("\t10.20.200.1\n", "\t10.20.200.2\n"),
            ("10.20.200.1 . 10.20.200.1\n", "10.20.200.2 . 10.20.200.2\n"),
        ),
        "json": (('"own": ["10.20.200.1", ', '"own": ["10.20.200.2", '),),
    }[dialect]
    mistaken = text
    for old, new in changes:
        assert mistaken.count(old) == 1, old
        mistaken = mistaken.replace(old, new)
    against = refute(model, point, mistaken)
    assert against is not None and against.what.endswith("the node itself"), against
    assert against.destination in (0x0A14C801, 0x0A14C802)
    assert against.listed != against.meant
    # Between its own address and itself nobody judges; between two of its own somebody does.
    held = read(text)
    home = held.own[0].start
    assert not act(held, Packet(4, 6, 1, 22), home, home).judged


def test_keep_open_reaches_the_points_themselves(shipped_mended: Path, oaktag: Any) -> None:
    """Management of the points stays open only where their own lists let it in."""
    at = ("-C", shipped_mended)
    config = shipped_mended / "oaktag.yaml"
    config.write_text(
        config.read_text().replace(
            "keep_open:\n", "keep_open:\n  - {from: network-desk, to: points, service: ssh}\n"
        )
    )
    _guarding(shipped_mended)
    network = shipped_mended / "network.yaml"
    ran = oaktag(*at, "expect", "--json")
    told = next(e for e in ran.json["keep_open"] if e["line"] == 18)
    # county-exit has an address of no group: nothing is open toward untagged.
    assert not told["holds"], told
    network.write_text(
        network.read_text().replace(
            "    address: 10.20.0.2\n", "    address: 10.20.0.2\n    group: core-services\n"
        )
    )
    assert oaktag(*at, "expect").status == 0
    rows = oaktag(*at, "reach", "--json").json
    assert set(rows["summary"]["effects"]) == {"exact"}
    # A list that lets nobody in is seen before it is loaded.
    layer = next((shipped_mended / "matrix").glob("10-*.csv"))
    layer.write_text(layer.read_text() + "network-desk,core-services,nothing,enforce,to,,,test\n")
    ran = oaktag(*at, "expect", "--json")
    assert ran.status == 1
    assert [e["holds"] for e in ran.json["keep_open"]].count(False) >= 1
    network.write_text(network.read_text().replace(HOMES, "").replace(ADDRESS, ""))
    found = oaktag(*at, "check", "--json").json["findings"]
    assert [f["code"] for f in found if f["code"] == "OT415"] == ["OT415"]


@pytest.mark.usefixtures("real_kernel")
def test_a_lab_knocks_at_the_points_themselves(shipped_mended: Path, oaktag: Any) -> None:
    """What is for the node itself is dropped where its programs would hear it, and told."""
    _guarding(shipped_mended)
    at = ("-C", shipped_mended)
    try:
        assert oaktag(*at, "lab", "up").status == 0
        denied = oaktag(*at, "lab", "probe", "patrons", "hall-edge", "ssh", "--json").json
        assert set(denied["summary"]) == {"as meant"}, denied["summary"]
        assert {p["meant"] for p in denied["probes"]} == {"deny"}
        allowed = oaktag(*at, "lab", "probe", "network-desk", "hall-edge", "ssh", "--json").json
        assert {p["meant"] for p in allowed["probes"]} == {"allow"}
        assert set(allowed["summary"]) == {"as meant"}
        assert oaktag(*at, "lab", "state").status == 0
        assert "all that is reported is as intended" in oaktag(*at, "drift", "observed").out
        # A list that forgets the node's address is a leak, as its reader has it.
        held = shipped_mended / "observed" / "hall-edge.nft"
        text = held.read_text().replace("\t10.20.200.1\n", "\t10.20.200.5\n")
        held.write_text(text.replace("10.20.200.1 . 10.20.200.1", "10.20.200.5 . 10.20.200.5"))
        report = held.with_suffix(".json")
        report.write_text(re.sub(r'"sha256": "[0-9a-f]+"', '"sha256": null', report.read_text()))
        told = oaktag(*at, "drift", "observed", "--json")
        (row,) = told.json["drift"]
        assert row["kind"] == "lists" and row["known"] and row["leaks"] > 10, row
    finally:
        oaktag(*at, "lab", "down")


#: In namespaces: a host and a node with one address of each family, and the node's list. A program
#: in the host asks the node on a port that is allowed, and on one that is not.
NEIGHBOURS = r"""
set -e
mount -t tmpfs t /run && mkdir /run/netns
ip netns add host
ip link add v0 type veth peer name v1 netns host
for where in "" "ip netns exec host"; do
  $where sh -c 'echo 0 > /proc/sys/net/ipv6/conf/all/accept_dad; echo 0 > /proc/sys/net/ipv6/conf/default/accept_dad'
done
ip addr add 2001:db8:1::fe/64 dev v0 nodad && ip addr add 10.1.0.254/24 dev v0 && ip link set v0 up && ip link set lo up
ip netns exec host sh -c 'ip addr add 2001:db8:1::1/64 dev v1 nodad; ip addr add 10.1.0.1/24 dev v1; ip link set v1 up'
nft -f "$1"
python3 - "$2" <<'PY'
import socket, subprocess, sys
for family, address in ((socket.AF_INET6, "2001:db8:1::fe"), (socket.AF_INET, "10.1.0.254")):
    for port in (443, 22):
        server = socket.socket(family)
        server.bind((address, port))
        server.listen()
        asked = subprocess.run(
            ["ip", "netns", "exec", "host", sys.executable, "-c",
             f"import socket; socket.create_connection(({address!r}, {port}), 3)"], capture_output=True)
        print(address, port, asked.returncode == 0)
        server.close()
PY
"""


def test_a_guarded_node_keeps_its_neighbours(tmp_path: Path, real_kernel: None) -> None:
    """Neighbour discovery is never judged: a node that guards itself is still found by IPv6."""
    files = {
        "oaktag.yaml": "workspace: w\ndefault: deny\nlayers: [m.csv]\n"
        "sources: [{file: s.csv, kind: server, id: name, address: ip}]\n",
        "groups.yaml": "groups: [{id: readers, tag: 310}, {id: gear, tag: 600}]\n",
        "assignments.yaml": "rules: [{give: readers, when: {id: r1}}]\n",
        "permissions.yaml": "permissions:\n  web:\n    - allow: https\n",
        "m.csv": "source,destination,permission\nreaders,gear,web\n",
        "s.csv": "name,ip\nr1,10.1.0.1;2001:db8:1::1\n",
        "network.yaml": "nodes:\n  - {node: gate, address: [10.1.0.254, 2001:db8:1::fe], group: gear, point: {own: true, inside: true}}\n"
        "segments:\n  - {segment: a, node: gate, prefixes: [10.1.0.0/24, 2001:db8:1::/64]}\n"
        "feeds: [{from: registry, to: gate}]\n",
    }  # fmt: skip
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    workspace = package.Workspace.load(tmp_path)
    (made,) = workspace.compile(tmp_path / "lists").points
    assert made["proved"]
    done = subprocess.run(
        ["unshare", "-Urnmpf", "--mount-proc", "--kill-child", "sh", "-c", NEIGHBOURS, "sh", made["file"]],
        capture_output=True, text=True, timeout=120,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    met = dict(line.rsplit(" ", 1) for line in done.stdout.splitlines())
    assert met == {
        f"{a} {p}": str(p == 443) for a in ("2001:db8:1::fe", "10.1.0.254") for p in (443, 22)
    }
    # A list without it cuts the node off, and is refuted.
    file = Path(made["file"])
    text = file.read_text()
    step = "\t\tip6 hoplimit 255 icmpv6 type 133-137 accept\n"
    assert step in text
    file.write_text(text.replace(step, ""))
    (proved,) = workspace.prove(tmp_path / "lists").points
    assert not proved["equal"]
