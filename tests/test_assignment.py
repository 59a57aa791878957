"""Assignment and bindings against plain readings of the rules, one endpoint at a time."""

from __future__ import annotations

import json
import random
import re
from ipaddress import ip_address, ip_network
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import oaktag
from oaktag.core.addresses import parse_address, parse_prefix
from oaktag.core.bindings import BINDING_SOURCES, Binding, Lookup, differing
from oaktag.testing.slow import attribute_matches

GROUPS = ("ada", "bo", "cy", "sc-200", "till", "till-4")
#: What attributes may give; ``colour`` is known of nobody but by a correction.
GIVEN = ("{model}", "{roles}", "{roles}-{size}", "{colour}")
VALUES = {
    "model": ("SC-200", "SC-210", "sc-200", "WD-4", ""),
    "size": ("4", "4.0", "04", "9", "x", ""),
    "roles": ("till;print", "till", "print", ""),
    "address": ("10.1.0.7", "10.2.0.0/24", "2001:db8::7", "::ffff:10.1.0.8", ""),
}
CONDITIONS: dict[str, tuple[Any, ...]] = {
    "model": ("SC-200", "SC-*", "[sS]C-2?0", ["WD-4", "*-210"], "4"),
    "size": (4, "4", {">=": 4, "<": 9}, [9, "x"], {">": 4}),
    "roles": ("till", ["print"], "*t"),
    "address": ({"within": "10.1.0.0/16"}, {"within": ["10.0.0.0/8", "2001:db8::/32"]}, "10.1.0.7"),
    "kind": ("server", "device"),
    "colour": ("red",),
}
SURE = ("", "0.5", "0.8", "1")


@st.composite
def rules(draw: st.DrawFn) -> dict[str, Any]:
    """A rule with up to three conditions, an exception, a confidence it asks for."""

    def conditions(most: int) -> dict[str, Any]:
        names = draw(st.lists(st.sampled_from(sorted(CONDITIONS)), max_size=most, unique=True))
        return {name: draw(st.sampled_from(CONDITIONS[name])) for name in names}

    rule: dict[str, Any] = {
        "give": draw(st.sampled_from((*GROUPS[:3], "untagged", *GIVEN))),
        "when": conditions(3),
    }
    if draw(st.booleans()):
        rule["unless"] = conditions(2)
    if draw(st.booleans()):
        rule["min_confidence"] = draw(st.sampled_from((0.5, 0.8, 0.81)))
    return rule


columns = st.fixed_dictionaries({name: st.sampled_from(v) for name, v in VALUES.items()} | {"model.confidence": st.sampled_from(SURE)})  # fmt: skip
corrections = st.tuples(
    st.integers(0, 3), st.sampled_from(("model", "size", "colour")), st.sampled_from(("SC-210", "9", "red", ""))
)  # fmt: skip


@given(
    listed=st.lists(columns, min_size=1, max_size=4), again=st.lists(columns, max_size=2),
    order=st.lists(rules(), max_size=5), pinned=st.integers(0, 5),
    mended=st.lists(corrections, max_size=2),
)  # fmt: skip
def test_groups_and_reasons(
    listed: list[dict[str, str]], again: list[dict[str, str]], order: list[dict[str, Any]],
    pinned: int, mended: list[tuple[int, str, str]], tmp_path: Path,
) -> None:  # fmt: skip
    names = [f"e{n}" for n in range(len(listed))]
    pins = [{"endpoint": f"e{pinned}", "group": "cy"}] if pinned < len(listed) else []
    kept = [(f"e{n}", attribute, value) for n, attribute, value in mended if n < len(listed)]
    _write(tmp_path, names, listed, again, order, pins, kept)
    workspace = oaktag.Workspace.load(tmp_path)
    said = {e["endpoint"]: e for e in workspace.members()["endpoints"]}
    takers: list[list[str | None]] = [[] for _ in order]
    for number, name in enumerate(names):
        facts = _facts(name, listed[number], again[number] if number < len(again) else {}, kept)
        table = [_reading(rule, facts) for rule in order]
        gives = [_given(rule["give"], facts) for rule in order]
        taking = [
            n
            for n, (failed, barred, _) in enumerate(table)
            if not failed and not barred and gives[n] is not None
        ]
        line = 2 + len(pins) + 1
        places = [line + n for n in range(len(order))]
        row = said[name]
        taker = "pins" if pins and name == f"e{pinned}" else None
        for n in taking:
            takers[n].append(taker or f"assignments.yaml:{places[taking[0]]}")
        if pins and name == f"e{pinned}":
            assert (row["group"], row["by"]["kind"]) == ("cy", "pin")
            assert [a["line"] for a in row["also"]] == [places[n] for n in taking]
        elif taking and gives[taking[0]] in (*GROUPS, "untagged"):
            rule = order[taking[0]]
            assert row["group"] == gives[taking[0]]
            assert (row["by"]["kind"], row["by"]["line"]) == ("rule", places[taking[0]])
            assert [c.split(": ")[0] for c in row["by"]["conditions"]] == list(rule["when"])
            assert [a["line"] for a in row["also"]] == [places[n] for n in taking[1:]]
            assert [a["group"] for a in row["also"]] == [gives[n] for n in taking[1:]]
        else:  # nobody takes it, or the first who would gives a group that is not there
            assert (row["group"], row["by"], row["also"]) == ("untagged", None, [])

            def sure(rule: dict[str, Any], facts: Any = facts) -> bool:
                """Whether a rule fails only because something is known too unsurely."""
                return not _reading({**rule, "min_confidence": 0}, facts)[0]

            near = [
                (places[n], "unless" if not failed else failed[0])
                for n, (failed, barred, held) in enumerate(table)
                if (not failed and barred)
                or (len(failed) == 1 and not barred and (held or sure(order[n])))
            ]
            assert [(m["line"], m["attribute"]) for m in row["near"]] == near
            for miss in row["near"]:
                rule = order[places.index(miss["line"])]
                assert miss["unsure"] == (sure(rule) and miss["attribute"] != "unless")

    told = {
        (f["code"], f["line"], f["message"])
        for f in workspace.check()["findings"]
        if f["code"] in ("OT205", "OT206", "OT209")
    }
    known = {*VALUES, "id", "kind"} | {a for _, a, v in kept if v}
    expected = set()
    for n, rule in enumerate(order):
        place, found = 3 + len(pins) + n, takers[n]
        asked = [*re.findall(r"{(.*?)}", rule["give"]), *rule["when"], *rule.get("unless", {})]
        expected |= {("OT209", place, a) for a in asked if a not in known}
        mine = f"assignments.yaml:{place}"
        if not found:
            expected.add(("OT205", place, "matches nobody"))
        elif mine not in found:
            expected.add(("OT206", place, f"taken before it, by {found[0]}"))
    assert len(told) == len(expected)
    for code, place, words in expected:
        assert any((c, p) == (code, place) and words in m for c, p, m in told), (words, told)


def _write(
    folder: Path, names: list[str], listed: list[dict[str, str]], again: list[dict[str, str]],
    order: list[dict[str, Any]], pins: list[dict[str, str]], kept: list[tuple[str, str, str]],
) -> None:  # fmt: skip
    head = ["name", *VALUES, "model.confidence"]
    for file, rows in (("a.csv", listed), ("b.csv", again)):
        lines = [
            ",".join([n, *(r[c] for c in head[1:])]) for n, r in zip(names, rows, strict=False)
        ]
        (folder / file).write_text("\n".join([",".join(head), *lines]) + "\n")
    lines = [f"{name},{attribute},{value},me,so" for name, attribute, value in kept]
    (folder / "c.csv").write_text("\n".join(["endpoint,attribute,value,who,why", *lines]) + "\n")
    source = {"kind": "server", "id": "name"}
    config = {
        "workspace": "random", "layers": [], "corrections": "c.csv",
        "sources": [{"file": f, **source} for f in ("a.csv", "b.csv")],
    }  # fmt: skip
    groups = [{"id": g, "tag": n + 1} for n, g in enumerate(GROUPS)]
    (folder / "oaktag.yaml").write_text(json.dumps(config))
    (folder / "groups.yaml").write_text(json.dumps({"groups": groups}))
    (folder / "permissions.yaml").write_text("permissions: {}\n")
    text = ["pins:", *(f"  - {json.dumps(p)}" for p in pins)] if pins else ["pins: []"]
    text += ["rules:" if order else "rules: []", *(f"  - {json.dumps(r)}" for r in order)]
    (folder / "assignments.yaml").write_text("\n".join(text) + "\n")


def _facts(
    name: str, first: dict[str, str], second: dict[str, str], kept: list[tuple[str, str, str]]
) -> dict[str, tuple[list[str], float]]:
    """What is known of an endpoint: attribute → (elements, confidence)."""
    facts: dict[str, tuple[list[str], float]] = {"kind": (["server"], 1), "id": ([name], 1)}
    for source in (first, second):
        for attribute in VALUES:
            if source.get(attribute):
                sure = source.get("model.confidence") if attribute == "model" else ""
                facts[attribute] = source[attribute].split(";"), float(sure or 1)
    for who, attribute, value in kept:
        if who == name:
            facts.pop(attribute, None)
            if value:
                facts[attribute] = [value], 1
    return facts


def _given(template: str, facts: dict[str, tuple[list[str], float]]) -> str | None:
    """The group that a rule gives; nothing where an attribute that makes its name is missing."""
    for attribute in re.findall(r"{(.*?)}", template):
        if attribute not in facts:
            return None
        template = template.replace(f"{{{attribute}}}", facts[attribute][0][0])
    return template


def _reading(
    rule: dict[str, Any], facts: dict[str, tuple[list[str], float]]
) -> tuple[list[str], bool, list[str]]:
    """(conditions that failed, whether ``unless`` bars, conditions that held)."""
    surely = rule.get("min_confidence", 0)

    def holds(attribute: str, condition: Any) -> bool:
        value, confidence = facts.get(attribute, ([], 1))
        return bool(value) and confidence >= surely and attribute_matches(condition, value)

    held = {a: holds(a, c) for a, c in rule["when"].items()}
    unless = rule.get("unless", {})
    barred = bool(unless) and all(holds(a, c) for a, c in unless.items())
    return [a for a, h in held.items() if not h], barred, [a for a, h in held.items() if h]


PREFIXES = ("0.0.0.0/0", "10.0.0.0/8", "10.1.0.0/16", "10.1.0.0/24", "10.1.0.0/32", "10.1.0.255/32",
            "255.255.255.255/32", "::/0", "2001:db8::/32", "2001:db8::/128", "2001:db8:0:1::/64",
            "ffff:ffff::/32")  # fmt: skip
ASKED = ("10.1.0.0", "10.1.0.1", "10.1.0.255", "10.1.1.0", "10.255.0.0", "9.9.9.9", "0.0.0.0",
         "255.255.255.255", "2001:db8::", "2001:db8::1", "2001:db8:0:1::9", "2001:db8:1::", "::",
         "ffff:ffff::", "ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff", "::ffff:10.1.0.1")  # fmt: skip
bindings = st.builds(
    Binding, st.sampled_from(PREFIXES).map(parse_prefix), st.integers(0, 3),
    st.sampled_from(BINDING_SOURCES), st.sampled_from((None, 100, 200)),
)  # fmt: skip


@given(held=st.lists(bindings, max_size=12), order=st.permutations(BINDING_SOURCES))
def test_look_up_is_longest_prefix_then_source_then_time_then_tag(
    held: list[Binding], order: list[str]
) -> None:
    lookup = Lookup(held, order)
    expected: dict[str, int] = {}
    for text in ASKED:
        family, number = parse_address(text)
        fitting = [
            b
            for b in held
            if b.prefix.family == family and b.prefix.start <= number <= b.prefix.end
        ]
        best = min(
            fitting,
            key=lambda b: (-b.prefix.length, order.index(b.source), -(b.since or -1), b.tag),
            default=None,
        )
        expected[text] = best.tag if best else 0
        assert lookup.tag(family, number) == expected[text]
    for family in (4, 6):
        texts = [t for t in ASKED if parse_address(t)[0] == family]
        tags = lookup.tags(family, [parse_address(t)[1] for t in texts])
        assert tags.tolist() == [expected[t] for t in texts]
    for text, tag in expected.items():
        family, number = parse_address(text)
        spans = [r for r in lookup.ranges if r.family == family and r.start <= number <= r.end]
        assert [r.tag for r in spans] == ([tag] if tag else [])
    assert all(a.prefix == b.prefix and a.tag != b.tag for a, b in differing(held))


def test_addresses_in_every_writing() -> None:
    """One address is one address, however written; prefixes with host bits are not prefixes."""
    for text in ("10.1.0.7", "::ffff:10.1.0.7", "::ffff:a01:7"):
        assert parse_address(text) == (4, int(ip_address("10.1.0.7")))
    assert str(parse_prefix("::ffff:10.1.0.0/112")) == "10.1.0.0/16"
    assert str(parse_prefix("::ffff:0:0/96")) == "0.0.0.0/0"
    assert parse_prefix("::/95").family == parse_prefix("::fffe:0:0/96").family == 6
    assert parse_address("2001:DB8::0:1") == parse_address("2001:db8::1")
    wide = parse_prefix("2001:db8::/32")
    assert wide.end == int(ip_network("2001:db8::/32").broadcast_address)
    for text, told in (
        ("10.1.0.1/24", "10.1.0.0/24"),
        ("fe80::1%eth0", "interface"),
        ("10.1.0", "no address"),
    ):
        try:
            parse_prefix(text)
        except ValueError as error:
            assert told in str(error)
        else:
            raise AssertionError(text)


def test_findings_about_who_is_who(tmp_path: Path) -> None:
    """Each finding of sections 2 and 3, from one workspace that has each fault once."""
    rows = [
        "name,ip,role,kind2,stability", "a,10.1.0.1,x,,", "b,10.1.0.1,x,,", "c,10.9.0.1,x,,",
        "d,10.1.0.4,y,,leased", "e,10.1.0.5,,,",
    ]  # fmt: skip
    files = {
        "oaktag.yaml": json.dumps({
            "workspace": "faults", "layers": [],
            "sources": [
                {"file": "s.csv", "kind": "server", "id": "name", "address": "ip", "stability": "stability"},
                {"file": "d.csv", "kind": "device", "id": "name"},
            ],
        }),
        "s.csv": "\n".join(rows) + "\n",
        "d.csv": "name\na\n",
        "groups.yaml": json.dumps({"groups": [
            {"id": "ada", "tag": 1}, {"id": "bo", "tag": 2}, {"id": "cy", "tag": 3}, {"id": "di"},
        ]}),
        "permissions.yaml": "permissions: {}\n",
        "assignments.yaml": "pins:\n"
        "  - {prefix: 10.1.0.0/24, group: ada}\n  - {prefix: 10.1.0.0/24, group: bo}\n"
        "rules:\n"
        "  - {give: ada, when: {role: x}}\n  - {give: cy, when: {role: x, name: a}}\n"
        "  - {give: bo, when: {role: y}}\n  - {give: di, when: {role: z}}\n"
        "  - {give: ada, when: {id: c}}\n",
        "network.yaml": json.dumps({
            "nodes": [{"node": "n"}],
            "segments": [
                {"segment": "s", "node": "n", "prefixes": ["10.1.0.0/24"]},
                {"segment": "t", "node": "n", "prefixes": ["10.2.0.0/24"]},
                {"segment": "u", "node": "n", "prefixes": ["10.3.0.0/24"], "tag": "cy"},
            ],
        }),
    }  # fmt: skip
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    found = oaktag.Workspace.load(tmp_path).check()["findings"]
    told = sorted((f["code"], f["file"], f["line"]) for f in found)
    assert told == sorted([
        ("OT202", "groups.yaml", 1), ("OT201", "groups.yaml", 1), ("OT201", "groups.yaml", 1), ("OT213", "groups.yaml", 1),
        ("OT203", "s.csv", 6),
        ("OT205", "assignments.yaml", 6), ("OT205", "assignments.yaml", 8), ("OT206", "assignments.yaml", 9),
        ("OT207", "s.csv", 3), ("OT208", "s.csv", 2), ("OT209", "assignments.yaml", 6),
        ("OT210", "s.csv", 4), ("OT204", "network.yaml", 1), ("OT211", "assignments.yaml", 3),
    ])  # fmt: skip


@pytest.mark.parametrize("family", [4, 6])
def test_many_addresses_at_once(family: int) -> None:
    """A table for many addresses, the search for few, and plain longest match are one."""
    from oaktag.core.addresses import WIDTH, keys
    from oaktag.core.ranges import MANY, Table, flatten

    rng = random.Random(7)
    top = WIDTH[family]
    base = {4: 0x0A010000, 6: 0x20010DB8 << 96}[family]

    def near() -> int:
        return base | rng.getrandbits(16) << rng.choice((0, 0, top - 48 if family == 6 else 0))

    prefixes = {(0, 0), (base, top)}
    for _ in range(3000):
        length = rng.choice([8, 12, 16, 20, 23, 24, 25, 28, 31, 32, 48, 64, 65, 127, 128])
        address = near() if rng.random() < 0.6 else rng.getrandbits(top)
        length = min(length, top)
        prefixes.add((address >> (top - length) << (top - length), length))
    for shortest in (0, 1, 24):
        held = sorted(p for p in prefixes if p[1] >= shortest)
        first = keys(family, [s for s, _ in held])
        last = keys(family, [s | (1 << (top - n)) - 1 for s, n in held])
        lengths = np.array([n for _, n in held])
        low, high, owner = flatten(family, first, last, lengths)
        assert (low[1:] > high[:-1]).all() and (low <= high).all()
        named = np.arange(len(held)) + 5
        table = Table(family, low, high, named[owner], owner, first, lengths, named)
        numbers = [near() if rng.random() < 0.7 else rng.getrandbits(top) for _ in range(3000)]
        numbers[:4] = [0, (1 << top) - 1, base, base | 0xFFFF]
        asked = keys(family, numbers)
        few = table.find(asked)
        assert (table.find(np.resize(asked, MANY))[:3000] == few).all()
        for address, number in zip(numbers[:300], few[:300].tolist(), strict=True):
            fitting = [
                (n, i) for i, (s, n) in enumerate(held) if address >> (top - n) == s >> (top - n)
            ]
            assert (number - 5 if number >= 0 else -1) == max(fitting, default=(0, -1))[1]


def test_aggregation_is_the_fewest_prefixes() -> None:
    """As the standard library collapses networks, for hosts, runs and ranges that overlap."""
    import ipaddress

    from oaktag.core.ranges import aggregate

    rng = random.Random(3)
    for _ in range(60):
        spans = []
        for _ in range(rng.randint(1, 80)):
            start = rng.choice((0, 0xFFFFFF00, 0x0A000000)) + rng.randrange(256)
            spans.append((start, min(start + rng.choice((0, 0, 1, 9, 64, 300)), (1 << 32) - 1)))
        if rng.random() < 0.1:
            spans.append((0, (1 << 32) - 1))
        found = aggregate(*(np.array(side, dtype=np.uint64) for side in zip(*spans, strict=True)))
        nets = [
            n for a, b in spans
            for n in ipaddress.summarize_address_range(ipaddress.IPv4Address(a), ipaddress.IPv4Address(b))
        ]  # fmt: skip
        expected = [
            (int(n.network_address), n.prefixlen) for n in ipaddress.collapse_addresses(nets)
        ]
        assert list(zip(found[0].tolist(), found[1].tolist(), strict=True)) == expected


def test_numbers_are_compared_exactly_whatever_their_size(tmp_path: Path) -> None:
    """Two numbers above 2^53 that are one apart, and two fractions that are nearly one."""
    large, small = 2**53, "0.1000000000000000055511151231257827"
    files = {
        "oaktag.yaml": "workspace: w\nlayers: []\nsources: [{file: s.csv, kind: server, id: name}]\n",
        "groups.yaml": "groups: [{id: ada, tag: 310}, {id: bo, tag: 320}, {id: cy, tag: 330}]\n",
        "assignments.yaml": f"rules:\n  - {{give: ada, when: {{serial: {large + 1}}}}}\n"
        f"  - {{give: bo, when: {{serial: {{'>': {large}}}}}}}\n  - {{give: cy, when: {{load: 0.1}}}}\n",
        "permissions.yaml": "permissions: {}\n",
        "s.csv": f"name,serial,load\na,{large + 1},\nb,{large},\nc,{large + 2},\nd,,{small}\ne,,0.10\nf,,\u0664\n",
    }
    for name, text in files.items():
        (tmp_path / name).write_text(text, encoding="utf-8")
    said = oaktag.Workspace.load(tmp_path).members().endpoints
    assert {e["endpoint"]: e["group"] for e in said} == {
        "a": "ada", "b": "untagged", "c": "bo", "d": "untagged", "e": "cy", "f": "untagged",
    }  # fmt: skip
