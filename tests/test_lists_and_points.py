"""Lists as trees and text beyond what the sample compiles to; keys; capacity; points that observe."""

from __future__ import annotations

import csv
import re
from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import oaktag as package
from conftest import Ran
from oaktag.core.accesslist import AccessList, Frames, ListEntry, head_of
from oaktag.core.addresses import Range, Span
from oaktag.core.lines import SYSLOG_SEVERITIES, Action
from oaktag.core.network import Link, Network, Node
from oaktag.core.packets import Ranges, Region
from oaktag.core.paths import Paths
from oaktag.dialects import nftables, nftables_reader

Run = Callable[..., Ran]


@st.composite
def ranges(draw: st.DrawFn, top: int) -> Ranges:
    """Sorted ranges with gaps between them."""
    ends = sorted(draw(st.sets(st.integers(0, top // 3), min_size=2, max_size=6)))
    pairs = [(3 * a, 3 * b - 2) for a, b in pairwise(ends)][::2]
    return tuple((a, max(a, b)) for a, b in pairs)


@st.composite
def regions(draw: st.DrawFn) -> Region:
    """Matches of every kind: with ports, ICMP, bare protocols; whole or in part."""
    kind = draw(st.sampled_from(("ports", "icmp4", "icmp6", "bare")))
    if kind == "bare":
        families = draw(st.sampled_from(((4, 6), (4,), (6,))))
        protocols = draw(st.sampled_from((((0, 0),), ((2, 5), (47, 47)), ((133, 255),))))
        return Region(families, protocols, ((0, 0),), ((0, 0),))
    if kind != "ports":
        family = int(kind[-1])
        number = {4: 1, 6: 58}[family]
        axes = [draw(st.one_of(st.just(((0, 255),)), ranges(255))) for _ in range(2)]
        return Region((family,), ((number, number),), axes[0], axes[1])
    families = draw(st.sampled_from(((4, 6), (4,), (6,))))
    protocols = draw(st.sampled_from((((6, 6),), ((17, 17),), ((132, 132),), ((6, 6), (17, 17)))))
    axes = [draw(st.one_of(st.just(((0, 65535),)), ranges(65535))) for _ in range(2)]
    return Region(families, protocols, axes[0], axes[1])


actions: st.SearchStrategy[Action] = st.sampled_from(("allow", "deny"))
keys = st.lists(st.sampled_from(("0" * 16, "ab" * 8, "default")), min_size=1, unique=True)


@st.composite
def entries(draw: st.DrawFn, region: Region | None) -> ListEntry:
    """One entry with every attribute that it may have."""
    action = draw(actions)
    readable = False
    if region is not None and region.sources == region.destinations:
        readable = region.sources in (((0, 255),), ((0, 65535),)) and draw(st.booleans())
    log = draw(st.sampled_from((None, *SYSLOG_SEVERITIES)))
    answer = action == "deny" and draw(st.booleans())
    return ListEntry(
        region, action, draw(actions), log, answer, tuple(sorted(draw(keys))), readable,
        words=tuple(sorted(draw(st.sets(st.sampled_from(("use-loans", "nothing", "a")))))),
    )  # fmt: skip


@st.composite
def spans(draw: st.DrawFn, most: int) -> list[Span]:
    """Disjoint spans of both families, sorted."""
    found: list[Span] = []
    for family, base in ((4, 0x0A000000), (6, 0x20010DB8 << 96)):
        cuts = sorted(draw(st.sets(st.integers(0, 4000), max_size=2 * most)))
        found += [Span(family, base + a, base + b - 1) for a, b in list(pairwise(cuts))[::2]]
    return found


@st.composite
def lists(draw: st.DrawFn) -> AccessList:
    """Any tree that the dialect can write."""
    chains: dict[str, tuple[ListEntry, ...]] = {}
    for name in draw(
        st.sets(st.sampled_from(("p0000000001", "pabcdef0123", "p9f9f9f9f9f")), min_size=1)
    ):
        body = [draw(entries(draw(regions()))) for _ in range(draw(st.integers(0, 3)))]
        chain = (*body, draw(entries(None)))
        if chain not in chains.values():
            chains[name] = chain
    tags = draw(st.sets(st.integers(0, 65535), min_size=1, max_size=4))
    used = list(chains)
    blocks = {
        tag: {
            s: used[(s + n) % len(used)]
            for s in sorted(draw(st.sets(st.integers(0, 65535), min_size=1, max_size=3)))
        }
        for n, tag in enumerate(sorted(tags))
    }
    first = min(blocks)
    blocks[first] = {**blocks[first], **{60_000 + n: c for n, c in enumerate(used)}}
    # What is recorded is of one cell alone, which the record names.
    for n, name in enumerate(used):
        if any(e.recorded for e in chains[name]):
            cell = 60_000 + n, first
            blocks = {
                t: {s: c for s, c in b.items() if c != name or (s, t) == cell}
                for t, b in blocks.items()
            }
            *body, last = (replace(e, cell=cell) if e.recorded else e for e in chains[name])
            chains[name] = (*body, last)
    blocks = {t: b for t, b in blocks.items() if b}
    bound = [Range(*s, draw(st.integers(1, 65535))) for s in draw(spans(4))]
    toward = [Range(*s, draw(st.integers(1, 65535))) for s in draw(spans(3))]
    directions = [draw(st.one_of(st.none(), spans(2).map(tuple))) for _ in range(2)]
    within = [(a, b) for a in draw(spans(2)) for b in [a] if draw(st.booleans())]
    own = sorted({Span(s.family, s.start, s.start) for s in draw(spans(2))})
    said = {
        0,
        *blocks,
        *(s for b in blocks.values() for s in b),
        *(r.tag for r in (*bound, *toward)),
    }
    names = {t: f"group-{t % 100}" for t in sorted(said) if t % 7}
    frames: Frames = draw(st.sampled_from(("frame", "bindings", "ignored")))
    return AccessList(
        draw(st.sampled_from(("gate", "hall-edge", "a.b"))),
        head_of(
            frames=frames, stateful=draw(st.booleans()), origins=directions[0],
            targets=directions[1], inside=tuple(within),
        ),
        frames != "frame", tuple(bound), tuple(toward),
        {t: dict(sorted(b.items())) for t, b in blocks.items()}, dict(sorted(chains.items())),
        (draw(actions), draw(actions)), tuple(own), names,
        0 if frames == "frame" else draw(st.integers(1, 20)),
    )  # fmt: skip


@given(held=lists())
def test_any_list_reads_back_as_the_tree_it_was(held: AccessList) -> None:
    text = nftables.write(held)
    again = nftables_reader.read(text)
    assert _by_cells(again) == _by_cells(held)
    assert nftables.write(again) == text
    assert nftables.write_counted(held)[1] == nftables.write_counted(again)[1] <= held.plain_entries
    standing = [(s.line, s.entry) for s in nftables_reader.standing(text)]
    rows = text.split("\n")
    assert len({line for line, _ in standing}) == len(standing) <= nftables.write_counted(held)[1]
    assert all(" ".join(entry.keys) in rows[line - 1] for line, entry in standing)


def _by_cells(held: AccessList) -> AccessList:
    """The list with the entries of each cell as a chain of its own."""
    blocks = {d: {s: f"{s}>{d}" for s in sorted(row)} for d, row in sorted(held.blocks.items())}
    chains = {f"{s}>{d}": held.chains[c] for d, r in held.blocks.items() for s, c in r.items()}
    return replace(held, blocks=blocks, chains=chains)


@given(data=st.data())
def test_paths_are_all_the_cheapest_and_no_others(data: st.DataObject) -> None:
    """Against trying every way without a circle, on graphs with parallel links."""
    names = [f"n{i}" for i in range(data.draw(st.integers(2, 6)))]
    pairs = st.lists(st.sampled_from(names), min_size=2, max_size=2, unique=True)
    links: list[Link] = []
    for i in range(data.draw(st.integers(1, 9))):
        a, b = data.draw(pairs)
        links.append(Link(f"k{i}", a, b, cost=data.draw(st.integers(1, 3))))
    paths = Paths(Network([Node(n) for n in names], (), links))
    start, end = (data.draw(st.sampled_from(names)) for _ in range(2))
    ways: list[tuple[int, tuple[str, ...], tuple[str, ...]]] = []

    def go(nodes: tuple[str, ...], used: tuple[str, ...], cost: int) -> None:
        if nodes[-1] == end:
            ways.append((cost, nodes, used))
            return
        for link in links:
            if nodes[-1] in (link.a, link.b):
                other = link.b if nodes[-1] == link.a else link.a
                if other not in nodes:
                    go((*nodes, other), (*used, link.name), cost + link.cost)

    go((start,), (), 0)
    least = min((w[0] for w in ways), default=0)
    expected = sorted((w[1], w[2]) for w in ways if w[0] == least)
    found = sorted((p.nodes, tuple(k.name for k in p.links)) for p in paths.between(start, end))
    assert found == expected and paths.count(start, end) == len(expected)


def test_every_key_in_a_list_is_a_line(oaktag: Run, sample: Path) -> None:
    """Keys name the lines that decide: a cell's own lines, no others, and the side file has them."""
    assert oaktag("-C", sample, "compile").status == 0
    with (sample / "lists/keys.csv").open() as file:
        places = {r["key"]: (r["file"], int(r["line"])) for r in csv.DictReader(file)}
    assert len(places) == 30
    text = (sample / "lists/hall-edge.nft").read_text()
    cited = {
        k
        for told in re.findall(r" # (.+)$", text, re.M)
        for k in re.findall(r"\b[0-9a-f]{16}\b", told)
    }
    assert len(cited) > 10 and cited <= places.keys()
    held = nftables_reader.read(text)
    chain = held.chains[held.blocks[510][340]]
    # A verdict alone cites the lines of its cell; a chain those of all cells that share it.
    assert [places[k][1] for k in chain[0].keys] == [5]
    assert any(len(e.keys) > 1 for c in held.chains.values() for e in c)
    patrons = held.chains[held.blocks[520][320]]
    assert ("matrix/10-shared.csv", 11) in [places[k] for k in patrons[0].keys]
    assert (patrons[0].action, patrons[0].log) == ("deny", "notice")
    watched = held.chains[held.blocks[320][320]]
    assert [(e.action, e.would) for e in watched] == [("allow", "deny")]


def test_a_list_over_capacity_is_refused_whole(oaktag: Run, sample: Path) -> None:
    network = sample / "network.yaml"
    network.write_text(network.read_text().replace("capacity: 400", "capacity: 100"))
    ran = oaktag("-C", sample, "compile")
    assert ran.status == 1 and "hall-edge holds 100 entries, its list has 184" in ran.err
    assert not (sample / "lists").exists()
    # One that matches addresses is told what it would cost by the destination's tag.
    before = network.read_text()
    plain = before.replace("dialect: nftables", "dialect: ietf-acl", 1)
    plain = plain.replace(
        "match: {source: tag, destination: tag}",
        "match: {source: address, destination: address}",
        1,
    )
    network.write_text(plain.replace("stateful: true", "stateful: false", 1))
    ran = oaktag("-C", sample, "compile")
    told = re.search(
        r"match: {destination: tag} would come to (\d+), still too many; narrow", ran.err
    )
    assert ran.status == 1 and told and 100 < int(told[1]) < 1000, ran.err
    network.write_text(before)
    network.write_text(
        network.read_text().replace("scope: all", "scope: {destinations: [loans-db]}")
    )
    assert oaktag("-C", sample, "compile").status == 0


@pytest.mark.usefixtures("real_kernel")
def test_a_point_that_observes_lets_all_pass_and_counts_what_it_would_deny(
    oaktag: Run, sample: Path
) -> None:
    network = sample / "network.yaml"
    network.write_text(network.read_text().replace("mode: enforce", "mode: observe"))
    assert oaktag("-C", sample, "compile").status == 0
    held = nftables_reader.read((sample / "lists/hall-edge.nft").read_text())
    told = {(e.action, e.would) for chain in held.chains.values() for e in chain}
    assert told == {("allow", "allow"), ("allow", "deny")}
    assert oaktag("-C", sample, "prove").status == 0
    flows = oaktag("-C", sample, "reach", "--json").json["flows"]
    assert {f["result"] for f in flows} == {"observed", "unenforced"}
    assert {f["effect"] for f in flows if f["result"] == "observed"} <= {"exact", "leak"}
    oaktag("-C", sample, "lab", "up")
    try:
        document = oaktag("-C", sample, "lab", "probe", "--json").json
    finally:
        oaktag("-C", sample, "lab", "down")
    assert set(document["summary"]) == {"as meant", "passes though denied"}
    assert {p["fares"] for p in document["probes"]} == {"arrives and is answered"}
    assert document["counters"][0]["agree"]


def test_several_points_on_a_node_each_judge(oaktag: Run, sample: Path) -> None:
    """Points with names of their own: a list each, and a packet passes if each allows it."""
    network = sample / "network.yaml"
    text = network.read_text()
    first, second = text.split("    point:\n")
    body = second.split("\n\n")[0]
    fields = ["name: out", *(line.strip() for line in body.splitlines())]
    extra = "{name: data, toward: [hall-data], inside: true, scope: {destinations: [loans-db]}, outside: deny}"
    points = "    points:\n      - {" + ", ".join(fields) + "}\n      - " + extra + "\n"
    network.write_text(first + points + second[len(body) :])
    made = oaktag("-C", sample, "compile", "--json").json["points"]
    assert [p["point"] for p in made] == ["hall-edge.out", "hall-edge.data"]
    assert oaktag("-C", sample, "prove", "--json").json["points"][1]["equal"]
    flows = package.Workspace.load(sample).reach("core-services", "loans-db")["flows"]
    assert [(f["result"], f["effect"]) for f in flows] == [("enforced", "exact")]
    network.write_text(network.read_text().replace("name: data", "name: out"))
    assert "two points 'out'" in oaktag("-C", sample, "compile").err
