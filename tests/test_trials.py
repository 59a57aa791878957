"""What a lab sends, on random networks and without a kernel: every cell, every two segments, every
expectation in both families or the reason why not; denied ones to what others may use there."""

from __future__ import annotations

import json
from collections import Counter
from pathlib import Path
from typing import Any

import pytest

from networks import GROUPS, SEEDS, random_net, write_net
from oaktag import Workspace
from oaktag.core.addresses import address_text
from oaktag.core.placement import Host
from oaktag.operations.lab_plan import MOST_STAND_INS, Beings
from oaktag.operations.lab_trials import Trial, Trying
from oaktag.operations.model import Model
from sizes import scaled

WEB = (80, 443)


def _end(model: Model, host: Host) -> str:
    return model.groups.all[host.group].id


def _cell(model: Model, trial: Trial) -> tuple[str, str, int]:
    return _end(model, trial.source), _end(model, trial.destination), trial.source.family


def _apart(a: Host, b: Host) -> bool:
    """Whether two of a lab can send to each other."""
    mine = a.endpoint >= 0 and a.endpoint == b.endpoint
    return a.family == b.family and a.address != b.address and not mine


@pytest.mark.parametrize("seed", SEEDS[: scaled(8)])
def test_what_is_sent(seed: int, tmp_path: Path) -> None:
    net = random_net(seed)
    model = write_net(net, tmp_path).model
    beings = Beings(model)
    trials = Trying(model, beings).every()
    sent = trials.sent
    there = [h for b in beings.every.values() for h in b.hosts]
    cells = {
        (_end(model, a), _end(model, b), a.family) for a in there for b in there if _apart(a, b)
    }
    assert {_cell(model, t) for t in sent if not t.destination.own} == cells
    ways = {(a.segment, b.segment, a.family) for a in there for b in there if _apart(a, b)}
    assert {
        (t.source.segment, t.destination.segment, t.source.family)
        for t in sent if not t.destination.own
    } == ways  # fmt: skip
    assert max(Counter(t.probe for t in sent).values()) == 1
    for trial in sent:
        ends = _end(model, trial.source), _end(model, trial.destination)
        action = net.stack.decide(*ends, trial.packet, "action")[0]
        assert trial.meant == (action == "allow"), trial
        probe, packet = trial.probe, trial.packet
        held = beings.every[probe.source].hosts
        assert probe.source_address in [address_text(h.family, h.address) for h in held]
        assert {"tcp": 6, "udp": 17}.get(probe.protocol, {4: 1, 6: 58}[packet.family]) == (
            packet.protocol
        )
        assert probe.port == (packet.destination_port if packet.protocol in (6, 17) else 0)
    allowed = {_cell(model, t) for t in sent if t.meant}
    denied: dict[tuple[str, str, int], list[Trial]] = {}
    for trial in sent:
        if not trial.meant and not trial.destination.own:
            denied.setdefault(_cell(model, trial), []).append(trial)
    for s, d, family in cells:
        packets = [p for p in net.stack.packets() if p[0] == family]
        refused = [p for p in packets if net.stack.decide(s, d, p, "action")[0] == "deny"]
        if any(p[1] in (6, 17) for p in refused):  # something that can be sent
            assert (s, d, family) in denied
        usable = [p for p in packets if p[1] in (6, 17) and p not in refused]
        if usable:
            assert (s, d, family) in allowed
        ports = {
            port for g in (*GROUPS, "untagged") for port in (*WEB, 22, 1023, 3000)
            if net.stack.decide(g, d, (family, 6, 50_000, port), "action")[0] == "allow"
        }  # fmt: skip
        own = {
            port for port in ports
            if net.stack.decide(s, d, (family, 6, 50_000, port), "action")[0] == "deny"
        }  # fmt: skip
        if ports and ports <= set(WEB) and own:  # nothing but these two is offered there
            assert {t.packet.destination_port for t in denied[s, d, family]} & own
    meant = {(t.source.segment, t.destination.segment, t.source.family) for t in sent if t.meant}
    for a in there:
        for b in there:
            if _apart(a, b) and (_end(model, a), _end(model, b), a.family) in allowed:
                assert (a.segment, b.segment, a.family) in meant
    absent = Counter(beings.absent.values())
    assert set(absent) <= {"its address is another's too", "others of its kind stand for it"}
    for (segment, _, _), count in Counter(
        (h.segment, h.group, h.family) for h in there if h.endpoint < 0
    ).items():
        assert count <= MOST_STAND_INS, segment


def test_expectations_are_tried_in_both_families_or_say_why(tmp_path: Path) -> None:
    net = random_net(1)
    folder = write_net(net, tmp_path).model.files.root
    one = next(b.name for b in net.beings if len(b.addresses) == 1 and ":" not in b.addresses[0])
    ends = [(s, d) for s in (*GROUPS, "front", one, "untagged") for d in (*GROUPS, "10.3.0.9")]
    asked: list[dict[str, Any]] = [
        {"from": s, "to": d, "is": "denied", "service": "443/tcp"} for s, d in ends
    ]
    asked.append({"from": "ada", "to": "cy", "allowed": "none"})
    (folder / "expectations.yaml").write_text(json.dumps(asked))
    model = Workspace.load(folder).model
    trials = Trying(model, Beings(model)).every()
    assert max(Counter(t.probe for t in trials.sent).values()) == 1
    held = [str(e.location) for e in model.files.expectations]
    assert len(held) == len(ends) + 1
    for place in held:
        tried = {t.source.family for t in trials.sent if t.why == place}
        said = dict(trials.omitted)
        for family in (4, 6):
            reason = said.get(f"{place}, IPv{family}")
            known = {t.source.family for t in trials.sent}
            assert (reason is None) or family not in tried, (place, reason)
            assert known == {4, 6}
            if reason is None:  # tried for this, or for another one before
                continue
            assert reason.startswith(
                ("nobody of ", "both ends are one host", "the ends share no", "only TCP")
            ), reason
    for place, (source, _) in zip(held, ends, strict=False):
        if source == one:
            assert dict(trials.omitted)[f"{place}, IPv6"] == (
                f"nobody of {one} has an address of IPv6"
            )
