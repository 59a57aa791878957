"""Lists for every kind of point: written, read back strictly, proved; or refused with the reason."""

from __future__ import annotations

import copy
import json
import os
import random
import re
import shutil
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from itertools import product
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import HealthCheck, Phase, given, settings

import oaktag as package
from list_kinds import KINDS, TEMPLATES, changed, of_kind, slow
from oaktag.core.accesslist import OUTSIDE_KEY, UNJUDGED_KEY, UNSAID_KEY, AccessList
from oaktag.core.acting import Acted, act
from oaktag.core.addresses import parse_address
from oaktag.core.packets import Packet
from oaktag.dialects.ietf_acl import opened
from oaktag.dialects.json_lines import text_of
from oaktag.errors import OakTagError, UnreadableList, UnwritableEntry
from oaktag.operations.lists import dialect_of, list_of, refute, written
from oaktag.testing.slow import Stack
from oaktag.testing.slow_reach import exchanged as slow_exchanged
from oaktag.testing.strategies import GROUPS, SETS, stacks
from one_gate import PLACES, points
from sizes import scaled

ROOT = Path(__file__).resolve().parents[1]
YANG = ROOT / "src" / "oaktag" / "yang"
IETF = Path(sys.prefix) / "share" / "yang" / "modules" / "ietf"


@pytest.mark.parametrize("kind", [kind for kind in KINDS if kind != "nftables"])
def test_what_is_written_is_read_back_and_equal(kind: str, tmp_path: Path) -> None:
    """Random matrices and points: the list is the matrix, or the point and what it cannot do are
    named; every entry stands at a line of its own, and no list is longer than one by one."""
    told: Counter[str] = Counter()
    texts: list[str] = []

    @settings(
        max_examples=scaled(10 if slow(kind) else 30, 6), database=None, phases=[Phase.explicit, Phase.generate], deadline=None,
        suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    @given(stack=stacks(recorded=True), point=points)
    def holds(stack: Stack, point: dict[str, Any]) -> None:
        model, made = of_kind(stack, point, kind, tmp_path)
        dialect = dialect_of(model, made)
        try:
            text, entries, plain = written(model, made, list_of(model, made))
        except UnwritableEntry as error:
            assert str(error).startswith("gate: "), error
            told["refused"] += 1
            return
        assert refute(model, made, text) is None
        assert written(model, made, list_of(model, made)).text == text
        assert entries <= plain
        standing = list(dialect.standing(text))
        lines = text.split("\n")
        assert len({s.line for s in standing}) == len(standing) <= entries
        # Plain RFC 8519 cites as many keys as fit.
        keys = [k for s in standing for k in s.entry.keys[: 1 if "plain" in kind else None]]
        assert kind == "gatehouse" or all(any(k in line for line in lines) for k in set(keys))
        told["equal"] += 1
        texts.append(text)

    holds()
    assert told["equal"] >= (1 if slow(kind) else 3), told
    if kind.startswith("ietf-acl"):
        _valid(texts, tmp_path, plain="plain" in kind)


def _valid(texts: list[str], folder: Path, *, plain: bool) -> None:
    """What is written is data of the models, as an independent judge has it."""
    judge = shutil.which("yanglint")
    if judge is None:
        assert not os.environ.get("OAKTAG_REQUIRE_REAL"), "yanglint is not here (libyang2-tools)"
        pytest.skip("yanglint is not here")
    files = []
    for number, text in enumerate(texts):
        file = folder / f"{number}.json"
        file.write_text(text)
        files.append(str(file))
    models = [
        IETF / "ietf-access-control-list.yang",
        *([] if plain else [YANG / "oaktag-acl.yang"]),
    ]
    asked = [judge, "-p", str(IETF), "-F", "ietf-access-control-list:*", "-t", "config"]
    done = [
        subprocess.run([*asked, *map(str, models), file], capture_output=True, text=True)
        for file in files
    ]
    assert not [d.stderr for d in done if d.returncode], done[0].stderr
    # The judge judges: a port that is none is refused.
    broken = next((t for t in texts if '"port": ' in t), None)
    if broken is not None:
        Path(files[0]).write_text(re.sub(r'"port": \d+', '"port": 70000', broken))
        again = subprocess.run(
            [*asked, *map(str, models), files[0]], capture_output=True, text=True
        )
        assert again.returncode and "70000" in again.stderr


@pytest.mark.parametrize("kind", [kind for kind in KINDS if kind != "nftables"])
def test_a_changed_list_is_refused_refuted_or_the_same(kind: str, tmp_path: Path) -> None:
    """Characters and lines changed at random: a list that reads and is said to be equal acts alike on
    every packet that any entry tells apart."""
    rng = random.Random(kind)
    told: Counter[str] = Counter()
    dear = slow(kind) and KINDS[kind]["dialect"] != "template"

    @settings(
        max_examples=scaled(4 if slow(kind) else 10, 3), database=None, phases=[Phase.explicit, Phase.generate], deadline=None,
        suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    @given(stack=stacks(), point=points)
    def holds(stack: Stack, point: dict[str, Any]) -> None:
        model, made = of_kind(stack, point, kind, tmp_path)
        try:
            text = written(model, made, list_of(model, made)).text
        except UnwritableEntry:
            return
        read = dialect_of(model, made).read
        sound = read(text)
        packets = [Packet(*p) for p in stack.packets()]
        places = [a for held in PLACES.values() for a in held]
        # One of a line that is not there among them, as far as its form has room for one.
        named = [m.span() for m in re.finditer(r"\b[0-9a-f]{16}\b", text)][: 2 if slow(kind) else 5]
        lies = [text[:a] + "0" * 16 + text[b:] for a, b in named]
        for other in (*lies, *(changed(text, rng) for _ in range(8 if dear else 25))):
            try:
                against = refute(model, made, other)
            except UnreadableList as error:
                assert 1 <= error.line <= other.count("\n") + 2, error
                told["refused"] += 1
                continue
            held = read(other)
            if against is not None:
                told["refuted"] += 1
                if not against.what:
                    met = against.source, against.destination, against.frame
                    acted = act(held, against.packet, *met)
                    assert acted.action == against.listed[0], against
                    assert act(sound, against.packet, *met).action == against.meant[0], against
                continue
            told["equal"] += 1
            for packet in rng.sample(packets, min(20, len(packets))):
                family = [a for a in places if (":" in a) == (packet.family == 6)]
                a, b = (parse_address(x)[1] for x in rng.sample(family, 2))
                frame = rng.choice((0, 310, 411, 9))
                assert (
                    act(held, packet, a, b, frame).action == act(sound, packet, a, b, frame).action
                )

    holds()
    assert told["refused"] > 5 and told["refuted"] > 0, told


#: A matrix that records, answers, observes and narrows ports; and a point turned each way.
FIXED = Stack(
    GROUPS, SETS,
    {
        "web": {"entries": [{"allow": ["https", "80-90/tcp"], "log": "notice"}], "otherwise": None},
        "ask": {"entries": [{"deny": ["ssh", "icmp4/3/4"], "answer": True}], "otherwise": "pass"},
    },
    [[
        {"source": "front", "destination": "cy", "permission": "web", "mode": "", "way": "both"},
        {"source": "ada", "destination": "*", "permission": "ask", "mode": "observe", "way": ""},
        {"source": "untagged", "destination": "di", "permission": "ask", "mode": "", "way": ""},
    ]],
)  # fmt: skip
TURNED: tuple[dict[str, Any], ...] = (
    {}, {"mode": "observe"}, {"mode": "observe", "outside": "allow"}, {"stateful": False},
    {"if_differ": "bindings"}, {"inside": False, "from": ["left"], "toward": ["right", "far"]},
    {"scope": "all", "own": True}, {"scope": {"destinations": ["cy", "front"]}, "own": True, "inside": False},
)  # fmt: skip


@pytest.mark.parametrize("kind", KINDS)
def test_each_turn_of_a_point_is_written_and_read(kind: str, tmp_path: Path) -> None:
    """What a point may say, one after the other: its list is equal, or it says what it cannot do."""
    plain: dict[str, Any] = {
        "mode": "enforce", "match": {"source": "tag"}, "from": "*", "toward": "*", "inside": True,
        "scope": {"sources": ["ada", "untagged"]}, "outside": "deny", "if_differ": "frame",
        "stateful": True, "own": False,
    }  # fmt: skip
    equal = 0
    for turned in TURNED:
        model, made = of_kind(FIXED, {**plain, **turned}, kind, tmp_path)
        try:
            text = written(model, made, list_of(model, made)).text
        except UnwritableEntry as error:
            assert str(error).startswith("gate: "), error
            continue
        assert refute(model, made, text) is None, turned
        equal += 1
    # What goes by addresses alone can do little; the gatehouse records nothing and answers nobody.
    assert kind == "gatehouse" or equal > (0 if "plain" in kind else 2)


@pytest.mark.parametrize("kind", KINDS)
def test_a_list_that_names_another_line_is_refuted(kind: str, tmp_path: Path) -> None:
    """The entry that a packet meets names the line that decides, by the slow reference; without that
    name, or with that of a line that decides nothing, the list is refuted. So is one whose cells toward
    a destination are gone, unless what is outside of cells fares alike."""
    rng = random.Random(kind)
    told: Counter[str] = Counter()

    @settings(max_examples=scaled(4 if slow(kind) else 10, 3), database=None, deadline=None,
              phases=[Phase.explicit, Phase.generate], suppress_health_check=list(HealthCheck))  # fmt: skip
    @given(stack=stacks(recorded=True), point=points)
    def holds(stack: Stack, point: dict[str, Any]) -> None:
        model, made = of_kind(stack, point, kind, tmp_path)
        try:
            held = dialect_of(model, made).read(written(model, made, list_of(model, made)).text)
        except UnwritableEntry:
            return
        key_at = {
            (line.location.file, line.location.line): key
            for line, key in zip(model.lines, model.keys, strict=True)
        }
        packets = [Packet(*p) for p in stack.packets() if p[0] in made.families]
        if held.blocks:
            hollow = replace(held, blocks={**held.blocks, rng.choice(sorted(held.blocks)): {}})
            if model.refute(made, hollow) is None:
                for a, b in product(
                    *2
                    * [[parse_address(x)[1] for of in PLACES.values() for x in of if ":" not in x]]
                ):
                    packet = rng.choice(
                        [p for p in packets if p.family == 4] or [Packet(4, 6, 1, 1)]
                    )
                    assert act(hollow, packet, a, b).action == act(held, packet, a, b).action
        table = model.knowledge.at(made.node)
        for _ in range(12):
            packet = rng.choice(packets)
            places = [a for of in PLACES.values() for a in of if (":" in a) == (packet.family == 6)]
            ends = [parse_address(x)[1] for x in rng.sample(places, 2)]
            acted = act(held, packet, *ends)
            if acted.entry is None or {UNJUDGED_KEY, OUTSIDE_KEY} & set(acted.entry.keys):
                continue
            names = [model.groups.name(table.tag(packet.family, end)) for end in ends]
            deciding = {
                _key(stack, names, packet, answer, key_at, stateful=made.stateful)
                for answer in (("action",) if made.mode == "observe" else ("action", "would"))
            }
            unsaid = acted.entry.keys.count(UNSAID_KEY)
            if not acted.entry.keys:  # the form has no room for any
                continue
            assert len(deciding - set(acted.entry.keys)) <= unsaid, (names, packet, acted)
            known = deciding & set(acted.entry.keys)
            if unsaid or not known:
                continue
            key = rng.choice(sorted(known))
            fewer = tuple(k for k in acted.entry.keys if k != key) or ("0" * 16,)
            more = (*acted.entry.keys, rng.choice(["0" * 16, "00ab" * 4]))
            for what, keys in (("fewer", fewer), ("more", more)):
                against = model.refute(made, _citing(held, acted, keys))
                assert against is not None and against.deciding, (what, names, packet, acted)
                told[what] += 1

    holds()
    silent = not any("keys" in p for p in _patterns(kind))
    assert told["fewer"] + told["more"] > 6 or silent, told


def _key(
    stack: Stack, names: list[str], packet: Packet, answer: str,
    key_at: dict[tuple[str, int], str], *, stateful: bool,
) -> str:  # fmt: skip
    """The key of the line that decides, by the slow reference."""
    source, destination = names
    decided, place, _ = stack.decide(source, destination, packet, answer)
    if not stateful and decided == "deny":
        back, other, _ = stack.decide(destination, source, slow_exchanged(packet), answer)
        place = other if back == "allow" else place
    return "default" if place is None else key_at[f"matrix/{place[0] + 1}0.csv", place[1]]


def _citing(held: AccessList, acted: Acted, keys: tuple[str, ...]) -> AccessList:
    """The list with other keys at the entry that a packet met, in that one chain."""
    name = held.blocks[acted.destination][acted.source]
    chain = tuple(
        replace(entry, keys=tuple(sorted(keys))) if entry is acted.entry else entry
        for entry in held.chains[name]
    )
    return replace(held, chains={**held.chains, name: chain})


def _patterns(kind: str) -> list[str]:
    """What the entries of a template are read back by; of other kinds that they name lines."""
    if "template" not in KINDS[kind]:
        return ["keys"]
    return [(TEMPLATES / KINDS[kind]["template"]).read_text()]


#: What stands in a document for another value.
VALUES: tuple[Any, ...] = (
    {},
    [],
    [None],
    None,
    "",
    0,
    True,
    -1,
    1.5,
    {"a": 1},
    [[]],
    10**30,
    "any",
    ["x"],
)


def _ways(value: Any, way: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """The places of a document; of long lists the first elements."""
    yield way
    parts = (
        value.items()
        if isinstance(value, dict)
        else enumerate(value[:3] if isinstance(value, list) else ())
    )
    for key, part in parts:
        yield from _ways(part, (*way, key))


@pytest.mark.parametrize("kind", ["json", "json by addresses", "ietf-acl", "ietf-acl, plain"])
def test_a_malformed_document_is_one_refused_list(kind: str, tmp_path: Path) -> None:
    """Every value of a list, replaced by one of another type: refused with a line, or the same list."""
    stack = Stack(
        dict(GROUPS), {}, {"p": {"entries": [{"allow": ["https", "icmp/echo-request"]}]}},
        [[{"source": "ada", "destination": "cy", "permission": "p", "mode": "", "way": ""}]],
    )  # fmt: skip
    ends = (
        {}
        if "addresses" in kind or "plain" in kind
        else {"from": ["left"], "toward": ["left", "far"]}
    )
    model, made = of_kind(stack, {"inside": bool(not ends), **ends}, kind, tmp_path)
    text = written(model, made, list_of(model, made)).text
    read, document = dialect_of(model, made).read, json.loads(text)
    layout: Any = (lambda d: text_of(d, opened)) if kind.startswith("ietf") else text_of
    refused = 0
    for way in _ways(document):
        for value in VALUES:
            other = copy.deepcopy(document)
            at: Any = other
            for key in way[:-1]:
                at = at[key]
            if way:
                at[way[-1]] = value
            changed_text = layout(other) if way else json.dumps(value)
            try:
                read(changed_text)
            except UnreadableList as error:
                refused += 1
                assert 1 <= error.line <= changed_text.count("\n") + 2
    assert refused > 100


def test_a_template_is_read_only_as_it_is_written(tmp_path: Path) -> None:
    """Ports with one left out between them; a second entry for what no other is for, lines at another
    place, and endings of lines that other readers know."""
    _tiny(tmp_path, "dialect: template, template: closet.yaml", "{allow: [80/tcp, 82/tcp]}")
    closet = tmp_path / "closet.yaml"
    closet.write_text(closet.read_text().replace("ports: ranges, range_costs: 2, ", "", 1))
    workspace = package.Workspace.load(tmp_path)
    model = workspace.model
    made = model.network.points["gate"]
    text = written(model, made, list_of(model, made)).text
    read = dialect_of(model, made).read
    read(text)
    assert "80,82" in text
    lines = text.split("\n")
    for number in range(len(lines) - 1):
        for other in (
            # What is for less than everything may stand twice: the second does nothing.
            [
                *lines[:number],
                lines[number] * (not lines[number].startswith(("yes ", "no ", "never "))),
                *lines[number:],
            ],
            [*lines[:number], *lines[number + 1 :], lines[number]],
            [*lines[:number], lines[number] + "\r", *lines[number + 1 :]],
            [*lines[:number], lines[number] + "\u2028", *lines[number + 1 :]],
            [*lines[:number], lines[number] + " ", *lines[number + 1 :]],
        ):
            with pytest.raises(UnreadableList):
                read("\n".join(other))
    with pytest.raises(UnreadableList):
        read(text + "\n")
    source = next(line for line in lines if line.startswith("source "))
    for span in ("10.1.0.9-10.1.0.1", "10.1.0.0/24-10.1.0.9", "10.1.0.1-2001:db8::1", "10.1.0.1-x"):
        spoiled = text.replace(source, f"source {span} is {source.split()[-1]}")
        with pytest.raises(UnreadableList, match=r"no range|no address"):
            read(spoiled)


def test_a_match_of_any_transport_is_no_match_of_one(tmp_path: Path) -> None:
    """``th sport 1 th dport 2 icmp type …`` never matches an echo request in the kernel."""
    _tiny(tmp_path, "dialect: nftables", "{allow: icmp/echo-request}")
    model = package.Workspace.load(tmp_path).model
    made = model.network.points["gate"]
    text = written(model, made, list_of(model, made)).text
    assert "icmp type" in text
    other = text.replace("icmp type", "th sport 1 th dport 2 icmp type", 1)
    with pytest.raises(UnreadableList):
        dialect_of(model, made).read(other)


def _tiny(folder: Path, point: str, entry: str) -> None:
    """A network of one point, readers → shelves with one permission."""
    for file in TEMPLATES.iterdir():
        shutil.copy(file, folder)
    (folder / "bare.yaml").write_text("suffix: .bare\ntext: |\n  {{ list.point }}\n")
    files = {
        "oaktag.yaml": "workspace: w\ntags: {issue: 2000-2999}\ndefault: deny\nlayers: [m.csv]\n"
        "sources: [{file: s.csv, kind: server, id: name, address: ip}]\n",
        "groups.yaml": "groups: [{id: readers, tag: 310}, {id: shelves, tag: 510}, {id: gear, tag: 600}]\n",
        "assignments.yaml": "rules: [{give: readers, when: {id: r*}}, {give: shelves, when: {id: s*}}]\n",
        "permissions.yaml": f"permissions:\n  p:\n    - {entry}\n",
        "m.csv": "source,destination,permission,mode,way,expires,owner,note\nreaders,shelves,p,,,,,\nreaders,gear,p,,,,,\n",
        "s.csv": "name,ip\nr1,10.1.0.1;2001:db8:1::1\ns1,10.2.0.1;2001:db8:2::1\n",
        "network.yaml": "nodes:\n  - {node: gate, address: [10.1.0.254], group: gear, point: {"
        f"{point}}}}}\n"
        "segments:\n  - {segment: a, node: gate, prefixes: [10.1.0.0/24, 2001:db8:1::/64]}\n"
        "  - {segment: b, node: gate, prefixes: [10.2.0.0/24, 2001:db8:2::/64]}\n"
        "feeds: [{from: registry, to: gate}]\n",
    }
    for name, text in files.items():
        (folder / name).write_text(text)


def _rows() -> list[list[str]]:
    """The rows of the table of combinations."""
    text = (ROOT / "docs" / "points.md").read_text()
    rows = [
        [cell.strip() for cell in line.strip("|").split("|")]
        for line in text.split("\n")
        if line.startswith("| ")
    ]
    start = next(n for n, row in enumerate(rows) if row[0] == "dialect")
    return rows[start + 1 :]


@pytest.mark.parametrize("row", _rows(), ids=lambda row: " ".join(row)[:70])
def test_the_table_of_combinations_is_true(row: list[str], tmp_path: Path) -> None:
    dialect, point, permission, outcome = row
    point, permission = (text.strip("`") or "{}" for text in (point, permission))
    inner = (point if point.startswith("{") else f"{{{point}}}")[1:-1].strip()
    entry = permission if permission.startswith("{") else f"{{{permission}}}"
    _tiny(tmp_path, f"dialect: {dialect}{', ' if inner else ''}{inner}", entry)
    workspace = package.Workspace.load(tmp_path)
    if not outcome.startswith("compiles"):
        with pytest.raises(OakTagError) as caught:
            workspace.compile(tmp_path / "lists")
        assert outcome in str(caught.value)
        assert not (tmp_path / "lists").exists()
        return
    (made,) = workspace.compile(tmp_path / "lists").points
    assert made["proved"] == (outcome == "compiles"), made
    (proved,) = workspace.prove(tmp_path / "lists").points
    assert proved["equal"] is (True if outcome == "compiles" else None), proved
    if dialect == "json":
        name = "access-list-addresses" if "tables: false" in point else "access-list"
        schema = json.loads((ROOT / f"src/oaktag/schemas/{name}.json").read_text())
        jsonschema.validate(json.loads(Path(made["file"]).read_text()), schema)


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        (
            "point {{ list.point }}",
            "point {{ list.pint }}",
            "closet.yaml:8: 'dict object' has no attribute 'pint'",
        ),
        ("{% endfor %}", "{% endfr %}", "closet.yaml:21: Encountered unknown tag 'endfr'"),
        ("{{ list.point }}", "{{ list.__class__.__mro__ }}", "is unsafe"),
        ("(?P<action>yes|no)(?: would", "(?P<deed>yes|no)(?: would", "has no group 'deed'"),
        (
            "(?P<action>yes|no)(?: would",
            "(?P<yea>yes|no)(?P<deed>)(?: would",
            "has no group 'deed'",
        ),
        ("suffix: .hedge", "suffix: ../hedge", "closet.yaml:3:9: '../hedge' is no ending of files"),
        ("ports: ranges", "ports: many", "closet.yaml:4:15: ports is 'many'"),
        ("text: |", "test: |", "closet.yaml:6:1: closet.yaml has no key 'test'"),
        (
            "  point {{ list.point }}\n",
            "  point gait\n",
            "oaktag compile writes this line of the same list as",
        ),
        (
            "remember flows\n",
            "remember nothing\n",
            "'remember nothing' is of no kind that closet.yaml reads back",
        ),
        (
            "{% if list.stateful %}",
            "{% if false %}",
            "a packet of a flow that is known: the list says deny",
        ),
        (
            "dp={{ p.destination_ports | ranges }}",
            "dp={{ p.source_ports | ranges }}",
            "the list is not the matrix",
        ),
    ],
)
def test_a_template_that_is_wrong_is_told_where(
    old: str, new: str, told: str, tmp_path: Path
) -> None:
    """What it is not, with its line; what it forgets, with a packet."""
    _tiny(tmp_path, "dialect: template, template: closet.yaml", "{allow: https, log: notice}")
    file = tmp_path / "closet.yaml"
    text = file.read_text()
    assert old in text
    file.write_text(text.replace(old, new, 1))
    try:
        package.Workspace.load(tmp_path).compile(tmp_path / "lists")
        said = "compiles"
    except OakTagError as error:
        said = str(error)
    assert told in said, said


@pytest.mark.parametrize("dialect", ["nftables", "ietf-acl"])
def test_other_names_of_groups_change_their_words_alone(
    dialect: str, shipped_mended: Path, oaktag: Any
) -> None:
    """Groups get names that sort otherwise: lists and keys are the same bytes but for the names."""
    at = ("-C", shipped_mended)
    network = shipped_mended / "network.yaml"
    text = network.read_text()
    network.write_text(text.replace("dialect: nftables\n", f"dialect: {dialect}\n"))
    names = {"patrons": "aaa", "catalogue": "zzz", "kiosks": "b"}

    def lists() -> dict[str, str]:
        assert oaktag(*at, "compile", "--no-prove").status == 0
        return {p.name: p.read_text() for p in sorted((shipped_mended / "lists").iterdir())}

    before = lists()
    for old, new in names.items():
        assert oaktag(*at, "rename", "--write", old, new).status == 0
    after = lists()
    for name, held in before.items():
        renamed = re.sub(
            rf"(?<![\w-])({'|'.join(names)})(?![\w-])", lambda found: names[found[0]], held
        )
        assert renamed.splitlines() == after[name].splitlines(), name
    assert before != after


@pytest.mark.parametrize(
    ("instead", "told"),
    [
        ("{% for a in range(99999) %}{% for b in range(99999) %}{% endfor %}{% endfor %}", "takes more than"),
        ("{% for a in range(9999) %}xxxxxxxxxx{% endfor %}", "writes more than"),
        ("{{ 'x' * 9999999999 }}", "is for numbers that addresses and ports have"),
        ("{{ 9 ** 999999999 }}", "is for numbers that addresses and ports have"),
    ],
)  # fmt: skip
def test_a_template_ends(
    instead: str, told: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One that would run for ever, or fill the memory, is refused with its name."""
    monkeypatch.setattr("oaktag.dialects.template_list.MOST_SECONDS", 0.5)
    monkeypatch.setattr("oaktag.dialects.template_list.MOST_LETTERS", 50_000)
    _tiny(tmp_path, "dialect: template, template: closet.yaml", "{allow: https}")
    file = tmp_path / "closet.yaml"
    file.write_text(file.read_text().replace("# Hedge 24 list", f"{instead}# Hedge 24 list", 1))
    with pytest.raises(OakTagError, match=re.escape(told)) as caught:
        package.Workspace.load(tmp_path).compile(tmp_path / "lists")
    assert "closet.yaml" in str(caught.value) and not (tmp_path / "lists").exists()
