"""``describe``: a group's policy in sentences."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import ClassVar

from oaktag.core.domains import origin_of
from oaktag.core.matrix import ANSWERS
from oaktag.operations.callers import members_of
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Described(Result):
    """A group's policy in sentences, each with the lines that say so."""

    group: str
    tag: int
    sentences: list[Row]
    command: ClassVar[str] = "describe"
    table: ClassVar[str] = "sentences"


def describe(model: Model, word: str) -> Described:
    """The whole policy of a group in plain sentences, each with the lines that say so.

    Raises:
        UsageError: an unknown name, or a set.
    """
    group = model.one_group(word)
    name, info = model.groups.all[group].id, model.groups.all[group]
    people = members_of(model)[group]
    endpoints = model.files.endpoints
    kinds = Counter(endpoints.kind(r) for r in people)
    sites = sorted({str(v) for r in people for v in endpoints.value(r, "site")})
    held = ", ".join(f"{n} {kind}{'s' * (n != 1)}" for kind, n in sorted(kinds.items()))
    who = f"{name} is the group with tag {model.groups.tag(group)}"
    who += f" ({info.title})" if info.title else ""
    where = f", at {', '.join(sites)}" if sites else ""
    members = f"It holds {held}{where}" if held else "Nobody is in it"
    if origin := origin_of(name):
        members = f"Who is in it is for {origin} to say"
    sentences = [_sentence(f"{who}. {members}.", [])]
    every = range(len(model.groups))
    default = model.files.policy.default
    spoken = [model.matrix.spoken(group, axis) for axis in (0, 1)]
    for toward, pairs, end in (
        ("out", [(group, g) for g in every if spoken[0][g]], 1),
        ("in", [(g, group) for g in every if spoken[1][g]], 0),
    ):
        sentences += _alike(model, name, toward, pairs, end)
        rest = "All else from it" if toward == "out" else "All else to it"
        verb = "denied" if default == "deny" else "allowed"
        sentences.append(_sentence(f"{rest} is {verb} by the default.", []))
    return Described(**model.group_json(group), sentences=sentences)


def _alike(
    model: Model, name: str, toward: str, pairs: list[tuple[int, int]], end: int
) -> list[Document]:
    """A sentence for each distinct content, with all groups that have it."""
    matrix = model.matrix
    blank = model.atoms.full if model.files.policy.default == "allow" else 0
    by: dict[tuple[int, int], list[tuple[int, int]]] = {}
    for pair in pairs:
        if matrix.forms[matrix.form(*pair, "would")] == blank and not deciding(model, [pair]):
            continue
        key = matrix.form(*pair), matrix.form(*pair, "would")
        by.setdefault(key, []).append(pair)
    sentences: list[Document] = []
    for (now, later), alike in by.items():
        form = matrix.forms[now]
        names = _listed([model.groups.all[p[end]].id for p in alike])
        services = model.text(form)
        if not form:
            text = {
                "out": f"{name} may not reach {names} at all",
                "in": f"{names} may not reach {name} at all",
            }[toward]
        else:
            what = "for anything" if services == "any" else f"for {services}"
            text = {
                "out": f"{name} may reach {names} {what}",
                "in": f"{names} may reach {name} {what}",
            }[toward]
        if now != later:
            then = model.text(matrix.forms[later])
            text += f"; were the observed lines enforced, for {then}"
        sentences.append(_sentence(f"{text}.", _saying(model, alike)))
    return sentences


def _saying(model: Model, pairs: list[tuple[int, int]]) -> list[Document]:
    """The lines that a sentence about some cells rests on: those that allow; where nothing is
    allowed, those that deny, unless the default does; and the observed ones where they differ."""
    places: dict[tuple[str | None, int | None], None] = {}
    matrix = model.matrix
    for pair in pairs:
        for answer in ANSWERS if matrix.form(*pair) != matrix.form(*pair, "would") else ANSWERS[:1]:
            pieces = matrix.pieces(*pair, answer)
            said = [p for p in pieces if p.action == "allow"]
            said = said or [p for p in pieces if p.row < 0] or pieces
            for piece in said:
                place: tuple[str | None, int | None] = None, None
                if piece.row >= 0:
                    location = model.lines[matrix.rows[piece.row].line].location
                    place = location.file, location.line
                places[place] = None
    order = sorted(places, key=lambda p: (p[0] or "", p[1] or 0))
    return [{"file": file, "line": line} for file, line in order]


def deciding(model: Model, pairs: list[tuple[int, int]]) -> list[Document]:
    """The lines that decide some packet in any of the cells."""
    places: dict[tuple[str, int], None] = {}
    for pair in pairs:
        for piece in model.matrix.pieces(*pair, "action"):
            if piece.row >= 0:
                location = model.lines[model.matrix.rows[piece.row].line].location
                places[location.file, location.line] = None
    return [{"file": file, "line": line} for file, line in sorted(places)]


def _sentence(text: str, lines: list[Document]) -> Document:
    return {"text": text, "lines": lines}


def _listed(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
