"""``assignments.yaml``: pins and ordered assignment rules."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import NamedTuple

import yaml

from oaktag.core.arrays import np
from oaktag.core.assignment import (
    COMPARISONS,
    EITHER,
    NAMED,
    AnyOf,
    Compare,
    Condition,
    Equals,
    Glob,
    Pin,
    Rule,
    Test,
    Within,
)
from oaktag.core.endpoints import Endpoints
from oaktag.core.groups import Groups
from oaktag.core.registry import PrefixPin
from oaktag.near import later
from oaktag.workspace.folder import Folder
from oaktag.workspace.textfile import Problems
from oaktag.workspace.yamlfile import Node, YamlFile, is_quoted

FILE = "assignments.yaml"
PIN_KEYS = ("endpoint", "prefix", "group", "note", "until", "since", "at")
RULE_KEYS = ("give", "when", "unless", "min_confidence")
NUMBER = re.compile(r"-?(0|[1-9][0-9]*)(\.[0-9]+)?")


class Assignments(NamedTuple):
    """Rules in order, pins of endpoints and of prefixes."""

    rules: tuple[Rule, ...] = ()
    pins: tuple[Pin, ...] = ()
    prefix_pins: tuple[tuple[PrefixPin, int | None], ...] = ()

    def pins_on(self, today: int) -> list[Pin]:
        """The pins of endpoints that count on a day."""
        return [p for p in self.pins if p.until is None or today <= p.until]

    def prefix_pins_on(self, today: int, moment: int) -> list[PrefixPin]:
        """The pins of prefixes that count on a day, and have begun by a moment of it."""
        return [
            p
            for p, until in self.prefix_pins
            if (until is None or today <= until) and (p.since is None or p.since <= moment)
        ]


def read_assignments(
    root: Folder,
    groups: Groups | None,
    endpoints: Endpoints | None,
    nodes: set[str] | None,
    problems: Problems,
) -> Assignments:
    """Pins and rules; names are checked against what could be read."""
    if not root.has(FILE):
        return Assignments()
    file = YamlFile(root, FILE, problems)
    if file.root is None:
        return Assignments()
    top = file.fields(file.root, FILE, ("pins", "rules"))
    if top is None:
        return Assignments()
    reader = _Reader(file, groups, endpoints, nodes)
    for node in file.items(top.get("pins"), "pins"):
        reader.pin(node)
    rules = [reader.rule(node) for node in file.items(top.get("rules"), "rules")]
    return Assignments(
        tuple(r for r in rules if r is not None), tuple(reader.pins), tuple(reader.prefix_pins)
    )


class _Reader:
    def __init__(
        self,
        file: YamlFile,
        groups: Groups | None,
        endpoints: Endpoints | None,
        nodes: set[str] | None,
    ) -> None:
        self.file = file
        self.groups = groups
        self.endpoints = endpoints
        self.nodes = nodes
        self.compared: set[str] = set()
        self.pins: list[Pin] = []
        self.pinned: dict[str, Pin] = {}
        self.prefix_pins: list[tuple[PrefixPin, int | None]] = []

    def group(self, node: Node, what: str) -> int | None:
        word = self.file.text(node, what)
        if word is None or self.groups is None:
            return None
        if word not in self.groups.index:
            expected = later(word, self.groups.index, "a group of groups.yaml")
            self.file.clash(node, f"there is no group {word!r}", expected)
            return None
        return self.groups.index[word]

    def pin(self, node: Node) -> None:
        file = self.file
        fields = file.fields(node, "a pin", PIN_KEYS, ("group",))
        if fields is None:
            return
        group = self.group(fields["group"], "the group of a pin")
        until = file.day(fields.get("until"), "until")
        file.text(fields.get("note"), "note")
        since = file.instant(fields.get("since"), "since")
        if ("endpoint" in fields) == ("prefix" in fields):
            file.fail(node, "a pin is of an endpoint or of a prefix", "one of the two")
        elif "prefix" in fields:
            at = file.text(fields.get("at"), "at")
            if at is not None and self.nodes is not None and at not in self.nodes:
                file.clash(fields["at"], f"there is no node {at!r}", "a node of network.yaml")
            for prefix, item in file.prefixes(fields["prefix"], "prefix"):
                if group is not None:
                    pin = PrefixPin(prefix, group, file.place(item), since, at)
                    self.prefix_pins.append((pin, until))
        else:
            for key in ("at", "since"):
                if key in fields:
                    file.fail(fields[key], f"{key} goes with a prefix", "endpoint alone")
            name = file.text(fields["endpoint"], "the endpoint of a pin")
            if name is None or group is None or self.endpoints is None:
                return
            if name not in self.endpoints.index:
                file.clash(
                    fields["endpoint"], f"no source has an endpoint {name!r}",
                    later(name, self.endpoints.index, "an endpoint of the inventory"),
                )  # fmt: skip
            elif other := self.pinned.get(name):
                where = f"first in line {other.location.line}"
                file.clash(fields["endpoint"], f"{name!r} is pinned twice", where)
            else:
                self.pinned[name] = Pin(name, group, file.place(node), until)
                self.pins.append(self.pinned[name])

    def rule(self, node: Node) -> Rule | None:
        file = self.file
        fields = file.fields(node, "a rule", RULE_KEYS, ("give",))
        if fields is None:
            return None
        template = self.template(fields["give"])
        give = -1 if template else self.group(fields["give"], "what a rule gives")
        when = self.conditions(fields.get("when"), "when")
        unless = self.conditions(fields.get("unless"), "unless")
        surely = file.share(fields.get("min_confidence"), "min_confidence")
        if give is None or when is None or unless is None:
            return None
        return Rule(give, when, unless, file.place(node), surely or 0.0, template)

    def template(self, node: Node) -> str:
        """The text of a ``give`` with attributes in it; empty where it is a plain group."""
        text = str(node.value) if isinstance(node, yaml.ScalarNode) else ""
        if "{" not in text and "}" not in text:
            return ""
        if not NAMED.search(text) or re.search(r"[{}]", NAMED.sub("", text)):
            self.file.fail(node, f"{text!r} is no name made of attributes", '"{site}-{role}"')
        return text

    def conditions(self, node: Node | None, what: str) -> tuple[Condition, ...] | None:
        found: list[Condition] = []
        good = True
        for attribute, _, value in self.file.pairs(node, what):
            test = self.test(value, attribute)
            good &= test is not None
            if test is not None and _counts(test):
                self.sure(attribute)
            if test is not None:
                found.append(Condition(attribute, test, _written(value)))
        return tuple(found) if good else None

    def sure(self, attribute: str) -> None:
        """Faults of values that a rule compares with numbers and that may be either of two."""
        column = None if self.endpoints is None else self.endpoints.columns.get(attribute)
        if column is None or self.endpoints is None or attribute in self.compared:
            return
        self.compared.add(attribute)
        either = {
            code: element
            for code, value in enumerate(column.values)
            for element in value
            if EITHER.fullmatch(element)
        }
        for row in np.flatnonzero(np.isin(column.codes, list(either))).tolist():
            if not self.endpoints.location(row).file.lower().endswith(".csv"):
                continue  # no office program wrote it
            element = either[int(column.codes[row])]
            whole, part = element.replace(",", ""), element.replace(",", ".")
            self.file.problems.form(
                self.endpoints.location(row),
                f"the {attribute} {element!r} may be {whole} or {part}, and a rule compares it",
                "a number with a point, or without a mark",
            )

    def test(self, node: Node, attribute: str) -> Test | None:
        file = self.file
        if isinstance(node, yaml.SequenceNode):
            members = [self.test(n, attribute) for n in node.value]
            if not members:
                file.fail(node, f"{attribute} is compared with an empty list", "a value")
                return None
            return None if None in members else AnyOf(tuple(m for m in members if m is not None))
        if isinstance(node, yaml.MappingNode):
            return self._limits(node, attribute)
        text = file.text(node, f"the value of {attribute}")
        if text is None:
            return None
        if NUMBER.fullmatch(text) and not is_quoted(node):
            return Equals(Decimal(text))
        return Glob(text) if any(c in text for c in "*?[") else Equals(text)

    def _limits(self, node: Node, attribute: str) -> Test | None:
        file = self.file
        fields = file.fields(node, f"the condition on {attribute}", (*COMPARISONS, "within"))
        if not fields:
            if fields is not None and not node.value:
                file.fail(node, f"the condition on {attribute} says nothing", '{">=": 2}')
            return None
        if "within" in fields:
            if len(fields) > 1:
                file.fail(node, "within stands alone", "{within: 10.20.0.0/16}")
                return None
            prefixes = tuple(p for p, _ in file.prefixes(fields["within"], "within"))
            return Within(prefixes) if prefixes else None
        limits: list[tuple[str, float | Decimal]] = []
        for sign, value in fields.items():
            text = file.text(value, f"the limit {sign}")
            if text is not None and not NUMBER.fullmatch(text):
                file.fail(value, f"{text!r} is no number", f'{{"{sign}": 4}}')
            elif text is not None:
                limits.append((sign, Decimal(text)))
        return Compare(tuple(limits)) if len(limits) == len(fields) else None


def _counts(test: Test) -> bool:
    """Whether a test compares with numbers."""
    if isinstance(test, AnyOf):
        return any(map(_counts, test.members))
    return isinstance(test, Compare) or (
        isinstance(test, Equals) and not isinstance(test.value, str)
    )


def _written(node: Node) -> str:
    if isinstance(node, yaml.SequenceNode):
        return "[" + ", ".join(_written(n) for n in node.value) + "]"
    if isinstance(node, yaml.MappingNode):
        return ", ".join(f"{k.value} {_written(v)}" for k, v in node.value)
    return str(node.value)
