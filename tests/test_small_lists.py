"""Lists as one short row of entries: few, never more than the plain ones, proved, and read back strictly."""

from __future__ import annotations

import json
import random
import re
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from networks import SEEDS, random_net, write_net
from oaktag.core.acting import act
from oaktag.core.addresses import parse_address
from oaktag.core.flatlist import plain
from oaktag.core.flatten import flattened
from oaktag.core.minimize import Fitted, bits, decided, minimized
from oaktag.core.packets import Packet
from oaktag.dialects import DIALECTS, json_list
from oaktag.errors import UnreadableList
from oaktag.operations.lists import points_of
from oaktag.testing.slow import Stack
from oaktag.testing.strategies import stacks
from one_gate import PLACES, model_of, points
from sizes import scaled
from slow_boxes import fewest
from test_commands import _schema


def _table(rng: random.Random, most: int = 3) -> list[list[list[int]]]:
    sources, destinations, kinds = (rng.randint(1, most) for _ in range(3))
    outcomes = rng.choice((2, 2, 3))
    return [
        [[rng.randrange(outcomes) for _ in range(kinds)] for _ in range(destinations)]
        for _ in range(sources)
    ]


def test_few_boxes_against_the_fewest() -> None:
    rng, ratios = random.Random(7), list[float]()
    for _ in range(70):
        table = _table(rng)
        boxes = minimized(table)
        assert decided(table, boxes) == table
        ratios.append(len(boxes) / fewest(table))
    assert min(ratios) == 1 and sum(ratios) / len(ratios) < 1.05


@settings(max_examples=scaled(60), deadline=None)
@given(
    sides=st.tuples(st.integers(1, 7), st.integers(1, 7), st.integers(1, 6)),
    outcomes=st.integers(1, 4), shy=st.integers(0, 63), data=st.data(),
)  # fmt: skip
def test_boxes_say_what_the_table_says(
    sides: tuple[int, int, int], outcomes: int, shy: int, data: st.DataObject
) -> None:
    """Also where some kinds are matched only together with all others (``shy``)."""
    rng = random.Random(data.draw(st.integers(0, 1 << 16)))
    table = [
        [[rng.randrange(outcomes) for _ in range(sides[2])] for _ in range(sides[1])]
        for _ in range(sides[0])
    ]
    whole = (1 << sides[2]) - 1

    def fit(needed: int, may: int) -> Fitted:
        if needed & shy and may == whole:
            return Fitted(1, whole)
        return Fitted(max((needed & ~shy).bit_count(), 1), needed & ~shy)

    boxes = minimized(table, fit)
    if boxes:
        assert decided(table, boxes) == table and boxes[-1].kinds == whole
        for box in boxes[:-1]:
            assert box.kinds == whole or not box.kinds & shy
    else:
        assert shy & whole
    assert list(bits(shy)) == [n for n in range(6) if shy >> n & 1]


@settings(
    max_examples=scaled(30), deadline=None, phases=[Phase.explicit, Phase.generate],
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)  # fmt: skip
@given(stack=stacks(), point=points, seed=st.integers(0, 1 << 16))
def test_a_short_row_is_the_matrix(
    stack: Stack, point: dict[str, Any], seed: int, tmp_path: Path
) -> None:
    """Proved, read back, and packet by packet as the list of chains acts; never longer."""
    model, compiled = model_of(stack, point, tmp_path)
    held = model.list_of(compiled)
    flat = flattened(held)
    assert bool(held.blocks) <= len(flat.entries) <= len(plain(held).entries) == held.plain_entries
    assert model.refute(compiled, flat.tree()) is None
    assert model.refute(compiled, plain(held).tree()) is None
    text = json_list.write(flat)
    assert text == json_list.write(flattened(model.list_of(compiled)))
    jsonschema.validate(json.loads(text), _schema("access-list"))
    read = DIALECTS["json"].read(text)
    assert model.refute(compiled, read) is None
    rng = random.Random(seed)
    every = [a for of in PLACES.values() for a in of]
    packets = [Packet(*p) for p in stack.packets()]
    for _ in range(60):
        packet = rng.choice(packets)
        mine = [parse_address(a)[1] for a in every if (":" in a) == (packet.family == 6)]
        source, destination = rng.sample(mine, 2)
        frame = rng.choice((0, 310, 410, 9999))
        acted = [act(x, packet, source, destination, frame) for x in (held, read)]
        assert acted[0][:4] == acted[1][:4]
        if acted[0].entry is not None and acted[1].entry is not None:
            one, two = (a.entry for a in acted)
            assert one and two and (one.would, one.log, one.answer) == (
                two.would, two.log, two.answer
            )  # fmt: skip
            # The line that decides it is among the cited.
            tags = {tag: name for name, (tag, _) in stack.groups.items()} | {0: "untagged"}
            cell = tags[acted[1].source], tags[acted[1].destination]
            said = [stack.decide(*cell, packet, answer)[1] for answer in ("action", "would")]
            for place in said if compiled.stateful and compiled.mode == "enforce" else ():
                if place is None:
                    assert "default" in two.keys and "default" in one.keys
                    continue
                (number,) = (
                    n for n, x in enumerate(model.lines) if (x.layer, x.location.line) == place
                )
                assert model.keys[number] in one.keys and model.keys[number] in two.keys


def test_hard_ones(tmp_path: Path) -> None:
    """Worked out by hand: isolation of each from all others, a staircase, one exception each."""
    size = 12
    alone = [[[int(s == d)] for d in range(size)] for s in range(size)]
    assert len(minimized(alone)) == size + 1
    stairs = [[[int(s < d)] for d in range(size)] for s in range(size)]
    assert len(minimized(stairs)) <= size
    chess = [[[(s + d) % 2] for d in range(size)] for s in range(size)]
    assert len(minimized(chess)) == 3
    holes = [[[int((s, d) == (3, 4)), 0, int(s > 5)] for d in range(size)] for s in range(size)]
    assert len(minimized(holes)) == 3
    same = [[[5, 5]] * 3] * 4
    assert [b.outcome for b in minimized(same)] == [5]


@pytest.mark.parametrize("seed", SEEDS[: scaled(4)])
def test_a_row_that_was_changed_is_refused_or_refuted(seed: int, tmp_path: Path) -> None:
    """One letter of the text is another: refused with a line, refuted by a packet that the changed
    row takes otherwise, or the same list in other words."""
    net = random_net(seed)
    model, rng = write_net(net, tmp_path).model, random.Random(seed)
    counts = {"refused": 0, "refuted": 0, "equal": 0}
    for point in points_of(model)[:3]:
        held = model.list_of(point)
        text = json_list.write(flattened(held))
        assert text.isascii()
        for _ in range(60):
            at = rng.randrange(len(text))
            letter = rng.choice(
                '0123456789abcdef" ,:[]{}\n-x' if rng.random() < 0.6 else "0123456789"
            )
            changed = text[:at] + rng.choice((letter, "", letter + text[at])) + text[at + 1 :]
            if changed == text:
                continue
            try:
                other = DIALECTS["json"].read(changed)
            except UnreadableList as error:
                assert 1 <= error.line <= changed.count("\n") + 1 and error.message
                counts["refused"] += 1
                continue
            if other.point != point.id:
                counts["refused"] += 1
                continue
            against = model.refute(point, other)
            counts["equal" if against is None else "refuted"] += 1
            if against is not None and not against.what:
                ends = against.source, against.destination
                acted = act(other, against.packet, *ends, against.frame)
                assert acted.action == against.listed[0]
                assert act(held, against.packet, *ends, against.frame).action == against.meant[0]
    assert counts["refused"] > 50 and counts["refuted"] > 0, counts


@pytest.mark.usefixtures("real_kernel")
def test_a_point_that_speaks_json(shipped_mended: Path, oaktag: Any) -> None:
    """Compiled, proved, refuted, refused; in the lab the kernel stands for it, and what that holds is
    told in its own form."""
    at = ("-C", shipped_mended)
    network = shipped_mended / "network.yaml"
    network.write_text(network.read_text().replace("dialect: nftables\n", "dialect: json\n"))
    ran = oaktag(*at, "compile", "--json")
    assert ran.status == 0, ran
    row = next(p for p in ran.json["points"] if p["point"] == "hall-edge")
    assert row["dialect"] == "json" and row["entries"] * 10 < row["plain_entries"]
    written = shipped_mended / "lists" / "hall-edge.list.json"
    text = written.read_text()
    document = json.loads(text)
    jsonschema.validate(document, _schema("access-list"))
    assert len(document["entries"]) == row["entries"]
    assert oaktag(*at, "prove", "lists").status == 0
    front, _, last = text.rpartition('"action": "deny"')
    written.write_text(f'{front}"action": "allow"{last}')
    refuted = oaktag(*at, "prove", "lists")
    assert (
        refuted.status == 1 and "the list says allow (would deny), the matrix deny" in refuted.out
    )
    written.write_text(text.replace('"stateful": true', '"stateful": true, "x": 1'))
    refused = oaktag(*at, "prove", "lists")
    assert refused.status == 1 and "hall-edge.list.json:5: " in refused.out
    written.write_text(text.replace('"tag": 310', f'"tag": {"9" * 5000}', 1))
    assert "a number too long" in oaktag(*at, "prove", "lists").out
    (shipped_mended / "lists" / "gone.list.json").write_text(text)
    (shipped_mended / "lists" / "hall-edge.nft").write_text("")
    strange = oaktag(*at, "prove", "lists")
    assert "gone: there is no such point in network.yaml" in strange.out
    assert "hall-edge: the point's dialect is json by now; take" in strange.out
    try:
        assert oaktag(*at, "lab", "up").status == 0
        probed = oaktag(*at, "lab", "probe", "--json").json
        assert set(probed["summary"]) == {"as meant"}
        state = oaktag(*at, "lab", "state", "--json").json
        assert "hall-edge.list.json" in state["files"]
        assert (shipped_mended / "observed" / "hall-edge.list.json").read_text() == text
        drift = oaktag(*at, "drift", "observed")
        assert drift.status == 0 and "all that is reported is as intended" in drift.out
    finally:
        oaktag(*at, "lab", "down")


@pytest.mark.parametrize("dialect", ["nftables", "json"])
def test_from_an_entry_back_and_from_a_cell_forward(
    shipped: Path, oaktag: Any, dialect: str
) -> None:
    """Every entry of a cell, forward; its line in the file that is written; back to the same cell; and
    what the entries say of packets is what ``decide`` says."""
    at = ("-C", shipped)
    network = shipped / "network.yaml"
    network.write_text(network.read_text().replace("dialect: nftables\n", f"dialect: {dialect}\n"))
    assert oaktag(*at, "compile").status == 0
    (file,) = (p for p in (shipped / "lists").iterdir() if p.name.startswith("hall-edge."))
    written = file.read_text().splitlines()
    keys = dict(
        row.split(",", 1)
        for row in (shipped / "lists/keys.csv").read_text().splitlines()[1:]
    )  # fmt: skip
    for source, destination in (
        ("kiosks", "catalogue"),
        ("patrons", "loans-db"),
        ("untagged", "printers"),
        ("itself", "x"),
    ):
        ran = oaktag(*at, "compile", "--point", "hall-edge", "--for", source, destination, "--json")
        if source == "itself":
            assert ran.status == 2 and ran.json["command"] == "error"
            continue
        jsonschema.validate(ran.json, _schema("compile-entries"))
        told = ran.json["entries"]
        assert ran.json["file"] == file.name and told and ran.json["outside"] is None
        said = [e["packets"] for e in told]
        assert said.index("any") == len(said) - 1 and len(set(said)) == len(said)
        asked = oaktag(*at, "decide", source, destination, "any", "--json").json
        parts = asked.get("parts", [asked])
        assert any(e["default"] for e in told) == any(p["line"] is None for p in parts)
        cell = oaktag(*at, "cell", source, destination, "--json").json
        own = {(line["file"], line["line"]) for line in cell["lines"]}
        for entry in told:
            text = written[entry["line"] - 1]
            allows = '"action": "allow"' in text or re.search(r"\baccept\b", text) is not None
            assert allows == (entry["action"] == "allow"), (entry, text)
            assert {(line["file"], line["line"]) for line in entry["lines"]} <= own
            assert {"source": source, "destination": destination} in entry["cells"]
            if text.startswith("\t\t\t"):  # a verdict of one cell stands there for itself
                assert len(entry["cells"]) == 1 and f"# {source} |" in text
            cited = {keys[k] for k in keys if k in text}
            back = oaktag(
                *at, "compile", "--point", "hall-edge", "--why", str(entry["line"]), "--json"
            )
            (one,) = back.json["entries"]
            assert one["cells"] == entry["cells"] and one["packets"] == entry["packets"]
            assert {f"{line['file']},{line['line']}" for line in one["lines"]} == cited
            assert {json.dumps(x) for x in entry["lines"]} <= {json.dumps(x) for x in one["lines"]}
    plainly = oaktag(*at, "compile", "--point", "hall-edge", "--for", "patrons", "loans-db")
    assert plainly.status == 0 and "deny any, recorded as notice" in plainly.out
    assert "by matrix/10-shared.csv:11: patrons → data-stores, nothing" in plainly.out
    near = oaktag(*at, "compile", "--point", "hall-edge", "--why", "1")
    assert near.status == 2 and "the nearest is at line " in near.err
    assert oaktag(*at, "compile", "--why", "3").status == 2
    shut = oaktag(*at, "compile", "--point", "hall-edg", "--for", "patrons", "loans-db")
    assert shut.status == 2 and "there is no point 'hall-edg'" in shut.err
    network.write_text(
        network.read_text().replace("scope: all", "scope: {destinations: [catalogue]}")
    )
    beside = oaktag(*at, "compile", "--point", "hall-edge", "--for", "patrons", "loans-db")
    assert "the list of hall-edge has no such cell" in beside.out


def test_what_a_list_costs_and_would_cost(shipped: Path, oaktag: Any) -> None:
    """A point toward one segment: what ``scope: known`` would save is what it then takes; nearly full
    is said; too full names the dear cells."""
    at, network = ("-C", shipped), shipped / "network.yaml"
    text = network.read_text().replace('toward: "*"', "toward: [hall-data]", 1)
    network.write_text(text)
    (row, *_) = oaktag(*at, "compile", "--json").json["points"]
    assert row["point"] == "hall-edge" and row["known_entries"] < row["entries"]
    told = " ".join(oaktag(*at, "compile").out.split())
    saved = f"hall-edge {row['known_entries']} instead of {row['entries']}"
    assert f"with scope: known, {saved}" in told and "hall-edge is" not in told
    network.write_text(text.replace("capacity: 2000", f"capacity: {row['entries'] + 1}", 1))
    assert "hall-edge is 100 % full: " in oaktag(*at, "compile").out
    network.write_text(text.replace("capacity: 2000", f"capacity: {row['entries'] - 1}", 1))
    full = oaktag(*at, "compile")
    assert (
        full.status == 1 and f"its list has {row['entries']}; the cells with most are " in full.err
    )
    assert f"scope: known would come to {row['known_entries']}; narrow" in full.err
    cell = full.err.split("the cells with most are ")[1].split(" (")[0]
    most = [
        len(
            oaktag(*at, "compile", "--point", "county-exit", "--for", *ends, "--json").json[
                "entries"
            ]
        )
        for ends in (cell.split(" → "), ("kiosks", "catalogue"))
    ]
    assert most[0] > most[1]
    network.write_text(text.replace("scope: all", "scope: known", 1))
    (then, *_) = oaktag(*at, "compile", "--json").json["points"]
    assert then["entries"] == row["known_entries"] and then["known_entries"] is None
    # The first of the dearest group joins: the list is as long as was said.
    assert row["newcomer"]["group"] == "core-services" and "entries more for the dearest" in told
    with (shipped / "inventory/servers.csv").open("a") as file:
        file.write("newcomer,10.20.201.77,core,\n")
    (joined, *_) = oaktag(*at, "compile", "--json").json["points"]
    assert joined["entries"] == then["entries"] + row["newcomer"]["entries"] > then["entries"]


#: What is changed in a sound row, and what is said of it.
REFUSED = (
    ('"access_list": 2', '"access_list": 3', "this form of access lists is not known"),
    ('"point": "hall-edge"', '"point": "a b"', "a point has a name"),
    ('"stateful": true', '"stateful": 1', "this is true or false"),
    ('"source_tag": "frame"', '"source_tag": "both"', "is none of frame, bindings and address"),
    ('"from": "any"', '"from": ["10.0.0.5/8"]', "is no address, prefix or range"),
    ('"from": "any"', '"from": ["10.0.0.0-10.0.0.255"]', "is not as a range is written"),
    ('"from": "any"', '"from": ["10.2.0.0/16", "10.1.0.0/16"]', "in their order"),
    ('"not_inside": []', '"not_inside": [["10.0.0.0/8", "2001:db8::/32"]]', "is not as it is written"),
    ('"action": "allow", "would": "allow"}', '"action": "allow", "would": "pass"}', "neither allow nor"),
    ('"tag": 310}', '"tag": 0}', "a tag is a number from 1"),
    ('"tag": 310}', '"tag": 310.0}', "a tag is a number from 1"),
    ('"sources": [0, ', '"sources": [0, 0, ', "tags stand in their order"),
    ('"readable": false, "action": "allow"', '"readable": true, "action": "allow"', "cannot be read, too"),
    ('"answer": false, "keys": ["', '"answer": false, "keys": ["default", "', "the keys of its lines"),
    ('"answer": false', '"answer": true', "what is let pass gets no answer"),
    ('"log": null', '"log": "loud"', "is no severity"),
    ('"protocols": [[6, 6]]', '"protocols": [[6, 256]]', "ranges are of 0 to 255"),
    ('"protocols": [[6, 6]]', '"protocols": [[6, 6], [7, 7]]', "none touches another"),
    ('"families": [4, 6]', '"families": [6, 4]', "families are 4, 6"),
    ('"from": "any", "to": "any", "packets": "any"', '"from": [310], "to": "any", "packets": "any"', "the last entry is for everything"),
    ("\n}\n", "\n}\n\n", "the list ends otherwise"),
    ("\n}\n", "\n}", "the list ends otherwise"),
    ("{\n", "{\n\n", "is not as it is written"),
    ('"stateful": true', '"stateful":  true', "is not as it is written"),
    ('"stateful": true,', '"stateful": true', "this is not JSON"),
)  # fmt: skip


def test_what_is_not_in_its_form_is_refused(shipped_mended: Path, oaktag: Any) -> None:
    network = shipped_mended / "network.yaml"
    network.write_text(network.read_text().replace("dialect: nftables\n", "dialect: json\n"))
    oaktag("-C", shipped_mended, "compile", "--point", "hall-edge", "--no-prove")
    text = (shipped_mended / "lists/hall-edge.list.json").read_text()
    assert DIALECTS["json"].read(text).point == "hall-edge"
    for old, new, told in REFUSED:
        assert old in text, old
        last = old in ("\n}\n", '"from": "any", "to": "any", "packets": "any"')
        front, _, behind = text.rpartition(old) if last else text.partition(old)
        with pytest.raises(UnreadableList) as refused:
            DIALECTS["json"].read(f"{front}{new}{behind}")
        assert told in refused.value.message, (new, refused.value.message)
        line = front.count("\n") + 1
        assert abs(refused.value.line - line) <= 2, (new, refused.value.line, line)
    for odd in ("", "[]", "3", '{"access_list": 2}\n', "[" * 100_000):
        with pytest.raises(UnreadableList):
            DIALECTS["json"].read(odd)
