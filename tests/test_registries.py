"""Several registries: what each holds, what the loss of one does, and what is wrong with one."""

from __future__ import annotations

from collections.abc import Callable
from ipaddress import ip_network
from pathlib import Path

import jsonschema
import pytest

from conftest import Ran
from test_commands import _schema

Run = Callable[..., Ran]
NORTH = "{registry: north, sites: [central, ashgrove]}"
SOUTH = '{registry: south, prefixes: [10.20.0.0/16, "2001:db8:20::/48"]}'


def _several(folder: Path, *registries: str, **feeds: str) -> None:
    """Some registries, and who feeds whom by them in place of the registry."""
    network = folder / "network.yaml"
    text = network.read_text()
    listed = "".join(f"  - {r}\n" for r in registries)
    text = text.replace("\nfeeds:\n", f"\nregistries:\n{listed}\nfeeds:\n")
    for node, sender in feeds.items():
        node = node.replace("_", "-")
        assert f"{{from: registry, to: {node}}}" in text
        text = text.replace(f"{{from: registry, to: {node}}}", f"{{from: {sender}, to: {node}}}")
    network.write_text(text)


def test_what_a_registry_holds_and_its_loss(shipped_mended: Path, oaktag: Run) -> None:
    """A registry of sites holds what is at their segments and nodes, one of prefixes what is inside
    them; with two at each point no loss of one does harm that the loss of a feed does not."""
    folder = shipped_mended
    whole = {
        (r["prefix"], r["tag"]) for r in oaktag("-C", folder, "bindings", "--json").json["bindings"]
    }
    _several(folder, NORTH, SOUTH, hall_edge="north", county_exit="south")
    text = (folder / "network.yaml").read_text()

    def held(name: str) -> set[tuple[str, int]]:
        rows = oaktag("-C", folder, "bindings", "--at", name, "--json").json["bindings"]
        return {(r["prefix"], r["tag"]) for r in rows}

    inside = [ip_network(p) for p in ("10.20.0.0/16", "2001:db8:20::/48")]
    assert held("south") == {
        (p, tag) for p, tag in whole
        if any(ip_network(p).version == w.version and ip_network(p).subnet_of(w) for w in inside)  # type: ignore[arg-type]
    }  # fmt: skip
    north = {
        *(f"10.20.{n}.0/24" for n in (1, 2, 3, 4, 11, 12)), "10.20.0.1/32", "10.20.0.2/32",
        *(f"2001:db8:20:{n}::/64" for n in (1, 2, 3, 11, 12)),
    }  # fmt: skip
    assert held("north") == {
        (p, tag) for p, tag in whole
        if any(ip_network(p).version == ip_network(w).version and ip_network(p).subnet_of(ip_network(w))  # type: ignore[arg-type]
               for w in north)
    }  # fmt: skip
    ends = oaktag("-C", folder, "bindings", "--feed", "north>hall-edge", "--json").json
    assert ends["sender"] == "north"
    assert {e["said"] for e in ends["ends"] if e["prefix"].startswith("10.20.21.")} == {
        "not of north"
    }
    ran = oaktag("-C", folder, "reach", "--failures", "--json")
    jsonschema.validate(ran.json, _schema("reach-failures"))
    lost = {f["name"]: f for f in ran.json["failures"] if f["kind"] == "registry"}
    assert set(lost) == {"registry", "north", "south"} and lost["north"]["breaks"] > 0
    # Both points have both: either alone would do.
    twice = "".join(
        f"  - {{from: {r}, to: {node}}}\n"
        for r, node in (("registry", "hall-edge"), ("registry", "county-exit"), ("one", "hall-edge"),
                        ("one", "county-exit"))
    )  # fmt: skip
    text = text.replace(NORTH, "{registry: one}").replace("from: north", "from: one")
    (folder / "network.yaml").write_text(
        text.replace("from: south", "from: one").rstrip() + "\n" + twice
    )
    rows = oaktag("-C", folder, "reach", "--failures", "--json").json["failures"]
    (one,) = (f for f in rows if f["name"] == "one")
    assert (one["kind"], one["leaks"], one["breaks"], one["one_way"]) == ("registry", 0, 0, 0)


@pytest.mark.usefixtures("real_kernel")
def test_a_registry_that_is_lost_in_the_lab(shipped_mended: Path, oaktag: Run) -> None:
    """Its feeds end, the points that it fed alone know nothing then; healed, all is as before."""
    _several(shipped_mended, SOUTH, hall_edge="south")
    try:
        assert oaktag("-C", shipped_mended, "lab", "up", "--sites", "hall", "--json").status == 0
        broken = oaktag("-C", shipped_mended, "lab", "break", "registry", "south")
        assert "feed south>hall-edge: is gone" in broken.out
        assert "broken: registry south" in broken.out
        assert oaktag("-C", shipped_mended, "lab", "heal", "--json").json["broken"] == []
    finally:
        oaktag("-C", shipped_mended, "lab", "down")


def test_what_is_wrong_with_a_registry(shipped_mended: Path, oaktag: Run) -> None:
    """Each fault with its place, all together."""
    _several(
        shipped_mended, "{registry: hall-edge}", "{registry: north, sites: [ashgorve]}",
        "{registry: north, prefixes: [10.20.0.0/16], sites: [hall]}", "{registry: registry}",
        "{sites: [hall]}", hall_edge="nroth",
    )  # fmt: skip
    ran = oaktag("-C", shipped_mended, "check")
    assert ran.status in (1, 2) and "Traceback" not in ran.err
    for told in (
        "the registry 'hall-edge' is there twice", "there is no site 'ashgorve' (perhaps ashgrove)",
        "the registry 'north' is there twice", "a registry is of prefixes or of sites",
        "'registry' is a word of Oak Tag's own", "the key 'registry'",
        "there is no node 'nroth' (perhaps north)",
    ):  # fmt: skip
        assert told in ran.err + ran.out, (told, ran.err, ran.out)
