"""``groups.yaml``: groups with their tags and traits, and sets of them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from types import MappingProxyType

import yaml

from oaktag.core.domains import SharedGroup
from oaktag.core.groups import (
    GROUP_ID,
    HIGHEST_TAG,
    PLAIN_ID,
    RESERVED_WORDS,
    UNTAGGED,
    Group,
    Groups,
    GroupSet,
    Numbering,
    Selector,
    find_cycle,
    tag_number,
)
from oaktag.near import later
from oaktag.workspace.folder import Folder
from oaktag.workspace.textfile import Problems
from oaktag.workspace.yamlfile import LOADER, Node, YamlFile

FILE = "groups.yaml"
ISSUED = "issued "
GROUP_KEYS = ("id", "tag", "title", "owner", "traits", "split_from")


def read_groups(
    root: Folder,
    numbering: Numbering | None,
    problems: Problems,
    told: Mapping[str, SharedGroup] = MappingProxyType({}),
) -> Groups | None:
    """All groups and sets; None where the file cannot be read at all, or sets go in circles.

    Args:
        root: where the file is.
        numbering: the range that numbers are issued from; None where it cannot be read.
        problems: takes what is wrong.
        told: what other domains say of groups of theirs, by the names that these have here: their
            titles and owners, where the file says nothing else.
    """
    file = YamlFile(root, FILE, problems)
    if file.root is None:
        return None
    top = file.fields(file.root, FILE, ("groups", "sets"), ("groups",))
    if top is None:
        return None
    taken: dict[str, Node] = {}
    groups = [
        group
        for node in file.items(top["groups"], "groups")
        if (group := _read_group(file, node, numbering, taken)) is not None
    ]
    groups = [
        g._replace(title=g.title or told[g.id].title, owner=g.owner or told[g.id].owner)
        if g.id in told else g
        for g in groups
    ]  # fmt: skip
    _check_numbers(file, groups)
    names = {g.id for g in groups}
    for group in groups:
        if group.split_from and group.split_from not in names - {group.id}:
            file.problems.clash(
                group.location, f"{group.id} was split from {group.split_from!r}, which is no "
                "other group", later(group.split_from, names, "a group of this file"),
            )  # fmt: skip
    sets: list[GroupSet] = []
    nodes: dict[str, list[tuple[str, Node]]] = {}
    for name, key, node in file.pairs(top.get("sets"), "sets"):
        if not PLAIN_ID.fullmatch(name):
            file.fail(key, f"{name!r} cannot be the name of a set", "as in front-desks")
            continue
        _claim(file, name, key, taken)
        parts, words = _read_parts(file, node)
        sets.append(GroupSet(name, tuple(parts), file.place(key)))
        nodes[name] = words
    for words in nodes.values():
        for word, node in words:
            if word not in taken and word != UNTAGGED:
                file.clash(node, f"there is no group or set {word!r}", _closest(word, taken))
    cycles = find_cycle(sets)
    for cycle in cycles:
        at = next(n for w, n in nodes[cycle[0]] if w == cycle[1])
        file.clash(at, f"sets go in a circle: {' → '.join(cycle)}", "take one of them out")
    known = {g.id for g in groups} | {s.id for s in sets} | {UNTAGGED}
    sound = [
        GroupSet(
            s.id, tuple(p for p in s.parts if not isinstance(p, str) or p in known), s.location
        )
        for s in sets
    ]
    return None if cycles else Groups(groups, sound, numbering, checked=False)


def _read_group(
    file: YamlFile, node: Node, numbering: Numbering | None, taken: dict[str, Node]
) -> Group | None:
    fields = file.fields(node, "a group", GROUP_KEYS, ("id",))
    if fields is None:
        return None
    name = file.text(fields["id"], "the id of a group", GROUP_ID)
    if name is None:
        return None
    _claim(file, name, fields["id"], taken)
    tag, issued = _read_tag(file, name, fields.get("tag"), numbering)
    traits: dict[str, tuple[str, ...]] = {}
    for trait, _, value in file.pairs(fields.get("traits"), "traits"):
        traits[trait] = tuple(t for t, _ in file.texts(value, f"the trait {trait}"))
    return Group(
        name,
        tag,
        issued,
        traits,
        file.text(fields.get("title"), "title") or "",
        file.text(fields.get("owner"), "owner") or "",
        file.place(node),
        file.text(fields.get("split_from"), "split_from") or "",
    )


def _claim(file: YamlFile, name: str, node: Node, taken: dict[str, Node]) -> None:
    if name in RESERVED_WORDS:
        file.clash(node, f"{name!r} is a word of Oak Tag's own", "another name")
    elif name in taken:
        where = taken[name].start_mark.line + 1
        file.clash(node, f"{name!r} is there twice", f"first in line {where}; each name once")
    taken.setdefault(name, node)


def _read_tag(
    file: YamlFile, group: str, node: Node | None, numbering: Numbering | None
) -> tuple[int | None, bool]:
    """The tag of a group, and whether it was issued."""
    if node is None:
        return None, False
    text = file.text(node, f"the tag of {group}")
    issued = (text or "").startswith(ISSUED)
    tag = tag_number((text or "").removeprefix(ISSUED))
    if not tag:
        if text is not None:
            expected = f"1 to {HIGHEST_TAG}, as 410 or 0x19a, or issued and a number"
            file.fail(node, f"the tag of {group} is {text!r}", expected)
        return None, False
    if numbering is None:
        return tag, issued
    span = f"{numbering.low}-{numbering.high}"
    if tag in numbering.retired:
        file.clash(
            node, f"the tag of {group}, {tag}, is retired; points may still hold it",
            "another number",
        )  # fmt: skip
    elif numbering.holds(tag) and not issued:
        file.clash(
            node,
            f"{group} has the number {tag}, which is inside the range {span} that numbers are "
            "issued from",
            f"a number outside it, or tag: issued {tag}",
        )
    elif issued and not numbering.holds(tag):
        told = f"{group} cannot have been issued {tag}: "
        told += f"the range is {span}" if numbering.low else "oaktag.yaml names no range"
        file.clash(node, told, f"tag: {tag}")
    return tag, issued


def _check_numbers(file: YamlFile, groups: list[Group]) -> None:
    first: dict[int, Group] = {}
    for group in groups:
        if group.tag is None:
            continue
        other = first.setdefault(group.tag, group)
        if other is not group:
            file.problems.clash(
                group.location,
                f"{group.id} has the tag {group.tag}, and so has {other.id}",
                f"each tag once; {other.id} is in line {other.location.line}",
            )


def _read_parts(file: YamlFile, node: Node) -> tuple[list[str | Selector], list[tuple[str, Node]]]:
    parts: list[str | Selector] = []
    words: list[tuple[str, Node]] = []
    items = [node] if isinstance(node, yaml.MappingNode) else file.items(node, "a set")
    for item in items:
        if isinstance(item, yaml.MappingNode):
            fields = file.fields(item, "a selector", ("traits",), ("traits",))
            traits: dict[str, tuple[str, ...]] = {}
            for name, _, value in file.pairs((fields or {}).get("traits"), "traits"):
                traits[name] = tuple(t for t, _ in file.texts(value, f"the trait {name}"))
            if traits:
                parts.append(Selector(traits))
            elif fields is not None:
                file.fail(item, "a selector without traits would take every group", "a trait")
            continue
        word = file.text(item, "a member of a set")
        if word is not None:
            parts.append(word)
            words.append((word, item))
    return parts, words


def _closest(word: str, known: dict[str, Node]) -> Callable[[], str]:
    return later(word, known, "a group or set of groups.yaml")


def number_groups(text: str, issue: dict[int, int]) -> str:
    """The text of ``groups.yaml`` with numbers written in, all else kept to the byte.

    Args:
        text: the file as it is; it must have been read without a problem.
        issue: position of a group in the file → the number to write.
    """
    root = yaml.compose(text, Loader=LOADER)
    assert isinstance(root, yaml.MappingNode), "the file has been read without a problem"
    items = next(v for k, v in root.value if k.value == "groups").value
    edits: list[tuple[int, str]] = []
    for position, tag in issue.items():
        node = items[position]
        after = next(v for k, v in node.value if k.value == "id")
        written = f"tag: issued {tag}"
        if node.flow_style:
            edits.append((after.end_mark.index, f", {written}"))
        else:
            indent = " " * node.start_mark.column
            edits.append((after.end_mark.index, f"\n{indent}{written}"))
    for at, piece in sorted(edits, reverse=True):
        text = text[:at] + piece + text[at:]
    return text
