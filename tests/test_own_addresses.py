"""A point that guards its node's own addresses: compiled, proved, refuted, told, loaded and probed."""

from __future__ import annotations

import re
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
