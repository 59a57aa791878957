"""Where words stand in YAML, by the keys that lead to them; words put beside others, and taken out.

A path is keys from the top, parted by slashes: ``*`` is any key, or an item of a list, ``KEY`` the
name of a key itself. A list may be one word too. Each edit of the text is made of the data that the
text holds as well, and counts only if the edited text holds just that.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import partial
from typing import Any

import yaml

from oaktag.workspace.yaml_edits import (
    as_meant,
    data_of,
    end_of,
    line_after,
    without_item,
    without_span,
)
from oaktag.workspace.yamlfile import LOADER

Path = tuple[str, ...]


def like(path: Path, pattern: Sequence[str]) -> bool:
    """Whether a path is meant by a pattern."""
    if len(path) == len(pattern) - 1 and pattern[-1] == "*":
        pattern = pattern[:-1]  # one word where a list may be
    return len(path) == len(pattern) and all(
        p == q or (q == "*" and p != "KEY") for p, q in zip(path, pattern, strict=True)
    )


def verified_edit(edit: Callable[[], str], data: Any, what: str) -> str:
    """What an edit makes of a text, if it holds just some data then.

    Raises:
        UsageError: it does not, for the file is written in a form that these edits do not know.
    """
    try:
        return as_meant(edit(), data, what)
    except yaml.YAMLError:  # halfway: the next edit cannot read what came of the one before
        return as_meant("\0", data, what)


def changed_data(held: Any, change: Callable[[Path, Any], Any], path: Path = ()) -> Any:
    """Data with another value in place of each, from the innermost on; ``change`` gets the path of
    the value."""
    if isinstance(held, dict):
        held = {key: changed_data(value, change, (*path, key)) for key, value in held.items()}
    elif isinstance(held, list):
        held = [changed_data(item, change, (*path, "*")) for item in held]
    return change(path, held)


def scalars(node: yaml.Node | None, path: Path = ()) -> Iterator[tuple[Path, yaml.ScalarNode]]:
    """Every word with its path."""
    for where, _, held in _nodes(node, None, path):
        if isinstance(held, yaml.ScalarNode):
            yield where, held


def with_beside(text: str, paths: Sequence[str], old: str, new: str) -> str:
    """A word more in every list of the paths that holds another, right behind it.

    Raises:
        UsageError: the file is written in a form in which it cannot be put.
    """
    patterns = [p.split("/") for p in paths]

    def change(path: Path, held: Any) -> Any:
        if isinstance(held, dict) or not any(like(path, p) for p in patterns):
            return held
        if isinstance(held, str):
            return [old, new] if held == old else held
        return [word for item in held for word in ((item, new) if item == old else (item,))]

    return verified_edit(
        partial(_with_beside, text, paths, old, new), changed_data(data_of(text), change), new
    )


def _with_beside(text: str, paths: Sequence[str], old: str, new: str) -> str:
    places: list[tuple[int, int, str]] = []
    for _, _, node in _lists(text, paths):
        if isinstance(node, yaml.ScalarNode):
            if node.value == old:
                places.append((node.start_mark.index, node.end_mark.index, f"[{old}, {new}]"))
            continue
        for item in node.value:
            if isinstance(item, yaml.ScalarNode) and item.value == old:
                at = item.end_mark.index if node.flow_style else line_after(text, item)
                indent = " " * node.start_mark.column
                places.append((at, at, f", {new}" if node.flow_style else f"{indent}- {new}\n"))
    for start, end, piece in sorted(places, reverse=True):
        lead = "\n" if piece.endswith("\n") and text[start - 1 : start] != "\n" else ""
        text = text[:start] + lead + piece + text[end:]
    return text


def without_word(text: str, paths: Sequence[str], word: str, *, beside: str | None = None) -> str:
    """A word less in every list of the paths; or in those alone that hold another word too.

    Raises:
        UsageError: the file is written in a form in which it cannot be taken out.
    """
    patterns = [p.split("/") for p in paths]

    def change(path: Path, held: Any) -> Any:
        if not isinstance(held, list) or not any(like(path, p) for p in patterns):
            return held
        return [i for i in held if i != word or (beside is not None and beside not in held)]

    return verified_edit(
        partial(_without_word, text, paths, word, beside), changed_data(data_of(text), change), word
    )


def _without_word(text: str, paths: Sequence[str], word: str, beside: str | None) -> str:
    while True:
        for _, key, node in _lists(text, paths):
            held = [] if isinstance(node, yaml.ScalarNode) else [i.value for i in node.value]
            if word in held and key is not None and (beside is None or beside in held):
                text = without_item(text, key, node, held.index(word))
                break
        else:
            return text


def with_twins(text: str, lists: Sequence[str], keys: Sequence[str], old: str, new: str) -> str:
    """In lists at the top, behind each item that says a word under one of some keys, the same item
    with another word there.

    Raises:
        UsageError: the file is written in a form in which they cannot be put.
    """

    def twin(item: Any) -> Any:
        return {k: new if k in keys and v == old else v for k, v in item.items()}

    def change(path: Path, held: Any) -> Any:
        if len(path) != 1 or path[0] not in lists or not isinstance(held, list):
            return held
        return [
            one
            for item in held
            for one in ((item, twin(item)) if _saying(item, keys, old) else (item,))
        ]

    return verified_edit(
        partial(_with_twins, text, lists, keys, old, new),
        changed_data(data_of(text), change),
        f"an item for {new}",
    )


def _saying(item: Any, keys: Sequence[str], word: str) -> bool:
    return isinstance(item, dict) and any(item.get(key) == word for key in keys)


def _with_twins(text: str, lists: Sequence[str], keys: Sequence[str], old: str, new: str) -> str:
    places: list[tuple[int, str]] = []
    for node in _tops(text, lists):
        for item in node.value:
            held = [v for k, v in item.value if k.value in keys and v.value == old]
            if not held or not isinstance(item, yaml.MappingNode):
                continue
            start, end = item.start_mark.index, end_of(text, item)
            twin = text[start:end]
            for word in sorted(held, key=lambda v: -v.start_mark.index):
                at = word.start_mark.index - start, word.end_mark.index - start
                twin = f"{twin[: at[0]]}{new}{twin[at[1] :]}"
            if node.flow_style:
                places.append((end, f", {twin}"))
            else:
                at_line = line_after(text, item)
                lead = "" if text[at_line - 1] == "\n" else "\n"
                indent = " " * node.start_mark.column
                places.append((at_line, f"{lead}{indent}- {twin}\n"))
    for place, piece in sorted(places, reverse=True):
        text = text[:place] + piece + text[place:]
    return text


def without_twins(text: str, lists: Sequence[str], keys: Sequence[str], word: str) -> str:
    """Lists at the top without the items that say a word under one of some keys.

    Raises:
        UsageError: the file is written in a form in which they cannot be taken out.
    """

    def change(path: Path, held: Any) -> Any:
        if len(path) != 1 or path[0] not in lists or not isinstance(held, list):
            return held
        return [item for item in held if not _saying(item, keys, word)]

    return verified_edit(
        partial(_without_twins, text, lists, keys, word),
        changed_data(data_of(text), change),
        f"an item of {word}",
    )


def _without_twins(text: str, lists: Sequence[str], keys: Sequence[str], word: str) -> str:
    while True:
        for key, node in _tops_with_keys(text, lists):
            for number, item in enumerate(node.value):
                if any(k.value in keys and v.value == word for k, v in item.value):
                    text = without_item(text, key, node, number)
                    break
            else:
                continue
            break
        else:
            return text


def _tops(text: str, lists: Sequence[str]) -> Iterator[yaml.SequenceNode]:
    for _, node in _tops_with_keys(text, lists):
        yield node


def _tops_with_keys(
    text: str, lists: Sequence[str]
) -> Iterator[tuple[yaml.Node, yaml.SequenceNode]]:
    root = yaml.compose(text, Loader=LOADER) if text.strip() else None
    for key, node in root.value if isinstance(root, yaml.MappingNode) else ():
        if key.value in lists and isinstance(node, yaml.SequenceNode):
            yield key, node


def _lists(text: str, paths: Sequence[str]) -> Iterator[tuple[Path, yaml.Node | None, Any]]:
    """The lists, or single words, at some paths."""
    if text.strip():
        patterns = [p.split("/") for p in paths]
        for path, key, node in _nodes(yaml.compose(text, Loader=LOADER), None, ()):
            if not isinstance(node, yaml.MappingNode) and any(like(path, p) for p in patterns):
                yield path, key, node


def _nodes(
    node: yaml.Node | None, key: yaml.Node | None, path: Path
) -> Iterator[tuple[Path, yaml.Node | None, yaml.Node]]:
    """Every node with its path and the key before it."""
    if node is None:
        return
    yield path, key, node
    if isinstance(node, yaml.SequenceNode):
        for item in node.value:
            yield from _nodes(item, None, (*path, "*"))
    elif isinstance(node, yaml.MappingNode):
        for name, value in node.value:
            yield (*path, "KEY"), None, name
            yield from _nodes(value, name, (*path, str(name.value)))


def without_items(text: str, patterns: Sequence[str], word: str) -> str:
    """A file without the items of lists that say a word under some key: ``rules/*/give``.

    Raises:
        UsageError: the file is written in a form in which they cannot be taken out.
    """
    asked = [p.split("/") for p in patterns]

    def goes(path: Path, item: Any) -> bool:
        return isinstance(item, dict) and any(
            value == word and any(like((*path, "*", key), p) for p in asked)
            for key, value in item.items()
        )

    def change(path: Path, held: Any) -> Any:
        return [i for i in held if not goes(path, i)] if isinstance(held, list) else held

    return verified_edit(
        partial(_without_items, text, patterns, word),
        changed_data(data_of(text), change),
        f"an item of {word}",
    )


def _without_items(text: str, patterns: Sequence[str], word: str) -> str:
    while True:
        for key, node, number in _items_saying(text, patterns, word):
            if key is None and len(node.value) == 1:  # a list that is the whole file
                return f"{text[: node.start_mark.index]}[]\n"
            text = without_item(text, key or node, node, number)
            break
        else:
            return text


def _items_saying(
    text: str, patterns: Sequence[str], word: str
) -> Iterator[tuple[yaml.Node | None, yaml.SequenceNode, int]]:
    asked = [p.split("/") for p in patterns]
    root = yaml.compose(text, Loader=LOADER) if text.strip() else None
    for path, key, node in _nodes(root, None, ()):
        if not isinstance(node, yaml.SequenceNode):
            continue
        for number, item in enumerate(node.value):
            for name, held in item.value if isinstance(item, yaml.MappingNode) else ():
                here = (*path, "*", str(name.value))
                if any(like(here, p) for p in asked) and _says(held, word):
                    yield key, node, number


def _says(node: yaml.Node, word: str) -> bool:
    return isinstance(node, yaml.ScalarNode) and node.value == word


def without_keys(text: str, patterns: Sequence[str], word: str) -> str:
    """A file without the keys of items that say a word: ``segments/*/tag``.

    Raises:
        UsageError: the file is written in a form in which they cannot be taken out.
    """
    asked = [p.split("/") for p in patterns]

    def change(path: Path, held: Any) -> Any:
        if not isinstance(held, dict):
            return held
        return {
            key: value
            for key, value in held.items()
            if value != word or not any(like((*path, key), p) for p in asked)
        }

    return verified_edit(
        partial(_without_keys, text, asked, word),
        changed_data(data_of(text), change),
        f"a key of {word}",
    )


def _without_keys(text: str, asked: Sequence[Sequence[str]], word: str) -> str:
    while True:
        root = yaml.compose(text, Loader=LOADER) if text.strip() else None
        for path, _, node in _nodes(root, None, ()):
            if not isinstance(node, yaml.MappingNode):
                continue
            places = [
                n
                for n, (name, held) in enumerate(node.value)
                if any(like((*path, str(name.value)), p) for p in asked) and _says(held, word)
            ]
            if places:
                text = without_key(text, node, places[0])
                break
        else:
            return text


def without_key(text: str, node: yaml.MappingNode, number: int) -> str:
    """A mapping with one key less; it has others."""
    name, held = node.value[number]
    if node.flow_style:
        spans = [(k.start_mark.index, end_of(text, v)) for k, v in node.value]
        return without_span(text, spans, number)
    start = name.start_mark.index
    begin, after = text.rfind("\n", 0, start) + 1, line_after(text, held)
    if text[begin:start].strip():  # behind the dash of an item: the next key takes its place
        following = node.value[number + 1][0].start_mark.index
        return text[:start] + text[following:]
    return text[:begin] + text[after:]
