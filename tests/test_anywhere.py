"""What is new for the people around the engineer, on workspaces, cells, days and files at random."""

from __future__ import annotations

import itertools
import json
import random
import re
import string
from collections.abc import Callable
from datetime import date, datetime, timedelta
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import oaktag as package
from conftest import Ran
from networks import random_net, write_net
from oaktag.errors import UsageError
from oaktag.operations import card as cards
from oaktag.testing.slow import Stack
from oaktag.testing.strategies import stacks, write_stack
from oaktag.workspace.office_forms import read_day, read_instant, separator_of, shortened
from oaktag.workspace.topology import read_topology, topology_text
from oaktag.workspace.workbook import plain, rows_in, written
from sizes import scaled

Run = Callable[..., Ran]


class Anchors(HTMLParser):
    """The places of a page, where its links lead, and whether all elements end."""

    VOID = ("meta", "br", "input")

    def __init__(self) -> None:
        super().__init__()
        self.ids: list[str] = []
        self.links: set[str] = set()
        self.open: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        held = dict(attrs)
        assert not any(name.startswith("on") or name == "style" for name in held), held
        if held.get("id"):
            self.ids.append(str(held["id"]))
        if tag == "a":
            self.links.add(str(held["href"]).removeprefix("#"))
        if tag not in self.VOID:
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag


@pytest.mark.parametrize("seed", range(scaled(10)))
def test_the_report_of_any_network(seed: int, tmp_path: Path, oaktag: Run) -> None:
    """Every link leads to one place, figures are those of reach, and two runs give the same bytes."""
    write_net(random_net(seed), tmp_path / "w")
    ran = oaktag("-C", tmp_path / "w", "report", "--out", "page.html", "--json")
    assert ran.status == 0, ran
    page = tmp_path / "w/page.html"
    text = page.read_text(encoding="utf-8")
    read = Anchors()
    read.feed(text)
    assert not read.open and len(read.ids) == len(set(read.ids))
    assert read.links <= set(read.ids), read.links - set(read.ids)
    reach = oaktag("-C", tmp_path / "w", "reach", "--json").json["summary"]
    figures = {f["figure"]: f["count"] for f in ran.json["figures"]}
    for figure, effect in (
        ("flows exactly as meant", "exact"), ("flows that leak", "leak"),
        ("flows that break", "break"), ("flows without answers", "one-way"),
    ):  # fmt: skip
        assert figures[figure] == reach["effects"].get(effect, 0)
    assert figures["flows that are cut off"] == sum(r["flows"] for r in reach["cut_off"])
    for cause in reach["causes"]:
        assert cause["advice"] in re.sub("<[^>]+>", "", text).replace("&#39;", "'")
    assert oaktag("-C", tmp_path / "w", "report", "--out", "page.html").status == 0
    assert page.read_text(encoding="utf-8") == text


@given(stack=stacks())
def test_each_test_of_a_card_tells_what_it_says_in_any_matrix(
    stack: Stack, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """Held against the rules read one by one, with each line taken out or enforced."""
    folder = tmp_path_factory.mktemp("card")
    write_stack(stack, folder)
    network = {
        "nodes": [{"node": "gate", "point": {"inside": True}}],
        "segments": [
            {"segment": f"s{n}", "node": "gate", "prefixes": [f"10.{n}.0.0/24"]}
            for n in range(len(stack.groups))
        ],
        "feeds": [{"from": "registry", "to": "gate"}],
    }  # fmt: skip
    (folder / "network.yaml").write_text(json.dumps(network))
    (folder / "inventory").mkdir(exist_ok=True)
    rows = [f"e{n},10.{n}.0.5,{g}" for n, g in enumerate(stack.groups)]
    (folder / "inventory/all.csv").write_text("\n".join(["id,ip,group", *rows]) + "\n")
    config = json.loads((folder / "oaktag.yaml").read_text())
    config["sources"] = [
        {"file": "inventory/all.csv", "kind": "server", "id": "id", "address": "ip"}
    ]
    (folder / "oaktag.yaml").write_text(json.dumps(config))
    rules = [f"  - {{give: {g}, when: {{group: {g}}}}}" for g in stack.groups]
    (folder / "assignments.yaml").write_text("\n".join(["rules:", *rules]) + "\n")
    try:
        model = package.Workspace.load(folder).model
    except package.WorkspaceError as error:
        raise AssertionError([str(p) for p in error.problems]) from None
    found, untold = cards.tests_of(model)
    told = {change for test in found for change in test.kind.tells}
    for number, line in enumerate(model.lines):
        if line.mode == "off" or not line.counts(model.today):
            continue
        changed = list(model.files.policy.lines)
        if line.mode == "enforce":
            changed[number] = line._replace(mode="off")
        else:
            changed[number] = line._replace(mode="enforce")
        policy = model.files.policy._replace(lines=tuple(changed))
        then = type(model.matrix)(model.groups, policy, model.atoms, model.today)
        tells = [
            test for test in found
            if (model.matrix.forms[model.matrix.form(test.kind.source, test.kind.destination)]
                ^ then.forms[then.form(test.kind.source, test.kind.destination)])
            >> model.atoms.atom(test.packet) & 1
        ]  # fmt: skip
        named = [test for test in found if number in {c.line for c in test.kind.tells}]
        assert tells == named
        assert bool(tells) == (number in {c.line for c in told})
    places = {(line.location.file, line.location.line) for line in model.lines}
    assert {(row["file"], row["line"]) for row in untold} <= places


def _effects(rows: list[dict[str, Any]], other: str) -> dict[str, set[str]]:
    found: dict[str, set[str]] = {}
    for row in rows:
        found.setdefault(row[other]["group"], set()).add(row["effect"])
    return found


@pytest.mark.parametrize("seed", range(scaled(8)))
def test_who_fares_differently_in_any_network(seed: int, tmp_path: Path) -> None:
    """Parts of a group are those that reach tells apart, asked endpoint by endpoint."""
    workspace = write_net(random_net(seed), tmp_path / "w")
    told = {row["group"]: row["parts"] for row in workspace.unlike().unlike}
    at = {h.endpoint for h in workspace.model.hosts if h.endpoint >= 0}
    names = workspace.model.files.endpoints.ids
    for group in workspace.groups().groups:
        members = [e["endpoint"] for e in workspace.members(group["group"]).endpoints]
        alike: dict[object, set[str]] = {}
        for name in members:
            if list(names).index(name) not in at:
                continue
            ways = (
                ("to", _effects(workspace.reach(f"endpoint:{name}", None).flows, "destination")),
                ("from", _effects(workspace.reach(None, f"endpoint:{name}").flows, "source")),
            )
            wrong = {
                (way, other, frozenset(effects))
                for way, found in ways
                for other, effects in found.items()
                if effects != {"exact"}
            }
            alike.setdefault(frozenset(wrong), set()).add(name)
        parts = {frozenset(some) for some in alike.values()}
        found = {frozenset(p["endpoints"]) for p in told.get(group["group"], ())}
        assert found == (parts if len(parts) > 1 else set()), group["group"]


def _goes_wrong(
    workspace: package.Workspace, address: str
) -> dict[tuple[str, str], tuple[bool, bool]]:
    found: dict[tuple[str, str], tuple[bool, bool]] = {}
    for way, rows, end in (
        ("to", workspace.reach(address, None).flows, "destination"),
        ("from", workspace.reach(None, address).flows, "source"),
    ):
        for row in rows:
            effects = {p["effect"] for p in row["packets"] if p["family"] == 4}
            key = way, row[end]["group"]
            held = found.get(key, (False, False))
            found[key] = held[0] or "leak" in effects, held[1] or "break" in effects
    return found


def test_who_inherits_an_address_in_any_network(tmp_path: Path) -> None:
    """With the old binding pinned at all nodes that are late, reach says the same of it."""
    tried = [_inherited(seed, tmp_path / str(seed)) for seed in range(10)]
    assert sum(tried) > 10, tried


def _inherited(seed: int, folder: Path) -> int:
    """How many addresses of a network could be held against files."""
    workspace = write_net(random_net(seed), folder)
    rng, model = random.Random(seed), workspace.model
    stable = [
        h for h in model.hosts
        if h.endpoint >= 0 and h.family == 4 and h.end is None and h.segment and h.group
        and not any(p.endpoint == model.files.endpoints.ids[h.endpoint] for p in model.files.assignments.pins)
    ]  # fmt: skip
    rng.shuffle(stable)
    tried = 0
    for host in stable[:6]:
        name = model.files.endpoints.ids[host.endpoint]
        addresses = model.files.endpoints.value(host.endpoint, "address")
        if len(addresses) != 1 or model.files.endpoints.stability(host.endpoint) != "fixed":
            continue
        group = rng.choice(
            [g.id for g in model.groups.all[1:] if g.id != model.groups.all[host.group].id]
        )
        try:
            told = workspace.handover(addresses[0], group)
        except UsageError:
            continue
        late = [t["node"] for t in told.tables]
        path = folder / "assignments.yaml"
        held = json.loads(path.read_text())
        mine = {"endpoint": name, "group": group}
        path.write_text(json.dumps({**held, "pins": [mine, *held["pins"]]}))
        known = _goes_wrong(package.Workspace.load(folder), addresses[0])
        pins = [
            {"prefix": addresses[0], "group": told.was["group"], "at": n, "since": "2026-01-02"}
            for n in late
        ]
        path.write_text(json.dumps({**held, "pins": [mine, *pins, *held["pins"]]}))
        then = package.Workspace.load(folder)
        path.write_text(json.dumps(held))
        tags = {n: then.bindings(n, (addresses[0],)).found[0]["tag"] for n in model.network.nodes}
        if told.was["tag"] == 0 or any((tags[n] == told.was["tag"]) != (n in late) for n in tags):
            continue  # in files it would reach others too, or not all of them
        fresh = {
            key: tuple(
                a and not b for a, b in zip(wrong, known.get(key, (False, False)), strict=True)
            )
            for key, wrong in _goes_wrong(then, addresses[0]).items()
        }
        assert {k: v for k, v in fresh.items() if any(v)} == {
            (r["direction"], r["other"]): (bool(r["passes_text"]), bool(r["dropped_text"]))
            for r in told.all_late
        }, (name, group)
        tried += 1
    return tried


CELL = st.text(
    st.characters(exclude_categories=["Cs"], exclude_characters="\0\r"), max_size=12
).map(lambda t: "".join(c for c in t if c in "\t\n" or c >= " ").replace("\x7f", ""))


@given(rows=st.lists(st.lists(CELL, min_size=3, max_size=3), max_size=6))
@pytest.mark.parametrize("kind", ["xlsx", "ods", "csv"])
def test_any_cell_comes_back_as_it_was(kind: str, rows: list[list[str]]) -> None:
    path = Path(f"sheet.{kind}")
    try:
        data = written(path, ["a", "b", "c"], rows)
    except UsageError as error:
        assert "which no" in str(error) and kind != "csv"
        return
    assert data == written(path, ["a", "b", "c"], rows)
    if kind == "csv":
        assert rows_in(path.name, data) is None
        return
    found = rows_in(path.name, data)
    assert found is not None
    back = [[plain(cell) for cell in [*row, "", "", ""][:3]] for row in found]
    meant = [["a", "b", "c"], *rows]
    for held, said in itertools.zip_longest(back, meant, fillvalue=["", "", ""]):
        assert [" ".join(c.split()) for c in held] == [" ".join(c.split()) for c in said]


def test_every_day_in_every_form() -> None:
    """A day in a form of its own is that day; with slashes it is, where only one day can be meant."""
    first, refused = date(2026, 1, 1), 0
    for number in range(731):
        day = first + timedelta(days=number)
        assert read_day(day.isoformat()) == (day.toordinal(), "")
        for form in ("%d.%m.%Y", "%-d.%-m.%Y"):
            assert read_day(day.strftime(form)) == (day.toordinal(), "")
        for form in ("%d/%m/%Y", "%m/%d/%Y", "%-m/%-d/%Y"):
            found, why = read_day(day.strftime(form))
            if day.day > 12 or day.day == day.month:
                assert (found, why) == (day.toordinal(), "")
            else:
                refused += 1
                other = date(day.year, day.day, day.month)
                assert found is None and day.isoformat() in why and other.isoformat() in why
    assert refused == 3 * 2 * 12 * 11
    for text in (
        "",
        "31.02.2026",
        "1.13.2026",
        "13/13/2026",
        "2026/01/02",
        "1.2.26",
        "46387",
        "1-2-2026",
    ):
        assert read_day(text)[0] is None
    noon = datetime.fromisoformat("2026-11-26T12:30:05+00:00")
    for text in ("26.11.2026 12:30:05", "11/26/2026 12:30:05", "2026-11-26T12:30:05Z"):
        assert read_instant(text) == (int(noon.timestamp()) * 1_000_000, "")
    for text in ("26.11.2026 24:30", "26.11.2026 12:60", "26.11.2026 noon", "03/04/2026 12:00"):
        assert read_instant(text)[0] is None


def test_what_parts_cells_and_what_lacks_digits() -> None:
    rng = random.Random(7)
    for _ in range(300):
        mark = rng.choice(",;\t")
        names = [
            "".join(rng.choices(string.ascii_lowercase, k=4)) for _ in range(rng.randint(2, 9))
        ]
        body = "".join(rng.choices(",;\t\nab", k=20))
        assert separator_of(mark.join(names) + "\n" + body) == mark
    assert separator_of("alone\n;;;") == "," == separator_of("")
    for text in ("1.2E+11", "1,23457E+11", "-1.0E-05", "+9.9E+9"):
        assert shortened(text)
    for text in ("1E+11", "1.2E11", "a1.2E+11", "1.2E+11 ", "1.2", "E+11", "0200.5e10.0024"):
        assert not shortened(text)


@pytest.mark.parametrize("seed", range(scaled(60)))
def test_topologies_broken_at_random_are_refused_or_read(seed: int, tmp_path: Path) -> None:
    """Values, keys and items taken out, doubled or of another kind: a topology, or one clear error."""
    rng = random.Random(seed)
    network = write_net(random_net(seed % 6), tmp_path / "w").model.network
    document = json.loads(topology_text(network, "one"))
    for _ in range(rng.randint(1, 4)):
        _break(document, rng)
    data = json.dumps(document).encode()
    if seed % 5 == 0:
        at = rng.randrange(len(data))
        data = data[:at] + bytes([rng.randrange(256)]) + data[at + 1 :]
    try:
        found = read_topology("t.json", data)
    except UsageError as error:
        assert "t.json" in str(error)
        return
    assert all(re.fullmatch("[a-z][a-z0-9-]*", name) for name in found.nodes)
    assert {end for link in found.links for end in (link.a, link.b)} <= set(found.nodes)
    assert all(link.cost >= 1 and link.a != link.b for link in found.links)


def _break(held: Any, rng: random.Random) -> None:
    """Change something somewhere in a document."""
    places: list[tuple[Any, Any]] = []
    waiting = [held]
    while waiting:
        here = waiting.pop()
        keys = list(here) if isinstance(here, dict) else range(len(here))
        for key in keys:
            places.append((here, key))
            if isinstance(here[key], dict | list):
                waiting.append(here[key])
    if not places:
        return
    here, key = rng.choice(places)
    kind = rng.randrange(4)
    if kind == 0:
        del here[key]
    elif kind == 1 and isinstance(here, list):
        here.append(here[key])
    else:
        here[key] = rng.choice([None, 7, -1, "", "x", [], {}, [1], {"a": 1}, True, "10.0.0.0/33"])
