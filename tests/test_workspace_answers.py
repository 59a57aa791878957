"""The Python face: answers are objects that show themselves, and are what the commands print."""

from __future__ import annotations

import csv
import importlib
import json
import pkgutil
import re
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import FrozenInstanceError
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import oaktag as package
from conftest import Ran
from networks import SEEDS, random_net, write_net
from oaktag import Workspace
from oaktag.operations.result import Result
from oaktag.report.page import Page
from oaktag.testing.slow import Stack
from oaktag.testing.strategies import stacks, write_stack
from sizes import scaled

Run = Callable[..., Ran]


def _answers(kind: type[Result]) -> Iterator[type[Result]]:
    for one in kind.__subclasses__():
        yield one
        yield from _answers(one)


def test_every_answer_shows_itself_and_stays_as_it_is(oaktag: Run) -> None:
    """No class of answers says for itself how it is shown, or when two of it are the same one."""
    oaktag("--help")  # each command's module is there by then
    import oaktag.operations as every

    for module in pkgutil.iter_modules(every.__path__, f"{every.__name__}."):
        importlib.import_module(module.name)
    found, name = set(_answers(Result)), "command"
    assert len(found) > 40
    for kind in found:
        assert kind.__repr__ is Result.__repr__ and kind.__eq__ is Result.__eq__, kind
        with pytest.raises(FrozenInstanceError):
            setattr(object.__new__(kind), name, "")


WORDS = ("untagged", "ada", "bo", "cy", "di")
#: Command lines, what is asked for the same answer, and how it is shown.
SAME: tuple[tuple[str, Callable[[Workspace], Result], dict[str, Any]], ...] = (
    ("check", lambda w: w.check(), {}),
    ("check --all", lambda w: w.check(), {"every": True}),
    ("attributes", lambda w: w.attributes(), {}),
    ("attributes model", lambda w: w.attributes("model"), {}),
    ("groups", lambda w: w.groups(), {}),
    ("members", lambda w: w.members(), {}),
    ("members kiosks", lambda w: w.members("kiosks"), {"everybody": True}),
    ("members --unassigned", lambda w: w.members(unassigned=True), {"unassigned": True}),
    ("members --withheld", lambda w: w.withheld(), {}),
    ("members --uncertain", lambda w: w.uncertain(), {}),
    ("members --rule 9", lambda w: w.taken_by(9), {}),
    ("explain ada", lambda w: w.explain("ada"), {}),
    ("explain 10.20.0.0/16", lambda w: w.explain("10.20.0.0/16"), {}),
    ("bindings --at hall-edge", lambda w: w.bindings("hall-edge"), {}),
    ("bindings 10.20.200.11", lambda w: w.bindings(find=("10.20.200.11",)), {}),
    ("bindings --missing hall-edge", lambda w: w.missing("hall-edge"), {}),
    ("matrix", lambda w: w.matrix(), {}),
    ("cell kiosks catalogue", lambda w: w.cell("kiosks", "catalogue"), {}),
    ("decide patrons loans-db https", lambda w: w.decide("patrons", "loans-db", "https"), {}),
    ("callers loans-db", lambda w: w.callers("loans-db"), {}),
    ("callees kiosks https", lambda w: w.callees("kiosks", "https"), {}),
    ("describe patrons", lambda w: w.describe("patrons"), {}),
    ("around data-stores", lambda w: w.around("data-stores"), {}),
    ("expect", lambda w: w.expect(), {}),
    ("review", lambda w: w.review(), {}),
    ("verify", lambda w: w.verify(), {}),
    ("compare --if-enforced", lambda w: w.if_enforced(), {}),
    ("compare --if-enforced --summary", lambda w: w.if_enforced(), {"summary": True}),
    ("pin ada --to kiosks", lambda w: w.pin("ada", "kiosks"), {}),
    ("grant ada loans-db ssh", lambda w: w.grant("ada", "loans-db", "ssh"), {}),
    ("reach", lambda w: w.reach(), {}),
    ("reach --flows --from patrons", lambda w: w.reach("patrons"), {"flows": True}),
    ("reach --by cell", lambda w: w.reach(), {"by": "cell"}),
    ("reach --failures", lambda w: w.failures(), {}),
    ("trace kiosks catalogue https", lambda w: w.trace("kiosks", "catalogue", "https"), {}),
)  # fmt: skip


@pytest.mark.parametrize(("words", "ask", "how"), SAME, ids=[row[0] for row in SAME])
def test_commands_print_what_is_returned(
    words: str, ask: Callable[[Workspace], Result], how: dict[str, Any], oaktag: Run, sample: Path
) -> None:
    """Text, JSON, HTML and frame of one object; the command adds nothing to it."""
    result = ask(Workspace.load(sample))
    assert oaktag("-C", sample, *words.split()).out == result.text(**how)
    if "--summary" not in words and "--flows" not in words:
        assert oaktag("-C", sample, *words.split(), "--json").json == result.as_json()
    assert json.loads(result.json()) == result.as_json() == dict(result)
    page = Read()
    page.feed(result.page(**how).html())
    assert not page.open and page.text.strip()
    rows = result.as_json().get(result.table)
    if isinstance(rows, list):
        frame = result.frame()
        assert len(frame) == len(rows)
        assert len(frame.columns) > 0
    assert repr(result).startswith("<") and len(repr(result)) < 120


class Read(HTMLParser):
    """HTML whose elements all end."""

    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.text = ""

    def handle_starttag(self, tag: str, attrs: object) -> None:
        if tag != "br":
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        self.text += data


def test_frames_have_their_rows_and_columns(sample: Path) -> None:
    """The whole square of the matrix; and columns where there is no row."""
    workspace = Workspace.load(sample)
    count = len(workspace.groups().groups) + 1
    square = workspace.matrix().frame()
    assert len(square) == count * count
    line = square[(square["source"] == "patrons") & (square["destination"] == "catalogue")]
    assert line["allows"].tolist() == ["https"]
    empty = Workspace.from_objects([], {}).check().frame()
    assert len(empty) == 0 and empty.columns.tolist()[:3] == ["code", "severity", "file"]
    bindings = Workspace.from_objects([], {}).bindings().frame()
    assert len(bindings) == 0 and "prefix" in bindings.columns
    assert Workspace.frame(workspace.groups()).equals(workspace.groups().frame())


def test_without_pandas_all_but_frames(sample: Path) -> None:
    code = (
        "import sys; sys.modules['pandas'] = None\n"
        "import oaktag\n"
        f"w = oaktag.Workspace.load({str(sample)!r})\n"
        "assert w.decide('patrons', 'loans-db', 'https').action == 'deny'\n"
        "assert w.reach().flows and w.decide_many({'source': ['ada'], 'destination': ['loans-db'],"
        " 'family': [4], 'protocol': ['tcp'], 'source_port': [1], 'destination_port': [443]})\n"
        "try:\n    w.groups().frame()\n"
        "except oaktag.NotPossibleHere as error:\n    print(error)\n"
    )
    ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert ran.returncode == 0, ran.stderr
    assert "pip install 'oaktag[frames]'" in ran.stdout


@settings(max_examples=scaled(60))
@given(stack=stacks(), data=st.data())
def test_many_packets_at_once(stack: Stack, data: st.DataObject, tmp_path: Path) -> None:
    """Arrays against the slow reading, packet by packet, with the line that says so."""
    write_stack(stack, tmp_path)
    workspace = Workspace.load(tmp_path)
    packets = data.draw(st.lists(st.sampled_from(stack.packets()), min_size=1, max_size=30))
    ends = [(data.draw(st.sampled_from(WORDS)), data.draw(st.sampled_from(WORDS))) for _ in packets]
    columns = {
        "source": [s for s, _ in ends], "destination": np.array([d for _, d in ends]),
        **{name: np.array([p[n] for p in packets]) for n, name in enumerate(
            ("family", "protocol", "source_port", "destination_port"))},
    }  # fmt: skip
    said = workspace.decide_many(columns)
    assert len(said) == len(packets)
    for number, ((s, d), packet) in enumerate(zip(ends, packets, strict=True)):
        action, line, _ = stack.decide(s, d, packet, "action")
        assert said.allowed[number] == (action == "allow")
        assert said.would[number] == (stack.decide(s, d, packet, "would")[0] == "allow")
        place = said.places[said.line[number]] if said.line[number] >= 0 else None
        assert place == (None if line is None else (f"matrix/{line[0] + 1}0.csv", line[1]))
    frame = said.frame()
    assert workspace.decide_many(frame).allowed.tolist() == said.allowed.tolist()
    assert frame["action"].tolist() == ["allow" if a else "deny" for a in said.allowed]


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ({"source": ["adda", "ada"]}, "row 0: 'adda' is no group"),
        ({"family": [4, 5]}, "row 1: the family is neither 4 nor 6"),
        ({"protocol": ["tcp", "tcpp"]}, "row 1: the protocol"),
        ({"destination_port": [443, 65536]}, "row 1: its protocol has no such port"),
        ({"destination_port": ["443", "x"]}, "row 1: destination_port is 'x', no number"),
        ({"family": [4]}, "different lengths"),
    ],
)
def test_what_is_no_packet_is_named(change: dict[str, Any], told: str, sample: Path) -> None:
    columns: dict[str, Any] = {
        "source": ["ada", "kiosks"], "destination": ["loans-db", "loans-db"], "family": [4, 6],
        "protocol": ["tcp", 17], "source_port": [1, 2], "destination_port": [443, 53],
    }  # fmt: skip
    workspace = Workspace.load(sample)
    assert len(workspace.decide_many(columns)) == 2
    with pytest.raises(package.UsageError, match=re.escape(told)):
        workspace.decide_many(columns | change)
    columns.pop("family")
    with pytest.raises(package.UsageError, match="the column 'family' is missing"):
        workspace.decide_many(columns)


@pytest.mark.parametrize("seed", SEEDS[: scaled(6)])
def test_objects_come_to_what_files_come_to(seed: int, tmp_path: Path) -> None:
    """A random network, read from its files and given as objects: every answer is the same."""
    by_files = write_net(random_net(seed), tmp_path)

    def held(name: str) -> Any:
        path = tmp_path / name
        return json.loads(path.read_text()) if path.exists() else {}

    def table(name: str) -> list[dict[str, str]]:
        path = tmp_path / name
        return list(csv.DictReader(path.open())) if path.exists() else []

    config = held("oaktag.yaml")
    groups, permissions = held("groups.yaml"), held("permissions.yaml")
    people = [
        {**{k: v for k, v in row.items() if v}, "kind": source["kind"], "id": row[source["id"]],
         "address": row[source["address"]].split(";")}
        for source in config["sources"] for row in table(source["file"])
    ]  # fmt: skip
    for row in people:
        if row["address"] == [""]:
            row.pop("address")
    rules = held("assignments.yaml")
    given_ = Workspace.from_objects(
        groups["groups"], permissions["permissions"],
        {Path(n).stem: table(n) for n in config["layers"]}, people, sets=groups.get("sets"),
        services=permissions.get("services"), rules=rules.get("rules", ()),
        pins=rules.get("pins", ()), sessions=table("sessions.csv"), network=held("network.yaml"),
        config={k: v for k, v in config.items() if k not in ("layers", "sources", "sessions")},
    )  # fmt: skip
    for ask in ("groups", "matrix", "reach", "bindings", "members"):
        asked: list[Result] = [getattr(w, ask)() for w in (by_files, given_)]
        one, two = (answer.json() for answer in asked)
        strip = re.compile(r'"(file|line|from|who)": [^,}]*')
        assert strip.sub("", one) == strip.sub("", two)


def test_a_word_is_never_broken() -> None:
    """A column that does not fit goes below its row; every word that was put in comes out whole."""
    page = Page()
    words = [
        "matrix/20-reading.csv:12",
        "02:00:5e:10:00:13",
        "2001:db8:20:200::11",
        "91,443,8000-8010/tcp",
    ]
    rows = [(f"row-{n}", *(f"{w} and {w}" for w in words)) for n in range(3)]
    page.table(("name", "place", "hardware", "address", "services"), rows, wrap=(1, 2, 3, 4))
    for width in (60, 80, 100, 140):
        said = page.text(width)
        for word in words:
            assert said.count(word) == 6, (width, word)
        if width >= 80:
            assert max(map(len, said.splitlines())) <= width
    assert "services: " in page.text(60)
