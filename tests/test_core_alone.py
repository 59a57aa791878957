"""The core without files: a workspace made of plain objects comes to the same bindings, decisions,
rows, lists and losses as the one that is read, and needs no package that reads or shows anything."""

from __future__ import annotations

import pickle
import re
import subprocess
import sys
from collections import Counter
from datetime import date
from pathlib import Path
from typing import Any

import pytest

import oaktag.operations.parts  # noqa: F401 registers how groups are sent
from networks import SEEDS, random_net, write_net
from oaktag.core.accesslist import AccessList
from oaktag.core.addresses import parse_prefix
from oaktag.core.apart import Apart
from oaktag.core.assignment import Condition, Equals, Pin, Rule
from oaktag.core.bindings import BINDING_SOURCES
from oaktag.core.compiler import Blocks, compile_point
from oaktag.core.endpoints import Endpoints, SourceTable, coded
from oaktag.core.failures import losses
from oaktag.core.fingerprints import Fingerprints
from oaktag.core.groups import Group, Groups, GroupSet
from oaktag.core.lines import Entry, Line, Permission, Policy
from oaktag.core.matrix import Matrix
from oaktag.core.model import Given, Model
from oaktag.core.network import Feed, Link, Network, Node, Point, Scope, Segment
from oaktag.core.packets import Atoms, Packet
from oaktag.core.proof import Meant, prove
from oaktag.core.proof_lines import Lines
from oaktag.core.proof_stretches import Inside
from oaktag.core.proof_ways import Addresses
from oaktag.core.reach import Flow
from oaktag.core.registry import PrefixPin
from oaktag.core.services import parse_service
from oaktag.errors import UsageError
from oaktag.located import Location
from oaktag.testing.slow import Stack
from oaktag.testing.slow_reach import Net
from sizes import scaled

HERE = Location("nowhere")
TODAY = date(2026, 11, 26).toordinal()


def policy_of(stack: Stack) -> Policy:
    permissions = []
    for name, held in stack.permissions.items():
        entries = [
            Entry(action, tuple(b for w in words for b in parse_service(w)), "")
            for entry in held["entries"]
            for action, words in entry.items()
        ]
        permissions.append(Permission(name, tuple(entries)))
    place = {p.name: n for n, p in enumerate(permissions)}
    lines = [
        Line(row["source"], row["destination"], place[row["permission"]], 0, HERE, way=row["way"])  # type: ignore[arg-type]
        for row in stack.layers[0]
    ]
    return Policy(tuple(lines), tuple(permissions), ("layers/0.csv",))


def network_of(net: Net, groups: Groups) -> Network:
    def members(words: list[str] | None) -> frozenset[int] | None:
        return None if words is None else frozenset(i for w in words for i in groups.members(w))

    def point(node: str, held: dict[str, Any]) -> Point:
        listed = held.get("scope")
        scope = Scope()
        if listed:
            scope = Scope(
                "listed", members(listed.get("sources")), members(listed.get("destinations"))
            )
        return Point(
            node, held["name"], mode=held["mode"], stateful=held.get("stateful", True), scope=scope,
            source_by=held.get("match", {}).get("source", "tag"), inside=held["inside"],
            origins=frozenset(held["from"]) if "from" in held else None, outside=held["outside"],
            targets=frozenset(held["toward"]) if "toward" in held else None,
            if_differ=held["if_differ"],
        )  # fmt: skip

    tags: dict[str, Any] = {g.id: g.tag for g in groups.all}
    return Network(
        [
            Node(n["node"], carries=n["carries"], marks=n["marks"], learns=frozenset(n["learns"]),
                 relays=n["relays"], points=tuple(point(n["node"], p) for p in n["points"]))
            for n in net.nodes
        ],
        [
            Segment(s["segment"], s["node"], tuple(map(parse_prefix, s["prefixes"])),
                    groups.index[s["tag"]] if "tag" in s else None)
            for s in net.segments
        ],
        [Link(k["name"], k["between"][0], k["between"][1], k["carries"], k["cost"]) for k in net.links],
        [
            Feed(f["name"], f["from"], f["to"],
                 tuple(map(parse_prefix, only["prefixes"])) if "prefixes" in only else None,
                 frozenset(tags[g] for g in only["groups"]) if "groups" in only else None)
            for f in net.feeds
            for only in (f.get("only", {}),)
        ],
    )  # fmt: skip


def given(net: Net) -> Given:
    """The same as the files of ``write_net`` say, made by hand."""
    groups = Groups(
        [Group(name, tag) for name, (tag, _) in net.stack.groups.items()],
        [GroupSet(name, tuple(parts)) for name, parts in net.stack.sets.items()],
    )
    columns = {
        "ip": coded(tuple(b.addresses) for b in net.beings),
        "address": coded(tuple(b.addresses) for b in net.beings),
        "stability": coded(("fixed" if b.stable else "leased",) for b in net.beings),
        "role": coded((b.group,) if b.group else () for b in net.beings),
    }
    names = [b.name for b in net.beings]
    endpoints = Endpoints([SourceTable("server", "all", names, list(range(len(names))), columns)])
    rules = [
        Rule(groups.index[name], (Condition("role", Equals(name), name),), (), HERE)
        for name in net.stack.groups
    ]
    pins = [
        PrefixPin(parse_prefix(p["prefix"]), groups.index[p["group"]], HERE, None, p.get("at"))
        for p in net.pins
    ]
    return Given(
        groups, policy_of(net.stack), endpoints, rules, list[Pin](), pins, [],
        network_of(net, groups), BINDING_SOURCES, [], TODAY,
    )  # fmt: skip


def told(flow: Flow, model: Any) -> tuple[object, ...]:
    """A row without numbers of atoms: they are each matrix's own."""
    ends = [(place, model.groups.all[g].id) for place, g in (flow.source, flow.destination)]
    packets = [
        sorted(map(str, model.atoms.regions(mask & model.atoms.of_family(family))))
        for masks in (flow.leaks, flow.breaks)
        for family, mask in sorted(masks.items())
    ]
    path = (flow.path.nodes, tuple(k.name for k in flow.path.links)) if flow.path else None
    return (*map(tuple, ends), path, flow.result, flow.at, flow.reasons, flow.effect, str(packets))


@pytest.mark.parametrize("seed", SEEDS[: scaled(8)])
def test_plain_objects_and_files_come_to_the_same(seed: int, tmp_path: Path) -> None:
    net = random_net(seed)
    core, files = Model(given(net)), write_net(net, tmp_path).model
    assert {str(b.prefix): (b.tag, b.source) for b in core.registry.in_force} == {
        str(b.prefix): (b.tag, b.source) for b in files.registry.in_force
    }
    for node in core.network.nodes:
        assert core.knowledge.at(node).ranges == files.knowledge.at(node).ranges
    rows = [told(f, core) for f in core.state.flows(core.hosts, core.hosts)]
    assert rows == [told(f, files) for f in files.state.flows(files.hosts, files.hosts)]
    assert len(rows) > 50
    for family, protocol in ((4, 6), (6, 17), (4, 47)):
        for port in (0, 22, 80, 443) if protocol != 47 else (0,):
            packet = Packet(family, protocol, 50_000 if protocol != 47 else 0, port)
            for s in range(len(core.groups)):
                for d in range(len(core.groups)):
                    bits = [
                        m.matrix.forms[int(m.matrix.action_form[s, d])] >> m.atoms.atom(packet) & 1
                        for m in (core, files)
                    ]
                    assert bits[0] == bits[1]
    before, after = (
        Counter((loss.lost, *loss[1:5]) for loss in losses(m.state, m.hosts)) for m in (core, files)
    )
    assert before == after


@pytest.mark.parametrize("seed", SEEDS[: scaled(8)])
def test_lists_are_compiled_and_proved_without_files(seed: int) -> None:
    model = Model(given(random_net(seed)))
    count, lines = 0, Lines(model.groups, model.given.policy, TODAY, stateless=True)
    for point in model.network.points.values():
        ranges = model.knowledge.at(point.node).ranges
        scope = model.scope(point)

        def meant(held: AccessList, point: Point = point) -> Meant:
            """What the point is for, in plain tables."""
            network, sides = model.network, [frozenset(side) for side in model.scope(point)]
            places = Addresses(
                model.knowledge.at(point.node).ranges,
                network.spans_of(point.origins), network.spans_of(point.targets),
                Inside(() if point.inside else network.inside_pairs),
            )  # fmt: skip
            return Meant(point, lines, places, sides[0], sides[1], model.keys)

        held = compile_point(point, Blocks(model.matrix, model.keys), model.network, ranges, scope)
        assert held.point == point.id
        assert prove(held, meant(held)) is None
        count += 1
    assert count > 3


@pytest.mark.parametrize("seed", SEEDS[: scaled(8)])
def test_rows_of_a_column_are_those_of_its_cells(seed: int) -> None:
    """Rows toward a destination, and from a source, against those of each cell alone."""
    matrix = Model(given(random_net(seed))).matrix
    every = range(len(matrix.groups))
    for one in every:
        toward, back = matrix.rows_toward(one), matrix.rows_from(one)
        for other in every:
            assert toward.get(other, []) == matrix.rows_of(other, one)
            assert back.get(other, []) == matrix.rows_of(one, other)


@pytest.mark.parametrize("seed", SEEDS[: scaled(8)])
def test_lists_are_the_same_without_people(seed: int) -> None:
    """What is sent to who makes lists makes the same ones, and is told by the same fingerprints."""
    model = Model(given(random_net(seed)))
    points = list(model.network.points.values())
    sent = pickle.loads(pickle.dumps(Apart.of(model, points)))
    assert not len(sent.given.endpoints)
    ours, theirs = Fingerprints(model, "x"), Fingerprints(sent, "x")
    told = set()
    for point in points:
        held = sent.list_of(point)
        assert held == model.list_of(point) and sent.refute(point, held) is None
        assert ours.of(point) == theirs.of(point) != Fingerprints(model, "y").of(point)
        told.add(ours.of(point))
    assert len(told) == len(points) > 3


BARE = """
import sys
class No:
    def find_spec(self, name, path=None, target=None):
        if name.split(".")[0] in ("yaml", "click", "rich", "pandas", "json", "csv", "pathlib"):
            if name.split(".")[0] not in sys.modules:
                raise ImportError(f"the core asks for {name}")
sys.meta_path.insert(0, No())
import oaktag.core.model, oaktag.core.reach, oaktag.core.reach_counts, oaktag.core.failures
import oaktag.core.mending, oaktag.core.proof, oaktag.core.compiler, oaktag.core.amendment
print(*sorted(n for n in sys.modules if n.startswith("oaktag.") and ".core" not in n))
"""


def test_the_core_needs_nothing_that_reads_or_shows() -> None:
    done = subprocess.run([sys.executable, "-c", BARE], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert set(done.stdout.split()) <= {"oaktag.errors", "oaktag.findings", "oaktag.located"}


@pytest.mark.parametrize(
    ("made", "told"),
    [
        (lambda: Groups([Group("a", 1), Group("b", 1)]), "b has the tag 1, and so has a"),
        (lambda: Groups([Group("a", 1), Group("a", 2)]), "'a' is there twice"),
        (lambda: Groups([Group("a", 1)], [GroupSet("a", ("a",))]), "'a' is there twice"),
        (lambda: Groups([Group("a", 70_000)]), "tags are 1 to 65535"),
        (lambda: Groups([Group("points", 1)]), "a word of Oak Tag's own"),
        (lambda: Groups([Group("a", 1)], [GroupSet("s", ("b",))]), "names 'b', which is no group"),
        (lambda: Groups([], [GroupSet("s", ("t",)), GroupSet("t", ("s",))]), "sets go in a circle"),
        (lambda: Network([Node("n"), Node("n")]), "the node 'n' is there twice"),
        (lambda: Network([Node("n")], [Segment("s", "m", ())]), "is at 'm', which is no node"),
        (lambda: Network([Node("n")], links=[Link("k", "n", "m")]), "joins 'm', which is no node"),
        (lambda: Network([Node("n")], feeds=[Feed("f", "registry", "m")]), "names 'm', which is no node"),
        (lambda: Network([Node("n", points=(Point("n", origins=frozenset({"s"})),))]), "names the segment 's'"),
        (lambda: _matrix(Line("a", "b", 0, 0, HERE)), "no group or set: 'b'"),
        (lambda: _matrix(Line("a", "a", 1, 0, HERE)), "a permission that is none of 1"),
        (lambda: _matrix(Line("a", "a", 0, 1, HERE)), "a layer that is none of 1"),
        (lambda: Endpoints.of({"id": "a", "kind": "user"}, {"id": "a", "kind": "user"}), "all different"),
        (lambda: Endpoints.of({"kind": "user"}), "an id each"),
        (lambda: Endpoints.of({"id": "a", "kind": "robot"}), "a kind each"),
        (lambda: Entry.of("allow", "htps"), "no service known here"),
    ],
)  # fmt: skip
def test_what_cannot_be_is_an_error_and_never_silence(made: Any, told: str) -> None:
    """Also where no file says so: the check stands where the rule does."""
    with pytest.raises(UsageError, match=re.escape(told)):
        made()


def _matrix(line: Line) -> Matrix:
    web = Permission("web", (Entry("allow", parse_service("https"), "https"),))
    policy = Policy((line,), (web,), ("one",))
    return Matrix(Groups([Group("a", 1)]), policy, Atoms(web.entries[0].boxes), TODAY)


def test_boxes_that_atoms_were_not_cut_along() -> None:
    """Exactly their packets, or an error: an atom of which only a part is meant is never taken."""
    atoms = Atoms(parse_service("80-90/tcp"))
    for inside in ("80-90/tcp", "any"):
        assert atoms.mask(parse_service(inside))
    for text in ("85/tcp", "80/tcp", "80-91/tcp", "80-90/udp", "icmp", "proto/47", "443/tcp"):
        with pytest.raises(ValueError, match="not cut along"):
            atoms.mask(parse_service(text))
        assert atoms.touched(parse_service(text))
        fine = Atoms([*parse_service("80-90/tcp"), *parse_service(text)])
        assert fine.mask(parse_service(text)) == fine.touched(parse_service(text))
