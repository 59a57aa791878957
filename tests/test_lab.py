"""The lab: real namespaces, tags in real frames, feeds that fill tables, packets that pass or not."""

from __future__ import annotations

import contextlib
import json
import shutil
import signal
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from conftest import Ran
from networks import SEEDS, random_net, write_net
from oaktag import Workspace
from oaktag.core.addresses import parse_prefix
from oaktag.core.session_records import Record
from oaktag.demo.walk import wrong
from oaktag.errors import UsageError
from oaktag.lab.handle import Lab, _alive
from oaktag.operations import lab
from oaktag.operations.lab import LabProbed
from oaktag.operations.lab_plan import Beings
from oaktag.operations.lab_probe import FARED, Telling
from oaktag.operations.lab_reach import reach_agrees
from oaktag.operations.lab_trials import Trying
from oaktag.store import Store
from oaktag.testing.slow import Stack
from oaktag.testing.slow_reach import Being, Net
from oaktag.workspace.config_file import DAY
from oaktag.workspace.whereabouts import url_of
from sizes import scaled
from test_commands import _schema
from test_corners import build
from test_matrix import in_box
from test_reach import ADDRESSES, GROUPS, maybe, nets, points

Run = Callable[..., Ran]


VERDICTS = {"leak": "passes though denied", "break": "blocked though allowed"}


@pytest.mark.usefixtures("real_kernel")
def test_what_reach_predicts_is_what_packets_meet(oaktag: Run, sample: Path) -> None:
    """Before lists everything works; after, exactly the flows that reach names go wrong."""
    up = oaktag("-C", sample, "lab", "up", "--json")
    try:
        assert up.status == 0, up
        jsonschema.validate(up.json, _schema("lab-up"))
        ran = oaktag("-C", sample, "lab", "probe", "--json")
        again = oaktag("-C", sample, "lab", "probe")
    finally:
        down = oaktag("-C", sample, "lab", "down", "--json")
    assert down.json["was_up"] is True
    assert up.json["baseline"] == {"arrives and is answered": len(ran.json["probes"])}
    assert {f["feed"]: f["bindings"] for f in up.json["feeds"]}["registry>hall-edge"] > 40
    document = ran.json
    jsonschema.validate(document, _schema("lab-probe"))
    assert (ran.status, again.status) == (1, 1) and "counters agree" in again.out
    assert document["moved_on"] == [] and all(p["agrees"] for p in document["probes"])
    flows = {
        tuple(f[e][k] for e in ("source", "destination") for k in ("segment", "group")): f
        for f in oaktag("-C", sample, "reach", "--json").json["flows"]
    }
    seen = set()
    for probe in document["probes"]:
        ends = tuple(probe[e][k] for e in ("source", "destination") for k in ("segment", "group"))
        if ends in flows:  # a node's own address is nobody's there
            possible = {VERDICTS[p["effect"]] for p in flows[ends]["packets"]}
            assert probe["verdict"] in {"as meant", *possible}, (probe, flows[ends])
            seen.add(probe["verdict"])
    assert seen == {"as meant", *VERDICTS.values()}
    assert [c["agree"] for c in document["counters"]] == [True]
    assert document["counters"][0]["packets"] > 100
    assert dict(wrong({"lab probe": document})).keys() == {"lab probe"}
    assert [(r["for"], r["reason"]) for r in document["not_probed"]] == [
        ("expectations.yaml:5:3, IPv6", "nobody of return-sorters has an address of IPv6")
    ]


@pytest.mark.usefixtures("real_kernel")
def test_on_the_mended_sample_every_probe_is_as_meant(oaktag: Run, shipped_mended: Path) -> None:
    """And what nodes report of themselves, lists read back from the kernel, is as intended."""
    oaktag("-C", shipped_mended, "lab", "up", "--without-lists")
    try:
        early = oaktag("-C", shipped_mended, "lab", "state")
        bare = oaktag("-C", shipped_mended, "lab", "probe", "--json")
        oaktag("-C", shipped_mended, "lab", "apply")
        ran = oaktag("-C", shipped_mended, "lab", "probe", "--json")
        said = oaktag("-C", shipped_mended, "lab", "state", "--json")
        guest = oaktag(
            "-C", shipped_mended, "lab", "probe", "10.20.2.200", "198.51.100.99", "--json"
        )
        refused = [
            oaktag("-C", shipped_mended, "lab", "probe", *ends).err
            for ends in (("172.31.0.9", "hall"), ("127.0.0.3", "hall"), ("10.20.2.7", "10.20.2.7"),
                         ("10.20.2.7", "2001:db8:20:2::7"))
        ]  # fmt: skip
    finally:
        oaktag("-C", shipped_mended, "lab", "down")
    assert {p["fares"] for p in bare.json["probes"]} == {"arrives and is answered"}
    assert ran.status == 0 and set(ran.json["summary"]) == {"as meant"}
    assert {
        (p["source"]["address"], p["destination"]["address"]) for p in guest.json["probes"]
    } == {("10.20.2.200", "198.51.100.99")}
    assert guest.json["summary"] == {"as meant": len(guest.json["probes"])}
    why = (
        "is on no segment",
        "is no address for a host",
        "both ends are one host",
        "share no address family",
    )
    assert [told in said for told, said in zip(why, refused, strict=True)] == [True] * 4, refused
    assert early.status == 2 and "oaktag lab apply loads them" in early.err
    jsonschema.validate(said.json, _schema("lab-state"))
    drift = oaktag("-C", shipped_mended, "drift")
    assert (drift.status, drift.out) == (0, "all that is reported is as intended\n")
    report = json.loads((shipped_mended / "observed/hall-edge.json").read_text())
    assert sum(c["packets"] for c in report["counters"]) > 100


#: Addresses where nobody stands in a lab.
GUESTS = ("10.1.0.77", "10.2.0.78", "2001:db8:1::77")


@st.composite
def small_nets(draw: st.DrawFn) -> Net:
    """Random networks that the lab can show: an address an endpoint, a point a node at most; some
    points guard their nodes' own addresses."""
    net: Net = draw(nets())
    places = draw(st.permutations([a for a in ADDRESSES if a != "10.9.0.1"]))
    net.beings = [
        Being(f"b{n}", [address], draw(st.sampled_from((*GROUPS, None))), draw(maybe))
        for n, address in enumerate(places[:6])
    ]
    net.sessions = []  # an endpoint has one address here, where its inventory says
    for number, node in enumerate(net.nodes):
        held = [draw(points)] if draw(maybe) else []
        node["points"] = [{**p, "name": "p", "mode": "enforce", "stateful": True} for p in held]
        if draw(maybe):
            own = [f"10.8.{number}.1", f"2001:db8:8::{number}"]
            node |= {"address": own, "group": draw(st.sampled_from(GROUPS))}
            for point in node["points"]:
                point["own"] = True
        if draw(maybe):
            net.feeds.append({"from": "registry", "to": node["node"], "name": f"r-{node['node']}"})
    return net


@pytest.mark.usefixtures("real_kernel")
def test_random_networks_do_what_reach_says(tmp_path: Path) -> None:
    """Marks, links and nodes that lose them, feeds, filters, both rules for what differs, scopes,
    directions, nodes that guard themselves: for each probe, also one from an address that nobody
    stands for, what packets meet is what reach says of just those two ends."""
    seen: Counter[tuple[str, str]] = Counter()
    homes: Counter[tuple[str, bool]] = Counter()

    @settings(max_examples=scaled(14, 8), database=None, phases=[Phase.generate])
    @given(net=small_nets())
    def compare(net: Net) -> None:
        workspace, document = _probed(net, tmp_path, GUESTS)
        for probe in document["probes"]:
            held = [probe[end] for end in ("source", "destination")]
            flows = workspace.reach(*(h["address"] for h in held))["flows"]
            if len(flows) != 1:
                continue  # several paths: the lab takes one of them
            if not flows[0]["path"]:
                assert probe["verdict"] in ("cut off", "as meant")
                continue
            told = _predicted(probe, flows[0])
            assert probe["verdict"] in (told, "the answer is lost"), (probe, flows[0], net)
            seen[flows[0]["result"], told] += 1
            for end in ("source", "destination"):
                if probe[end]["segment"] is None:
                    homes[end, probe["meant"] == "allow"] += 1
                elif probe[end]["address"] in GUESTS:
                    homes["guest", probe["meant"] == "allow"] += 1

    compare()
    # Most are as meant; that some are not shows that the test can tell.
    assert len(seen) >= 2 and sum(seen.values()) > 60, seen


def _probed(net: Net, folder: Path, guests: Sequence[str] = ()) -> tuple[Workspace, LabProbed]:
    """A network in the lab, and what its probes met; the points' counters agree with them."""
    workspace = write_net(net, folder)
    lab.up(workspace.model)
    try:
        document = lab.probe(workspace.model)
        for guest in guests:
            ends = (guest, "*") if guest.endswith("7") else ("*", guest)
            with contextlib.suppress(UsageError):  # on no segment here, or nobody else is there
                document.probes.extend(lab.probe(workspace.model, *ends).probes)
        assert lab.probe(workspace.model).summary == document.summary
    finally:
        lab.down(workspace.model)
    assert all(c["agree"] for c in document["counters"]), document["counters"]
    assert all(p["agrees"] for p in document["probes"]), (document, net)
    return workspace, document


def _predicted(probe: dict[str, Any], flow: dict[str, Any]) -> str:
    """What a row of reach says of one probe's packet."""
    number = {"tcp": 6, "udp": 17, "icmp": 1}[probe["protocol"]]
    six = ":" in probe["source"]["address"]
    kind = {False: 8, True: 128}[six]
    packet = (6 if six else 4, 58 if six and number == 1 else number,
              kind if number == 1 else probe["source_port"] or 50_000,
              0 if number == 1 else probe["port"])  # fmt: skip
    wrong = [p["effect"] for p in flow["packets"] if in_box(p, packet)]
    expected = {"leak": "passes though denied", "break": "blocked though allowed"}
    return expected[wrong[0]] if wrong else "as meant"


@pytest.mark.usefixtures("real_kernel")
@pytest.mark.parametrize("second", [2, 0, 1])
def test_a_second_path_a_relay_and_a_filter(second: int, tmp_path: Path) -> None:
    """Two ways to the point: over the first, tags cross in frames; over the second they are lost,
    and what the point is told comes by a relay through a filter that keeps the sources back.

    ``second`` is how the second way's cost is: 0 more than the first's, 1 as much, 2 less.
    """
    named = {"web": {"entries": [{"allow": ["https"]}], "otherwise": None}}
    rows = [{"source": "ada", "destination": "cy", "permission": "web", "mode": "", "way": ""}]
    net = Net(
        Stack({"ada": (310, {}), "bo": (320, {}), "cy": (410, {})}, {}, named, [rows]),
        [
            {"node": "n0", "marks": True, "points": []},
            {"node": "n1", "carries": True, "relays": True, "points": []},
            {"node": "n2", "carries": True, "points": []},
            {"node": "n3", "points": [{"name": "p", "outside": "deny"}]},
        ],
        [
            {"segment": "s0", "node": "n0", "prefixes": ["10.1.0.0/24"]},
            {"segment": "s1", "node": "n3", "prefixes": ["10.2.0.0/24"]},
        ],
        [
            {"between": ["n0", "n1"], "carries": True, "cost": 1 + second, "name": "k0"},
            {"between": ["n1", "n3"], "carries": True, "cost": 1, "name": "k1"},
            {"between": ["n0", "n2"], "carries": False, "cost": 1 + (0 if second == 2 else 1), "name": "k2"},
            {"between": ["n2", "n3"], "carries": True, "cost": 1, "name": "k3"},
        ],
        [
            {"from": "registry", "to": "n0", "name": "f0"},
            {"from": "registry", "to": "n1", "name": "f1"},
            {"from": "n1", "to": "n3", "name": "f2", "only": {"groups": ["cy"]}},
        ],
        [
            Being("b0", ["10.1.0.1"], "ada", stable=True),
            Being("b1", ["10.1.0.2"], "bo", stable=True),
            Being("b2", ["10.2.0.1"], "cy", stable=True),
        ],
    )  # fmt: skip
    workspace, document = _probed(net, tmp_path)
    seen: Counter[str] = Counter()
    for probe in document["probes"]:
        ends = [f"endpoint:{probe[e]['endpoint']}" for e in ("source", "destination")]
        flows = workspace.reach(*ends)["flows"]
        crossing = probe["source"]["segment"] != probe["destination"]["segment"]
        assert len(flows) == (2 if second == 1 and crossing else 1)
        assert probe["verdict"] in {_predicted(probe, flow) for flow in flows}, (probe, flows)
        if crossing and probe["source"]["segment"] == "s0":
            seen[probe["verdict"]] += 1
            # The relay brings the destination's tag; the source's comes in frames or not at all.
            reasons = {tuple(r["why"] for r in f["reasons"]) for f in flows}
            lossy, clean = ("source-unknown",), ()
            assert reasons == {0: {clean}, 2: {lossy}, 1: {clean, lossy}}[second]
    assert seen["as meant"] > 0
    assert second == 1 or bool(seen["blocked though allowed"]) == (second == 2)


def test_without_a_lab_one_sentence_says_so(
    oaktag: Run, sample: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    ran = oaktag("-C", sample, "lab", "probe")
    assert ran.status == 2 and "oaktag lab up builds it" in ran.err
    assert oaktag("-C", sample, "lab", "down").out == "no lab was up\n"
    monkeypatch.setattr("shutil.which", lambda *_, **__: None)
    ran = oaktag("-C", sample, "lab", "up")
    assert ran.status == 2 and len(ran.err.splitlines()) == 1 and "util-linux" in ran.err
    ran = oaktag("-C", sample.parent, "demo", "walk")
    assert ran.status == 0 and "So no packets are sent here." in ran.out


def test_a_lab_is_its_users_alone_and_ends_by_itself(
    real_kernel: None, oaktag: Run, sample: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Its folder has a name that nobody can guess, in one of mode 700; one is built at a time; Ctrl-C
    takes it down, and so does its time, or its folder's end. Its path may be long."""
    runtime = tmp_path / ("long" * 20)
    runtime.mkdir()
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(runtime))
    base = runtime / "oaktag"
    lab = Lab(sample)

    def gone() -> bool:
        deadline = time.monotonic() + 10
        while time.monotonic() < deadline and (lab.running or list(base.glob("*"))):
            time.sleep(0.05)
        return not list(base.glob("*"))

    assert oaktag("-C", sample, "lab", "up").status == 0
    folder = lab.folder
    assert folder is not None and base.stat().st_mode & 0o777 == 0o700
    assert oaktag("-C", sample, "lab", "up").status == 0 and lab.folder != folder, "built anew"
    with lab._alone():
        for word in ("up", "down"):
            ran = oaktag("-C", sample, "lab", word)
            assert ran.status == 2 and "by another command" in ran.err
    assert lab.folder is not None
    keeps = int((lab.folder / "pid").read_text())
    shutil.rmtree(lab.folder)
    deadline = time.monotonic() + 10
    while _alive(keeps) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not _alive(keeps) and gone()
    ran = oaktag("-C", sample, "lab", "up", "--hours", "0.0003")
    assert ran.status == 0 and "after 0.0003 h" in ran.out and gone()
    one = subprocess.Popen(
        [sys.executable, "-m", "oaktag", "-C", str(sample), "lab", "up"], stdout=-1, stderr=-1
    )
    while not list(base.glob("*-*")):
        time.sleep(0.01)
    one.send_signal(signal.SIGINT)
    said = one.communicate()
    if one.returncode:
        assert one.returncode == 130 and said[1] == b"stopped\n" and gone()
    assert oaktag("-C", sample, "lab", "down").status == 0 and gone()
    base.chmod(0o755)
    for word in ("up", "down", "probe"):
        ran = oaktag("-C", sample, "lab", word)
        assert ran.status == 2 and "not yours alone" in ran.err, ran
    base.rmdir()
    (runtime / "elsewhere").mkdir(mode=0o700)
    base.symlink_to("elsewhere")
    assert "not yours alone" in oaktag("-C", sample, "lab", "up").err
    keeper = [sys.executable, "-m", "oaktag.lab.keeper", str(tmp_path), "1"]
    for command in (keeper, ["unshare", "-Ur", *keeper]):
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        assert done.returncode == 1 and "namespaces of its own only" in done.stderr


@pytest.mark.parametrize("seed", SEEDS[: scaled(6)])
def test_reach_says_the_same_of_every_probe_and_of_no_other(seed: int, tmp_path: Path) -> None:
    """On random networks, without a kernel: what trace tells is what reach tells; the opposite is
    not."""
    model = write_net(random_net(seed), tmp_path).model
    trials = Trying(model, Beings(model)).every().sent
    telling = Telling(model, lists=True)
    told = telling.tell_all(trials)
    agree = reach_agrees(model, telling, trials, told)
    assert all(agree) and len(agree) > 80
    turned = [t._replace(fares=FARED[0] if t.fares == FARED[2] else FARED[2]) for t in told]
    open_ = {
        (*(f[e][k] for e in ("source", "destination") for k in ("segment", "group")),)
        for f in Workspace(model).reach()["flows"]
        if f["open_for_answers"]
    }
    for trial, was, same in zip(
        trials, told, reach_agrees(model, telling, trials, turned), strict=True
    ):
        ends = [
            (h.segment, model.groups.all[h.group].id) for h in (trial.source, trial.destination)
        ]
        doubtful = was.cut_off or (not trial.meant and (*ends[0], *ends[1]) in open_)
        assert not same or doubtful, (trial, was)
    lost = [t._replace(fares=FARED[1]) for t in told]
    fine = [
        same
        for t, was, same in zip(
            trials, told, reach_agrees(model, telling, trials, lost), strict=True
        )
        if t.meant and was.fares == FARED[0]
    ]
    assert fine and not all(fine)


def test_a_lab_has_who_is_there_by_the_store(
    real_kernel: None, tmp_path: Path, oaktag: Run
) -> None:
    """Who logged in sends with their tag; what is probed is the workspace as it was then, and goes on
    with those who come when it is applied again."""
    network = {
        "nodes": [{"node": "gate", "learns": ["session"], "point": {}}],
        "segments": [
            {"segment": "desks", "node": "gate", "prefixes": ["10.1.0.0/24"]},
            {"segment": "hall", "node": "gate", "prefixes": ["10.2.0.0/24"]},
        ],
        "feeds": [{"from": "registry", "to": "gate"}],
    }  # fmt: skip
    table = "name,ip,role\nb-1,10.2.0.1,b\n"
    build(tmp_path, "a,b,web,,,,,\n", network=network, servers_csv=table)
    config = json.loads((tmp_path / "oaktag.yaml").read_text())
    config["sources"].append({"file": "people.csv", "kind": "user", "id": "name"})
    (tmp_path / "oaktag.yaml").write_text(json.dumps(config))
    (tmp_path / "people.csv").write_text("name,role\nada,a\nben,a\n")
    now = time.time_ns() // 1000
    store = Store(url_of(tmp_path), tmp_path, DAY, write=True)

    def come(who: str, at: str) -> None:
        store.take([Record(now, "start", "gate", who, who, (parse_prefix(at),))], "test", now)

    come("ada", "10.1.0.7")
    try:
        assert oaktag("-C", tmp_path, "lab", "up").status == 0
        ran = oaktag("-C", tmp_path, "lab", "probe", "ada", "b-1", "https", "--json")
        assert ran.status == 0, ran.out
        assert [(p["fares"], p["agrees"]) for p in ran.json["probes"]] == [
            ("arrives and is answered", True)
        ]
        come("ben", "10.1.0.8")
        assert oaktag("-C", tmp_path, "lab", "apply").status == 0
        ran = oaktag("-C", tmp_path, "lab", "probe", "ben", "b-1", "https", "--json")
        assert [(p["fares"], p["agrees"]) for p in ran.json["probes"]] == [
            ("arrives and is answered", True)
        ]
    finally:
        oaktag("-C", tmp_path, "lab", "down")
        store.close()


@pytest.mark.usefixtures("real_kernel")
def test_who_logs_in_in_a_lab_sends_with_the_tag_until_the_log_off(
    shipped_mended: Path, oaktag: Run
) -> None:
    """The node asks by RADIUS and tells of the session, both across the network of feeds; then frames
    from there carry the tag of the answer, points know it and let pass what the group may; after the
    log-off nobody we know is there, and the workspace's own store never was."""
    folder = shipped_mended
    config = folder / "oaktag.yaml"
    config.write_text(
        config.read_text() + "listen:\n  clients: []\n  answer:\n"
        "    - {attribute: filter-id, value: group}\n"
        "    - {vendor: 32473, attribute: 7, value: tag}\n  unknown_login: reject\n"
    )  # fmt: skip
    people = folder / "inventory/people.ldif"
    people.write_text(people.read_text() + "\n\ndn: uid=stray,dc=q\nuid: stray\n")
    up = oaktag("-C", folder, "lab", "up", "--sites", "central,hall")
    assert up.status == 0, up
    try:
        asked = ("lab", "probe", "10.20.1.77", "loans-db", "8443/tcp", "--json")
        before = oaktag("-C", folder, *asked).json["probes"]
        assert {(p["source"]["group"], p["fares"]) for p in before} == {
            ("untagged", "does not arrive")
        }
        ran = oaktag("-C", folder, "lab", "log-in", "ada", "central-desks", "10.20.1.77", "--json")
        jsonschema.validate(ran.json, _schema("lab-log-in"))
        (told,) = ran.json["sessions"]
        assert ran.status == 0 and told["accepted"] and told["acknowledged"]
        assert (told["group"], told["tag"], told["node"]) == ("librarians", 310, "central-access")
        known = {k["node"]: k["tag"] for k in told["known"]}
        assert known["central-access"] == known["hall-edge"] == 310
        words = ("lab", "capture", "central-access", "--count", "1", "--tag", "310", "--json")
        with subprocess.Popen(
            [sys.executable, "-m", "oaktag", "-C", folder, *words, "--seconds", "30"],
            stdout=subprocess.PIPE, text=True,
        ) as capturing:  # fmt: skip
            while capturing.poll() is None:
                probed = oaktag("-C", folder, *asked)
            assert capturing.stdout is not None
            frames = json.loads(capturing.stdout.read())["frames"]
        assert [(p["fares"], p["agrees"]) for p in probed.json["probes"]] == [
            ("arrives and is answered", True)
        ] * len(probed.json["probes"])
        assert frames and {f["tag"] for f in frames} == {310}
        oaktag("-C", folder, "lab", "break", "node", "central-access")
        lost = oaktag("-C", folder, "lab", "log-in", "ivo", "central-desks")
        assert lost.status == 2 and "central-access is broken in the lab" in lost.err
        oaktag("-C", folder, "lab", "heal")
        taken = oaktag("-C", folder, "lab", "log-in", "ivo", "central-desks", "10.20.1.77")
        assert taken.status == 2 and "10.20.1.77 is another's" in taken.err
        stray = oaktag("-C", folder, "lab", "log-in", "stray", "central-desks", "--json")
        assert stray.status == 1 and not stray.json["sessions"][0]["accepted"]
        assert stray.json["things"] == [] and stray.json["tables"] == []
        # A device that is taken to be at home is there no more, and a link is another by now: what
        # goes and what comes are there at the same time.
        tablet = (
            "lab",
            "log-in",
            "02:00:5e:10:00:24",
            "reading-room",
            "2001:db8:20:3::77",
            "--json",
        )
        told = oaktag("-C", folder, *tablet)
        assert told.status == 0 and told.json["sessions"][0]["group"] == "wall-displays", told
        assert {t["what"] for t in told.json["things"] if t["kind"] == "host"} >= {"gone", "come"}
        network = folder / "network.yaml"
        link = "{between: [central-access, central-core]"
        network.write_text(network.read_text().replace(link, f"{link}, name: fibre"))
        # What the folder says by now leaves those who are logged in where they are.
        assert oaktag("-C", folder, "lab", "apply").status == 0
        assert oaktag("-C", folder, *asked).status == 0
        off = oaktag("-C", folder, "lab", "log-off", "ada", "--json")
        jsonschema.validate(off.json, _schema("lab-log-off"))
        (told,) = off.json["sessions"]
        assert off.status == 0 and told["acknowledged"] and told["known"] == []
        after = oaktag("-C", folder, *asked).json["probes"]
        assert [p["fares"] for p in after] == [p["fares"] for p in before]
        again = oaktag("-C", folder, "lab", "log-off", "ada")
        assert again.status == 2 and "is not logged in in the lab" in again.err
    finally:
        oaktag("-C", folder, "lab", "down")
    assert not (folder / ".oaktag/store.db").exists()
