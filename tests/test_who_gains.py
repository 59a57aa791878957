"""Who gains and who loses between two versions: against every pair of beings, packet by packet."""

from __future__ import annotations

import copy
import json
import shutil
import time
from itertools import product
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import oaktag as package
from conftest import Ran
from networks import random_net, write_net
from oaktag.operations.gains import together
from oaktag.testing.slow import Packet
from oaktag.testing.slow_reach import Net
from oaktag.testing.strategies import GROUPS, permissions
from sizes import scaled
from test_reach import nets
from words import words_hold

Run = Any
Gains = dict[tuple[Any, Any], set[Packet]]
PINS = ("10.1.0.0/24", "10.1.0.64/26", "10.2.0.0/30", "10.3.0.0/16")


@st.composite
def versions(draw: st.DrawFn) -> tuple[Net, Net]:
    """A workspace, and the same after some changes."""
    was = draw(nets())
    now = copy.deepcopy(was)
    groups = st.sampled_from((*GROUPS, None))
    for _ in range(draw(st.integers(0, 3))):
        kind = draw(
            st.sampled_from(
                ("group", "group", "line", "off", "permission", "set", "default", "tag", "pin", "session", "gone")
            )
        )  # fmt: skip
        being = draw(st.sampled_from(now.beings))
        layer = draw(st.sampled_from(now.stack.layers))
        if kind == "group":
            being.group = draw(groups)
        elif kind == "line" and layer:
            layer[draw(st.integers(0, len(layer) - 1))]["source"] = draw(st.sampled_from(("ada", "front", "untagged")))  # fmt: skip
        elif kind == "off" and layer:
            layer.pop(draw(st.integers(0, len(layer) - 1)))
        elif kind == "permission":
            now.stack.permissions[draw(st.sampled_from(sorted(now.stack.permissions)))] = draw(
                permissions
            )
        elif kind == "set":
            now.stack.sets["front"] = draw(
                st.lists(st.sampled_from((*GROUPS, "untagged")), min_size=1, unique=True)
            )
        elif kind == "default":
            now.stack.default = "allow" if now.stack.default == "deny" else "deny"
        elif kind == "tag":
            draw(st.sampled_from(now.segments))["tag"] = draw(
                st.sampled_from((*GROUPS, "untagged"))
            )
        elif kind == "pin":
            now.pins.append(
                {
                    "prefix": draw(st.sampled_from(PINS)),
                    "group": draw(st.sampled_from(sorted(GROUPS))),
                }
            )
        elif kind == "session":
            now.sessions.append((being.name, draw(st.sampled_from(("10.1.0.9", "10.2.0.9"))), 4))
        elif kind == "gone" and len(now.beings) > 2:
            now.beings.remove(being)
    return was, now


def plainly(was: Net, now: Net) -> tuple[Gains, Gains]:
    """The packets that each pair gains and loses, by trying them all."""
    packets = list(dict.fromkeys([*was.stack.packets(), *now.stack.packets()]))
    beings: list[tuple[Any, list[tuple[set[str], set[str]]]]] = []
    for one in was.beings:
        for two in now.beings:
            if one.name == two.name:
                held, holds = _groups(was, one), _groups(now, two)
                if held.keys() == holds.keys():
                    both = [({held[a]}, {holds[a]}) for a in held]
                else:
                    both = [(set(held.values()), set(holds.values()))]
                beings.append((one.name, both))
    beings += [
        ((segment, after), [({before}, {after})]) for segment, before, after in _unknown(was, now)
    ]

    def allowed(net: Net, sources: set[str], destinations: set[str]) -> set[Packet]:
        return {
            p for p in packets
            if any(net.stack.decide(s, d, p, "action")[0] == "allow" for s in sources for d in destinations)
        }  # fmt: skip

    gained: Gains = {}
    lost: Gains = {}
    for a, ones in beings:
        for b, twos in beings:
            if a == b and isinstance(a, str):
                continue
            for s in ones:
                for d in twos:
                    before, after = allowed(was, s[0], d[0]), allowed(now, s[1], d[1])
                    for table, more in ((gained, after - before), (lost, before - after)):
                        if more:
                            table.setdefault((a, b), set()).update(more)
    return gained, lost


def _groups(net: Net, being: Any) -> dict[str, str]:
    """Address → group of somebody; a whole network by the first address of each part of it."""
    if being.group:
        return {"": being.group}
    held = net.registry()
    single = {a: net.tag(held, a) for a, _ in net.places(being) if "/" not in a}
    wide = {a: g for name, a, _, g in net.people() if name == being.name and a not in single}
    return {**single, **wide} or {"": "untagged"}


def _unknown(was: Net, now: Net) -> set[tuple[str, str, str]]:
    """Segment and both groups of hosts that nobody knows in either version."""
    every = [copy.deepcopy(net) for net in (was, now)]
    tagged = {s["segment"] for net in every for s in net.segments if "tag" in s}
    for net in every:
        for segment in net.segments:
            segment.setdefault("tag", "untagged")
    told = set()
    for address in {*was.telling_addresses(), *now.telling_addresses()}:
        one, two = (net.standing(address) for net in every)
        strangers = one and two and one[0][0] is None and two[0][0] is None
        if strangers and one[0][1] == two[0][1] in tagged:
            groups = [net.tag(net.registry(), str(address)) for net in (was, now)]
            told.add((one[0][1], *groups))
    return told  # type: ignore[return-value]


def told(rows: list[dict[str, Any]], packets: list[Packet]) -> Gains:
    """The same of what the product says."""
    found: Gains = {}
    for row in rows:
        some = {p for p in packets if words_hold(row["packets"], p)}
        for a in row["sources"]:
            for b in row["destinations"]:
                ends = [e if isinstance(e, str) else (e["segment"], e["group"]) for e in (a, b)]
                if ends[0] != ends[1] or not isinstance(ends[0], str):
                    found.setdefault((ends[0], ends[1]), set()).update(some)
    return found


@settings(max_examples=scaled(80))
@given(both=versions())
def test_each_pair_gains_and_loses_what_is_said(both: tuple[Net, Net], tmp_path: Path) -> None:
    was, now = both
    for net, name in ((was, "was"), (now, "now")):
        shutil.rmtree(tmp_path / name, ignore_errors=True)
        (tmp_path / name).mkdir()
        write_net(net, tmp_path / name)
    workspace = package.Workspace.load(tmp_path / "now")
    result = workspace.compare(f"{tmp_path}/was")
    packets = list(dict.fromkeys([*was.stack.packets(), *now.stack.packets()]))
    gained, lost = plainly(was, now)
    assert told(result.gained, packets) == gained
    assert told(result.lost, packets) == lost
    for verb, pairs in (("gain", gained), ("lose", lost)):
        senders = {a for a, _ in pairs}
        segments = {a[0] for a in senders if not isinstance(a, str)}
        known = sum(isinstance(a, str) for a in senders)
        assert result.affected[verb] == {"endpoints": known, "segments": len(segments)}
    names = [{b.name for b in net.beings} for net in (was, now)]
    assert {n for r in result.new for n in r["endpoints"]} == names[1] - names[0]
    assert {n for r in result.gone for n in r["endpoints"]} == names[0] - names[1]
    for row in (*result.gained, *result.lost):
        cause = row["cause"]
        held = [
            (tmp_path / v / cause["file"]).read_text().splitlines()
            for v in ("was", "now") if (tmp_path / v / cause["file"]).exists()
        ]  # fmt: skip
        assert any((cause["line"] or 1) <= len(lines) for lines in held), cause
    back = package.Workspace.load(tmp_path / "was").compare(f"{tmp_path}/now")
    # The other way round the unknown hosts of a segment are in the group of the older version.
    flat = [
        {(a, b): some for (a, b), some in told(rows, packets).items() if isinstance(a, str) and isinstance(b, str)}
        for rows in (result.gained, result.lost, back.lost, back.gained)
    ]  # fmt: skip
    assert flat[:2] == flat[2:]


def end(place: dict[str, str]) -> tuple[str, str]:
    return place["segment"], place["group"]


def amiss(workspace: package.Workspace, packets: list[Packet]) -> dict[Any, set[Packet]]:
    """Which of some packets leak, break or lose their answers between two ends, on any path."""
    found: dict[Any, set[Packet]] = {}
    for row in workspace.reach().flows:
        for box in row["packets"]:
            axes = (box[axis] for axis in ("protocols", "source_ports", "destination_ports"))
            ranges = [[(box["family"], box["family"])], *axes]
            key = box["effect"], end(row["source"]), end(row["destination"])
            found.setdefault(key, set()).update(
                p for p in packets
                if all(any(low <= n <= high for low, high in r) for n, r in zip(p, ranges, strict=True))
            )  # fmt: skip
    return found


@pytest.mark.parametrize(
    "seed, source, destination, does",
    [(0, "front", "front", "all"), (2, "*", "front", "web"), (0, "di", "untagged", "web")],
)
def test_what_a_line_does_to_the_network_is_told(
    seed: int, source: str, destination: str, does: str, tmp_path: Path
) -> None:
    """Of a line that changes only those groups are looked at again that it can touch: the rows of
    both versions, each made by itself, say the same."""
    was = write_net(random_net(seed), tmp_path)
    (layer,) = (file.name for file in (tmp_path / "matrix").iterdir())
    change = was.set_line(source, destination, does, layer=layer, write=True, anyway=True)
    assert change.network
    others = ((17, 9, 9), (50, 0, 0), (1, 8, 0), (58, 128, 0))
    ports = [*product((9, 80, 443, 2000), repeat=2)]
    packets = [
        (family, *sent) for family in (4, 6) for sent in (*others, *((6, s, d) for s, d in ports))
    ]
    now = package.Workspace.load(tmp_path)
    here, there = amiss(now, packets), amiss(was, packets)
    assert sorted((r["new"], r["effect"], end(r["source"]), end(r["destination"])) for r in change.network) == sorted(
        (new, *key)
        for new, one, other in ((True, here, there), (False, there, here))
        for key, some in one.items()
        if some - other.get(key, set())
    )  # fmt: skip
    versions = together(was.model, now.model)
    looked_at = versions[0].state.wrong_flows_under(versions[0].hosts, versions[1].matrix)
    every = [v.state.wrong_flows(v.hosts) for v in versions]
    left = [[f for f in one if f not in some] for one, some in zip(every, looked_at, strict=True)]
    assert left[0] == left[1]
    assert [len(one) - len(some) for one, some in zip(every, left, strict=True)] == [
        *map(len, looked_at)
    ]


def changed(folder: Path, name: str, old: str, new: str) -> None:
    text = (folder / name).read_text()
    assert old in text, old
    (folder / name).write_text(text.replace(old, new, 1))


@pytest.fixture
def before(shipped_mended: Path, tmp_path: Path) -> Path:
    return Path(shutil.copytree(shipped_mended, tmp_path / "before"))


#: File, old text, new text; kind, file and line of the cause of what somebody gains; who gains.
CAUSES = (
    ("assignments.yaml", "  - {endpoint: ivo, group: network-desk", "  - {endpoint: dirk, group: librarians}\n  - {endpoint: ivo, group: network-desk", ("move", "assignments.yaml", 2), {"dirk"}),
    ("matrix/10-shared.csv", "\nin-library,hall,", "\npatrons,loans-db,all,enforce,to,,,\nin-library,hall,", ("line", "matrix/10-shared.csv", 13), "patrons"),
    ("groups.yaml", "in-library: [people,", "in-library: [catalogue, people,", ("set", "groups.yaml", None), None),
    ("permissions.yaml", "    - allow: [25/tcp, 587/tcp]", "    - allow: [25/tcp, 587/tcp, 465/tcp]", ("permission", "permissions.yaml", 51), None),
    ("permissions.yaml", "  loans-api: [8443/tcp, 8444/tcp]", "  loans-api: [8443/tcp, 8444/tcp, 8445/tcp]", ("service", "permissions.yaml", None), None),
)  # fmt: skip


@pytest.mark.parametrize(("name", "old", "new", "cause", "who"), CAUSES, ids=lambda v: str(v)[:24])
def test_what_somebody_gains_has_its_cause(
    name: str, old: str, new: str, cause: Any, who: Any, shipped_mended: Path, before: Path
) -> None:
    changed(shipped_mended, name, old, new)
    result = package.Workspace.load(shipped_mended).compare(f"{before}/")
    held = {(r["cause"]["kind"], r["cause"]["file"], r["cause"]["line"]) for r in result.gained}
    assert {c[:2] for c in held} == {cause[:2]} and cause[2] in (None, *(c[2] for c in held))
    workspace = package.Workspace.load(before)
    if who == "patrons":
        who = {e["endpoint"] for e in workspace.members("patrons").endpoints}
        assert {r["source_count"] for r in result.gained} == {len(who)}
        assert result.affected["gain"] == {"endpoints": len(who), "segments": 0} and len(who) > 50
        assert {s for r in result.gained for s in r["sources"]} <= who
    elif who:
        assert {s for r in result.gained for s in r["sources"]} == who
        assert {r["cause"]["count"] for r in result.gained} == {len(who)}


def test_a_split_that_changes_nothing_for_anybody_is_told_as_such(
    shipped_mended: Path, before: Path, oaktag: Run
) -> None:
    ran: Ran = oaktag("-C", shipped_mended, "split", "librarians", "evening", "--endpoints", "ada", "--write", "--json")  # fmt: skip
    if ran.status:
        ran = oaktag("-C", shipped_mended, "split", "librarians", "evening", "--when", "id=ada", "--write", "--json")  # fmt: skip
    assert ran.status == 0, ran.err
    said = ran.json
    assert (said["gained"], said["lost"]) == ([], [])
    assert [(r["was"], r["is"], r["endpoints"]) for r in said["same_access"]] == [("librarians", "evening", ["ada"])]  # fmt: skip
    ran = oaktag("-C", shipped_mended, "compare", f"{before}/", "--fail-on", "gained")
    assert ran.status == 0 and ran.out.startswith("nobody gains and nobody loses")
    assert "with the same access as before" in ran.out


def test_the_gate_sees_people_and_not_cells(
    shipped_mended: Path, before: Path, oaktag: Run
) -> None:
    """Nobody's cell opens, and the cook is in the payroll's group."""
    asked = ("-C", shipped_mended, "pin", "dirk", "--to", "librarians")
    cause = oaktag(*asked, "--json").json["gained"][0]["cause"]
    assert (cause["kind"], cause["endpoint"], cause["was"], cause["is"]) == ("move", "dirk", "patrons", "librarians")  # fmt: skip
    ran: Ran = oaktag(*asked, "--write")
    assert ran.status == 0 and ran.out.startswith("1 endpoint gains; nobody loses")
    ran = oaktag("-C", shipped_mended, "compare", f"{before}/", "--fail-on", "gained")
    assert ran.status == 1 and ran.out.startswith("1 endpoint gains; nobody loses")
    assert oaktag("-C", shipped_mended, "compare", f"{before}/", "--fail-on", "opened").status == 0
    said = oaktag("-C", shipped_mended, "compare", f"{before}/", "--summary").out
    assert said.startswith("**1 endpoint gains; nobody loses**") and "| dirk |" in said


def test_whoever_is_in_no_group_is_counted_as_untagged(sample: Path, oaktag: Run) -> None:
    asked = ("-C", sample, "grant", "untagged", "catalogue", "22/tcp", "--json")
    (cell,) = oaktag(*asked).json["cells"]
    said = oaktag("-C", sample, "members", "--all", "--json").json["endpoints"]
    alone = [r for r in said if r["group"] in (None, "untagged")]
    assert (cell["source_members"], cell["destination_members"]) == (len(alone), 2) == (1, 2)


def test_sessions_beside_the_files_are_of_one_version_alone(sample: Path, tmp_path: Path) -> None:
    """Two folders of the same files, in one of which somebody has a session besides: what both hold
    to the byte is read once, who is where is not."""
    shutil.copytree(sample, tmp_path / "was")
    assert not package.Workspace.load(sample).compare(tmp_path / "was").points
    since = int((time.time() - 60) * 1e6)
    (sample / ".oaktag").mkdir(exist_ok=True)
    session = ["ada", "10.20.1.77/32", since, "central-access", False, {}]
    (sample / ".oaktag/live.json").write_text(json.dumps([session]))
    for here, there, was, now in (
        (sample, tmp_path / "was", None, "librarians"),
        (tmp_path / "was", sample, "librarians", None),
    ):
        (point,) = package.Workspace.load(here).compare(there).points
        assert point["bindings"] == [{"addresses": "10.20.1.77", "was": was, "is": now}]
