"""Questions about who: the answer is the union of a trace of every pair of addresses."""

from __future__ import annotations

import copy
import shutil
from collections import defaultdict
from collections.abc import Callable
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

import oaktag as package
from conftest import Ran
from networks import write_net
from oaktag.testing.slow_reach import Net
from sizes import scaled
from test_reach import nets
from words import words_hold

Run = Callable[..., Ran]
SCHEMAS = Path(package.__file__).parent / "schemas"
HOW = {"leak": "by a leak", "break": "not, though allowed", "one-way": "without its answer"}
#: A service, and packets of it, one with each sender's port that entries may ask for.
SERVICES = {
    "443/tcp": [(f, 6, port, 443) for f in (4, 6) for port in (50_000, 123, 40)],
    "85/tcp": [(f, 6, port, 85) for f in (4, 6) for port in (50_000, 123, 40)],
    "icmp/echo-request": [(4, 1, 8, 0), (6, 58, 128, 0)],
    "5005/udp": [(f, 17, port, 5005) for f in (4, 6) for port in (50_000, 123, 40)],
}


@st.composite
def workspaces(draw: st.DrawFn) -> Net:
    """A network, perhaps with a node that is in a group and guards itself."""
    net = draw(nets())
    # A trace from an address asks for everybody there: so that it says whose packets it follows,
    # each address is one being's.
    net.sessions.clear()
    seen: set[str] = set()
    for being in net.beings:
        being.addresses = [a for a in being.addresses if a not in seen]
        seen.update(being.addresses)
    net.beings = [b for b in net.beings if b.addresses]
    if draw(st.booleans()):
        node = draw(st.sampled_from(net.nodes))
        node["address"] = draw(st.sampled_from(("10.1.0.77", "10.3.0.250", "192.0.2.77")))
        node["group"] = draw(st.sampled_from(("ada", "bo", "cy")))
        for point in node["points"]:
            point["own"] = True
    return net


def everybody(net: Net) -> dict[str, str | None]:
    """Addresses, one of each that anything tells apart, and whose they are (None: nobody knows)."""
    found: dict[str, str | None] = {
        address: None if name.startswith("unknown at ") else name
        for name, address, _, _ in net.people()
    }
    guarding = [
        n for n in net.nodes if "group" in n and any(p["mode"] != "off" for p in n["points"])
    ]
    return found | {str(n["address"]): n["node"] for n in guarding}


def traced(workspace: package.Workspace, a: str, b: str, service: str) -> set[str]:
    """How packets fare from one address to another, over all paths."""
    try:
        result = workspace.trace(a, b, service)
    except package.UsageError:
        return set()  # of two families, or nobody is there
    told = set()
    for path in result.paths:
        if path["effect"] in HOW:
            told.add(HOW[path["effect"]])
        elif "arrives, as meant" in path["verdict"]:
            told.add("as meant")
        elif not path["path"] and workspace.decide(a, b, service).action != "deny":
            told.add("not, though allowed")
    return told


def _loaded(net: Net, folder: Path) -> package.Workspace:
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    write_net(net, folder)
    return package.Workspace.load(folder)


@settings(max_examples=scaled(20))
@given(net=workspaces(), service=st.sampled_from(sorted(SERVICES)))
def test_who_gets_through_is_the_union_of_all_traces(
    net: Net, service: str, tmp_path: Path
) -> None:
    workspace = _loaded(net, tmp_path / "w")
    model = workspace.model
    held = everybody(net)
    groups = {a: model.groups.all[_group(net, model, a, name)].id for a, name in held.items()}
    ways = {(a, b): traced(workspace, a, b, service) for a in held for b in held}
    for group in dict.fromkeys(groups.values()):
        for command, here in (("callers", 1), ("callees", 0)):
            meant: dict[tuple[str, str], set[str | None]] = defaultdict(set)
            for ends, hows in ways.items():
                if groups[ends[here]] == group:
                    for how in hows:
                        meant[groups[ends[1 - here]], how].add(held[ends[1 - here]])
            ask = getattr(workspace, f"real_{command}")
            said = {(r["group"], r["how"]): {*r["endpoints"], *[None] * bool(r["unknown_in"])}
                    for r in ask(group, service).ends}  # fmt: skip
            assert said == dict(meant), (command, group)


def _group(net: Net, model: Any, address: str, name: str | None) -> int:
    being = next((b for b in net.beings if b.name == name), None)
    if being is not None and being.group:
        return int(model.groups.index[being.group])
    return int(model.groups.index[net.tag(net.registry(), address)]) if being or name is None else int(
        model.groups.index[next(n["group"] for n in net.nodes if n["node"] == name)]
    )  # fmt: skip


@settings(max_examples=scaled(20))
@given(net=workspaces(), segment=st.sampled_from(("s0", "s1", "s2", "s3")))
def test_what_a_newcomer_obtains_is_the_union_of_all_traces(
    net: Net, segment: str, tmp_path: Path
) -> None:
    workspace = _loaded(net, tmp_path / "w")
    tagged = copy.deepcopy(net)
    for one in tagged.segments:
        one.setdefault("tag", "untagged")
    strangers = [
        a for name, a, where, _ in tagged.people() if name == f"unknown at {a}" and where == segment
    ]
    if not strangers:
        return
    result = workspace.newcomer(segment)
    held = everybody(net)
    groups = {
        a: workspace.model.groups.all[_group(net, workspace.model, a, name)].id
        for a, name in held.items()
    }
    obtained = {r["group"]: r for r in result.obtains}
    for service, packets in SERVICES.items():
        through: dict[str, set[str]] = defaultdict(set)
        for stranger in strangers:
            for other, group in groups.items():
                through[group] |= traced(workspace, stranger, other, service)
        for group, hows in through.items():
            words = obtained.get(group, {"passes": [], "unanswered_text": ""})["passes"]
            passes = any(words_hold(words, packet) for packet in packets)
            assert passes == bool(hows & {"as meant", "by a leak"}), (service, group, hows)


def test_a_service_that_is_none_and_a_name_that_is_none(shipped: Path, oaktag: Run) -> None:
    for words in (("callers", "nobody", "--real"), ("callees", "ada", "9/none", "--real"),
                  ("callers", "ada", "--real", "--endpoints")):  # fmt: skip
        assert oaktag("-C", shipped, *words).status == 2
    ran = oaktag("-C", shipped, "callers", "tablets", "--real")
    assert ran.status == 0 and "1 of them by a leak" in ran.out, ran


def test_a_segment_that_is_not_there_and_a_group_that_is_known(shipped: Path, oaktag: Run) -> None:
    ran = oaktag("-C", shipped, "describe", "untagged", "--in", "hall-dat")
    assert ran.status == 2 and "perhaps hall-data" in ran.err
    assert oaktag("-C", shipped, "describe", "patrons", "--in", "hall-data").status == 2
    # A segment whose own tag is a group's: a newcomer is taken for one of that group.
    text = (shipped / "network.yaml").read_text()
    put = text.replace("{segment: hall-data,", "{segment: hall-data, tag: kiosks,", 1)
    (shipped / "network.yaml").write_text(put)
    said = oaktag("-C", shipped, "describe", "untagged", "--in", "hall-data", "--json").json
    assert {h["group"] for h in said["hosts"]} == {"kiosks"}
    assert "loans-db" in {r["group"] for r in said["obtains"]}
