"""YAML read by node tree, each value by the type that its key expects.

A loader that guesses would turn ``no``, ``0012`` and ``11:22:33:44:55:66`` into something else;
here they stay what the engineer wrote (YAML 1.2, chapter 10: the failsafe schema, with types
asked for key by key). Unknown and duplicate keys, aliases and tags are refused.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Sequence

import yaml

from oaktag.core.addresses import Prefix, parse_prefix
from oaktag.letters import ACTING_IN_NAMES, named
from oaktag.located import Location
from oaktag.workspace.folder import Folder
from oaktag.workspace.textfile import Expected, Problems, read_text
from oaktag.workspace.times import parse_day, parse_instant

Node = yaml.Node
#: The largest file, in bytes (its nodes take sixty times as much), and the deepest nesting.
LARGEST, DEEPEST = 1 << 24, 50
_BRACKETS = re.compile(r"[\[\]{}]")
#: A line that begins deep inside something.
_INDENTED = re.compile(r"^(?:[ ]|[-?:](?=[ \n])){50}", re.MULTILINE)
NAME = re.compile(r"[a-z][a-z0-9-]*")
LOADER = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


class YamlFile:
    """One YAML file: its nodes, and typed reading with complaints that name the place."""

    def __init__(self, root: Folder, name: str, problems: Problems) -> None:
        self.name = name
        self.problems = problems
        self.root: Node | None = None
        text = read_text(root, name, problems, most=LARGEST)
        if text is None:
            return
        try:
            if (deep := _too_deep(text)) is not None:
                problems.form(
                    Location(name, *deep),
                    f"this is nested more than {DEEPEST} deep",
                    "a flatter form",
                )
                return
            self.root = yaml.compose(text, Loader=LOADER)
        except yaml.MarkedYAMLError as error:
            mark = error.problem_mark or error.context_mark
            where = Location(name, mark.line + 1, mark.column + 1) if mark else Location(name)
            problems.form(where, f"this is not YAML: {error.problem or error.context}")
        except yaml.reader.ReaderError as error:
            line = text.count("\n", 0, error.position) + 1
            problems.form(
                Location(name, line), f"the character {error.character!r} is not allowed in YAML"
            )
        if self.root is not None and not self._is_plain(self.root):
            self.root = None

    def _is_plain(self, root: Node) -> bool:
        seen: set[int] = set()
        todo = [root]
        plain = True
        while todo:
            node = todo.pop()
            if id(node) in seen:
                self.fail(node, "an alias stands for this", "write the value out where it is meant")
                plain = False
                continue
            seen.add(id(node))
            if not node.tag.startswith("tag:yaml.org,2002:"):
                self.fail(node, f"the type {node.tag!r} is not read here", "a plain value")
                plain = False
            if isinstance(node, yaml.MappingNode):
                todo += [n for pair in node.value for n in pair]
            elif isinstance(node, yaml.SequenceNode):
                todo += node.value
        return plain

    def place(self, node: Node) -> Location:
        """Where a value stands."""
        return Location(self.name, node.start_mark.line + 1, node.start_mark.column + 1)

    def fail(self, node: Node, message: str, expected: str = "") -> None:
        """Complain about the form of a value."""
        self.problems.form(self.place(node), message, expected)

    def clash(self, node: Node, message: str, expected: Expected = "") -> None:
        """Complain about a value that contradicts another."""
        self.problems.clash(self.place(node), message, expected)

    # -- shapes ------------------------------------------------------------------------------

    def pairs(self, node: Node | None, what: str) -> Iterator[tuple[str, Node, Node]]:
        """Key, key node and value node of a mapping, less duplicate keys."""
        if node is None:
            return
        if not isinstance(node, yaml.MappingNode):
            if not is_empty(node):
                self.fail(node, f"{what} is {_kind(node)}", "a mapping, key: value")
            return
        seen: dict[str, Node] = {}
        for key, value in node.value:
            if not isinstance(key, yaml.ScalarNode):
                self.fail(key, f"a key of {what} is {_kind(key)}", "a word")
            elif odd := ACTING_IN_NAMES.search(key.value):
                self.fail(
                    key, f"the key {key.value!r} holds {named(odd[0])}", "letters one can see"
                )
            elif key.value in seen:
                first = seen[key.value].start_mark.line + 1
                self.fail(key, f"the key {key.value!r} stands twice", f"first in line {first}")
            else:
                seen[key.value] = key
                yield key.value, key, value

    def fields(
        self, node: Node, what: str, keys: Collection[str], required: Collection[str] = ()
    ) -> dict[str, Node] | None:
        """The values of a mapping by key; None where it is no mapping or lacks a required key."""
        if not isinstance(node, yaml.MappingNode):
            self.fail(node, f"{what} is {_kind(node)}", f"a mapping with {_list(keys)}")
            return None
        found: dict[str, Node] = {}
        for key, key_node, value in self.pairs(node, what):
            if key not in keys:
                self.fail(key_node, f"{what} has no key {key!r}", f"one of {_list(keys)}")
            else:
                found[key] = value
        missing = [k for k in required if k not in found]
        for key in missing:
            self.fail(node, f"{what} lacks the key {key!r}", f"{key}: …")
        return None if missing else found

    def items(self, node: Node | None, what: str) -> list[Node]:
        """The items of a list."""
        if node is None or is_empty(node):
            return []
        if not isinstance(node, yaml.SequenceNode):
            self.fail(node, f"{what} is {_kind(node)}", "a list")
            return []
        return list(node.value)

    def one_or_more(self, node: Node | None, what: str) -> list[Node]:
        """The items of a list, or the one value that stands for a list of it."""
        if isinstance(node, yaml.ScalarNode) and not is_empty(node):
            return [node]
        return self.items(node, what)

    # -- values ------------------------------------------------------------------------------

    def text(
        self, node: Node | None, what: str, pattern: re.Pattern[str] | None = None
    ) -> str | None:
        """Text as written."""
        if node is None:
            return None
        if not isinstance(node, yaml.ScalarNode) or is_empty(node):
            self.fail(node, f"{what} is {_kind(node)}", "text")
            return None
        if pattern is not None and not pattern.fullmatch(node.value):
            self.fail(
                node,
                f"{node.value!r} cannot be {what}",
                "lower-case letters, digits and hyphens, a letter first",
            )
            return None
        return str(node.value)

    def texts(self, node: Node | None, what: str) -> list[tuple[str, Node]]:
        """Texts of a list, or one text, each with its node."""
        found = [(self.text(n, what), n) for n in self.one_or_more(node, what)]
        return [(t, n) for t, n in found if t is not None]

    def number(self, node: Node | None, what: str, low: int, high: int) -> int | None:
        """A whole number in a range, ends included."""
        if node is None:
            return None
        value = node.value if isinstance(node, yaml.ScalarNode) else ""
        if not re.fullmatch(r"0|[1-9][0-9]{0,17}", value) or not low <= int(value) <= high:
            self.fail(node, f"{what} is {_kind(node)}", f"a number from {low} to {high}")
            return None
        return int(value)

    def share(self, node: Node | None, what: str) -> float | None:
        """A number from 0 to 1."""
        if node is None:
            return None
        value = node.value if isinstance(node, yaml.ScalarNode) else ""
        if not re.fullmatch(r"\d+(\.\d+)?", value) or not 0 <= float(value) <= 1:
            self.fail(node, f"{what} is {_kind(node)}", "a number from 0 to 1")
            return None
        return float(value)

    def flag(self, node: Node | None, what: str, default: bool) -> bool:
        """``true`` or ``false``."""
        word = self.choice(node, what, ("true", "false"))
        return default if word is None else word == "true"

    def choice(self, node: Node | None, what: str, options: Sequence[str]) -> str | None:
        """One of some words."""
        if node is None:
            return None
        if not isinstance(node, yaml.ScalarNode) or node.value not in options:
            self.fail(node, f"{what} is {_kind(node)}", f"one of {_list(options)}")
            return None
        return str(node.value)

    def duration(self, node: Node | None, what: str) -> int | None:
        """A time span such as ``90m``, ``4h`` or ``2d``, in microseconds."""
        text = self.text(node, what)
        if node is None or text is None:
            return None
        match = re.fullmatch(r"([1-9][0-9]{0,5})(s|m|h|d)", text)
        if match is None:
            self.fail(node, f"{what} is {text!r}", "seconds, minutes, hours or days: 90m, 4h, 2d")
            return None
        return int(match[1]) * {"s": 1, "m": 60, "h": 3600, "d": 86_400}[match[2]] * 1_000_000

    def day(self, node: Node | None, what: str) -> int | None:
        """A day, as a proleptic ordinal."""
        text = self.text(node, what)
        if text is None or node is None:
            return None
        day = parse_day(text)
        if day is None:
            self.fail(node, f"{what} is {text!r}", "a day, as in 2027-01-31")
        return day

    def instant(self, node: Node | None, what: str) -> int | None:
        """A day or a time, in microseconds of the Unix epoch; without a zone it is UTC."""
        text = self.text(node, what)
        if text is None or node is None:
            return None
        instant = parse_instant(text)
        if instant is None:
            self.fail(node, f"{what} is {text!r}", "a day or time, as in 2026-03-01T08:00:00Z")
        return instant

    def prefixes(self, node: Node | None, what: str) -> list[tuple[Prefix, Node]]:
        """Addresses and prefixes of a list, or one."""
        found: list[tuple[Prefix, Node]] = []
        for text, item in self.texts(node, what):
            try:
                found.append((parse_prefix(text), item))
            except ValueError as error:
                self.fail(item, f"{what}: {error}", "e.g. 10.20.1.0/24 or 2001:db8:20:1::/64")
        return found


def _opens_deep(text: str) -> bool:
    """Whether brackets, wherever they stand, open that deep: quickly, and rather yes than no."""
    deep = 0
    for found in _BRACKETS.finditer(text):
        deep += 1 if found[0] in "[{" else -1
        if deep > DEEPEST:
            return True
        deep = max(deep, 0)
    return False


def _too_deep(text: str) -> tuple[int, int] | None:
    """Where a text is nested deeper than it may be (line and column), before nodes are made."""
    if not _opens_deep(text) and not _INDENTED.search(text):
        return None
    deep = 0
    for event in yaml.parse(text, Loader=LOADER):
        if isinstance(event, yaml.CollectionStartEvent):
            deep += 1
            if deep > DEEPEST and event.start_mark is not None:
                return event.start_mark.line + 1, event.start_mark.column + 1
        elif isinstance(event, yaml.CollectionEndEvent):
            deep -= 1
    return None


def is_empty(node: Node) -> bool:
    """Whether nothing was written: an empty value, ``~`` or ``null``."""
    return (
        isinstance(node, yaml.ScalarNode)
        and node.style not in ("'", '"', "|", ">")
        and node.value in ("", "~", "null", "Null", "NULL")
    )


def is_quoted(node: Node) -> bool:
    """Whether a scalar stands in quotes, and so is text whatever it looks like."""
    return isinstance(node, yaml.ScalarNode) and node.style in ("'", '"')


def _kind(node: Node) -> str:
    if isinstance(node, yaml.MappingNode):
        return "a mapping"
    if isinstance(node, yaml.SequenceNode):
        return "a list"
    return "nothing" if is_empty(node) else repr(node.value)


def _list(words: Collection[str]) -> str:
    return ", ".join(words)
