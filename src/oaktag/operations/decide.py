"""``decide``: allow or deny, and the line that says so; one question, or a file of many."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from dataclasses import replace
from typing import TextIO

import numpy as np

from oaktag.core.matrix import Part
from oaktag.core.packets import ICMP_OF, PORTED, PROTOCOL_NAMES, Atoms, Box, Packet, boxes_of
from oaktag.core.service_text import parse_asked, set_text
from oaktag.errors import UsageError
from oaktag.located import Location
from oaktag.operations.documents import (
    Document,
    boxes_json,
    clipped,
    packet_json,
    piece_json,
)
from oaktag.operations.model import Model
from oaktag.operations.result import ABSENT
from oaktag.operations.results import Decision
from oaktag.operations.whose import addressed
from oaktag.workspace.csvfile import parse_csv
from oaktag.workspace.textfile import Problems, checked_lines

NUMBER = re.compile(r"[+-]?\d+(\.\d+)?")
ANSWERED = ("action", "would", "file", "line")
#: So many cells are decided at once.
MOST_PAIRS = 10_000
COLUMNS = (
    "source", "destination", "family", "protocol", "source_port", "destination_port",
)  # fmt: skip


def decide(
    model: Model,
    source: str,
    destination: str,
    service: str,
    family: int | None = None,
    source_port: int | None = None,
) -> Decision:
    """What one cell says about the packets of a service, or all cells of sets.

    Args:
        model: the workspace.
        source: group, set, tag, endpoint, node or address; so is ``destination``.
        service: in a written form, see ``core.services``.
        family: 4 or 6, to narrow the question.
        source_port: to narrow it likewise.

    Raises:
        UsageError: an unknown name, too many cells, or no packet is asked about.
    """
    asked = _asked(model, service, family, source_port)
    words = source, destination
    sides = [model.some_groups(word) for word in words]
    if len(sides[0]) * len(sides[1]) > MOST_PAIRS:
        raise UsageError(
            f"these are {len(sides[0]) * len(sides[1]):,} cells: oaktag matrix --service {service} "
            "shows as many at once"
        )
    about = addressed(model, *words)
    rows = [_decided(model, (s, d), service, asked) for s in sides[0] for d in sides[1]]
    if len(rows) == 1:
        return replace(rows[0], addressed=about)
    first = rows[0]
    same = {
        name: value if all(getattr(row, name) == value for row in rows) else None
        for name, value in first.as_json().items()
        if name in ("action", "would", "line", "would_line", "permission", "entry")
    }
    ends = [
        model.group_json(side[0]) if len(side) == 1 else {"group": word, "tag": None}
        for word, side in zip(words, sides, strict=True)
    ]
    return Decision(
        source=ends[0],
        destination=ends[1],
        service=service,
        packet=first.packet,
        action=same["action"] or "mixed",
        would=same["would"] or "mixed",
        line=same["line"],
        would_line=same["would_line"],
        permission=same["permission"],
        entry=same["entry"],
        addressed=about,
        cells=[
            {
                "source": row.source, "destination": row.destination, "action": row.action,
                "would": row.would, "line": row.line, "would_line": row.would_line,
                "permission": row.permission, "entry": row.entry,
            }
            for row in rows
        ],
    )  # fmt: skip


def _decided(model: Model, ends: tuple[int, int], service: str, asked: Sequence[Box]) -> Decision:
    """What one cell says."""
    matrix = model.matrix
    parts = matrix.parts(*ends, model.atoms.mask(asked))
    answers = {(p.action.action, p.would.action) for p in parts}
    first = parts[0]
    regions = clipped(model.atoms.regions(first.mask), asked)
    said = piece_json(matrix, first.action)
    mixed = len(answers) > 1
    return Decision(
        source=model.group_json(ends[0]),
        destination=model.group_json(ends[1]),
        service=service,
        packet=packet_json(regions[0].first()),
        action="mixed" if mixed else first.action.action,
        would="mixed" if mixed else first.would.action,
        line=None if mixed else said["line"],
        would_line=None if mixed else piece_json(matrix, first.would)["line"],
        permission=None if mixed else said["permission"],
        entry=None if mixed else said["entry"],
        addressed=[],
        parts=[row for part in parts for row in _part(model, part, asked)]
        if len(parts) > 1
        else ABSENT,
    )


def _asked(model: Model, service: str, family: int | None, source_port: int | None) -> list[Box]:
    boxes = list(parse_asked(service, model.files.permissions.services))
    if family is not None:
        boxes = [b._replace(family=family) for b in boxes if b.family in (0, family)]
        if not boxes:
            raise UsageError(f"{service} has no packets of IPv{family}")
    if source_port is not None:
        boxes = [
            b._replace(sources=(source_port, source_port))
            for b in boxes
            if b.sources[0] <= source_port <= b.sources[1]
        ]
    if not boxes or not model.atoms.mask(boxes):
        raise UsageError(f"{service} has no packet from port {source_port}")
    return boxes


def _part(model: Model, part: Part, asked: Sequence[Box]) -> list[Document]:
    would = piece_json(model.matrix, part.would)
    regions = clipped(model.atoms.regions(part.mask), asked)
    boxes = [box for region in regions for box in boxes_of(region)]
    fine = Atoms(boxes)
    services = set_text(fine, fine.mask(boxes))
    rows = [{**box, "services": services} for box in boxes_json(regions)]
    for row in rows:
        row.update(
            action=part.action.action,
            would=part.would.action,
            **piece_json(model.matrix, part.action),
            would_line=would["line"],
        )
    return rows


def decide_batch(model: Model, questions: TextIO, name: str, answers: TextIO) -> int:
    """Answer a CSV of packets with the same rows and ``action,would,file,line``.

    Returns:
        The number of questions answered.

    Raises:
        WorkspaceError: with every row that is no question, by line; nothing is written then.
    """
    problems = Problems()
    file = parse_csv(name, checked_lines(name, questions.read(), problems) or "", problems)
    if file is None:
        raise problems.error()
    before = problems.count
    for column in COLUMNS:
        if column not in file.header:
            problems.form(Location(name, 1), f"the column {column!r} is missing", ",".join(COLUMNS))
    for column in file.header:
        if column in ANSWERED:
            told = f"the column {column!r} is what this command writes"
            problems.form(Location(name, 1), told, "take it out, or name it otherwise")
    if problems.count > before:
        raise problems.error()
    at = [file.header.index(c) for c in COLUMNS]
    parsed: list[tuple[int, int, Packet]] = []
    ends: dict[str, int | str] = {}
    for row, line in zip(file.rows, file.lines, strict=True):
        cells = [row[i] for i in at]
        try:
            s, d = (_end(model, word, ends) for word in cells[:2])
            parsed.append((s, d, _packet(cells[2:])))
        except UsageError as error:
            problems.form(Location(name, line), str(error))
    if problems.count:
        raise problems.error()
    _answer(model, file.header, file.rows, parsed, answers)
    return len(file.rows)


def _end(model: Model, word: str, known: dict[str, int | str]) -> int:
    if word not in known:
        try:
            known[word] = model.one_group(word)
        except UsageError as error:
            known[word] = str(error)
    found = known[word]
    if isinstance(found, str):
        raise UsageError(found)
    return found


def _packet(cells: list[str]) -> Packet:
    family, protocol, source, destination = cells
    if family not in ("4", "6"):
        raise UsageError(f"the family is {family!r}; 4 or 6 is meant")
    number = PROTOCOL_NAMES.get(protocol, -1)
    if protocol == "icmp":
        number = ICMP_OF[int(family)]
    if number < 0:
        number = _within(protocol, 255)
    if number < 0:
        raise UsageError(f"the protocol is {protocol!r}; a number from 0 to 255 or a name is meant")
    top = 65535 if number in PORTED else 255 if ICMP_OF[int(family)] == number else 0
    ports: list[int] = []
    for text in (source, destination):
        ports.append(_within(text, top))
        if ports[-1] < 0:
            raise UsageError(f"{text!r} is no port of protocol {number}; 0 to {top} is meant")
    return Packet(int(family), number, *ports)


def _within(text: str, top: int) -> int:
    """A number from 0 to ``top``; -1 for all else."""
    number = int(text) if re.fullmatch(r"[0-9]{1,5}", text) else -1
    return number if number <= top else -1


def harmless(cell: str) -> str:
    """A cell that a spreadsheet would run as a formula, marked as text; all others as they are."""
    if cell[:1] in ("=", "+", "-", "@", "\t", "\r") and not NUMBER.fullmatch(cell):
        return f"'{cell}"
    return cell


def _answer(
    model: Model,
    header: list[str],
    rows: list[list[str]],
    parsed: list[tuple[int, int, Packet]],
    answers: TextIO,
) -> None:
    matrix = model.matrix
    columns = np.array([(s, d, *p) for s, d, p in parsed], dtype=np.int64).reshape(-1, 6).T
    atoms = model.atoms.atoms(*columns[2:]) if len(rows) else np.zeros(0, dtype=np.int64)
    actions, woulds = matrix.decide_many(columns[0], columns[1], atoms)
    known: dict[tuple[int, int, int], tuple[str, object]] = {}
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow([*header, *ANSWERED])
    for number, row in enumerate(rows):
        key = int(columns[0][number]), int(columns[1][number]), int(atoms[number])
        if key not in known:
            piece = matrix.parts(key[0], key[1], 1 << key[2])[0].action
            line = piece_json(matrix, piece)["line"] or {"file": "", "line": ""}
            known[key] = line["file"], line["line"]
        words = ["allow" if said[number] else "deny" for said in (actions, woulds)]
        writer.writerow([*map(harmless, row), *words, *known[key]])
    answers.write(text.getvalue())
