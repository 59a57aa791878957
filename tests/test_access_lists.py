"""Lists: written, read back, proved; the proof can fail; and the kernel agrees with both."""

from __future__ import annotations

import json
import random
import re
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from ipaddress import ip_address, ip_network
from pathlib import Path
from typing import Any

import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

import oaktag as package
from conftest import Ran
from kernel_oracle import FORMS, Question, answer_to, ask, passing
from networks import SEEDS, random_net, write_net
from oaktag.core.accesslist import Keep, Look
from oaktag.core.acting import act
from oaktag.core.addresses import address_text
from oaktag.core.packets import Packet
from oaktag.core.proof import Refuted
from oaktag.dialects import DIALECTS, nftables
from oaktag.errors import UnreadableList, UnwritableEntry
from oaktag.operations.lists import list_of, list_text, points_of, refute
from oaktag.testing.slow import CUT_SHORT, Stack
from oaktag.testing.slow_reach import exchanged
from oaktag.testing.strategies import GROUPS, stacks
from one_gate import HOME, OWN, PLACES, SEGMENTS, model_of, points
from sizes import scaled

Run = Callable[..., Ran]

#: Not put on the wire: what IPv6 takes for headers of its own, and what hosts do not forward.
UNSENT = {4: set[int](), 6: {0, 43, 44, 50, 51, 59, 60, 135, 139, 140, 253, 254}}


def _meant(stack: Stack, point: dict[str, Any], question: Question) -> bool:
    """Whether the point must let a packet pass, from the words alone."""
    packet, source, destination, frame, form = question
    if form in ("first", "later"):  # no packet, and is kept until it is one
        return False
    families = point.get("limits", {}).get("families", (4, 6))
    if point["mode"] == "observe" or packet.family not in families:
        return True
    if not point.get("own") and {source, destination} & set(OWN):
        return True
    a, b = _segment(source), _segment(destination)
    if a is not None and a == b and not point["inside"]:
        return True
    if point["from"] != "*" and a not in point["from"]:
        return True
    if point["toward"] != "*" and b not in point["toward"]:
        return True
    names = {tag: n for n, (tag, _) in stack.groups.items()} | {0: "untagged"}
    bound = {x: n for n, held in PLACES.items() for x in held} | dict.fromkeys(OWN, HOME)
    s, d = bound.get(source, "untagged"), bound.get(destination, "untagged")
    if frame and point["match"]["source"] == "tag":
        known = s != "untagged"
        s = s if known and point["if_differ"] == "bindings" else names.get(frame, "")
    scope = point["scope"] if isinstance(point["scope"], dict) else {}
    for key, group in (("sources", s), ("destinations", d)):
        held = [m for word in scope.get(key, ["*"]) for m in stack.members(word)]
        if group not in held:
            return bool(point["outside"] == "allow")
    if point["scope"] == "known" and d not in _behind(point):
        return bool(point["outside"] == "allow")
    if not point["stateful"] and stack.decide(d, s, exchanged(packet), "action")[0] == "allow":
        return True
    return stack.decide(s, d, packet, "action")[0] == "allow"


def _segment(address: str) -> str | None:
    number = ip_address(address)
    return next(
        (s for s, held in SEGMENTS.items() if any(number in ip_network(p) for p in held)), None
    )


def _behind(point: dict[str, Any]) -> set[str]:
    """Destinations that a scope ``known`` holds: who is where some judged path ends."""
    found = {"untagged", HOME} if point.get("own") else {"untagged"}
    for group, segment in (("ada", "left"), ("bo", "left"), ("cy", "right"), ("di", "far")):
        for origin in SEGMENTS:
            inside = origin == segment
            judged = (
                (not inside or (point["inside"] and segment != "far"))
                and (point["from"] == "*" or origin in point["from"])
                and (point["toward"] == "*" or segment in point["toward"])
            )
            if judged:
                found.add(group)
    return found


def _questions(data: st.DataObject, packets: list[Packet], most: int) -> list[Question]:
    drawn: list[Question] = []
    flows: set[tuple[object, ...]] = set()
    for _ in range(data.draw(st.integers(1, most))):
        packet = data.draw(st.sampled_from(packets))
        places = [*(a for held in PLACES.values() for a in held), *OWN]
        family = [a for a in places if (":" in a) == (packet[0] == 6)]
        source, destination = (data.draw(st.sampled_from(family)) for _ in range(2))
        frame = 0 if source in OWN else data.draw(st.sampled_from((0, 0, 310, 410)))
        if {source, destination} <= set(OWN):
            continue
        if {source, destination} & set(OWN) and packet.source_port < 0:
            continue
        if destination in OWN and (packet.protocol in (0, 255) or packet[:2] == (6, 58)):
            continue  # not heard by a raw socket, or only where its sum is right
        # An answer to an earlier packet would pass as part of its flow, and so it should.
        flow = frozenset((source, destination)), packet[0], packet[1]
        if source != destination and flow not in flows:
            flows.add(flow)
            whole = packet.source_port < 0
            whole |= bool({source, destination} & set(OWN))
            form = "whole" if whole else data.draw(st.sampled_from(("whole", "whole", *FORMS)))
            drawn.append(Question(packet, source, destination, frame, form))
            answer = answer_to(drawn[-1], OWN)
            if answer is not None:
                drawn.append(answer)
    return drawn


def _one_way(
    stack: Stack, point: dict[str, Any], packets: list[Packet], others: list[Question],
    rng: random.Random,
) -> list[Question]:  # fmt: skip
    """A packet that passes, and its answer, which opened no flow: if some tries find such."""
    known = {frozenset((q.source, q.destination)) for q in others}
    places = [a for held in PLACES.values() for a in held]
    for _ in range(60):
        packet, ends = rng.choice(packets), rng.sample(places, 2)
        if any((":" in a) != (packet.family == 6) for a in ends) or frozenset(ends) in known:
            continue
        question = Question(packet, ends[0], ends[1])
        answer = answer_to(question, OWN)
        if answer and _meant(stack, point, question) and not _meant(stack, point, answer):
            return [question, answer]
    return []


def _all_meant(stack: Stack, point: dict[str, Any], questions: list[Question]) -> list[bool]:
    """The same of packets after each other: answers in known flows pass a stateful point."""
    return passing(questions, partial(_meant, stack, point), stateful=point["stateful"])


def test_the_kernel_decides_as_the_rules_say(real_kernel: None, tmp_path: Path) -> None:
    """Random matrices and points: compiled, proved, loaded; packets by the hundred."""
    asked: list[tuple[str, list[Question]]] = []
    meant: list[list[bool]] = []

    @settings(max_examples=scaled(40, 24), database=None)
    @given(stack=stacks(), point=points, data=st.data())
    def collect(stack: Stack, point: dict[str, Any], data: st.DataObject) -> None:
        model, compiled = model_of(stack, point, tmp_path)
        text = list_text(model, compiled)
        assert nftables.write(DIALECTS["nftables"].read(text)) == text
        assert refute(model, compiled, text) is None
        packets = [Packet(*p) for p in stack.packets() if p[1] not in UNSENT[p[0]]]
        packets += [
            Packet(f, p, *CUT_SHORT) for f in (4, 6) for p in (6, 17, 132, {4: 1, 6: 58}[f])
        ]
        questions = _questions(data, packets, 40)
        asked.append((text, questions))
        meant.append(_all_meant(stack, point, questions))

    collect()
    for (text, questions), said, expected in zip(asked, ask(asked, OWN), meant, strict=True):
        assert not isinstance(said, str), (said, text)
        wrong = [q for q, a, b in zip(questions, said, expected, strict=True) if a != b]
        assert not wrong, (wrong, text)
    assert sum(map(len, meant)) > 300
    at_home = [
        (ok, "chain arriving" in text)
        for (text, of), told in zip(asked, meant, strict=True)
        for q, ok in zip(of, told, strict=True)
        if {q.source, q.destination} & set(OWN)
    ]
    assert {(True, True), (False, True), (True, False)} <= set(at_home), len(at_home)
    dropped = [
        q
        for (_, asked_), said in zip(asked, meant, strict=True)
        for q, ok in zip(asked_, said, strict=True)
        if not ok
    ]
    assert len(dropped) > 10 and len(dropped) < sum(map(len, meant)) - 10


#: All that the kernel can be: what a point may say, but for whom it judges between.
EVERY = [
    {
        "mode": mode, "match": {"source": "address" if differ is None else "tag"},
        "if_differ": differ or "frame", "inside": inside, "outside": outside, "stateful": stateful,
        "own": own, "limits": {"families": families}, "from": "*", "toward": "*",
    }
    for mode in ("enforce", "observe")
    for differ in ("frame", "bindings", None)
    for inside in (False, True)
    for outside in ("allow", "deny")
    for stateful in (True, False)
    for own in (False, True)
    for families in ([4], [6], [4, 6])
]  # fmt: skip
PARTS = 8


def test_the_kernel_is_every_kind_of_point_that_it_can_be(
    real_kernel: None, tmp_path: Path
) -> None:
    """Each combination once, each part of them with a random matrix: no other than is said passes."""
    asked: list[tuple[str, list[Question]]] = []
    meant: list[tuple[dict[str, Any], list[bool]]] = []
    scopes = ("all", "known", {"destinations": ["cy", "front"]}, {"sources": ["ada", "untagged"]})

    @settings(max_examples=PARTS, database=None, phases=[Phase.generate])
    @given(stack=stacks(), data=st.data())
    def collect(stack: Stack, data: st.DataObject) -> None:
        part = len(seen) % PARTS
        seen.append(part)
        packets = [Packet(*p) for p in stack.packets() if p[1] not in UNSENT[p[0]]]
        for number, said in list(enumerate(EVERY))[part::PARTS]:
            point = {**said, "scope": scopes[(number // 3 + part) % len(scopes)]}
            model, compiled = model_of(stack, point, tmp_path)
            text = list_text(model, compiled)
            assert refute(model, compiled, text) is None
            questions = _questions(data, packets, 12)
            questions += _one_way(stack, point, packets, questions, random.Random(number))
            asked.append((text, questions))
            meant.append((point, _all_meant(stack, point, questions)))
            answers.update(
                (ok, _meant(stack, point, q))
                for q, ok in zip(questions, meant[-1][1], strict=True) if q.form == "answer"
            )  # fmt: skip

    seen: list[int] = []
    answers = Counter[tuple[bool, bool]]()
    collect()
    assert min(answers[known] for known in ((True, False), (True, True), (False, False))) > 5
    assert set(seen) == set(range(PARTS)) and len(asked) >= len(EVERY) == 288
    told: Counter[tuple[object, bool]] = Counter()
    for (text, questions), said, (point, expected) in zip(
        asked, ask(asked, OWN), meant, strict=True
    ):
        assert not isinstance(said, str), (said, text)
        wrong = [q for q, a, b in zip(questions, said, expected, strict=True) if a != b]
        assert not wrong, (wrong, point, text)
        told.update((key, ok) for ok in expected for key in ("any", str(point["match"])))
    assert (
        min(
            told[key, ok]
            for key in ("any", *{str(p["match"]) for p in EVERY})
            for ok in (True, False)
        )
        > 50
    ), told


@pytest.mark.parametrize("seed", SEEDS[: scaled(8)])
def test_what_refutes_a_list_is_between_the_segments_in_question(seed: int, tmp_path: Path) -> None:
    """Two segments left alone together, and one of them judged inside: the packet is one of which
    that list decides otherwise than the right one."""
    model = write_net(random_net(seed), tmp_path).model
    rng, shown = random.Random(seed), 0
    for point in points_of(model):
        try:
            text = list_text(model, point)
        except UnwritableEntry:
            continue
        sound = DIALECTS["nftables"].read(text)
        pairs = re.findall(r"\t\t\t(10\.\S+) \. (10\.\S+?),?\n", text)
        for one, _ in rng.sample(pairs, min(4, len(pairs))):
            other = rng.choice([span for span, _ in pairs if f"{one} . {span}" not in text])
            changed = text.replace(f"{one} . {one}", f"{one} . {other}")
            against = refute(model, point, changed)
            if against is None:
                continue
            held = DIALECTS["nftables"].read(changed)
            ends = against.source, against.destination, against.frame
            said = [act(tree, against.packet, *ends) for tree in (held, sound)]
            assert [s.action for s in said] == [against.listed[0], against.meant[0]]
            shown += 1
    assert shown > 3


@settings(max_examples=scaled(60))
@given(stack=stacks(most_lines=3), point=points, other=points, data=st.data())
def test_the_proof_refutes_just_what_differs(
    stack: Stack, point: dict[str, Any], other: dict[str, Any], data: st.DataObject, tmp_path: Path
) -> None:
    """A list of one point held against another, or another matrix: equal, or a packet that shows it.

    Whether two points differ is found by asking the words of both about every kind of packet
    between all the places and frames there are.
    """
    changed = data.draw(
        st.sampled_from(("mode", "from", "inside", "scope", "outside", "if_differ", "default"))
    )
    meant = dict(point)
    second = stack
    if changed == "default":
        second = replace(stack, default="allow" if stack.default == "deny" else "deny")
    else:
        meant[changed] = other[changed]
    (tmp_path / "a").mkdir(exist_ok=True)
    (tmp_path / "b").mkdir(exist_ok=True)
    text = list_text(*model_of(stack, point, tmp_path / "a"))
    model, held = model_of(second, meant, tmp_path / "b")
    against = refute(model, held, text)
    asked = [
        Question(Packet(*p), a, b, frame)
        for p in stack.packets()
        for a in (x for of in PLACES.values() for x in of)
        for b in (x for of in PLACES.values() for x in of)
        if (":" in a) == (":" in b) == (p[0] == 6)
        for frame in (0, 310, 411)
    ]
    differs = any(_meant(stack, point, q) != _meant(second, meant, q) for q in asked)
    if against is None:
        assert not differs
        return
    assert against.listed != against.meant
    question = _question(against)
    if against.listed[0] != against.meant[0]:
        assert (_meant(stack, point, question), _meant(second, meant, question)) == (
            against.listed[0] == "allow", against.meant[0] == "allow",
        )  # fmt: skip
    else:
        assert (
            not differs
            or stack.observed_default
            or "observe" in (point["mode"], meant["mode"])
            or any(row["mode"] == "observe" for layer in stack.layers for row in layer)
        )


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("10.20.1.21-10.20.1.22 : 0x1014a", "10.20.1.21-10.20.1.22 : 0x10000", "no address with its tag"),
        ("10.20.1.21-10.20.1.22 : 0x1014a", "10.20.1.22-10.20.1.21 : 0x1014a", "one form"),
        ("10.20.1.41-10.20.1.42 :", "10.20.1.041-10.20.1.42 :", "no address or prefix"),
        ("10.20.200.21-10.20.200.24 : goto", "10.20.200.21/30 : goto", "host bits"),
        ("0x136 : goto p", "0x140 : goto p", "is called librarians here, and patrons before"),
        ("0x136 : drop, # librarians", "0x140 : drop, # patrons", "stands twice"),
        ("0x136 : drop, # librarians | default", "0x136 : drop, # librarians", "its keys"),
        ("0x136 : drop, # librarians | default", "0x136 : goto p0000000000, # librarians | default", "not the name"),
        ("0x136 : drop, # librarians | default", "0x136 : jump p0000000000, # librarians", "no source tag"),
        ("\t\tjump judge", "\t\tgoto judge", "expected"),
        ("\t\tmeta mark & 0xffff vmap @from_0\n", "\t\tmeta mark & 0xffff == 0x136 counter accept # librarians | default\n"
         "\t\tmeta mark & 0xffff vmap @from_0\n", "in two places"),
        ("\t\tmeta mark & 0xffff vmap @from_0\n", "\t\tmeta mark & 0xffff == 0x1 accept # - | default\n"
         "\t\tmeta mark & 0xffff vmap @from_0\n", "no outcome"),
        ("\t\tmeta mark & 0xffff vmap @from_0\n", "\t\tmeta mark & 0xffff == 0x1 meta l4proto 47 counter accept # - | default\n"
         "\t\tmeta mark & 0xffff vmap @from_0\n", "do not end in one for everything"),
        ("tcp dport 443 accept", "tcp dport 443-443 accept", "sorted set"),
        ("tcp dport 443 accept", "tcp dport 70000 accept", "sorted set"),
        ("udp dport { 53, 123 }", "udp dport { 123, 53 }", "sorted set"),
        ("tcp dport 443 accept", "icmp dport 44 accept", "no entry|no outcome"),
        ("tcp sport 0-65535 tcp dport 443 accept", "meta nfproto ipv4 icmp type 300 icmp code 0 accept", "sorted set"),
        ("tcp sport 0-65535 tcp dport 443 accept", "icmp type 8 icmp code 0-255 accept", "belongs to one family"),
        ("tcp sport 0-65535 tcp dport 443 accept", "meta l4proto { 6, 47 } accept", "entries of their own"),
        ("tcp sport 0-65535 tcp dport 443 accept", "meta l4proto 1 accept", "entries of their own"),
        ("tcp sport 0-65535 tcp dport 443 accept", "tcp sport 0-65535 udp dport 443 accept", "no entry|no outcome"),
        ("tcp sport 0-65535 tcp dport 443 accept", "tcp dport 443 accept", "no entry|no outcome"),
        ("# point hall-edge", "# point hall-edge\r", "U\\+000D"),
        ("\t\tmeta mark & 0xffff == 0 meta", "\t\tip saddr 128.0.0.0/1 accept\n\t\tmeta mark & 0xffff == 0 meta", "steps that it must have"),
        ("policy accept;", "policy drop;", "expected"),
        ("\t\tct state { established, related } accept\n", "", "steps that it must have"),
        ("\" group 5 accept", "\" group 6 accept", "no outcome"),
        ("320>320 allow would deny", "320>320 deny would deny", "does another"),
        ("320>320 allow would deny", "320>310 allow would deny", "records another cell"),
        ("320>320 allow would deny", "outside allow would deny", "names no cell"),
        ("320>320 allow would deny ", "320>320 allow would deny default ", "as many as fit"),
        ("forward priority filter", "forward priority mangle", "expected"),
        ("\t\tgoto to_0\n", "", "expected"),
        ("chain to_530 {", "chain to_531 {", "stands twice|in the wrong place|belongs here"),
        ("# point hall-edge", "# point hall-door", "expected"),
    ],
)  # fmt: skip
def test_the_reader_refuses_what_the_writer_never_writes(
    sample: Path, old: str, new: str, told: str
) -> None:
    model = package.Workspace.load(sample).model
    text = list_text(model, model.network.points["hall-edge"])
    assert old in text
    with pytest.raises(UnreadableList, match=told) as caught:
        DIALECTS["nftables"].read(text.replace(old, new, 1))
    assert 1 <= caught.value.line <= text.count("\n") + 1


def test_bytes_are_bytes(oaktag: Run, shipped_mended: Path) -> None:
    """What the packet filter does not take for a line end is none, also where Python's text mode takes
    it for one: a rule glued into a comment is gone, and everybody says so."""
    folder = shipped_mended
    assert oaktag("-C", folder, "compile").status == 0
    path = folder / "lists/hall-edge.nft"
    sound = path.read_bytes()
    lines = sound.split(b"\n")
    first = next(n for n, line in enumerate(lines) if line.startswith(b"#") and n)
    for odd in ("\r\n", "\u2028", "\x85", "\x0b", "\x0c", "\xa0", "\ufeff", "\r"):
        glued = lines[first] + odd.encode() + lines[first + 1]
        path.write_bytes(b"\n".join([*lines[:first], glued, *lines[first + 2 :]]))
        proved = oaktag("-C", folder, "prove", "--json")
        row = next(r for r in proved.json["points"] if r["point"] == "hall-edge")
        assert proved.status == 1 and not row["equal"] and row["error"], (odd, row)
    report = {
        "form": 1,
        "node": "hall-edge",
        "points": [{"point": "hall-edge", "list": "hall-edge.nft"}],
    }
    observed = folder / "observed"
    observed.mkdir()
    (observed / "hall-edge.json").write_text(json.dumps(report))
    (observed / "hall-edge.nft").write_bytes(path.read_bytes())
    drift = oaktag("-C", folder, "drift", "--json")
    (row,) = drift.json["drift"]
    assert (row["kind"], row["known"]) == ("lists", False) and row["leaks"] > 0
    assert oaktag("-C", folder, "reach", "--observed", "observed").status == 1
    assert oaktag("-C", folder, "compile").status == 0 and path.read_bytes() == sound
    assert oaktag("-C", folder, "prove").status == 0


def _change(text: str, rng: random.Random) -> str:
    """One character more, less or other; mostly a digit for a digit, which often reads well."""
    at = rng.randrange(len(text))
    while rng.random() < 0.9 and not (text[at].isdigit() and text[at - 1] in "0123456789 .-x"):
        at = rng.randrange(len(text))
    kind = rng.randrange(8)
    if kind == 0:
        return text[:at] + text[at + 1 :]
    letter = rng.choice("0123456789abcdef" if kind > 2 else " .:/-#{}\n")
    return text[:at] + letter + text[at + (kind != 1) :]


def _question(against: Refuted) -> Question:
    family = against.packet.family
    return Question(
        against.packet, address_text(family, against.source),
        address_text(family, against.destination), against.frame,
    )  # fmt: skip


def test_the_proof_can_fail_and_the_kernel_agrees(real_kernel: None, sample: Path) -> None:
    """200 changes of one character each: refused by the reader, refuted, or proved equal."""
    model = package.Workspace.load(sample).model
    point = model.network.points["hall-edge"]
    text = list_text(model, point)
    rng = random.Random(20)
    counts = {"refused": 0, "refuted": 0, "equal": 0}
    lists: list[tuple[str, list[Question]]] = []
    expected: list[list[bool]] = []
    while sum(counts.values()) < 200 or counts["refuted"] < 25:
        changed = _change(text, rng)
        if changed == text:
            continue
        try:
            against = refute(model, point, changed)
        except UnreadableList as error:
            assert 1 <= error.line <= changed.count("\n") + 1
            counts["refused"] += 1
            continue
        if against is None:
            counts["equal"] += 1
            lists.append(
                (changed, [Question(Packet(4, 6, 50_000, 8443), "10.20.2.101", "10.20.201.11")])
            )
            expected.append([False])
            continue
        counts["refuted"] += 1
        assert against.listed != against.meant or against.what
        if against.listed[0] != against.meant[0] and len(lists) < 40:
            lists.append((changed, [_question(against)]))
            expected.append([against.listed[0] == "allow"])
            lists.append((text, [_question(against)]))
            expected.append([against.meant[0] == "allow"])
    assert min(counts.values()) > 0, counts
    assert ask(lists) == expected


def test_every_kind_of_wrong_list_is_refuted(sample: Path) -> None:
    """Changes that read well but mean something else: each is shown by a packet that differs."""
    model = package.Workspace.load(sample).model
    point = model.network.points["hall-edge"]
    text = list_text(model, point)
    changes = {
        "a verdict": ("tcp dport 443 accept", "tcp dport 443 drop"),
        "a port": ("tcp dport 443 accept", "tcp dport 444 accept"),
        "a tag": (
            "10.20.2.41-10.20.2.43 : 0x107d1, # wall-displays",
            "10.20.2.41-10.20.2.43 : 0x10154, # kiosks",
        ),
        "a destination": ("10.20.201.11-10.20.201.12 : goto to_520", "10.20.201.11 : goto to_520"),
        "outside": ("chain outside {\n\t\taccept", "chain outside {\n\t\tdrop"),
        "half of all": ("ip saddr { 169.254.0.0/16, 224.0.0.0/4 }", "ip saddr 128.0.0.0/1"),
        "a sixteenth": ("ip daddr { 169.254.0.0/16,", "ip daddr { 169.254.0.0/16, 176.0.0.0/4,"),
        "less that nobody judges": ("ip6 saddr { fe80::/10", "ip6 saddr { fe80::/11"),
        "known flows": ("ct state { established, related } accept", "ct state invalid counter"),
        "a tag of no group": ("0x15e : drop, # return-sorters", "0x15f : drop, # -"),
    }
    for what, (old, new) in changes.items():
        assert old in text, what
        changed = text.replace(old, new)
        against = refute(model, point, changed)
        assert against is not None, what
        assert against.listed != against.meant or against.what
    held = list_of(model, point)
    head = (
        *(s for s in held.head if not isinstance(s, Look)),
        Keep(),
        Look(4, False),
        Look(6, False),
    )
    against = refute(model, point, nftables.write(replace(held, head=head, restores=True)))
    assert against is not None and against.frame, "the frame"
    chains = {
        name: tuple(replace(entry, would=entry.action) for entry in chain)
        for name, chain in held.chains.items()
    }
    against = refute(model, point, nftables.write(replace(held, chains=chains)))
    assert against is not None and against.listed == ("allow", "allow"), "what would be"
    assert against.meant == ("allow", "deny")
    before, block = text.split("map from_520 {")
    block = block.replace("0x0 : drop, # untagged", "0x0 : accept, # untagged", 1)
    changed = f"{before}map from_520 {{{block}"
    against = refute(model, point, changed)
    assert against is not None and against.meant[0] == "deny"
    with pytest.raises(UnreadableList, match="overlap"):
        refute(model, point, text.replace("10.20.2.31-10.20.2.33 :", "10.20.2.31-10.20.2.41 :", 1))


def test_lists_stay_when_only_places_change(sample: Path, tmp_path: Path) -> None:
    """Same input, same bytes; a line inserted above changes no list; a new binding only tables."""
    workspace = package.Workspace.load(sample)
    first = workspace.compile(tmp_path / "a")["points"][0]
    stamp = Path(first["file"]).stat().st_mtime_ns
    again = package.Workspace.load(sample).compile(tmp_path / "a")["points"][0]
    assert (again["sha256"], Path(again["file"]).stat().st_mtime_ns) == (first["sha256"], stamp)
    layer = sample / "matrix/10-shared.csv"
    head, *rows = layer.read_text().splitlines(keepends=True)
    idle = "untagged,untagged,nothing,off,to,,,switched off for now\n"
    layer.write_text("".join([head, idle, *rows]))
    moved = package.Workspace.load(sample).compile(tmp_path / "b")["points"][0]
    assert moved["sha256"] == first["sha256"]
    assert (tmp_path / "a/keys.csv").read_text() != (tmp_path / "b/keys.csv").read_text()
    servers = sample / "inventory/servers.csv"
    servers.write_text(servers.read_text() + "catalogue-3,10.20.200.13,search,\n")
    package.Workspace.load(sample).compile(tmp_path / "c")
    old, new = ((tmp_path / x / "hall-edge.nft").read_text() for x in "bc")
    cut = "chain judge"
    assert old.split(cut)[1] == new.split(cut)[1] and old != new


def test_an_authentication_header_is_a_protocol_to_the_kernel(
    tmp_path: Path, real_kernel: None
) -> None:
    """Allowed or denied alone, on both families, beside TCP and other numbers."""
    asked, meant, lists = [], [], []
    for action in ("allow", "deny"):
        stack = Stack(
            dict(GROUPS), {}, {"p": {"entries": [{action: ["proto/51"]}], "otherwise": "allow" if action == "deny" else "deny"}},
            [[{"source": "*", "destination": "*", "permission": "p", "mode": "", "way": ""}]],
        )  # fmt: skip
        model, point = model_of(stack, {}, tmp_path)
        lists.append(list_text(model, point))
        ends = {4: ("10.1.0.1", "10.2.0.1"), 6: ("2001:db8:1::1", "2001:db8:2::1")}
        some = [
            Question(Packet(f, p, 0 if p == 51 else 9, 0 if p == 51 else 9), *ends[f])
            for f in (4, 6)
            for p in (51, 6, 47)
        ]
        asked.append(
            [
                q._replace(packet=q.packet._replace(source_port=0, destination_port=0))
                if q.packet.protocol == 47
                else q
                for q in some
            ]
        )
        meant.append([(q.packet.protocol == 51) == (action == "allow") for q in some])
    assert ask(list(zip(lists, asked, strict=True))) == meant
