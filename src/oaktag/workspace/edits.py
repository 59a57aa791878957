"""Changes of a workspace's files that keep their form: comments, order and every other byte stay.

A change is made of text, by the marks of the YAML nodes and the cells of the CSV lines; the changed
files are read as a workspace in memory first, and only then written, all of them or none.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator, Mapping
from difflib import unified_diff

import yaml

from oaktag.errors import UsageError, WorkspaceError
from oaktag.workspace.assignments_file import FILE as ASSIGNMENTS
from oaktag.workspace.folder import Folder, changed_meanwhile
from oaktag.workspace.groups_file import FILE as GROUPS
from oaktag.workspace.journal import write_files
from oaktag.workspace.load import Files, read_files
from oaktag.workspace.lock import one_writer
from oaktag.workspace.yamlfile import LOADER

#: Keys under which a word names a group or a set, by file.
NAMING = {
    GROUPS: {"id"},
    ASSIGNMENTS: {"give", "group"},
    "network.yaml": {"group", "tag", "sources", "destinations", "groups"},
    "expectations.yaml": {"from", "to"},
    "oaktag.yaml": {"from", "to"},
}
PLAIN = re.compile(r"[A-Za-z0-9][A-Za-z0-9 ._/-]*")


def difference(root: Folder, changed: Mapping[str, str]) -> str:
    """The change as a diff of the files."""
    parts: list[str] = []
    for name, text in changed.items():
        before = root.text(name).splitlines(keepends=True)
        parts += unified_diff(before, text.splitlines(keepends=True), name, name, n=2)
    return "".join(part if part.endswith("\n") else part + "\n" for part in parts)


def try_out(files: Files, changed: Mapping[str, str]) -> Files:
    """Read the workspace as it would be; nothing is written.

    Raises:
        WorkspaceError: the change would make it unreadable or contradictory.
    """
    return read_files(files.folder.over(changed), files.moment)


def write_all(files: Files, what: str, changed: Mapping[str, str]) -> None:
    """Write changed files that were tried out: all or none, whatever happens.

    Args:
        files: what the change was made from.
        what: the change in a few words.
        changed: file → text.

    Raises:
        UsageError: a file of the workspace is not as it was read, or another change goes on.
        OSError: a file cannot be written.
    """
    root = files.root
    with one_writer(root, what):
        if stale := files.folder.stale():
            raise changed_meanwhile(stale)
        encoded = files.folder.encoded
        write_files(root, what, {root / n: encoded(n, text) for n, text in changed.items()})


# -- pins ------------------------------------------------------------------------------------


def _top(text: str, key: str) -> tuple[yaml.Node, yaml.Node] | None:
    root = yaml.compose(text, Loader=LOADER) if text.strip() else None
    if not isinstance(root, yaml.MappingNode):
        return None
    return next(((k, v) for k, v in root.value if k.value == key), None)


def quoted(text: str) -> str:
    """A word as YAML text that reads as just this text."""
    if PLAIN.fullmatch(text):
        return text
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def with_pin(text: str, fields: Mapping[str, str]) -> str:
    """``assignments.yaml`` with one pin more, behind the others."""
    pin = "{" + ", ".join(f"{k}: {quoted(v)}" for k, v in fields.items()) + "}"
    return _with_item(text, "pins", pin)


def _with_item(text: str, list_: str, item: str) -> str:
    """A file with one item more in a list at its top, behind the others; a list that is not there
    begins the file."""
    found = _top(text, list_)
    if found is None:
        return f"{list_}:\n  - {item}\n" + ("\n" + text if text.strip() else "")
    key, node = found
    if isinstance(node, yaml.SequenceNode) and node.value and not node.flow_style:
        last = node.value[-1]
        at = text.find("\n", _end(last)) + 1 or len(text)
        indent = " " * node.start_mark.column
        lead = "" if at == 0 or text[at - 1 : at] == "\n" else "\n"
        return f"{text[:at]}{lead}{indent}- {item}\n{text[at:]}"
    if isinstance(node, yaml.SequenceNode) and node.value:
        at = _end(node.value[-1])
        return f"{text[:at]}, {item}{text[at:]}"
    start = key.end_mark.index
    return f"{text[:start]}:\n  - {item}{text[max(_end(node), text.index(':', start) + 1) :]}"


def without_pin(text: str, line: int, prefix: str | None) -> str:
    """``assignments.yaml`` without the pin that starts in a line (and has the prefix)."""
    found = _top(text, "pins")
    pins = found[1] if found and isinstance(found[1], yaml.SequenceNode) else None
    items = pins.value if pins else []
    for number, item in enumerate(items):
        if item.start_mark.line + 1 > line or item.end_mark.line + 1 < line:
            continue
        held = next((v for k, v in item.value if k.value == "prefix"), None)
        if prefix is not None and isinstance(held, yaml.SequenceNode) and len(held.value) > 1:
            raise UsageError(f"the pin in line {line} is of several prefixes; edit it by hand")
        return _without(text, pins, number) if pins else text
    raise UsageError(f"no pin stands in line {line} of {ASSIGNMENTS}")


def _without(text: str, node: yaml.CollectionNode, number: int) -> str:
    item = node.value[number]
    if node.flow_style:
        if len(node.value) == 1:
            start, end = item.start_mark.index, _end(item)
        elif number:
            start, end = _end(node.value[number - 1]), _end(item)
        else:
            start, end = item.start_mark.index, node.value[1].start_mark.index
        return text[:start] + text[end:]
    start = text.rfind("\n", 0, item.start_mark.index) + 1
    end = text.find("\n", _end(item)) + 1 or len(text)
    if len(node.value) == 1:
        return f"{text[: text.rindex(':', 0, start) + 1]} []\n{text[end:]}"
    return text[:start] + text[end:]


def _end(node: yaml.Node) -> int:
    """Where the last character of a node stands, less the blank that block nodes end with."""
    if not isinstance(node, yaml.CollectionNode) or node.flow_style:
        return int(node.end_mark.index)
    last = node.value[-1]
    return _end(last[1] if isinstance(last, tuple) else last)


# -- lines of the matrix -----------------------------------------------------------------------


def with_line(text: str, fields: Mapping[str, str], before: int | None = None) -> str:
    """A matrix file with one row more, at the end or before the row that starts in a line."""
    lines = list(io.StringIO(text, newline=""))
    header, first = _header(lines)
    row = ",".join(_csv(fields.get(name, "")) for name in header)
    end = "\r\n" if lines[first].endswith("\r\n") else "\n"
    if before is not None:
        lines.insert(before - 1, row + end)
    else:
        if not lines[-1].endswith("\n"):
            lines[-1] += end
        lines.append(row + end)
    return "".join(lines)


def with_cells(text: str, line: int, fields: Mapping[str, str]) -> str:
    """A matrix file with some cells of the row that starts in a line replaced.

    Raises:
        UsageError: the file has no column for one of them.
    """
    lines = list(io.StringIO(text, newline=""))
    header, _ = _header(lines)
    first, last = _row_at(lines, line)
    raw = "".join(lines[first:last])
    end = raw[len(raw.rstrip("\r\n")) :]
    cells = _split_raw(raw[: len(raw) - len(end)])
    for name, value in fields.items():
        if name not in header:
            raise UsageError(f"the file has no column {name!r}; add it to its header first")
        cells[header.index(name)] = _csv(value)
    return "".join([*lines[:first], ",".join(cells) + end, *lines[last:]])


def without_line(text: str, line: int) -> str:
    """A matrix file without the row that starts in a line."""
    lines = list(io.StringIO(text, newline=""))
    first, last = _row_at(lines, line)
    return "".join([*lines[:first], *lines[last:]])


def _row_at(lines: list[str], line: int) -> tuple[int, int]:
    """The physical lines of a row: first, and one past the last."""
    last = line
    while last < len(lines) and "".join(lines[line - 1 : last]).count('"') % 2:
        last += 1
    return line - 1, last


def _header(lines: list[str]) -> tuple[list[str], int]:
    """The names of the columns, and the number of their line: the first that is not empty."""
    first = next((n for n, line in enumerate(lines) if line.strip("\r\n")), 0)
    if lines[first].count('"') % 2:
        raise UsageError(f"the header in line {first + 1} runs over several lines; edit it by hand")
    return [h.strip() for h in next(csv.reader([lines[first]]), [])], first


def _split_raw(row: str) -> list[str]:
    """A row cut at its commas, each cell as it is written, quotes included."""
    cells, start, quoted_ = [], 0, False
    for at, letter in enumerate(row):
        if letter == '"':
            quoted_ = not quoted_
        elif letter == "," and not quoted_:
            cells.append(row[start:at])
            start = at + 1
    return [*cells, row[start:]]


def _csv(value: str) -> str:
    held = io.StringIO()
    # With a line end of its own, the writer puts quotes about a value that holds one.
    csv.writer(held, lineterminator="\r\n").writerow([value, ""])
    return held.getvalue()[: -len(",\r\n")]


def with_permission(text: str, name: str, action: str, services: list[str]) -> str:
    """``permissions.yaml`` with one permission more, behind the others."""
    entry = f"{action}: {services[0] if len(services) == 1 else '[' + ', '.join(services) + ']'}"
    found = _top(text, "permissions")
    if found is None:
        lead = "" if not text or text.endswith("\n") else "\n"
        return f"{text}{lead}permissions:\n  {name}:\n    - {entry}\n"
    _, node = found
    if not isinstance(node, yaml.MappingNode) or not node.value:
        raise UsageError(
            "permissions.yaml has no permission to put this one behind; add it by hand"
        )
    if node.flow_style:
        at = _end(node.value[-1][1])
        return f"{text[:at]}, {name}: [{{{entry}}}]{text[at:]}"
    at = text.find("\n", _end(node.value[-1][1])) + 1 or len(text)
    lead = "" if text[at - 1 : at] == "\n" else "\n"
    indent = " " * node.start_mark.column
    return f"{text[:at]}{lead}{indent}{name}:\n{indent}  - {entry}\n{text[at:]}"


# -- the network -----------------------------------------------------------------------------


def with_feed(text: str, sender: str, receiver: str) -> str:
    """``network.yaml`` with one feed more, behind the others."""
    return _with_item(text, "feeds", f"{{from: {sender}, to: {receiver}}}")


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
            inner = {k.value: v for k, v in item.value}
            if key == "point" and "points" in inner:  # a list that has none yet
                key, value = "points", f"[{{name: judge, {value[1:]}]"
            elif key.startswith("point."):
                item, key = inner["point"], key.removeprefix("point.")
            elif key.startswith("points."):
                _, point, key = key.split(".")
                item = next(
                    p for p in inner["points"].value
                    if any(k.value == "name" and v.value == point for k, v in p.value)
                )  # fmt: skip
            return _with_key(text, item, key, value)
    raise UsageError(f"there is no {kind} {name!r} in network.yaml")


def _with_key(text: str, item: yaml.MappingNode, key: str, value: str) -> str:
    for known, held in item.value:
        if known.value == key:
            return text[: held.start_mark.index] + value + text[_end(held) :]
    if item.flow_style or not item.value:
        at = _end(item.value[-1][1]) if item.value else item.start_mark.index + 1
        lead = ", " if item.value else ""
        return f"{text[:at]}{lead}{key}: {value}{text[at:]}"
    at = text.find("\n", _end(item.value[-1][1])) + 1 or len(text)
    lead = "" if text[at - 1 : at] == "\n" else "\n"
    return f"{text[:at]}{lead}{' ' * item.value[0][0].start_mark.column}{key}: {value}\n{text[at:]}"


# -- names -----------------------------------------------------------------------------------


def renamed(files: Files, old: str, new: str) -> dict[str, str]:
    """All files in which a group's or set's name stands, with the new one in its place."""
    root = files.folder
    changed: dict[str, str] = {}
    for name, keys in NAMING.items():
        text = root.text(name)
        if text:
            places = list(_named(yaml.compose(text, Loader=LOADER), keys, name == GROUPS))
            changed[name] = _replaced(text, places, old, new)
    for name in files.config.layers:
        changed[name] = _renamed_cells(root.text(name), old, new)
    return {n: t for n, t in changed.items() if t != root.text(n)}


def _named(node: yaml.Node | None, keys: set[str], sets: bool) -> Iterator[yaml.ScalarNode]:
    """The scalars that name groups or sets."""
    if isinstance(node, yaml.SequenceNode):
        for item in node.value:
            yield from _named(item, keys, sets)
    elif isinstance(node, yaml.MappingNode):
        for key, value in node.value:
            if sets and key.value == "sets" and isinstance(value, yaml.MappingNode):
                for name, held in value.value:
                    yield name
                    yield from _scalars(held)
            elif key.value in ("sources", "feeds") and not (keys & {"sources", "groups"}):
                continue  # of oaktag.yaml: files, not groups
            elif key.value in keys:
                yield from _scalars(value)
            elif key.value == "feeds":
                for feed in value.value:
                    yield from _named(feed, keys - {"from", "to"}, sets)
            else:
                yield from _named(value, keys, sets)


def _scalars(node: yaml.Node) -> Iterator[yaml.ScalarNode]:
    if isinstance(node, yaml.ScalarNode):
        yield node
    elif isinstance(node, yaml.SequenceNode):
        for item in node.value:
            yield from _scalars(item)


def _replaced(text: str, places: list[yaml.ScalarNode], old: str, new: str) -> str:
    for node in sorted(places, key=lambda n: -n.start_mark.index):
        if node.value == old:
            start, end = node.start_mark.index, node.end_mark.index
            text = text[:start] + text[start:end].replace(old, new) + text[end:]
    return text


def _renamed_cells(text: str, old: str, new: str) -> str:
    """A matrix file with a name replaced in source and destination; all else stays."""
    lines = list(io.StringIO(text, newline=""))
    header, _ = _header(lines)
    wanted = [n for n, h in enumerate(header) if h in ("source", "destination")]
    result: list[str] = []
    for line in lines:
        cells = line.split(",")
        for number in wanted:
            if number < len(cells) and cells[number].strip().strip('"') == old:
                cells[number] = cells[number].replace(old, new)
        result.append(",".join(cells))
    return "".join(result)


def checked(error: WorkspaceError) -> UsageError:
    """A change that would break the workspace, as one error that says how."""
    told = "\n".join(str(p) for p in error.problems)
    return UsageError(f"nothing was changed, for then this would be wrong:\n{told}")
