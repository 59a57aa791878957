"""``oaktag.yaml``: name, number range, defaults, layers, sources, guards."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from oaktag.core.bindings import BINDING_SOURCES
from oaktag.core.endpoints import KINDS
from oaktag.core.groups import HIGHEST_TAG, Numbering
from oaktag.core.lines import Action, Order
from oaktag.workspace.textfile import Problems
from oaktag.workspace.yamlfile import Node, YamlFile

FILE = "oaktag.yaml"
KEYS = (
    "workspace", "tags", "default", "observed_default", "order", "layers", "sources",
    "corrections", "binding_order", "keep_open",
)  # fmt: skip
SOURCE_KEYS = ("file", "kind", "id", "address", "stability", "columns")
ORDERS: tuple[Order, ...] = ("specific-first", "broad-first", "as-listed")
ACTIONS: tuple[Action, ...] = ("allow", "deny")


@dataclass(frozen=True, slots=True)
class Source:
    """One inventory file: which of its columns name the endpoint, its address, its stability."""

    file: str
    kind: str
    id: str
    address: str | None
    stability: str | None
    columns: dict[str, str]
    node: Node


@dataclass(frozen=True, slots=True)
class Config:
    """What ``oaktag.yaml`` says."""

    workspace: str
    numbering: Numbering | None
    default: Action
    observed_default: Action | None
    order: Order
    layers: tuple[str, ...]
    sources: tuple[Source, ...]
    corrections: str | None
    binding_order: tuple[str, ...]
    keep_open: Node | None
    file: YamlFile


def read_config(root: Path, problems: Problems) -> Config | None:
    """The configuration; None where the file cannot be read at all."""
    file = YamlFile(root, FILE, problems)
    if file.root is None:
        return None
    top = file.fields(file.root, FILE, KEYS, ("workspace", "layers"))
    if top is None:
        return None
    layers = [
        name
        for text, node in file.texts(top["layers"], "a layer")
        if (name := _file_name(file, text, node)) is not None
    ]
    seen: set[str] = set()
    for item in top["layers"].value if isinstance(top["layers"].value, list) else ():
        if item.value in seen:
            file.clash(item, f"the layer {item.value} stands twice", "each layer once")
        seen.add(str(item.value))
    sources = [
        source
        for node in file.items(top.get("sources"), "sources")
        if (source := _read_source(file, node)) is not None
    ]
    corrections = None
    if "corrections" in top:
        named = file.text(top["corrections"], "corrections")
        corrections = named and _file_name(file, named, top["corrections"])
    return Config(
        workspace=file.text(top["workspace"], "the workspace's name") or "",
        numbering=_read_numbering(file, top.get("tags")),
        default=_action(file.choice(top.get("default"), "default", ACTIONS)) or "deny",
        observed_default=_action(
            file.choice(top.get("observed_default"), "observed_default", ACTIONS)
        ),
        order=next(
            (o for o in ORDERS if o == file.choice(top.get("order"), "order", ORDERS)), ORDERS[0]
        ),
        layers=tuple(layers),
        sources=tuple(sources),
        corrections=corrections,
        binding_order=_read_order(file, top.get("binding_order")),
        keep_open=top.get("keep_open"),
        file=file,
    )


def _action(word: str | None) -> Action | None:
    return next((a for a in ACTIONS if a == word), None)


def _file_name(file: YamlFile, text: str, node: Node) -> str | None:
    path = PurePosixPath(text)
    if path.is_absolute() or ".." in path.parts or "\\" in text:
        file.fail(node, f"{text!r} is not a file of the workspace", "a path below its folder")
        return None
    return text


def _read_numbering(file: YamlFile, node: Node | None) -> Numbering | None:
    """The range of numbers; None where it was written and cannot be read."""
    if node is None:
        return Numbering()
    fields = file.fields(node, "tags", ("issue", "retired")) or {}
    low, high = 0, -1
    if "issue" in fields and (text := file.text(fields["issue"], "issue")):
        match = re.fullmatch(r"([1-9]\d{0,4})-([1-9]\d{0,4})", text)
        if match and int(match[1]) <= int(match[2]) <= HIGHEST_TAG:
            low, high = int(match[1]), int(match[2])
        else:
            file.fail(fields["issue"], f"issue is {text!r}", "a range within 1-65535: 2000-2999")
            return None
    retired = [
        file.number(n, "a retired number", 1, HIGHEST_TAG)
        for n in file.items(fields.get("retired"), "retired")
    ]
    return Numbering(low, high, frozenset(n for n in retired if n is not None))


def _read_source(file: YamlFile, node: Node) -> Source | None:
    fields = file.fields(node, "a source", SOURCE_KEYS, ("file", "kind", "id"))
    if fields is None:
        return None
    text = file.text(fields["file"], "file")
    name = None if text is None else _file_name(file, text, fields["file"])
    kind = file.choice(fields["kind"], "kind", KINDS)
    key = file.text(fields["id"], "id")
    columns: dict[str, str] = {}
    for column, _, value in file.pairs(fields.get("columns"), "columns"):
        attribute = file.text(value, f"the attribute of column {column}")
        if attribute is not None:
            columns[column] = attribute
    if name is not None and not name.lower().endswith(".csv"):
        file.fail(fields["file"], f"{name!r} is not a CSV file", "a file that ends in .csv")
        return None
    if name is None or kind is None or key is None:
        return None
    return Source(
        name, kind, key, file.text(fields.get("address"), "address"),
        file.text(fields.get("stability"), "stability"), columns, node,
    )  # fmt: skip


def _read_order(file: YamlFile, node: Node | None) -> tuple[str, ...]:
    if node is None:
        return BINDING_SOURCES
    words = tuple(t for t, _ in file.texts(node, "binding_order"))
    if sorted(words) != sorted(BINDING_SOURCES):
        file.fail(node, "binding_order is not an order of all sources", ", ".join(BINDING_SOURCES))
        return BINDING_SOURCES
    return words
