"""``decide --batch``: a CSV of packets, answered row by row."""

from __future__ import annotations

import csv
import io
import re
from typing import TextIO

import numpy as np

from oaktag.core.packets import ICMP_OF, PORTED, PROTOCOL_NAMES, Packet
from oaktag.errors import UsageError
from oaktag.located import Location
from oaktag.operations.json_parts import piece_json
from oaktag.operations.model import Model
from oaktag.workspace.csvfile import parse_csv
from oaktag.workspace.textfile import Problems, checked_lines

NUMBER = re.compile(r"[+-]?\d+(\.\d+)?")
ANSWERED = ("action", "would", "file", "line")
COLUMNS = (
    "source", "destination", "family", "protocol", "source_port", "destination_port",
)  # fmt: skip


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
