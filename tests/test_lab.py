"""The lab: real namespaces, tags in real frames, feeds that fill tables, packets that pass or not."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest

from conftest import Ran
from oaktag.demo.walk import wrong
from test_commands import _schema

Run = Callable[..., Ran]


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
    document = ran.json
    jsonschema.validate(document, _schema("lab-probe"))
    assert (ran.status, again.status) == (1, 1) and "counters agree" in again.out
    flows = {
        tuple(f[e][k] for e in ("source", "destination") for k in ("segment", "group")): f
        for f in oaktag("-C", sample, "reach", "--json").json["flows"]
    }
    wanted = {"leak": "passes though denied", "break": "blocked though allowed"}
    seen = set()
    for probe in document["probes"]:
        ends = tuple(probe[e][k] for e in ("source", "destination") for k in ("segment", "group"))
        possible = {wanted[p["effect"]] for p in flows[ends]["packets"]}
        assert probe["verdict"] in {"as meant", *possible}, (probe, flows[ends])
        seen.add(probe["verdict"])
    assert seen == {"as meant", *wanted.values()}
    assert [c["agree"] for c in document["counters"]] == [True]
    assert document["counters"][0]["packets"] > 100
    assert dict(wrong({"lab probe": document})).keys() == {"lab probe"}


@pytest.mark.usefixtures("real_kernel")
def test_on_the_mended_sample_every_probe_is_as_meant(oaktag: Run, mended: Path) -> None:
    oaktag("-C", mended, "lab", "up")
    try:
        ran = oaktag("-C", mended, "lab", "probe", "--json")
    finally:
        oaktag("-C", mended, "lab", "down")
    assert ran.status == 0 and set(ran.json["summary"]) == {"as meant"}
    assert {f["feed"]: f["bindings"] for f in ran.json["feeds"]}["ashgrove-access>hall-edge"] == 10


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
