"""A group or set under another name: every place of a workspace that names it, and no other."""

from __future__ import annotations

from collections.abc import Container

import yaml

from oaktag.core.groups import tag_number
from oaktag.located import Location
from oaktag.workspace.assignments_file import FILE as ASSIGNMENTS
from oaktag.workspace.csv_edits import with_words
from oaktag.workspace.groups_file import FILE as GROUPS
from oaktag.workspace.load import Files
from oaktag.workspace.yaml_words import like, scalars
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
    """The text of a file in which a group or set has another name."""
    for node in sorted(_naming(text, file), key=lambda n: -n.start_mark.index):
        if node.value == old:
            start, end = node.start_mark.index, node.end_mark.index
            quote = text[start] if text[start] in "'\"" else ""
            text = f"{text[:start]}{quote}{new}{quote}{text[end:]}"
    return text


def with_tag_named(text: str, file: str, old: int, new: int, names: Container[str]) -> str:
    """The text of a file in which a group is called by its tag, with another tag; ``names`` are
    those of groups and sets, which come first."""
    for node in sorted(_naming(text, file), key=lambda n: -n.start_mark.index):
        if node.value not in names and tag_number(node.value) == old:
            start, end = node.start_mark.index, node.end_mark.index
            text = f"{text[:start]}{new}{text[end:]}"
    return text


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
