"""A group or set under another name: every place of a workspace that names it, and no other."""

from __future__ import annotations

from collections.abc import Callable, Container
from functools import partial
from typing import Any

import yaml

from oaktag.core.groups import tag_number
from oaktag.located import Location
from oaktag.workspace.assignments_file import FILE as ASSIGNMENTS
from oaktag.workspace.csv_edits import with_words
from oaktag.workspace.groups_file import FILE as GROUPS
from oaktag.workspace.load import Files
from oaktag.workspace.yaml_edits import data_of
from oaktag.workspace.yaml_words import Path, changed_data, like, scalars, verified_edit
from oaktag.workspace.yamlfile import LOADER

#: Where a word names a group or a set, by file: keys from the top; ``*`` is any key, or an item of
#: a list; ``KEY`` stands for the names of the keys. A list may be one word too.
PLACES = {
    GROUPS: ("groups/*/id", "groups/*/split_from", "sets/KEY", "sets/*/*"),
    ASSIGNMENTS: ("pins/*/group", "rules/*/give"),
    "network.yaml": (
        "nodes/*/group",
        "nodes/*/point/scope/sources/*",
        "nodes/*/point/scope/destinations/*",
        "nodes/*/points/*/scope/sources/*",
        "nodes/*/points/*/scope/destinations/*",
        "segments/*/tag",
        "feeds/*/only/groups/*",
    ),
    "expectations.yaml": ("*/from", "*/to"),
    "oaktag.yaml": (
        "keep_open/*/from",
        "keep_open/*/to",
        "accepted/*/from",
        "accepted/*/to",
        "share/groups/*",
    ),
}
#: The columns of a layer that do.
COLUMNS = ("source", "destination")


def renamed(files: Files, old: str, new: str) -> dict[str, str]:
    """All files in which a group's or set's name stands, with the new one in its place."""
    root = files.folder
    changed: dict[str, str] = {}
    for name in PLACES:
        changed[name] = with_name(root.text(name), name, old, new)
    for name in files.config.layers:
        changed[name] = with_words(root.text(name), COLUMNS, old, new)
    return {n: t for n, t in changed.items() if t != root.text(n)}


def with_name(text: str, file: str, old: str, new: str) -> str:
    """The text of a file in which a group or set has another name.

    Raises:
        UsageError: the file is written in a form in which it cannot be put.
    """

    def name(word: str) -> str:
        return new if word == old else word

    return verified_edit(
        partial(_with_name, text, file, old, new),
        _named_otherwise(text, file, name),
        f"the name {new}",
    )


def _named_otherwise(text: str, file: str, name: Callable[[str], str]) -> Any:
    """What a file says, where it names groups or sets by other names."""
    patterns = [p.split("/") for p in PLACES[file]]

    def change(path: Path, held: Any) -> Any:
        if isinstance(held, dict) and any(like((*path, "KEY"), p) for p in patterns):
            return {name(key): value for key, value in held.items()}
        named = isinstance(held, str) and any(like(path, p) for p in patterns)
        return name(held) if named else held

    return changed_data(data_of(text), change)


def _with_name(text: str, file: str, old: str, new: str) -> str:
    for node in sorted(_naming(text, file), key=lambda n: -n.start_mark.index):
        if node.value == old:
            start, end = node.start_mark.index, node.end_mark.index
            quote = text[start] if text[start] in "'\"" else ""
            text = f"{text[:start]}{quote}{new}{quote}{text[end:]}"
    return text


def with_tag_named(text: str, file: str, old: int, new: int, names: Container[str]) -> str:
    """The text of a file in which a group is called by its tag, with another tag; ``names`` are
    those of groups and sets, which come first.

    Raises:
        UsageError: the file is written in a form in which it cannot be put.
    """

    def name(word: str) -> str:
        return str(new) if word not in names and tag_number(word) == old else word

    def edit() -> str:
        edited = text
        for node in sorted(_naming(text, file), key=lambda n: -n.start_mark.index):
            if name(node.value) != node.value:
                start, end = node.start_mark.index, node.end_mark.index
                edited = f"{edited[:start]}{new}{edited[end:]}"
        return edited

    return verified_edit(edit, _named_otherwise(text, file, name), f"the tag {new}")


def places_of(files: Files, word: str) -> list[Location]:
    """Where a word stands that would name a group or a set, if there were one of that name."""
    return [
        Location(name, node.start_mark.line + 1, node.start_mark.column + 1)
        for name in PLACES
        for node in _naming(files.folder.text(name), name)
        if node.value == word
    ]


def _naming(text: str, name: str) -> list[yaml.ScalarNode]:
    """The scalars of a file that name groups or sets."""
    if not text.strip():
        return []
    patterns = [p.split("/") for p in PLACES[name]]
    return [
        node
        for path, node in scalars(yaml.compose(text, Loader=LOADER))
        if any(like(path, pattern) for pattern in patterns)
    ]
