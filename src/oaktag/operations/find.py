"""``find``: every place where something occurs: in files, bindings and lists.

What is typed is taken for all that it can be: a name or a piece of text as it stands; an address or
prefix, found where one holds it or lies inside of it; a service, found in permissions with an entry
for some of its packets, and in the lines that use these; a tag, in decimal or hexadecimal.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Collection, Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar, NamedTuple

from oaktag.core.addresses import WIDTH, Prefix, parse_prefix
from oaktag.core.packets import EVERYTHING, Box, boxes_of
from oaktag.core.service_text import parse_asked
from oaktag.errors import OakTagError, UnreadableList, UsageError
from oaktag.operations.bindings import row_json
from oaktag.operations.lists import dialect_of, file_of, points_of
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row
from oaktag.workspace.folder import MOST, read_plain

#: Where lists lie if no other folder is named.
LISTS = "lists"
#: So much of a line of a file is shown.
SHOWN = 160
_NUMBER = re.compile(r"0[xX][0-9a-fA-F]{1,4}|\d{1,5}")
#: A service in numbers.
_SERVICE = re.compile(r"(?<![\w.:,-])\d{1,5}(?:[-,]\d{1,5})*/(?:tcp|udp|sctp)\b")
_ADDRESS = re.compile(r"(?<![\w.:])[0-9A-Fa-f]*[.:][0-9A-Fa-f.:]+(?:/\d{1,3})?(?![\w.:])")


@dataclass(frozen=True, eq=False, repr=False)
class Found(Result):
    """Where something occurs: lines of files, bindings in force, and lines of lists."""

    what: str
    taken_for: list[str]
    places: list[Row]
    bindings: list[Row]
    lists: list[Row]
    command: ClassVar[str] = "find"
    table: ClassVar[str] = "places"


class _Asked(NamedTuple):
    """What the text can be: words, as they stand; a prefix; packets; a tag."""

    words: tuple[str, ...]
    prefix: Prefix | None
    boxes: tuple[Box, ...]
    tag: int | None


def find(model: Model, text: str, lists: Path | None = None) -> Found:
    """Every place where something occurs.

    Args:
        model: the workspace.
        text: a name, a piece of text, an address or prefix, a service or port, or a tag.
        lists: the folder of access lists, ``lists`` in the workspace's folder where none is named.

    Raises:
        UsageError: nothing is asked for.
    """
    if not text.strip():
        raise UsageError("find needs some text: a name, an address, a service, a tag or a note")
    asked, taken_for = _taken(model, text.strip())
    places: dict[tuple[str, int], Row] = {}
    for row in (*_in_files(model, asked), *_in_permissions(model, asked)):
        # Of a line it is said once why it is found.
        places.setdefault((str(row["file"]), int(row["line"])), row)
    return Found(
        what=text.strip(),
        taken_for=taken_for,
        places=[places[key] for key in sorted(places)],
        bindings=list(_in_bindings(model, asked)),
        lists=list(_in_lists(model, asked, lists or model.files.root / LISTS)),
    )


def _taken(model: Model, text: str) -> tuple[_Asked, list[str]]:
    """What a text can be, also in words."""
    groups, words = model.groups, [text]
    kinds: dict[str, Collection[str]] = {
        "a group": groups.index, "a set": groups.sets, "an endpoint": model.files.endpoints.index,
        "a node": model.network.nodes, "a segment": model.network.segments,
        "a permission": {p.name for p in model.files.policy.permissions},
        "a service of your own": model.files.permissions.services,
    }  # fmt: skip
    told = [kind for kind, held in kinds.items() if text in held]
    tag = _tag(model, text)
    if tag is not None:
        words.append(groups.name(tag))
        told.append(f"the tag of {groups.name(tag)}")
    elif text in groups.index:
        tag = groups.tag(groups.index[text])
    prefix = None
    with suppress(ValueError):
        prefix = parse_prefix(text)
        whole = prefix.length == WIDTH[prefix.family]
        told.append("an address" if whole else "a prefix")
    boxes = _packets(model, text)
    if boxes:
        told.append("a port" if text.isdigit() else "packets")
    return _Asked(tuple(words), prefix, boxes, tag), told or ["a piece of text"]


def _tag(model: Model, text: str) -> int | None:
    """The number that a text is, if a group has it."""
    if not _NUMBER.fullmatch(text):
        return None
    number = int(text, 16) if text[:2].lower() == "0x" else int(text)
    return number if number and number in model.groups.by_tag else None


def _packets(model: Model, text: str) -> tuple[Box, ...]:
    """The packets of a service, or of a port alone; none where it is neither."""
    try:
        if text.isdigit():
            asked = ", ".join(f"{text}/{word}" for word in ("tcp", "udp", "sctp"))
            return parse_asked(asked)
        boxes = parse_asked(text, model.files.permissions.services)
    except OakTagError:
        return ()
    return () if EVERYTHING in boxes else boxes


def _meet(one: Box, other: Box) -> bool:
    """Whether two boxes have packets in common."""
    if 0 not in (one.family, other.family) and one.family != other.family:
        return False
    return all(a[0] <= b[1] and b[0] <= a[1] for a, b in zip(one[1:], other[1:], strict=True))


def _beside(prefix: Prefix, text: str) -> str:
    """How an address or prefix lies to the one that is asked of; "" where it does not."""
    try:
        other = parse_prefix(text)
    except ValueError:
        return ""
    if other.family != prefix.family:
        return ""
    if (other.start, other.end) == (prefix.start, prefix.end):
        return "it itself"
    if other.start <= prefix.start and prefix.end <= other.end:
        return f"{text} holds it"
    return f"{text} is inside" if prefix.start <= other.start <= prefix.end else ""


# -- files ---------------------------------------------------------------------------------------


def _in_permissions(model: Model, asked: _Asked) -> Iterator[Row]:
    """Entries for some of the packets, and the lines that use such permissions."""
    policy = model.files.policy
    for number, permission in enumerate(policy.permissions):
        hit = [
            entry
            for entry in permission.entries
            if any(_meet(box, mine) for box in entry.boxes for mine in asked.boxes)
        ]
        for entry in hit:
            told = f"{permission.name}: {entry.action} {entry.text}"
            why = "all packets" if EVERYTHING in entry.boxes else "some of the packets"
            yield _row(entry.location.file, entry.location.line, entry.location.column, why, told)
        for line in policy.lines if hit else ():
            if line.permission == number:
                told = f"{line.source} {line.destination} {permission.name}"
                yield _row(line.location.file, line.location.line, line.location.column,
                           f"uses {permission.name}", told)  # fmt: skip


def _row(file: str, line: int, column: int, why: str, text: str) -> Row:
    return {"file": file, "line": line, "column": column, "why": why, "text": text.strip()[:SHOWN]}


def _in_files(model: Model, asked: _Asked) -> Iterator[Row]:
    """Lines of all files that were read."""
    for name, held in sorted(model.files.folder.copies().items()):
        text = held.decode("utf-8-sig", "replace")
        starts = _starts(text)
        for at, why in _in_text(text, asked):
            number = bisect_right(starts, at)
            begins, ends = (
                starts[number - 1 : number + 1]
                if number < len(starts)
                else (starts[-1], len(text) + 1)
            )
            yield _row(name, number, at - begins + 1, why, text[begins : ends - 1])


def _starts(text: str) -> list[int]:
    """Where the lines of a text begin."""
    return [0, *(match.end() for match in re.finditer("\n", text))]


def _in_text(text: str, asked: _Asked) -> Iterator[tuple[int, str]]:
    """Where in a text something occurs, and as what; each place of a kind once."""
    for word in asked.words:
        whole = re.compile(rf"(?<![\w.-]){re.escape(word)}(?![\w-])", re.IGNORECASE)
        yield from ((m.start(), "as it is") for m in whole.finditer(text))
    typed = asked.words[0]
    if asked.prefix is not None:
        for match in _ADDRESS.finditer(text):
            if why := _beside(asked.prefix, match[0]):
                yield match.start(), why
    elif not typed.isdigit():
        part = re.compile(re.escape(typed), re.IGNORECASE)
        yield from ((m.start(), "in the text") for m in part.finditer(text))
    if asked.boxes:
        for match in _SERVICE.finditer(text):
            with suppress(OakTagError):
                if any(_meet(a, b) for a in parse_asked(match[0]) for b in asked.boxes):
                    yield match.start(), "some of the packets"


# -- bindings and lists --------------------------------------------------------------------------


def _in_bindings(model: Model, asked: _Asked) -> Iterator[Row]:
    """Bindings in force at the registry: of the addresses, to the tag, or of the endpoint."""
    row = model.files.endpoints.index.get(asked.words[0])
    mine = model.places.take(model.places.endpoint == row) if row is not None else ()
    addresses = {place.address for place in mine}
    for binding in model.registry.in_force:
        prefix, wanted = binding.prefix, asked.prefix
        meets = (
            wanted is not None
            and prefix.family == wanted.family
            and (prefix.start <= wanted.end and wanted.start <= prefix.end)
        )
        if meets or binding.tag == asked.tag or binding.prefix in addresses:
            yield row_json(model, binding)


def _in_lists(model: Model, asked: _Asked, folder: Path) -> Iterator[Row]:
    """Of each list that lies there how many of its lines name it, and the first of them."""
    for point in points_of(model):
        path = folder / file_of(model, point)
        try:
            text = read_plain(path, MOST)[0].decode("utf-8", "replace")
        except OSError:
            continue
        starts = _starts(text)
        hit = {bisect_right(starts, at) for at, _ in _in_text(text, asked)}
        with suppress(UnreadableList):
            for standing in dialect_of(model, point).standing(text) if asked.boxes else ():
                region = standing.entry.region
                boxes = () if region is None else boxes_of(region)
                if any(_meet(one, other) for one in boxes for other in asked.boxes):
                    hit.add(standing.line)
        if hit:
            first = min(hit)
            told = text.split("\n")[first - 1]
            yield {"point": point.id, "file": path.as_posix(), "lines": len(hit),
                   "line": first, "text": told.strip()[:SHOWN]}  # fmt: skip
