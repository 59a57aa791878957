"""Columns of many against plain objects, one after the other: inventory files, endpoints, addresses,
places, bindings, hosts and their classes."""

from __future__ import annotations

import csv
import io
import ipaddress
import random
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import oaktag
from conftest import Ran
from networks import SEEDS, random_net, write_net
from oaktag.core.addresses import Prefix, key_number, parse_prefix
from oaktag.core.assignment import (
    AnyOf,
    Assignment,
    Compare,
    Condition,
    Equals,
    Glob,
    Rule,
    Test,
    Within,
)
from oaktag.core.bindings import BINDING_SOURCES, Binding, Bindings, Lookup, differing
from oaktag.core.endpoints import Correction, Endpoints, SessionFacts, SourceTable, Value, coded
from oaktag.core.placement import Host, Hosts, Some, together
from oaktag.core.population import Class, classes
from oaktag.core.prefixes import Prefixes, parse_prefixes
from oaktag.core.ranges import numbered
from oaktag.core.registry import learned_bindings
from oaktag.core.sessions import Place
from oaktag.located import Location
from oaktag.operations.model import Model
from oaktag.workspace.csvcolumns import _plainly, _strictly
from oaktag.workspace.csvfile import parse_csv
from oaktag.workspace.textfile import Problems

HERE = Location("here")

# -- files ---------------------------------------------------------------------------------------

cells = st.one_of(
    st.sampled_from(
        ("", "a", "b", " a", "a ", "a;b", " x y ", "ä", "\u2003a", "10.0.0.1", "'", "#")
    ),
    st.text(st.characters(exclude_characters='",\r\n\0', exclude_categories=["Cs"]), max_size=4),
)


@given(
    width=st.integers(2, 4), rows=st.lists(st.lists(cells, min_size=4, max_size=4), max_size=6),
    odd=st.sampled_from(("", "", "", "\n\n", ',"q"\n', "a,b\n", "\r", "  \n")),
    end=st.sampled_from(("\n", "\r\n", "")), newline=st.sampled_from(("\n", "\r\n")),
    separator=st.sampled_from((",", ";", "\t")),
)  # fmt: skip
def test_a_plain_file_is_read_as_the_strict_reader_reads_it(
    width: int, rows: list[list[str]], odd: str, end: str, newline: str, separator: str
) -> None:
    """What pandas cuts is what the standard library's reader cuts, or is left to it."""
    lines = [separator.join(f"c{n}" for n in range(width))]
    lines += [separator.join(c.replace(separator, "") for c in row[:width]) for row in rows]
    text = newline.join(lines) + newline + odd + end
    plain = _plainly("t.csv", text, separator)
    problems = Problems()
    file = parse_csv("t.csv", text, problems, separator)
    if plain is None:
        whole = rows and not odd and all("".join(r[:width]).strip() for r in rows)
        assert not whole or len(rows) * width == 0 or problems.all, text
        return
    assert not problems.all and file is not None, text
    strict = _strictly(file)
    assert (plain.header, plain.lines.tolist()) == (strict.header, strict.lines.tolist())
    for a, b in zip(plain.columns, strict.columns, strict=True):
        assert len(set(a.texts)) == len(a.texts)
        assert [a.texts[c] for c in a.codes] == [b.texts[c] for c in b.codes]
    for row in range(len(plain.lines)):
        for column in range(width):
            assert plain.place(row, column) == strict.place(row, column)


def test_a_large_inventory_is_read_in_pieces(oaktag: Any, shipped: Path) -> None:
    """One of several megabytes, with space and lists in it, says the same as a small part of it."""
    rng = random.Random(5)
    rows = [
        (
            f"till-{n:06d}",
            f" site {n % 7} ",
            f"a;b{n % 3}" if n % 5 else "",
            f"10.77.{n >> 8}.{n & 255}",
        )
        for n in range(60_000)
    ]
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["name", "site", "tags", "ip"])
    writer.writerows(rows)
    assert len(out.getvalue()) > 1 << 21
    (shipped / "tills.csv").write_text(out.getvalue())
    config = shipped / "oaktag.yaml"
    config.write_text(
        config.read_text().replace(
            "sources:", "sources:\n  - {file: tills.csv, kind: device, id: name, address: ip}", 1
        )
    )
    model = package_model(shipped)
    endpoints = model.files.endpoints
    for n in rng.sample(range(len(rows)), 300):
        name, site, tags, ip = rows[n]
        row = endpoints.index[name]
        assert endpoints.value(row, "site") == (site.strip(),)
        assert endpoints.value(row, "tags") == tuple(filter(None, tags.split(";")))
        assert endpoints.addresses(row)[0] == parse_prefix(ip)
        assert endpoints.location(row) == Location("tills.csv", n + 2)
    bad = (
        out.getvalue().replace("10.77.3.9\n", "10.77.3.999\n").replace("till-000512", "till-000511")
    )
    (shipped / "tills.csv").write_text(bad)
    ran: Ran = oaktag("-C", shipped, "check")
    assert ran.status == 2 and ran.out == ""
    said = ran.err
    assert "tills.csv:779:" in said and "'10.77.3.999' is no address or prefix" in said
    assert "tills.csv:514:" in said and "'till-000511' is in this file twice" in said


def package_model(folder: Path) -> Model:
    return oaktag.Workspace.load(folder).model


# -- endpoints -----------------------------------------------------------------------------------

NAMES = ("a", "b", "c", "d")
values = st.sampled_from(((), ("x",), ("y",), ("x", "y"), ("10.0.0.1",), ("z",)))
tables = st.lists(
    st.tuples(
        st.sampled_from(("server", "device")),
        st.lists(
            st.tuples(st.sampled_from(NAMES), values, values, st.sampled_from((1.0, 0.5))),
            max_size=4, unique_by=lambda r: r[0],
        ),
    ),
    min_size=1, max_size=3,
)  # fmt: skip


@given(
    made=tables,
    right=st.lists(st.tuples(st.sampled_from(NAMES), st.sampled_from(("p", "q", "stability")), values), max_size=3),
    seen=st.lists(st.tuples(st.sampled_from(NAMES), values), max_size=3),
)  # fmt: skip
def test_sources_sessions_and_corrections_merge_in_order(
    made: list[Any], right: list[Any], seen: list[Any]
) -> None:
    """A later source replaces value and confidence together; against a dictionary for each."""
    plain: dict[str, dict[str, tuple[Value, float, str]]] = {}
    first: dict[str, Location] = {}
    kinds: dict[str, list[str]] = {}
    sources = []
    for number, (kind, rows) in enumerate(made):
        file = f"f{number}"
        columns = {"p": [r[1] for r in rows], "q": [r[2] for r in rows]}
        sure = np.array([r[3] for r in rows])
        sources.append(
            SourceTable(
                kind, file, [r[0] for r in rows], list(range(2, len(rows) + 2)),
                {n: coded(c) for n, c in columns.items()}, {"q": sure},
            )
        )  # fmt: skip
        for line, (name, p, q, share) in enumerate(rows, 2):
            held = plain.setdefault(name, {})
            first.setdefault(name, Location(file, line))
            kinds.setdefault(name, []).append(kind)
            held |= {"id": ((name,), 1.0, file), "kind": ((kind,), 1.0, file)}
            held |= {"p": (p, 1.0, file)} if p else {}
            held |= {"q": (q, share, file)} if q else {}
    seen = [s for s in seen if s[0] in plain]
    right = [r for r in right if r[0] in plain]
    for name, value in seen:
        if value:
            plain[name]["session.s"] = (value, 1.0, "s")
    for name, attribute, value in right:
        if value:
            plain[name][attribute] = (value, 1.0, "c")
        else:
            plain[name].pop(attribute, None)
    endpoints = Endpoints(
        sources,
        [Correction(n, a, v, Location("c")) for n, a, v in right],
        SessionFacts(["s"] * len(seen), [s[0] for s in seen], {"session.s": [s[1] for s in seen]})
        if seen
        else None,
    )
    assert endpoints.ids == list(plain)
    for row, (name, held) in enumerate(plain.items()):
        assert endpoints.index[name] == row and endpoints.location(row) == first[name]
        for attribute in ("id", "kind", "p", "q", "session.s", "stability"):
            value, share, file = held.get(attribute, ((), 1.0, ""))
            assert endpoints.value(row, attribute) == value
            if value:
                column = endpoints.columns[attribute]
                assert column.confidence[row] == share
                assert endpoints.origins[column.origin[row]] == file
        told = held.get("stability", ((), 1.0, ""))[0]
        stable = told[0] in ("fixed", "reserved") if told else held["kind"][0] == ("server",)
        assert endpoints.stable[row] == endpoints.is_stable(row) == stable
    differ = [n for n, held in kinds.items() if len(set(held)) > 1]
    assert {endpoints.ids[r] for r in endpoints.kinds_differ} == set(differ)
    assert len(endpoints.kinds_differ) == len(differ)


WORDS = ("", "d", "db", "db-1", "db-10", "db-2", "Db-1", "dba-100-a", "dba-100-b", "é-1", "é-2",
         "日本-1", "10.0.0.1", "10.0.0.0/8", "7", "12", "x", "library-hall-desk-1",
         "library-hall-desk-2", "library-hall-door")  # fmt: skip
tests_on = st.one_of(
    st.sampled_from(WORDS[1:]).map(Equals),
    st.sampled_from(
        ("d*", "db-*", "db-1*", "*1", "d?-1", "db-[12]", "é*", "日*", "library-hall-d*1", "library-*",
         "[d]*", "?", "x*y", "dba-100-a*")
    ).map(Glob),
    st.sampled_from((Compare(((">=", 7.0),)), Compare(((">", 7.0), ("<", 13.0))), Equals(12.0))),
    st.just(Within((parse_prefix("10.0.0.0/16"),))),
)  # fmt: skip
some_tests: Any = st.lists(tests_on, min_size=1, max_size=3)
tests_on = st.one_of(tests_on, some_tests.map(lambda members: AnyOf(tuple(members))))


@given(
    listed=st.lists(st.lists(st.sampled_from(WORDS[1:]), max_size=2, unique=True).map(tuple), min_size=1, max_size=9),
    tests=st.lists(tests_on, min_size=1, max_size=4),
)  # fmt: skip
def test_rules_take_whom_their_tests_hold_for(listed: list[Value], tests: list[Test]) -> None:
    """The first rule of which some element holds; however values are indexed."""
    table = SourceTable(
        "server",
        "f",
        [f"e{n}" for n in range(len(listed))],
        [0] * len(listed),
        {"w": coded(listed)},
    )
    rules = [Rule(n + 1, (Condition("w", test, ""),), (), HERE) for n, test in enumerate(tests)]
    settled = Assignment(Endpoints([table]), rules, [])
    for row, value in enumerate(listed):
        hits = [n for n, test in enumerate(tests) if any(test.holds(e) for e in value)]
        assert settled.group[row] == (hits[0] + 1 if hits else -1)
        assert settled.matching(row) == hits
    for number in range(len(tests)):
        assert settled.rows_of(number).tolist() == [
            r for r, value in enumerate(listed) if any(tests[number].holds(e) for e in value)
        ]


# -- prefixes ------------------------------------------------------------------------------------

parts = st.sampled_from(("0", "1", "9", "10", "99", "100", "199", "255", "256", "01", "", "1000"))
written = st.one_of(
    st.lists(parts, min_size=3, max_size=5).map(".".join),
    st.text(alphabet="0123456789./:af", max_size=20),
    st.sampled_from(("2001:db8::1", "::ffff:10.0.0.1", "fe80::1%e", "10.0.0.0/8", "10.0.0.1/8",
                     "::/0", "1.2.3.4\0", "1.2.3.4\n", "٣.1.1.1", "255.255.255.2555")),
)  # fmt: skip


@given(st.lists(written, max_size=12))
def test_addresses_are_read_together_as_one_by_one(texts: list[str]) -> None:
    found, bad = parse_prefixes(texts)
    for n, text in enumerate(texts):
        try:
            one = parse_prefix(text)
        except ValueError as error:
            assert bad[n] == str(error)
            continue
        assert n not in bad and found[n] == one
    assert len(found) == len(texts)


@st.composite
def prefixes(draw: st.DrawFn) -> Prefix:
    family = draw(st.sampled_from((4, 6)))
    width = {4: 32, 6: 128}[family]
    length = draw(
        st.sampled_from((0, 1, 8, 24, 31, 32, *((64, 65, 127, 128) if family == 6 else ())))
    )
    number = draw(st.sampled_from((0, 1, 2, (1 << width) - 1, 5 << (width - 8), 1 << (width // 2))))
    kept = width - length
    return Prefix(family, number >> kept << kept, length)


@given(st.lists(prefixes(), max_size=10), st.lists(prefixes(), min_size=1, max_size=3))
def test_prefixes_are_ordered_and_found_as_tuples(some: list[Prefix], asked: list[Prefix]) -> None:
    held = Prefixes.of(some)
    assert list(held) == some and Prefixes.of(held) is held
    order = held.order()
    assert [some[n] for n in order] == sorted(some)
    fresh = held.fresh(order)
    ordered = sorted(some)
    assert fresh.tolist() == [n == 0 or ordered[n] != ordered[n - 1] for n in range(len(some))]
    for family in (4, 6):
        here = held.take(held.family == family)
        ends = [(key_number(family, a), key_number(family, b)) for a, b in zip(here.starts(family), here.ends(family), strict=True)]  # fmt: skip
        assert ends == [(p.start, p.end) for p in some if p.family == family]
    assert held.wide.tolist() == [p.end > p.start for p in some]
    for one in asked:
        inside = [n for n, p in enumerate(some) if one.holds(p)]
        assert held.inside(one).tolist() == inside
        holding = [
            n
            for n, p in enumerate(some)
            if p.family == one.family and p.start <= one.start <= p.end
        ]
        assert held.holding(one.family, one.start).tolist() == holding
    twice = Prefixes.join([held, held])
    assert list(twice) == some + some and list(twice[len(some) :]) == some


@given(st.lists(st.integers(0, 1 << 40) | st.integers(0, 9), min_size=1, max_size=30))
def test_values_are_numbered_in_their_order(some: list[int]) -> None:
    found, place = numbered(np.array(some, dtype=np.int64))
    assert found.tolist() == sorted(set(some))
    assert [found[p] for p in place] == some


# -- bindings ------------------------------------------------------------------------------------

bindings = st.builds(
    Binding, prefixes(), st.integers(0, 3), st.sampled_from(BINDING_SOURCES),
    st.none() | st.integers(-3, 3),
)  # fmt: skip


@given(
    st.lists(bindings, max_size=12),
    st.permutations(BINDING_SOURCES),
    st.lists(prefixes(), max_size=4),
)
def test_who_wins_a_prefix(made: list[Binding], order: Sequence[str], asked: list[Prefix]) -> None:
    """The source order, then the newest, then the lower tag; and the longest prefix of an address."""
    table = Lookup(made, order)

    def strength(b: Binding) -> tuple[float, ...]:
        return order.index(b.source), -(float("-inf") if b.since is None else b.since), b.tag

    best: dict[Prefix, Binding] = {}
    for binding in made:
        known = best.get(binding.prefix)
        if known is None or strength(binding) < strength(known):
            best[binding.prefix] = binding
    assert list(table.in_force) == [best[p] for p in sorted(best)]
    assert table.in_force.tags.tolist() == [best[p].tag for p in sorted(best)]
    for one in asked:
        holding = [
            b for p, b in best.items() if p.family == one.family and p.start <= one.start <= p.end
        ]
        wins = max(holding, key=lambda b: b.prefix.length, default=None)
        tag = 0 if wins is None else wins.tag
        assert table.tag(one.family, one.start) == tag
        assert table.tags(one.family, [one.start]).tolist() == [tag]
        assert table.tags_of(Prefixes.of([one])).tolist() == [tag]
        found = table.of_prefix(one)
        exact = best.get(one, wins)
        assert (table.bindings[found] if found >= 0 else None) == exact
    first: dict[Any, Binding] = {}
    apart = []
    for binding in made:
        known = first.setdefault((binding.prefix, binding.source), binding)
        if known.tag != binding.tag:
            apart.append((known, binding))
    assert sorted(differing(made), key=str) == sorted(apart, key=str)
    joined = Bindings.join([Bindings.of(made[:4]), Bindings.of(made[4:])])
    assert list(joined) == made and list(joined.take(np.arange(len(made))[::-1])) == made[::-1]


# -- places, the registry, hosts -------------------------------------------------------------------


def slow_places(model: Model) -> list[Place]:
    """Every address of every endpoint, endpoint by endpoint."""
    endpoints, sessions = model.given.endpoints, model.given.sessions
    newest: dict[Prefix, Any] = {}
    for session in sessions:
        known = newest.get(session.address)
        if known is None or session.since >= known.since:
            newest[session.address] = session
    found = []
    for row in range(len(endpoints)):
        mine = [s for s in newest.values() if s.endpoint == row]
        where, addresses = (
            endpoints.location(row),
            [parse_prefix(t) for t in endpoints.value(row, "address")],
        )
        if endpoints.is_stable(row):
            found += [Place(row, a, "inventory", None, where) for a in addresses]
        elif not mine:
            found += [Place(row, a, "assumed", None, where) for a in addresses if a not in newest]
        found += [Place(row, s.address, "session", s.since, s.location) for s in mine]
    return found


def slow_bindings(model: Model, places: list[Place], node: str | None = None) -> list[Binding]:
    """What follows of places: in the registry, or learned by a node that learns sessions."""
    group = model.assignment.group
    found = []
    for place in places:
        tag = model.groups.tag(max(int(group[place.endpoint]), 0))
        source = "inventory" if place.by == "inventory" else "session"
        who = model.files.endpoints.ids[place.endpoint]
        binding = Binding(place.address, tag, source, place.since, place.location, who, node)
        if group[place.endpoint] < 0 or (node is None and place.by == "assumed"):
            continue
        if node is not None:
            segment = model.network.segment_of(place.address)
            if (
                place.by == "inventory"
                or segment is None
                or model.network.segments[segment].node != node
            ):
                continue
        found.append(binding)
    return found


def sessions_of(seed: int) -> list[tuple[str, str, int]]:
    """Some sessions: of endpoints that are there, at addresses of all."""
    rng = random.Random(seed)
    return [
        (
            f"b{rng.randrange(24)}",
            f"10.{rng.randrange(10)}.0.{rng.randrange(1, 25)}",
            rng.randrange(4),
        )
        for _ in range(rng.randrange(9))
    ]


@pytest.mark.parametrize("seed", SEEDS)
def test_places_bindings_and_hosts_are_those_of_one_after_the_other(
    seed: int, tmp_path: Path
) -> None:
    net = replace(random_net(seed), sessions=sessions_of(seed))
    model = write_net(net, tmp_path).model
    slow = slow_places(model)
    assert list(model.places) == slow
    some = slice(1, None, 3)
    assert list(model.places[some]) == slow[some]
    # The registry: pins, defaults of segments, and these.
    held = list(model.registry_bindings)
    assert [b for b in held if b.source in ("inventory", "session")] == slow_bindings(model, slow)
    told = {s.name: s.group for s in model.network.segments.values() if s.group is not None}
    assert {b.who for b in held if b.source == "segment"} == set(told)
    learned = learned_bindings(model.groups, model.assignment, model.prefix_pins, model.network, slow_to_columns(model))  # fmt: skip
    for name, node in model.network.nodes.items():
        own = list(learned[name])
        assert all(b.node == name for b in own)
        moving = slow_bindings(model, slow, name) if "session" in node.learns else []
        assert sorted((b for b in own if b.source == "session"), key=str) == sorted(moving, key=str)
        pins = [p for p in model.prefix_pins if p.node == name]
        assert [b.prefix for b in own if b.source == "pinned"] == [p.prefix for p in pins]
    # Hosts: each on the segment of its longest prefix, with its endpoint's group or the registry's.
    group, hosts = model.assignment.group, []
    for place in slow:
        segment = model.network.segment_of(place.address)
        if segment is not None and place.address.end == place.address.start:
            tag = model.registry.tag(place.address.family, place.address.start)
            mine = int(group[place.endpoint])
            mine = mine if mine >= 0 else model.groups.by_tag.get(tag, 0)
            home = model.network.segments[segment].node
            hosts.append(Host(place.endpoint, place.address.family, place.address.start, segment, home, mine))  # fmt: skip
    whole = {place.endpoint for place in slow if place.address.end > place.address.start}
    assert [h for h in model.hosts if h.endpoint >= 0 and h.endpoint not in whole] == hosts
    assert len(model.nowhere) == len(slow) - len(hosts) - len(model.wide)
    again = Hosts.of(list(model.hosts))
    assert list(again) == list(model.hosts) and list(again[::2]) == list(model.hosts)[::2]
    assert list(together([Some(again, np.array([2, 0])), Some(again, np.array([1]))])) == [again[2], again[0], again[1]]  # fmt: skip
    at: dict[str, set[int]] = {}
    for host in model.hosts:
        if host.segment:
            at.setdefault(host.segment, set()).add(host.group)
    assert model._placed_groups == at
    leased = {int(group[r]) for r in range(len(group)) if group[r] >= 0 and not model.given.endpoints.is_stable(r)}  # fmt: skip
    assert model._unstable == leased


def slow_to_columns(model: Model) -> Any:
    return model.places


@pytest.mark.parametrize("seed", SEEDS)
def test_classes_are_hosts_that_every_table_treats_alike(seed: int, tmp_path: Path) -> None:
    model = write_net(random_net(seed), tmp_path).model
    tables = model.state.tables
    found: list[Class] = classes(model.hosts, tables)

    def kind(host: Host) -> tuple[object, ...]:
        tags = tuple(t.tag(host.family, host.address) for t in tables)
        quiet = ipaddress.ip_address(host.address).is_link_local if host.family == 4 else False
        return (
            host.node,
            host.segment,
            host.own,
            host.group,
            host.family,
            host.endpoint < 0,
            quiet,
            tags,
        )

    slow: dict[object, list[Host]] = {}
    for host in model.hosts:
        slow.setdefault(kind(host), []).append(host)
    assert [list(c.hosts) for c in found] == list(slow.values())
    assert [tuple(c.tags) for c in found] == [key[-1] for key in slow]  # type: ignore[index]
