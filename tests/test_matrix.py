"""The matrix against a slow reader of the rules that shares no code with the core."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

import oaktag
from oaktag.core.comparison import CellChange, compare
from oaktag.core.groups import Group, Groups
from oaktag.core.lines import Action, Entry, Line, Permission, Policy
from oaktag.core.matrix import Matrix
from oaktag.core.packets import Atoms
from oaktag.testing.slow import Packet, Stack
from oaktag.testing.strategies import SERVICES, stacks, write_stack
from sizes import scaled

WORDS = ["untagged", "ada", "bo", "cy", "di"]
CELLS = [(s, d) for s in WORDS for d in WORDS]


def _load(stack: Stack, tmp_path: Path) -> oaktag.Workspace:
    write_stack(stack, tmp_path)
    return oaktag.Workspace.load(tmp_path)


def _sample(stack: Stack, data: st.DataObject, count: int) -> list[Packet]:
    return data.draw(
        st.lists(st.sampled_from(stack.packets()), min_size=1, max_size=count, unique=True)
    )


@settings(max_examples=scaled(100))
@given(stack=stacks(), data=st.data())
def test_every_answer_and_its_line(stack: Stack, data: st.DataObject, tmp_path: Path) -> None:
    """Action, would and deciding line of single packets, through the batch as users ask it."""
    workspace = _load(stack, tmp_path)
    cells = data.draw(st.lists(st.sampled_from(CELLS), min_size=1, max_size=6, unique=True))
    questions = [(s, d, p) for s, d in cells for p in _sample(stack, data, 12)]
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(
        ["source", "destination", "family", "protocol", "source_port", "destination_port"]
    )
    writer.writerows([s, d, *p] for s, d, p in questions)
    text.seek(0)
    answers = io.StringIO()
    assert workspace.decide_batch(text, answers) == len(questions)
    answers.seek(0)
    for (s, d, packet), row in zip(questions, csv.DictReader(answers), strict=True):
        action, line, _ = stack.decide(s, d, packet, "action")
        would, _, _ = stack.decide(s, d, packet, "would")
        where = ("", "") if line is None else (f"matrix/{line[0] + 1}0.csv", str(line[1]))
        assert (row["action"], row["would"], row["file"], row["line"]) == (action, would, *where)


@given(stack=stacks(), data=st.data())
def test_boxes_are_a_partition_that_says_what_the_rules_say(
    stack: Stack, data: st.DataObject, tmp_path: Path
) -> None:
    workspace = _load(stack, tmp_path)
    source, destination = data.draw(st.sampled_from(CELLS))
    cell = workspace.cell(source, destination)
    lines = [
        (layer, line)
        for layer in range(len(stack.layers))
        for line, _ in stack.lines(layer, source, destination)
    ]
    assert [(int(x["file"][7]) - 1, x["line"]) for x in cell["lines"]] == lines
    for packet in _sample(stack, data, 40):
        held = [box for box in cell["boxes"] if in_box(box, packet)]
        assert len(held) == 1
        assert held[0]["action"] == stack.decide(source, destination, packet, "action")[0]
        assert held[0]["would"] == stack.decide(source, destination, packet, "would")[0]


def in_box(box: dict[str, Any], packet: Packet) -> bool:
    spans = (box["protocols"], box["source_ports"], box["destination_ports"])
    return box["family"] == packet[0] and all(
        any(low <= number <= high for low, high in ranges)
        for number, ranges in zip(packet[1:], spans, strict=True)
    )


@settings(max_examples=scaled(40))
@given(stack=stacks(most_lines=4))
def test_equal_forms_if_and_only_if_equal_decisions(stack: Stack, tmp_path: Path) -> None:
    model = _load(stack, tmp_path).model
    packets = stack.packets()
    said: dict[str, int] = {}
    for s, source in enumerate(WORDS):
        for d, destination in enumerate(WORDS[:3]):
            form = int(model.matrix.action_form[s, d])
            decided = json.dumps(
                [stack.decide(source, destination, p, "action")[0] for p in packets]
            )
            assert said.setdefault(decided, form) == form
    assert len(set(said.values())) == len(said)


@settings(max_examples=scaled(20))
@given(stack=stacks(most_lines=4))
def test_shadowed_is_what_no_packet_reaches(stack: Stack, tmp_path: Path) -> None:
    """OT301 and OT302, neither too many nor too few, over one packet of every kind."""
    reached: set[tuple[int, int, int]] = set()
    applied: set[tuple[int, int]] = set()
    for source, destination in CELLS:
        for layer in range(len(stack.layers)):
            applied |= {(layer, line) for line, _ in stack.lines(layer, source, destination)}
        for packet in stack.packets():
            for answer in ("action", "would"):
                reached.update(stack.decide(source, destination, packet, answer)[2])
    lines = {(layer, line) for layer, line, _ in reached}
    entries = {
        (layer, line, number)
        for layer, line in lines
        for number in range(
            len(stack.permissions[_row(stack, layer, line)["permission"]]["entries"])
        )
    }
    found = _load(stack, tmp_path).review()["findings"]
    assert _places(found, "OT301") == sorted(applied - lines)
    assert _places(found, "OT302") == sorted((layer, line) for layer, line, _ in entries - reached)


def _row(stack: Stack, layer: int, line: int) -> dict[str, str]:
    return stack.layers[layer][line - 2]


def _places(findings: list[dict[str, Any]], code: str) -> list[tuple[int, int]]:
    return sorted((int(f["file"][7]) - 1, f["line"]) for f in findings if f["code"] == code)


@given(stack=stacks(), data=st.data())
def test_expectations_hold_or_show_a_packet(
    stack: Stack, data: st.DataObject, tmp_path: Path
) -> None:
    ends = st.sampled_from(("ada", "bo", "cy", "untagged", "front", "dry"))
    services = st.lists(st.sampled_from(SERVICES), min_size=1, max_size=2, unique=True)
    claims = st.one_of(
        st.just({"allowed": "none"}),
        st.fixed_dictionaries({"allowed": services, "exactly": st.booleans()}),
        st.fixed_dictionaries(
            {"service": st.sampled_from(SERVICES), "is": st.sampled_from(("allowed", "denied"))}
        ),
    )
    claim: dict[str, Any] = {"from": data.draw(ends), "to": data.draw(ends), **data.draw(claims)}
    claim["enforced"] = data.draw(st.booleans())
    stack.expectations.append(claim)
    said = _load(stack, tmp_path).expect()["expectations"][0]
    answer = "would" if claim["enforced"] else "action"
    pairs = [(s, d) for s in stack.members(claim["from"]) for d in stack.members(claim["to"])]
    against = [
        (s, d, p)
        for s, d in pairs
        for p in stack.packets()
        if _breaks(stack, claim, s, d, p, answer)
    ]
    assert said["holds"] == (not against)
    if against:
        example = said["counterexample"]
        packet: Packet = tuple(example["packet"].values())
        ends_of = example["source"]["group"], example["destination"]["group"]
        assert _breaks(stack, claim, *ends_of, packet, answer)


def _breaks(
    stack: Stack, claim: dict[str, Any], s: str, d: str, packet: Packet, answer: str
) -> bool:
    allowed = stack.decide(s, d, packet, answer)[0] == "allow"
    if claim.get("allowed") == "none":
        return allowed
    spoken = claim["allowed"] if "allowed" in claim else [claim["service"]]
    inside = any(stack.matches(word, packet) for word in spoken)
    if "is" in claim:
        return inside and allowed != (claim["is"] == "allowed")
    return (inside and not allowed) or bool(claim["exactly"] and allowed and not inside)


def test_a_question_about_a_service_is_answered_whole(tmp_path: Path) -> None:
    """``mixed`` with its parts, tags in both notations, endpoints and addresses as ends."""
    rows = [
        {"source": "ada", "destination": "cy", "permission": "web", "mode": "", "way": ""},
        {"source": "ada", "destination": "cy", "permission": "high", "mode": "observe", "way": ""},
    ]
    named: dict[str, dict[str, Any]] = {
        "web": {"entries": [{"allow": ["80/tcp"]}], "otherwise": None},
        "high": {
            "entries": [{"allow": ["81-99/tcp"], "from_ports": "1024-65535"}],
            "otherwise": None,
        },
    }
    workspace = _load(Stack({"ada": (310, {}), "cy": (410, {})}, {}, named, [rows]), tmp_path)
    said = workspace.decide("310", "0x19a", "80-100/tcp", family=4)
    assert (said["action"], said["would"], said["line"]) == ("mixed", "mixed", None)
    parts = [
        (p["source_ports"], p["destination_ports"], p["action"], p["would"]) for p in said["parts"]
    ]
    high, low = [[1024, 65535]], [[0, 1023]]
    assert sorted(parts) == sorted(
        [
            ([[0, 65535]], [[80, 80]], "allow", "allow"),
            (high, [[81, 99]], "deny", "allow"),
            (low, [[81, 100]], "deny", "deny"),
            (high, [[100, 100]], "deny", "deny"),
        ]
    )
    narrow = workspace.decide("ada", "cy", "85/tcp", family=6, source_port=5000)
    assert (narrow["action"], narrow["would"]) == ("deny", "allow")
    assert narrow["would_line"] == {"file": "matrix/10.csv", "line": 3}
    assert narrow["packet"] == {
        "family": 6, "protocol": 6, "source_port": 5000, "destination_port": 85,
    }  # fmt: skip


@given(stack=stacks(), data=st.data())
def test_the_parts_of_a_mixed_answer_are_just_what_was_asked(
    stack: Stack, data: st.DataObject, tmp_path: Path
) -> None:
    """Parts are disjoint, cover the packets asked of and no others, and name the deciding lines."""
    source, destination = data.draw(st.sampled_from(CELLS))
    service = data.draw(st.sampled_from(SERVICES))
    family = data.draw(st.sampled_from((None, 4, 6)))
    port = data.draw(st.sampled_from((None, None, 80, 1024)))
    workspace = _load(stack, tmp_path)
    stack.expectations = [{"service": service}]  # so that the packets are told apart by it

    def asked(packet: Packet) -> bool:
        return (
            stack.matches(service, packet)
            and family in (None, packet[0])
            and port in (None, packet[2])
        )

    packets = [p for p in stack.packets() if asked(p)]
    if port is not None:
        tops = {6: 65535, 17: 65535, 132: 65535}
        moved = [
            (f, n, port, d)
            for f, n, _, d in stack.packets()
            if port <= (255 if (f, n) in ((4, 1), (6, 58)) else tops.get(n, 0))
        ]
        packets += [p for p in moved if asked(p)]
    try:
        said = workspace.decide(source, destination, service, family, port)
    except oaktag.UsageError:
        assert not packets
        return
    shown: Packet = tuple(said["packet"].values())
    assert asked(shown)
    answers = {
        tuple(stack.decide(source, destination, p, a)[0] for a in ("action", "would"))
        for p in packets
    }
    if "parts" not in said:
        assert answers <= {(said["action"], said["would"])}
    for packet in packets:
        parts = said.get("parts", [{**said, "whole": True}])
        held = [p for p in parts if p.get("whole") or in_box(p, packet)]
        assert len(held) == 1, (packet, said)
        for answer, key in (("action", "line"), ("would", "would_line")):
            word, line, _ = stack.decide(source, destination, packet, answer)
            place = (
                None if line is None else {"file": f"matrix/{line[0] + 1}0.csv", "line": line[1]}
            )
            assert (held[0][answer], held[0][key]) == (word, place)
    mixed = said["action"] == "mixed"
    assert mixed == (len({(p["action"], p["would"]) for p in said.get("parts", [])}) > 1)
    for packet in stack.packets():
        if not asked(packet):
            assert not any(in_box(p, packet) for p in said.get("parts", []))


@settings(max_examples=scaled(30))
@given(stack=stacks(), data=st.data())
def test_the_matrix_and_its_parts_agree_with_its_cells(
    stack: Stack, data: st.DataObject, tmp_path: Path
) -> None:
    """The whole, rows and columns of it, and single cells: one and the same content."""
    workspace = _load(stack, tmp_path)
    words = ("*", "front", "odd", "untagged", "cy", "410")
    source, destination = data.draw(st.sampled_from(words)), data.draw(st.sampled_from(words))
    part = workspace.matrix(source, destination)
    forms = {f["form"]: f["allows"] for f in part["forms"]}
    names = {"410": "cy"}
    expected = [
        (s, d)
        for s in WORDS
        if s in stack.members(names.get(source, source))
        for d in WORDS
        if d in stack.members(names.get(destination, destination))
    ]
    assert [(c["source"], c["destination"]) for c in part["cells"]] == expected
    assert len(set(forms.values())) == len(forms)  # what reads alike is alike
    for found in part["cells"]:
        cell = workspace.cell(found["source"], found["destination"])
        assert (forms[found["form"]], forms[found["would_form"]]) == (
            cell["allows"],
            cell["would_allow"],
        )
        decides = [e for e in cell["entries"] if e["decides"] and e["action"] != "pass"]
        assert cell["default_decides"] or decides


def test_versions_of_one_set_of_groups_differ_where_their_lines_do() -> None:
    """Also where only the order of lines changed, and where a line was taken out for another."""
    groups = Groups([Group("a", 1), Group("b", 2), Group("c", 3)])
    said = (
        Permission("web", (Entry.of("allow", "https"),)), Permission("none", (Entry.of("deny", "any"),)),
    )  # fmt: skip
    atoms = Atoms(box for p in said for e in p.entries for box in e.boxes)
    web = atoms.mask(said[0].entries[0].boxes)

    def matrix(*lines: Line, default: Action = "deny") -> Matrix:
        return Matrix(groups, Policy(lines, said, default=default), atoms, 0)

    first, second, other = Line("a", "b", 0), Line("a", "b", 1), Line("a", "c", 0, way="both")
    was = matrix(first, second, other)
    assert compare(was, matrix(first, second, other)) == []
    assert compare(was, matrix(second, first, other)) == [CellChange("a", "b", 0, web)]
    assert compare(was, matrix(second, other)) == [CellChange("a", "b", 0, web)]
    assert compare(was, matrix(first, second, other._replace(way="to"))) == [
        CellChange("c", "a", 0, web)
    ]
    assert compare(was, matrix(first, second, other, Line("c", "itself", 0))) == [
        CellChange("c", "c", web, 0)
    ]
    assert compare(was, matrix(first, second, other._replace(mode="observe"))) == [
        CellChange("a", "c", 0, web), CellChange("c", "a", 0, web)
    ]  # fmt: skip
    assert len(compare(was, matrix(first, second, other, default="allow"))) == 15
