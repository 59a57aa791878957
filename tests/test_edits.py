"""Edits of files in any style: just what was asked is changed, every other byte stays, and what is
done can be undone to the same bytes."""

from __future__ import annotations

import csv
import io
import json
import random
import re
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from oaktag.core.endpoints import Values
from oaktag.errors import UsageError, WorkspaceError
from oaktag.located import Location
from oaktag.workspace import csv_edits, yaml_edits, yaml_words
from oaktag.workspace.config_file import FILE as CONFIG
from oaktag.workspace.csv_edits import (
    with_cells,
    with_copies,
    with_line,
    with_words,
    without_line,
)
from oaktag.workspace.edits import try_out
from oaktag.workspace.leaving import ITEMS, KEYS
from oaktag.workspace.load import Files, read_files
from oaktag.workspace.load import load as load_workspace
from oaktag.workspace.renaming import with_name
from oaktag.workspace.splitting import BESIDE, BORNE, ENDS
from oaktag.workspace.yaml_edits import (
    quoted,
    with_feed,
    with_permission,
    with_pins,
    with_rule,
    with_setting,
    with_tag,
    without_pin,
)
from sizes import scaled

WORDS = (
    "a",
    "b-2",
    "n0",
    "10.0.0.0/8",
    "x y",
    "true",
    "0012",
    "11:22:33",
    "it's",
    'say "so"',
    "ä",
    "#1",
    "",
)


class Emitter:
    """Writes lists of mappings as YAML in a random style, with comments that must stay."""

    def __init__(self, seed: int) -> None:
        self.rng = random.Random(seed)
        self.comments = 0

    def comment(self, share: float = 0.3) -> str:
        if self.rng.random() >= share:
            return ""
        self.comments += 1
        return f"  # note {self.comments}, with a: colon"

    def flow(self, item: dict[str, Any]) -> str:
        parts = []
        for key, value in item.items():
            held = self.flow(value) if isinstance(value, dict) else self.word(value)
            parts.append(f"{key}: {held}")
        return "{" + ", ".join(parts) + "}"

    def word(self, value: Any) -> str:
        if isinstance(value, list):
            return (
                "["
                + ", ".join(self.flow(v) if isinstance(v, dict) else self.word(v) for v in value)
                + "]"
            )
        if isinstance(value, bool):
            return "true" if value else "false"
        return quoted(value) if isinstance(value, str) else str(value)

    def items(self, items: list[dict[str, Any]], indent: int) -> list[str]:
        lines = []
        for item in items:
            if self.rng.random() < 0.5:
                lines.append(" " * indent + f"- {self.flow(item)}{self.comment()}")
            else:
                lead = " " * indent + "- "
                if self.rng.random() < 0.2:  # the dash stands alone
                    lines.append(" " * indent + f"-{self.comment()}")
                    lead = " " * (indent + 2)
                for key, value in item.items():
                    if key == "note" and value and self.rng.random() < 0.4:
                        inner = " " * (indent + 4)
                        lines += [f"{lead}{key}: |-{self.comment()}", f"{inner}{value}"]
                        lead = " " * (indent + 2)
                        continue
                    if isinstance(value, dict):
                        held = self.flow(value)
                    else:
                        held = self.word(value)
                    lines.append(f"{lead}{key}: {held}{self.comment()}")
                    lead = " " * (indent + 2)
            if self.rng.random() < 0.2:
                lines.append("")
        return lines

    def document(self, lists: dict[str, list[dict[str, Any]]]) -> str:
        lines = ["# the top" + self.comment()]
        for key, items in lists.items():
            how = self.rng.random()
            if not items:
                lines.append(f"{key}: []{self.comment()}")
            elif how < 0.25:
                lines.append(f"{key}: [{', '.join(self.flow(i) for i in items)}]{self.comment()}")
            elif how < 0.4:  # several on a line, comments between
                lines.append(f"{key}: [{self.comment()}")
                for number, item in enumerate(items):
                    comma = "," if number < len(items) - 1 else ""
                    if number and self.rng.random() < 0.4 and "#" not in lines[-1]:
                        lines[-1] += f" {self.flow(item)}{comma}{self.comment()}"
                    else:
                        lines.append(f"  {self.flow(item)}{comma}{self.comment()}")
                lines.append("  ]")
            else:
                lines.append(f"{key}:{self.comment()}")
                lines += self.items(items, self.rng.choice((0, 2, 4)))
        text = "\n".join(lines)
        return text + ("\n" if self.rng.random() < 0.8 else "")


def plain(node: yaml.Node | None) -> Any:
    """What a document says, each scalar as it is written: so the workspace reads it."""
    if isinstance(node, yaml.MappingNode):
        return {k.value: plain(v) for k, v in node.value}
    if isinstance(node, yaml.SequenceNode):
        return [plain(v) for v in node.value]
    return "" if node is None else node.value


def load(text: str) -> Any:
    return plain(yaml.compose(text, Loader=yaml.SafeLoader))


def said(held: Any) -> Any:
    """The same of what is meant."""
    if isinstance(held, dict):
        return {k: said(v) for k, v in held.items()}
    if isinstance(held, list):
        return [said(v) for v in held]
    return str(held).lower() if isinstance(held, bool) else str(held)


def notes(text: str) -> list[str]:
    return [line[line.index("# note") :] for line in text.split("\n") if "# note" in line]


pins = st.lists(
    st.fixed_dictionaries({"endpoint": st.sampled_from(WORDS[:-1]), "group": st.sampled_from(("g", "h"))},
                          optional={"note": st.sampled_from(WORDS)}),
    max_size=4,
)  # fmt: skip


@given(seed=st.integers(0, 1 << 20), held=pins, more=pins.filter(len), first=st.booleans())
def test_a_pin_more_and_a_pin_less(
    seed: int, held: list[dict[str, str]], more: list[dict[str, str]], first: bool
) -> None:
    """A pin goes behind the others; taken out again, the same bytes (where a list was there)."""
    emitter = Emitter(seed)
    rules = [{"give": "g", "when": {"site": "x"}}, {"give": "h", "when": {"site": "y"}}]
    lists: dict[str, list[dict[str, Any]]] = {"pins": held, "rules": rules}
    text = emitter.document(lists if first else dict(reversed(lists.items())))
    after = with_pins(text, more[:1])
    assert load(after) == said({"rules": rules, "pins": [*held, more[0]]})
    assert notes(after) == notes(text)
    marks: Any = yaml.compose(after, Loader=yaml.SafeLoader)
    items = next(v for k, v in marks.value if k.value == "pins").value
    every = [*held, more[0]]
    for number, item in enumerate(items):
        mark = item.start_mark
        left = without_pin(after, Location("", mark.line + 1, mark.column + 1))
        assert load(left) == said({"rules": rules, "pins": every[:number] + every[number + 1 :]})
        lost = set(notes(after)) - set(notes(left))
        own = after[: item.end_mark.index].split("\n")[mark.line - 1 :]
        own.append(after[item.end_mark.index :].split("\n")[0])
        assert lost <= set(notes("\n".join(own))), "comments about others stay"
        if held and number == len(held):
            assert left in (text, text + "\n")


@given(seed=st.integers(0, 1 << 20), held=pins, more=pins.filter(len), first=st.booleans())
def test_many_pins_at_once(
    seed: int, held: list[dict[str, str]], more: list[dict[str, str]], first: bool
) -> None:
    """All of them behind the others, in their order; nothing else changes."""
    rules = [{"give": "g", "when": {"site": "x"}}]
    lists: dict[str, list[dict[str, Any]]] = {"pins": held, "rules": rules}
    text = Emitter(seed).document(lists if first else dict(reversed(lists.items())))
    after = with_pins(text, more)
    assert load(after) == said({"rules": rules, "pins": [*held, *more]})
    assert notes(after) == notes(text)
    one_by_one = text
    for pin in more:
        one_by_one = with_pins(one_by_one, [pin])
    assert load(one_by_one) == load(after)


rules_ = st.lists(
    st.fixed_dictionaries(
        {"give": st.sampled_from(("g", "h", "i"))},
        optional={"when": st.fixed_dictionaries({"site": st.sampled_from(WORDS[:-1])})},
    ),
    max_size=5,
)


@given(
    seed=st.integers(0, 1 << 20),
    held=rules_,
    place=st.integers(0, 5),
    word=st.sampled_from(WORDS[:-1]),
)
def test_a_rule_more_at_any_place(
    seed: int, held: list[dict[str, Any]], place: int, word: str
) -> None:
    """It stands where it was asked to, before the one that was there, or behind all."""
    text = Emitter(seed).document({"pins": [{"endpoint": "e", "group": "g"}], "rules": held})
    before = place if place < len(held) else None
    after = with_rule(text, "fresh", {"site": quoted(word), "size": '{">=": 4}'}, before)
    new = {"give": "fresh", "when": {"site": word, "size": {">=": 4}}}
    at = len(held) if before is None else before
    assert load(after)["rules"] == said([*held[:at], new, *held[at:]])
    assert load(after)["pins"] == load(text)["pins"] and notes(after) == notes(text)


@given(
    seed=st.integers(0, 1 << 20), which=st.integers(0, 3), tag=st.sampled_from(("7", "issued 2003")),
    tagged=st.lists(st.booleans(), min_size=4, max_size=4),
)  # fmt: skip
def test_another_number_of_one_group(seed: int, which: int, tag: str, tagged: list[bool]) -> None:
    """That group has it, all else stays; back again, the same meaning, and the same bytes where it
    had a number."""
    groups: list[dict[str, Any]] = [
        {"id": f"g{n}", **({"tag": 100 + n} if held else {}), "title": WORDS[n]}
        for n, held in enumerate(tagged)
    ]
    text = Emitter(seed).document({"groups": groups, "sets": [{"none": "x"}]})
    after = with_tag(text, f"g{which}", tag)
    meant = [dict(g) for g in groups]
    meant[which]["tag"] = tag
    assert load(after)["groups"] == said(meant) and notes(after) == notes(text)
    if tagged[which]:
        assert load(with_tag(after, f"g{which}", str(100 + which))) == load(text)


nodes = st.lists(
    st.fixed_dictionaries(
        {"node": st.sampled_from(("n0", "n1", "n2", "n3"))},
        optional={
            "carries": st.booleans(), "site": st.sampled_from(("x", "y z")),
            "point": st.fixed_dictionaries({"mode": st.sampled_from(("enforce", "off"))}, optional={"inside": st.booleans()}),
        },
    ),
    min_size=1, max_size=4, unique_by=lambda n: n["node"],
)  # fmt: skip


@given(seed=st.integers(0, 1 << 20), held=nodes, data=st.data())
def test_a_setting_changes_its_key_alone(
    seed: int, held: list[dict[str, Any]], data: st.DataObject
) -> None:
    """Of a node, of its point, of a link by its place; set back to what it was, the same bytes."""
    links = [{"between": ["n0", "n1"], "name": f"k{n}"} for n in range(3)]
    text = Emitter(seed).document({"nodes": held, "links": links})
    node = data.draw(st.sampled_from(held))
    after = with_setting(text, "node", node["node"], "carries", "true")
    expected = [{**n, "carries": True} if n is node else n for n in held]
    assert load(after) == said({"nodes": expected, "links": links})
    assert notes(after) == notes(text)
    if "carries" in node:
        word = "true" if node["carries"] else "false"
        assert with_setting(after, "node", node["node"], "carries", word) == text
    if "point" in node:
        inner = with_setting(text, "node", node["node"], "point.inside", "true")
        expected = [
            {**n, "point": {**n["point"], "inside": True}} if n is node else n for n in held
        ]
        assert load(inner) == said({"nodes": expected, "links": links})
        assert notes(inner) == notes(text)
    place = data.draw(st.integers(0, 2))
    joined = with_setting(text, "link", place, "carries", "true")
    assert load(joined) == said(
        {
            "nodes": held,
            "links": [{**k, "carries": True} if n == place else k for n, k in enumerate(links)],
        }
    )
    fed = with_feed(text, "registry", node["node"])
    assert load(fed) == said(
        {
            "nodes": held,
            "links": links,
            "feeds": [{"from": "registry", "to": node["node"]}],
        }
    )
    twice = with_feed(fed, "n0", "n1")
    assert [f["to"] for f in load(twice)["feeds"]] == [node["node"], "n1"]
    with pytest.raises(UsageError, match="there is no node 'nobody'"):
        with_setting(text, "node", "nobody", "carries", "true")


@given(text=st.text(st.characters(exclude_categories=["Cs", "Cc", "Zl", "Zp"]), max_size=12))
def test_a_quoted_word_reads_as_itself(text: str) -> None:
    again: Any = yaml.compose(f"{{x: {quoted(text)}}}", Loader=yaml.SafeLoader)
    assert again.value[0][1].value == text


cells = st.sampled_from(("", "a", " b ", "x,y", 'q"r', "two\nlines", "ä", "*"))
rows = st.lists(st.tuples(cells, cells, cells), min_size=1, max_size=5)


def written(held: list[tuple[str, ...]], newline: str, last: bool) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator=newline)
    writer.writerow(["source", "destination", "note"])
    writer.writerows(held)
    text = out.getvalue()
    return text if last else text.removesuffix(newline)


def read(text: str) -> list[list[str]]:
    return list(csv.reader(io.StringIO(text, newline="")))[1:]


@given(held=rows, more=st.tuples(cells, cells, cells), newline=st.sampled_from(("\n", "\r\n")),
       last=st.booleans(), data=st.data())  # fmt: skip
def test_lines_of_a_matrix_come_go_and_change(
    held: list[tuple[str, ...]],
    more: tuple[str, ...],
    newline: str,
    last: bool,
    data: st.DataObject,
) -> None:
    text = written(held, newline, last)
    names = ("source", "destination", "note")
    fields = dict(zip(names, more, strict=True))
    starts, line = [], 2
    for row in held:
        starts.append(line)
        line += 1 + sum(cell.count("\n") for cell in row)
    after = with_line(text, fields)
    assert read(after) == [*map(list, held), list(more)]
    assert after.startswith(text)
    gone = without_line(after, line)
    assert gone == text or gone == text + newline
    at = data.draw(st.integers(0, len(held) - 1))
    between = with_line(text, fields, starts[at])
    assert read(between) == [*map(list, held[:at]), list(more), *map(list, held[at:])]
    assert without_line(between, starts[at]) == text
    name = data.draw(st.sampled_from(names))
    changed = with_cells(text, starts[at], {name: fields[name]})
    expected = [list(r) for r in held]
    expected[at][names.index(name)] = fields[name]
    assert read(changed) == expected
    back = with_cells(changed, starts[at], {name: held[at][names.index(name)]})
    assert back == text
    word = held[at][0].strip()
    told = with_words(text, ("source", "destination"), word, "new")
    renamed = [
        [c.replace(word, "new") if n < 2 and c.strip() == word else c for n, c in enumerate(row)]
        for row in held
    ]
    assert read(told) == renamed or not word
    assert with_words(told, ("source", "destination"), "new", word) == text or '"' in word + text
    left = without_line(text, starts[at])
    assert read(left) == [list(r) for n, r in enumerate(held) if n != at]
    twins = with_copies(text, starts[-1], [("one", "two", False), ("three", "four", True)])
    lead = [list(r) for r in held]
    assert read(twins) == [*lead, ["one", "two", lead[-1][2]], ["three", "four", lead[-1][2]]]
    with pytest.raises(UsageError, match="no column 'owner'"):
        with_cells(text, 2, {"owner": "me"})


@given(seed=st.integers(0, 1 << 20), count=st.integers(0, 3), flow=st.booleans())
def test_a_permission_goes_behind_the_others(seed: int, count: int, flow: bool) -> None:
    emitter = Emitter(seed)
    held = {f"p{n}": [{"allow": ["443/tcp"]}] for n in range(count)}
    lines = [
        f"  {name}:{emitter.comment()}\n    - allow: [443/tcp]{emitter.comment()}\n"
        for name in held
    ]
    text = "# first\npermissions:\n" + "".join(lines) if held else "# nothing yet\n"
    if held and flow:
        text = "permissions: {" + ", ".join(f"{n}: [{{allow: [443/tcp]}}]" for n in held) + "}\n"
    after = with_permission(text, "more", "deny", ["ssh", "22/udp"])
    assert load(after)["permissions"] == {**held, "more": [{"deny": ["ssh", "22/udp"]}]}
    assert notes(after) == notes(text)
    one = with_permission(text, "more", "allow", ["ssh"])
    assert load(one)["permissions"]["more"] == [{"allow": "ssh"}]


def test_values_of_one_element_are_texts_alone() -> None:
    held = Values([("a",), "b", ("c", "d")])
    assert list(held) == [("a",), ("b",), ("c", "d")] and list(held[1:]) == [("b",), ("c", "d")]
    flat, starts = held.elements
    assert (flat, starts.tolist()) == (["a", "b", "c", "d"], [0, 1, 2, 4])


def test_what_is_kept_is_what_would_be_read(shipped: Path) -> None:
    """A change of any one file is tried as if all others were read again, faults and all."""

    def told(read: Callable[[], Files]) -> object:
        try:
            files = read()
        except WorkspaceError as error:
            return [str(p) for p in error.problems]
        n, e = files.network, files.endpoints
        people = {
            name: [column.value(row) for row in range(len(e.ids))]
            for name, column in e.columns.items()
        }
        return (
            n.nodes,
            n.segments,
            n.links,
            n.feeds,
            e.ids,
            str(people),
            files.policy,
            files.inventory.sessions,
            files.groups.all,
            files.assignments,
            files.permissions,
        )

    network = shipped / "network.yaml"
    network.write_text(
        network.read_text().replace("{node: central-core,", "{node: central-core, group: archive,")
    )
    files = load_workspace(shipped)
    whole, outcomes = told(lambda: files), set()
    for path in sorted(
        p for p in shipped.rglob("*") if p.suffix in (".yaml", ".csv", ".jsonl", ".ldif")
    ):
        name, lines = (
            path.relative_to(shipped).as_posix(),
            path.read_text().splitlines(keepends=True),
        )
        nested = ("oaktag.yaml", "groups.yaml", "permissions.yaml", "assignments.yaml")
        every = range(len(lines)) if name in nested else [len(lines) - 1]
        for gone in every:
            change = {name: "".join(lines[:gone] + lines[gone + 1 :])}
            tried = told(partial(try_out, files, change))
            again = told(partial(read_files, files.folder.over(change), files.moment))
            assert tried == again, (name, gone)
            outcomes.add((name.split("/")[0], tried == whole))
    text = (shipped / "permissions.yaml").read_text()
    more = text.replace("permissions:\n", "permissions:\n  before-all:\n    - deny: any\n", 1)
    change = {"permissions.yaml": more}
    tried = told(partial(try_out, files, change))
    assert tried == told(partial(read_files, files.folder.over(change), files.moment)) != whole
    assert {("inventory", False), ("network.yaml", False), ("groups.yaml", False)} <= outcomes, (
        outcomes
    )


#: Forms in which a list of items can stand in a mapping: text of the whole file, by two lists.
def _forms(draw: st.DrawFn, lists: dict[str, list[dict[str, str]]]) -> str:
    comment = st.sampled_from(("", " # so", "  # a: {b, c]"))

    def item(one: dict[str, str]) -> str:
        quote = draw(st.sampled_from(("", '"', "'")))
        return (
            "{" + ", ".join(f"{quote}{k}{quote}: {quote}{v}{quote}" for k, v in one.items()) + "}"
        )

    def flow(items: list[dict[str, str]]) -> str:
        if not items:
            return draw(st.sampled_from(("[]", "[ ]", "[\n  # none yet\n  ]")))
        words = [item(i) for i in items]
        trailing = draw(st.sampled_from(("", ",", " ,")))
        if draw(st.booleans()):
            inner = "".join(
                f"\n    {w}{',' if n < len(words) - 1 else trailing}{draw(comment)}"
                for n, w in enumerate(words)
            )
            return f"[{inner}\n  ]"
        return f"[{', '.join(words)}{trailing}]"

    if draw(st.booleans()):  # one mapping in braces
        parts = [f'"{name}": {flow(items)}' for name, items in lists.items()]
        if draw(st.booleans()):
            return "{\n  " + ",\n  ".join(parts) + draw(st.sampled_from(("", ","))) + "\n}\n"
        return "{" + ", ".join(parts) + "}" + draw(st.sampled_from(("\n", "")))
    text = draw(st.sampled_from(("", "# a file\n", "---\n")))
    for name, items in lists.items():
        kind = draw(st.sampled_from(("block", "flow", "indented")))
        if kind == "flow" or not items:
            empty = (
                draw(st.sampled_from(("", " ~", " null")))
                if not items and draw(st.booleans())
                else f" {flow(items)}"
            )
            text += f"{name}:{empty}{draw(comment)}\n"
            continue
        indent = "  " if kind == "indented" else ""
        text += f"{name}:{draw(comment)}\n"
        for one in items:
            if draw(st.booleans()):
                text += f"{indent}- {item(one)}{draw(comment)}\n"
            else:
                pairs = [f"{k}: {v}" for k, v in one.items()]
                text += f"{indent}- {pairs[0]}{draw(comment)}\n" + "".join(
                    f"{indent}  {p}\n" for p in pairs[1:]
                )
        text += draw(st.sampled_from(("", "\n", "# behind\n")))
    return text if draw(st.booleans()) or not text.endswith("\n") else text[:-1]


@settings(max_examples=300)
@given(data=st.data())
def test_items_go_in_and_out_of_every_form_of_yaml(data: st.DataObject) -> None:
    """What is said then is what was said, with an item more or less; and out again, as before."""
    words = st.dictionaries(
        st.sampled_from(("give", "note", "at")), st.sampled_from(("ada", "bo-1", "x y")), min_size=1
    )
    lists = {name: data.draw(st.lists(words, max_size=3)) for name in ("pins", "rules", "feeds")}
    text = data.draw(st.composite(lambda draw: _forms(draw, lists))())
    said = yaml_edits.data_of(text)
    assert {k: v if isinstance(v, list) else [] for k, v in said.items()} == lists
    name = data.draw(st.sampled_from(sorted(lists)))
    more = yaml_edits.with_items(text, name, ["{give: cy, note: new}"])
    want = {**said, name: [*lists[name], {"give": "cy", "note": "new"}]}
    assert yaml_edits.data_of(more) == want
    if lists["rules"]:
        at = data.draw(st.integers(0, len(lists["rules"]) - 1))
        ruled = yaml_edits.data_of(yaml_edits.with_rule(text, "cy", {"role": "desk"}, at))
        assert ruled["rules"][at] == {"give": "cy", "when": {"role": "desk"}}
        assert len(ruled["rules"]) == len(lists["rules"]) + 1
    key, node = yaml_edits._top(more, name)  # type: ignore[misc]
    less = yaml_edits.data_of(yaml_edits.without_item(more, key, node, len(lists[name])))
    assert {k: v if isinstance(v, list) else [] for k, v in less.items()} == lists


#: Ways in which the same document is written.
STYLES: list[Callable[[Any], str]] = [
    json.dumps,
    lambda said: json.dumps(said, indent=1),
    lambda said: json.dumps(said, indent=1).replace('"', ""),
    lambda said: yaml.safe_dump(said, sort_keys=False),
    lambda said: yaml.safe_dump(said, sort_keys=False, default_flow_style=True, width=30),
    lambda said: yaml.safe_dump(said, sort_keys=False, default_flow_style=None, indent=4),
    lambda said: re.sub(r"([^\[{,])\n( *[\]}])", r"\1,\n\2", json.dumps(said, indent=1)),  # commas behind
    lambda said: json.dumps(said, indent=1).replace("\n", " # ada\n"),
    lambda said: yaml.safe_dump(said, sort_keys=False).replace("ada\n", "ada # ada: [\n"),
    lambda said: "# before\n" + yaml.safe_dump(said, sort_keys=False, default_flow_style=None) + "# behind",
]  # fmt: skip


@settings(max_examples=200)
@given(data=st.data())
def test_names_and_keys_go_in_and_out_of_every_form_of_yaml(data: st.DataObject) -> None:
    """Sets, permissions, tags, settings and rules that are parted: what is said then is what was
    meant, or nothing is changed and that is said."""
    name = st.sampled_from(("ada", "bo", "cy", "di"))
    said: dict[str, Any] = {
        "tags": {"from": "2000", **data.draw(st.sampled_from(({}, {"retired": ["7"]}, {"issued_to": "9"})))},
        "groups": [{"id": g, **t} for g, t in data.draw(
            st.dictionaries(name, st.sampled_from(({"tag": "3"}, {})), min_size=1)).items()],
        "sets": data.draw(st.dictionaries(st.sampled_from(("front", "back")), st.lists(name, max_size=2))),
        "permissions": {"web": [{"allow": "https"}]},
        "nodes": [{"node": "n0", "point": {"scope": "all"}}, {"node": "n1", "points": [{"name": "p"}]}],
        "rules": data.draw(st.lists(st.fixed_dictionaries(
            {"give": name}, optional={"when": st.sampled_from(({"role": "x"}, {"site": ["a", "b"]}))}),
            min_size=1, max_size=3)),
    }  # fmt: skip
    text = data.draw(st.sampled_from(STYLES))(json.loads(json.dumps(said)))  # nothing is shared
    said = yaml_edits.data_of(text)
    group, rule = said["groups"][0]["id"], said["rules"][0]["give"]
    tags, nodes = said["tags"], said["nodes"]
    parted = []
    for one in said["rules"]:
        if one["give"] == rule:
            parted.append({**one, "give": "new", "when": {**one.get("when", {}), "site": "a"}})
        parted.append(one)
    edits: list[tuple[Callable[[], str], dict[str, Any]]] = [
        (lambda: yaml_edits.with_top_key(text, "x", "[a, b]"), {"x": ["a", "b"]}),
        (lambda: yaml_edits.with_retired(text, 8), {"tags": {**tags, "retired": [*tags.get("retired", []), "8"]}}),
        (lambda: yaml_edits.with_issued_to(text, 10), {"tags": {**tags, "issued_to": "10"}}),
        (lambda: yaml_edits.with_tag(text, group, "44"),
         {"groups": [{**said["groups"][0], "tag": "44"}, *said["groups"][1:]]}),
        (lambda: yaml_edits.with_set(text, "more", ["bo", "cy"]), {"sets": {**said["sets"], "more": ["bo", "cy"]}}),
        (lambda: yaml_edits.with_permission(text, "dns", "allow", ["domain", "ntp"]),
         {"permissions": {**said["permissions"], "dns": [{"allow": ["domain", "ntp"]}]}}),
        (lambda: yaml_edits.with_setting(text, "node", "n0", "point.scope", "known"),
         {"nodes": [{**nodes[0], "point": {"scope": "known"}}, nodes[1]]}),
        (lambda: yaml_edits.with_setting(text, "node", "n1", "points.p.inside", "true"),
         {"nodes": [nodes[0], {**nodes[1], "points": [{"name": "p", "inside": "true"}]}]}),
        (lambda: yaml_edits.with_rules_parted(text, rule, "new", {"site": "a"}), {"rules": parted}),
    ]  # fmt: skip
    for one in said["sets"]:
        rest = {k: v for k, v in said["sets"].items() if k != one}
        edits.append((lambda one=one: yaml_edits.without_set(text, one), {"sets": rest}))  # type: ignore[misc]
    refused = []
    for edit, meant in edits:
        try:
            edited = edit()
        except UsageError as error:
            assert "nothing was changed" in str(error) or "condition on site" in str(error), error
            refused.append((list(meant), str(error)))
            continue
        held = yaml_edits.data_of(edited)
        assert {k: v or {} for k, v in held.items()} == {
            k: v or {} for k, v in {**said, **meant}.items()
        }
    assert len(refused) <= 1, (refused, text)


#: What names groups in each file, drawn with marks: ``@ada`` is a group's name, ``ada`` another word.
@st.composite
def _named(draw: st.DrawFn) -> dict[str, Any]:
    names = ("@ada", "@bo", "@cy")
    word = st.sampled_from(names)
    words = st.one_of(word, st.lists(word, min_size=1, max_size=3, unique=True))
    scope = st.one_of(
        st.just("all"), st.fixed_dictionaries({"sources": words, "destinations": words})
    )
    point = st.fixed_dictionaries({"mode": st.just("ada")}, optional={"scope": scope})
    asked = st.fixed_dictionaries({"from": word, "to": word, "service": st.just("ada")})
    node = st.one_of(
        st.fixed_dictionaries({"node": st.just("ada"), "point": point}, optional={"group": word}),
        st.fixed_dictionaries({"node": st.just("bo"), "points": st.lists(point, max_size=2)}),
    )
    feed = st.fixed_dictionaries(
        {"from": st.just("ada"), "to": st.just("bo")},
        optional={"only": st.fixed_dictionaries({"groups": words})},
    )
    some = partial(st.lists, max_size=3)
    files = {
        "groups.yaml": st.fixed_dictionaries({
            "groups": st.lists(st.fixed_dictionaries(
                {"id": word, "title": st.just("ada")}, optional={"split_from": word}), min_size=1, max_size=3),
            "sets": st.dictionaries(st.sampled_from((*names, "front", "back")), words, max_size=3)}),
        "assignments.yaml": st.fixed_dictionaries({
            "pins": some(st.fixed_dictionaries({"endpoint": st.just("ada"), "group": word})),
            "rules": some(st.fixed_dictionaries({"give": word, "when": st.just({"id": "ada"})}))}),
        "network.yaml": st.fixed_dictionaries({
            "nodes": some(node),
            "segments": some(st.fixed_dictionaries({"segment": st.just("ada")}, optional={"tag": word})),
            "feeds": some(feed)}),
        "oaktag.yaml": st.fixed_dictionaries({
            "workspace": st.just("ada"), "keep_open": some(asked), "accepted": some(asked),
            "share": st.fixed_dictionaries({"name": st.just("ada"), "groups": words})}),
        "expectations.yaml": some(asked),
    }  # fmt: skip
    file = draw(st.sampled_from(sorted(files)))
    return {"file": file, "said": draw(files[file])}


def _otherwise(held: Any, change: Callable[[Any], Any]) -> Any:
    """The same with something else for each list, mapping and word."""
    if isinstance(held, dict):
        held = {change(k): _otherwise(v, change) for k, v in held.items()}
    elif isinstance(held, list):
        held = [_otherwise(v, change) for v in held]
    return change(held)


def _unmarked(held: Any) -> Any:
    return json.loads(json.dumps(held).replace("@", ""))


def _of_words(held: Any) -> bool:
    return isinstance(held, list) and bool(held) and all(isinstance(i, str) for i in held)


@settings(max_examples=scaled(900))
@given(data=st.data())
def test_names_of_groups_change_come_and_go_in_every_form_of_yaml(data: st.DataObject) -> None:
    """Another name, a name beside another, a group's items and keys taken out: where the word names a
    group and nowhere else."""
    one = data.draw(_named())
    file, marked = one["file"], one["said"]
    text = data.draw(st.sampled_from(STYLES))(_unmarked(marked))

    def renamed(held: Any) -> Any:
        return "zed" if held == "@ada" else held

    def beside(held: Any) -> Any:
        if isinstance(held, dict):
            lists = ("front", "back", "sources", "destinations", "groups", *("@ada", "@bo", "@cy"))
            return {
                k: ["@ada", "zed"] if k in lists and v == "@ada" else v for k, v in held.items()
            }
        return (
            [w for i in held for w in ([i, "zed"] if i == "@ada" else [i])]
            if _of_words(held)
            else held
        )

    def less(held: Any) -> Any:
        return [i for i in held if i != "@ada"] if _of_words(held) else held

    def ends(item: Any, old: str, new: str) -> Any:
        return {k: new if k in ("from", "to") and v == old else v for k, v in item.items()}

    borne = {
        k: [i for item in v for i in dict.fromkeys(map(json.dumps, (item, ends(item, "@ada", "zed"))))]
        if k in BORNE else v
        for k, v in marked.items()
    } if file == CONFIG else None  # fmt: skip
    gone = {k: [i for i in v if "@ada" not in (i["from"], i["to"])] if k in BORNE else v
            for k, v in marked.items()} if file == CONFIG else None  # fmt: skip
    goes: dict[str, Callable[[Any], bool]] = {
        "assignments.yaml": lambda item: item.get("group", item.get("give")) == "@ada",
        "expectations.yaml": lambda item: "@ada" in (item["from"], item["to"]),
    }

    def keyless(held: Any) -> Any:
        if isinstance(held, dict) and ("node" in held or "segment" in held):
            return {k: v for k, v in held.items() if k not in ("group", "tag") or v != "@ada"}
        return held

    edits: list[tuple[Callable[[], str], Any]] = [
        (lambda: with_name(text, file, "ada", "zed"), _otherwise(marked, renamed)),
        (lambda: yaml_words.with_beside(text, BESIDE.get(file, ()), "ada", "zed"),
         _otherwise(marked, beside) if file in BESIDE else marked),
        (lambda: yaml_words.without_word(text, BESIDE.get(file, ()), "ada"),
         _otherwise(marked, less) if file in BESIDE else marked),
        (lambda: yaml_words.without_items(text, ITEMS.get(file, ()), "ada"), _otherwise(
            marked, lambda held: [i for i in held if not goes.get(file, lambda _: False)(i)]
            if isinstance(held, list) and not _of_words(held) else held)),
        (lambda: yaml_words.without_keys(text, KEYS.get(file, ()), "ada"), _otherwise(marked, keyless)),
    ]  # fmt: skip
    if borne is not None:
        borne = {k: [json.loads(i) for i in v] if k in BORNE else v for k, v in borne.items()}
        edits.append((lambda: yaml_words.with_twins(text, BORNE, ENDS, "ada", "zed"), borne))
        edits.append((lambda: yaml_words.without_twins(text, BORNE, ENDS, "ada"), gone))
    for edit, meant in edits:
        edited = edit()
        assert yaml_edits.data_of(edited) == _unmarked(meant), (text, edited)
        assert edited.count("\n\n") <= text.count("\n\n"), "a line without anything"
        if _unmarked(meant) == _unmarked(marked):
            assert edited == text


def test_a_word_stands_in_a_line_of_its_own_and_a_row_is_known_by_all_that_it_says() -> None:
    for text, meant in (
        ("sets:\n  x:\n  - ada\n  - bo\n", "sets:\n  x:\n  - ada\n  - zed\n  - bo\n"),
        ("sets:\n  x:\n  - bo\n  - ada", "sets:\n  x:\n  - bo\n  - ada\n  - zed\n"),
    ):
        assert yaml_words.with_beside(text, ("sets/*",), "ada", "zed") == meant
    rows = "endpoint,attribute,value\na,role,x\na,role,y\na,site,x\nb,role,x\n"
    assert csv_edits.line_saying(rows, {"endpoint": "a", "attribute": "role"}) == 3
    assert csv_edits.line_saying(rows, {"endpoint": "b", "attribute": "site"}) is None
