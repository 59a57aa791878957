"""Edits of YAML text by the marks of its nodes: comments, order and every other byte stay."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import yaml

from oaktag.errors import UsageError
from oaktag.located import Location
from oaktag.workspace.yamlfile import LOADER

#: Which file of a workspace has which list, or mapping, at its top.
FILES = {
    "groups": "groups.yaml", "sets": "groups.yaml", "pins": "assignments.yaml",
    "rules": "assignments.yaml", "permissions": "permissions.yaml", "nodes": "network.yaml",
    "segments": "network.yaml", "links": "network.yaml", "feeds": "network.yaml",
    "workspace": "oaktag.yaml",
}  # fmt: skip
PLAIN = re.compile(r"[A-Za-z0-9][A-Za-z0-9 ._/-]*")


def _top(text: str, key: str) -> tuple[yaml.Node, Any] | None:
    root = yaml.compose(text, Loader=LOADER) if text.strip() else None
    if not isinstance(root, yaml.MappingNode):
        return None
    return next(((k, v) for k, v in root.value if k.value == key), None)


def _in_braces(text: str) -> bool:
    """Whether a file is one mapping in braces, as JSON is."""
    root = yaml.compose(text, Loader=LOADER) if text.strip() else None
    return isinstance(root, yaml.MappingNode) and bool(root.flow_style)


def _inside(text: str, entry: str) -> str:
    """A file that is one mapping in braces, as JSON is, with an entry more; empty for all else."""
    root = yaml.compose(text, Loader=LOADER) if text.strip() else None
    if not isinstance(root, yaml.MappingNode) or not root.flow_style:
        return ""
    at = end_of(text, root.value[-1][1]) if root.value else root.start_mark.index + 1
    return f"{text[:at]}{', ' * bool(root.value)}{entry}{text[at:]}"


def data_of(text: str) -> Any:
    """What YAML text says: mappings, lists, and scalars as they are written.

    Raises:
        yaml.YAMLError: it is none.
    """
    return _plain(yaml.compose(text, Loader=LOADER)) if text.strip() else ""


def _plain(node: yaml.Node | None) -> Any:
    if isinstance(node, yaml.MappingNode):
        return {_plain(key): _plain(value) for key, value in node.value}
    if isinstance(node, yaml.SequenceNode):
        return [_plain(item) for item in node.value]
    return "" if node is None else node.value


def as_meant(text: str, meant: Any, what: str) -> str:
    """An edited text, if it says what was meant.

    Raises:
        UsageError: it does not, for the file is written in a form that these edits do not know.
    """
    try:
        held = data_of(text)
    except yaml.YAMLError:
        held = None
    if held != meant:
        keys = meant if isinstance(meant, dict) else ()
        file = next((FILES[key] for key in keys if key in FILES), "the file")
        raise UsageError(
            f"nothing was changed: {file} is written in a form in which {what} cannot be put or "
            "taken out; write its lists in lines, or change it by hand"
        )
    return text


def quoted(text: str) -> str:
    """A word as YAML text that reads as just this text."""
    if PLAIN.fullmatch(text):
        return text
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def with_pins(text: str, pins: Iterable[Mapping[str, str]]) -> str:
    """``assignments.yaml`` with some pins more, behind the others."""
    items = ["{" + ", ".join(f"{k}: {quoted(v)}" for k, v in p.items()) + "}" for p in pins]
    return with_items(text, "pins", items)


def with_rule(
    text: str,
    give: str,
    conditions: Mapping[str, str],
    before: int | None,
    confidence: str | None = None,
) -> str:
    """``assignments.yaml`` with one rule more: before the one of a number, or behind all others;
    conditions, and the least confidence, as they are written.

    Raises:
        UsageError: the file is written in a form in which it cannot be put.
    """
    when = ", ".join(f"{quoted(name)}: {value}" for name, value in conditions.items())
    least = "" if confidence is None else f", min_confidence: {confidence}"
    item = f"{{give: {quoted(give)}, when: {{{when}}}{least}}}"
    found = _top(text, "rules")
    if before is None or found is None:
        return with_items(text, "rules", [item])
    node = found[1]
    meant = data_of(text)
    meant["rules"].insert(before, data_of(item))
    start = node.value[before].start_mark.index
    if node.flow_style:
        edited = f"{text[:start]}{item}, {text[start:]}"
    else:
        at = _dash(text, node, start)
        edited = f"{text[:at]}{' ' * node.start_mark.column}- {item}\n{text[at:]}"
    return as_meant(edited, meant, "a rule")


def with_items(text: str, list_: str, items: Sequence[str], *, behind: bool = False) -> str:
    """A file with some items more in a list at its top, behind the others; a list that is not there
    begins the file, or stands ``behind`` all others.

    Raises:
        UsageError: the file is written in a form in which they cannot be put.
    """
    meant = data_of(text) or {}
    if isinstance(meant, dict):
        held = meant.get(list_)
        meant[list_] = [*(held if isinstance(held, list) else ()), *map(data_of, items)]
    edited = _with_items(text, list_, items, behind=behind)
    return as_meant(edited, meant, f"an item of {list_}")


def _with_items(text: str, list_: str, items: Sequence[str], *, behind: bool) -> str:
    found = _top(text, list_)
    item = ", ".join(items)
    if found is None and (inside := _inside(text, f"{list_}: [{item}]")):
        return inside
    if found is None:
        told = "".join(f"  - {i}\n" for i in items)
        if behind and text.strip():
            return f"{text.rstrip()}\n\n{list_}:\n{told}"
        return f"{list_}:\n{told}" + ("\n" + text if text.strip() else "")
    key, node = found
    if isinstance(node, yaml.SequenceNode) and node.value and not node.flow_style:
        at = line_after(text, node.value[-1])
        indent = " " * node.start_mark.column
        lead = "" if at == 0 or text[at - 1 : at] == "\n" else "\n"
        told = "".join(f"{indent}- {i}\n" for i in items)
        return f"{text[:at]}{lead}{told}{text[at:]}"
    if isinstance(node, yaml.SequenceNode) and node.value:
        at = end_of(text, node.value[-1])
        return f"{text[:at]}, {item}{text[at:]}"
    if _in_braces(text):
        colon = text.index(":", key.end_mark.index) + 1
        start = max(node.start_mark.index, colon)
        end = max(end_of(text, node), start)
        return f"{text[:start]}{' ' * (start == colon)}[{item}]{text[end:]}"
    start = key.end_mark.index
    told = "\n".join(f"  - {i}" for i in items)
    return f"{text[:start]}:\n{told}{text[end_of(text, node) :]}"


def without_pin(text: str, place: Location) -> str:
    """``assignments.yaml`` without the pin that stands at a place, or has a prefix there.

    Raises:
        UsageError: the pin is of several prefixes.
    """
    found = _top(text, "pins")
    assert found and isinstance(found[1], yaml.SequenceNode), "a pin was read from there"
    key, pins = found
    wanted = place.line - 1, place.column - 1
    starts = [(n.start_mark.line, n.start_mark.column) for n in pins.value]
    number = sum(start <= wanted for start in starts) - 1
    held = next((v for k, v in pins.value[number].value if k.value == "prefix"), None)
    if isinstance(held, yaml.SequenceNode) and len(held.value) > 1:
        raise UsageError(f"the pin in line {place.line} is of several prefixes; edit it by hand")
    return without_item(text, key, pins, number)


def with_rules_parted(text: str, old: str, new: str, conditions: Mapping[str, str]) -> str:
    """``assignments.yaml`` where before each rule that gives a group the same rule gives another,
    with some conditions more; these as they are written.

    Raises:
        UsageError: a rule has a condition on such an attribute already, or the file is written in a
            form in which it cannot be put.
    """
    try:
        return as_meant(*_with_rules_parted(text, old, new, conditions), "a rule")
    except yaml.YAMLError:  # halfway: the next edit cannot read what came of the one before
        return as_meant("", {"rules": []}, "a rule")


def _with_rules_parted(
    text: str, old: str, new: str, conditions: Mapping[str, str]
) -> tuple[str, Any]:
    number, meant = 0, data_of(text)
    while True:
        found = _top(text, "rules")
        rules = found[1].value if found and isinstance(found[1], yaml.SequenceNode) else []
        if number >= len(rules):
            return text, meant
        given = next(v for k, v in rules[number].value if k.value == "give")
        if given.value != old:
            number += 1
            continue
        assert found is not None, "it has rules"
        text = _with_copy(text, found[1], number)
        at = given.start_mark.index, given.end_mark.index
        text = f"{text[: at[0]]}{new}{text[at[1] :]}"
        for attribute, value in conditions.items():
            text = _with_condition(text, number, attribute, value)
        whole = meant["rules"][number]
        when = dict(whole.get("when") or {})
        for attribute, value in conditions.items():
            if not _narrower(when.get(attribute), data_of(value)):
                when[attribute] = data_of(value)
        meant["rules"].insert(number, {**whole, "give": new, **({"when": when} if when else {})})
        number += 2


def _narrower(held: Any, asked: Any) -> bool:
    """Whether a condition names fewer of the values that another one names, and no others."""
    mine, theirs = ({x} if isinstance(x, str) else x for x in (held, asked))
    if not all(isinstance(x, (set, list)) for x in (mine, theirs)) or not mine:
        return False
    return all(isinstance(x, str) for x in (*mine, *theirs)) and set(mine) < set(theirs)


def _with_copy(text: str, node: yaml.SequenceNode, number: int) -> str:
    """A list in which an item stands twice."""
    item = node.value[number]
    start = item.start_mark.index
    if node.flow_style:
        end = end_of(text, item)
        return f"{text[:end]}, {text[start:end]}{text[end:]}"
    start, end = _dash(text, node, start), line_after(text, item)
    held = text[start:end]
    return f"{text[:end]}{'' if held.endswith(chr(10)) else chr(10)}{held}{text[end:]}"


def _with_condition(text: str, number: int, attribute: str, value: str) -> str:
    """``assignments.yaml`` with one condition more in a rule."""
    found = _top(text, "rules")
    assert found is not None, "it has rules"
    rule = found[1].value[number]
    when = next((v for k, v in rule.value if k.value == "when"), None)
    key = quoted(attribute)
    if when is None:
        return _with_key(text, rule, "when", f"{{{key}: {value}}}")
    held = next((v for k, v in when.value if k.value == attribute), None)
    mine, theirs = _words_of(yaml.compose(value, Loader=LOADER)), _words_of(held)
    if held is None or (mine and mine <= theirs):  # a value of those that it names
        return _with_key(text, when, key if held is None else attribute, value)
    if theirs and theirs <= mine:
        return text
    raise UsageError(
        f"the rule in line {rule.start_mark.line + 1} has a condition on {attribute} already, and "
        f"{value} does not narrow it; part it by hand, or say another condition"
    )


def _words_of(node: yaml.Node | None) -> set[str]:
    """The words of a condition that names values; none of another one."""
    items = node.value if isinstance(node, yaml.SequenceNode) else [node]
    words = {i.value for i in items if isinstance(i, yaml.ScalarNode)}
    return words if len(words) == len(items) else set()


def without_item(text: str, key: yaml.Node, node: yaml.CollectionNode, number: int) -> str:
    """A list with one item less; comments about the others stay.

    Raises:
        UsageError: the file is written in a form in which it cannot be taken out.
    """
    edited = _without_item(text, key, node, number)
    found = _top(text, key.value)
    if found is None or found[1].start_mark.index != node.start_mark.index:
        return edited
    meant = data_of(text)
    if isinstance(meant[key.value], dict):
        del meant[key.value][list(meant[key.value])[number]]
    else:
        del meant[key.value][number]
    return as_meant(edited, meant, f"an item of {key.value}")


def _without_item(text: str, key: yaml.Node, node: yaml.CollectionNode, number: int) -> str:
    items = node.value
    if node.flow_style:
        return without_span(text, [(i.start_mark.index, end_of(text, i)) for i in items], number)
    start = _dash(text, node, items[number].start_mark.index)
    end = line_after(text, items[number])
    if len(items) == 1:
        at = text.index(":", key.end_mark.index) + 1
        return f"{text[:at]} []{text[at:start]}{text[end:]}"
    return text[:start] + text[end:]


def without_span(text: str, spans: Sequence[tuple[int, int]], number: int) -> str:
    """A list or mapping in brackets with one of its parts less, and the comma that goes with it."""
    start, end = spans[number]
    if number + 1 < len(spans):
        following = spans[number + 1][0]
        bare = not text[end:following].strip(" \t\r\n,")
        end = following if bare else text.index(",", end) + 1  # a comment stays, the comma goes
    elif number:
        before = spans[number - 1][1]
        start = before if not text[before:start].strip(" \t\r\n,") else start
    elif comma := re.match(r"\s*,", text[end:]):
        end += comma.end()
    return text[:start] + text[end:]


def _dash(text: str, node: yaml.CollectionNode, item: int) -> int:
    """Where the line starts whose dash leads to an item: its own, or one before it."""
    start = text.rfind("\n", 0, item) + 1
    while text[start + node.start_mark.column] != "-" or text[start:item].lstrip()[:1] == "#":
        start = text.rfind("\n", 0, start - 1) + 1
    return start


def end_of(text: str, node: yaml.Node) -> int:
    """Where the last character of a node stands, less the blank that block nodes end with."""
    if isinstance(node, yaml.ScalarNode) and node.style in ("|", ">"):
        return len(text[: node.end_mark.index].rstrip())
    if not isinstance(node, yaml.CollectionNode) or node.flow_style or not node.value:
        return int(node.end_mark.index)
    last = node.value[-1]
    return end_of(text, last[1] if isinstance(last, tuple) else last)


def line_after(text: str, node: yaml.Node) -> int:
    """Where the line after a node begins."""
    return text.find("\n", end_of(text, node)) + 1 or len(text)


def with_issued_to(text: str, number: int) -> str:
    """``oaktag.yaml`` with the highest number that was issued."""
    found = _top(text, "tags")
    assert found and isinstance(found[1], yaml.MappingNode), "a range was read from there"
    meant = data_of(text)
    meant["tags"]["issued_to"] = str(number)
    return as_meant(_with_key(text, found[1], "issued_to", str(number)), meant, "a number")


def with_top_key(text: str, key: str, value: str) -> str:
    """A file with one key more at its top, behind the others."""
    root = yaml.compose(text, Loader=LOADER) if text.strip() else None
    if not isinstance(root, yaml.MappingNode):
        return as_meant(f"{text}{key}: {value}\n", {key: data_of(value)}, f"the key {key}")
    meant = data_of(text) | {key: data_of(value)}
    return as_meant(_with_key(text, root, key, value), meant, f"the key {key}")


def with_retired(text: str, number: int) -> str:
    """``oaktag.yaml`` with one retired number more."""
    found = _top(text, "tags")
    assert found and isinstance(found[1], yaml.MappingNode), "a range was read from there"
    held = next((v for k, v in found[1].value if k.value == "retired"), None)
    meant = data_of(text)
    known = meant["tags"].get("retired")
    meant["tags"]["retired"] = [*(known if isinstance(known, list) else ()), str(number)]
    if isinstance(held, yaml.SequenceNode) and held.value and held.flow_style:
        at = end_of(text, held.value[-1])
        edited = f"{text[:at]}, {number}{text[at:]}"
    elif isinstance(held, yaml.SequenceNode) and held.value:
        at, indent = line_after(text, held.value[-1]), " " * held.start_mark.column
        edited = f"{text[:at]}{indent}- {number}\n{text[at:]}"
    else:
        edited = _with_key(text, found[1], "retired", f"[{number}]")
    return as_meant(edited, meant, "a retired number")


def with_permission(text: str, name: str, action: str, services: list[str]) -> str:
    """``permissions.yaml`` with one permission more, behind the others."""
    entry = f"{action}: {services[0] if len(services) == 1 else '[' + ', '.join(services) + ']'}"
    found = _top(text, "permissions")
    if found is not None and not (isinstance(found[1], yaml.MappingNode) and found[1].value):
        raise UsageError(
            "permissions.yaml has no permission to put this one behind; add it by hand"
        )
    edited = _with_named(text, "permissions", name, f"[{{{entry}}}]", f"\n{{indent}}  - {entry}")
    return as_meant(
        edited, _more_named(text, "permissions", name, f"[{{{entry}}}]"), "a permission"
    )


def with_group(text: str, fields: Mapping[str, str]) -> str:
    """``groups.yaml`` with one group more, behind the others; its fields as they are written."""
    item = ", ".join(f"{key}: {value}" for key, value in fields.items())
    return with_items(text, "groups", [f"{{{item}}}"])


def with_tag(text: str, name: str, tag: str) -> str:
    """``groups.yaml`` in which a group has another tag, as it is written."""
    found = _top(text, "groups")
    assert found and isinstance(found[1], yaml.SequenceNode), "a group was read from there"
    item = next(
        i for i in found[1].value if any(k.value == "id" and v.value == name for k, v in i.value)
    )
    meant = data_of(text)
    next(group for group in meant["groups"] if group["id"] == name)["tag"] = tag
    return as_meant(_with_key(text, item, "tag", tag), meant, "a tag")


def without_group(text: str, name: str) -> str:
    """``groups.yaml`` without a group."""
    found = _top(text, "groups")
    assert found and isinstance(found[1], yaml.SequenceNode), "a group was read from there"
    for number, item in enumerate(found[1].value):
        if any(k.value == "id" and v.value == name for k, v in item.value):
            return without_item(text, *found, number)
    return text


def with_set(text: str, name: str, words: Sequence[str]) -> str:
    """``groups.yaml`` with one set more, behind the others."""
    listed = f"[{', '.join(words)}]"
    edited = _with_named(text, "sets", name, listed, f" {listed}")
    return as_meant(edited, _more_named(text, "sets", name, listed), "a set")


def _more_named(text: str, top: str, name: str, value: str) -> Any:
    """What a file says, and one name more in a mapping at its top."""
    meant = data_of(text) or {}
    held = meant.get(top)
    meant[top] = {**(held if isinstance(held, dict) else {}), name: data_of(value)}
    return meant


def without_set(text: str, name: str) -> str:
    """``groups.yaml`` without a set.

    Raises:
        UsageError: the file is written in a form in which it cannot be taken out.
    """
    edited, meant = _without_set(text, name), data_of(text)
    if edited == text:
        return text
    meant["sets"].pop(name)
    return as_meant(edited, meant, "a set")


def _without_set(text: str, name: str) -> str:
    found = _top(text, "sets")
    items = found[1].value if found and isinstance(found[1], yaml.MappingNode) else []
    for number, (key, value) in enumerate(items):
        if key.value != name:
            continue
        assert found is not None, "the set is in it"
        if found[1].flow_style:
            spans = [(k.start_mark.index, end_of(text, v)) for k, v in items]
            return without_span(text, spans, number)
        start = text.rfind("\n", 0, key.start_mark.index) + 1
        end = line_after(text, value)
        if len(items) == 1:
            at = text.index(":", found[0].end_mark.index) + 1
            return f"{text[:at]} {{}}{text[at:start]}{text[end:]}"
        return text[:start] + text[end:]
    return text


def _with_named(text: str, top: str, name: str, flow: str, block: str) -> str:
    """A file with one name more in a mapping at its top, behind the others; in ``block`` the
    indent of the names stands as ``{indent}``."""
    found = _top(text, top)
    if found is None and (inside := _inside(text, f"{top}: {{{name}: {flow}}}")):
        return inside
    if found is None:
        lead = "" if not text or text.endswith("\n") else "\n"
        return f"{text}{lead}{top}:\n  {name}:{block.replace('{indent}', '  ')}\n"
    key, node = found
    if not isinstance(node, yaml.MappingNode) or not node.value:
        start = key.end_mark.index
        end = max(end_of(text, node), text.index(":", start) + 1)
        return f"{text[:start]}:\n  {name}:{block.replace('{indent}', '  ')}{text[end:]}"
    if node.flow_style:
        at = end_of(text, node.value[-1][1])
        return f"{text[:at]}, {name}: {flow}{text[at:]}"
    at = line_after(text, node.value[-1][1])
    lead = "" if text[at - 1 : at] == "\n" else "\n"
    indent = " " * node.start_mark.column
    return f"{text[:at]}{lead}{indent}{name}:{block.replace('{indent}', indent)}\n{text[at:]}"


def with_feed(text: str, sender: str, receiver: str) -> str:
    """``network.yaml`` with one feed more, behind the others."""
    return with_items(text, "feeds", [f"{{from: {sender}, to: {receiver}}}"])


def with_setting(text: str, kind: str, name: str | int, key: str, value: str) -> str:
    """``network.yaml`` with a key of a node (by its name) or link (by its place) set.

    A key ``point.KEY`` is one of the node's only point, ``points.NAME.KEY`` of one of several.

    Raises:
        UsageError: there is no such item.
    """
    found = _top(text, f"{kind}s")
    items = found[1].value if found and isinstance(found[1], yaml.SequenceNode) else []
    for number, item in enumerate(items):
        held = next((v.value for k, v in item.value if k.value == kind), None)
        if name in (held, number):
            meant = data_of(text)
            of = meant[f"{kind}s"][number]
            inner = {k.value: v for k, v in item.value}
            if key == "point" and "points" in inner:  # a list that has none yet
                key, value = "points", f"[{{name: judge, {value[1:]}]"
            elif key.startswith("point."):
                item, key, of = inner["point"], key.removeprefix("point."), of["point"]
            elif key.startswith("points."):
                _, point, key = key.split(".")
                item = next(
                    p for p in inner["points"].value
                    if any(k.value == "name" and v.value == point for k, v in p.value)
                )  # fmt: skip
                of = next(p for p in of["points"] if p.get("name") == point)
            of[key] = data_of(value)
            return as_meant(_with_key(text, item, key, value), meant, f"the key {key}")
    raise UsageError(f"there is no {kind} {name!r} in network.yaml")


def _with_key(text: str, item: yaml.MappingNode, key: str, value: str) -> str:
    for known, held in item.value:
        if known.value == key:
            return text[: held.start_mark.index] + value + text[end_of(text, held) :]
    if item.flow_style or not item.value:
        at = end_of(text, item.value[-1][1]) if item.value else item.start_mark.index + 1
        lead = ", " if item.value else ""
        return f"{text[:at]}{lead}{key}: {value}{text[at:]}"
    at = line_after(text, item.value[-1][1])
    lead = "" if text[at - 1 : at] == "\n" else "\n"
    return f"{text[:at]}{lead}{' ' * item.value[0][0].start_mark.column}{key}: {value}\n{text[at:]}"
