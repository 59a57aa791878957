"""``callers``, ``callees``, ``describe`` and ``around``: the matrix asked from either end."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import ClassVar

from oaktag.core.lines import Action
from oaktag.core.matrix import ANSWERS
from oaktag.core.service_text import parse_asked
from oaktag.errors import UsageError
from oaktag.operations.documents import Document
from oaktag.operations.model import Model
from oaktag.operations.result import ABSENT, Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Callers(Result):
    """Who may reach a destination (``callers``), or what a source may reach (``callees``)."""

    command: str
    service: str
    destination: Row = field(default=ABSENT)
    source: Row = field(default=ABSENT)
    callers: list[Row] = field(default=ABSENT)
    callees: list[Row] = field(default=ABSENT)
    shown_by: ClassVar[str] = "callers"

    @property
    def table(self) -> str:  # type: ignore[override]
        """Of the name of the command."""
        return self.command


@dataclass(frozen=True, eq=False, repr=False)
class Described(Result):
    """A group's policy in sentences, each with the lines that say so."""

    group: str
    tag: int
    sentences: list[Row]
    command: ClassVar[str] = "describe"
    table: ClassVar[str] = "sentences"


@dataclass(frozen=True, eq=False, repr=False)
class Around(Result):
    """What comes into a set of groups, passes inside it, and goes out; and between which groups
    nothing but the default speaks."""

    set: str
    groups: list[str]
    comes_in: list[Row]
    passes_inside: list[Row]
    goes_out: list[Row]
    default: Action
    by_default: dict[str, list[str]]
    command: ClassVar[str] = "around"
    table: ClassVar[str] = "comes_in"


def callers(
    model: Model, destination: str, service: str | None = None, *, endpoints: bool = False
) -> Callers:
    """Who may reach a destination, for a service or for anything.

    Raises:
        UsageError: an unknown name, a set, or no service.
    """
    return _other_ends(model, "callers", destination, service, endpoints=endpoints)


def callees(
    model: Model, source: str, service: str | None = None, *, endpoints: bool = False
) -> Callers:
    """What a source may reach, for a service or for anything.

    Raises:
        UsageError: an unknown name, a set, or no service.
    """
    return _other_ends(model, "callees", source, service, endpoints=endpoints)


def _other_ends(
    model: Model, command: str, word: str, service: str | None, *, endpoints: bool
) -> Callers:
    model, mask = _asked(model, service)
    asked = model.some_groups(word)
    every = range(len(model.groups))
    if command == "callers":
        pairs, end, here = [(g, d) for g in every for d in asked], 0, "destination"
    else:
        pairs, end, here = [(s, g) for g in every for s in asked], 1, "source"
    rows = _rows(model, pairs, end, mask, endpoints=endpoints)
    about: Document = model.group_json(asked[0])
    if len(asked) > 1:
        about = {"group": word, "tag": None}
        rows = _together(rows)
    else:
        for row in rows:
            row.pop("of")
    if here == "destination":
        return Callers(command, service or "any", destination=about, callers=rows)
    return Callers(command, service or "any", source=about, callees=rows)


def _asked(model: Model, service: str | None) -> tuple[Model, int]:
    """The packets of a service, in the model cut along them."""
    if service is None:
        return model, model.atoms.full
    boxes = parse_asked(service, model.files.permissions.services)
    finer = model.cut_along(boxes)
    return finer, finer.atoms.mask(boxes)


def _rows(
    model: Model, pairs: Iterable[tuple[int, int]], end: int, mask: int, *, endpoints: bool
) -> list[Document]:
    """The other ends that are allowed any of the packets, with what and by which lines."""
    forms = model.matrix.forms
    people = _members(model)
    rows: list[Document] = []
    for pair in pairs:
        now, later = (forms[model.matrix.form(*pair, answer)] & mask for answer in ANSWERS)
        if not now | later:
            continue
        group = pair[end]
        row: Document = {
            **model.group_json(group), "of": [model.groups.all[pair[1 - end]].id],
            "members": len(people[group]), "all": now == mask,
            "allows": model.text(now) if now != mask else "all of it",
            "would_allow": model.text(later) if later != mask else "all of it",
            "lines": _allowing(model, pair, now),
        }  # fmt: skip
        if mask == model.atoms.full:
            row["allows"], row["would_allow"] = (model.text(m) for m in (now, later))
        if endpoints:
            row["endpoints"] = [model.files.endpoints.ids[r] for r in people[group]]
        rows.append(row)
    return rows


def _together(rows: list[Document]) -> list[Document]:
    """list[Row] of one group with the same content as one, ``of`` all those of the set."""
    alike: dict[tuple[object, ...], Document] = {}
    for row in rows:
        key = row["group"], row["allows"], row["would_allow"]
        known = alike.setdefault(key, row)
        if known is not row:
            known["of"] = [*known["of"], *row["of"]]
            known["lines"] += [line for line in row["lines"] if line not in known["lines"]]
    return list(alike.values())


def _members(model: Model) -> dict[int, list[int]]:
    found: dict[int, list[int]] = {g: [] for g in range(len(model.groups))}
    for row, group in enumerate(model.assignment.group.tolist()):
        found[max(group, 0)].append(row)
    return found


def _allowing(model: Model, pair: tuple[int, int], mask: int) -> list[Document]:
    """The lines that allow the packets in a cell, and whether the default allows some."""
    places: dict[tuple[str, int] | None, None] = {}
    for piece in model.matrix.pieces(*pair, "action"):
        if piece.action == "allow" and piece.mask & mask:
            where = None
            if piece.row >= 0:
                location = model.lines[model.matrix.rows[piece.row].line].location
                where = location.file, location.line
            places[where] = None
    return [
        {"file": None, "line": None} if p is None else {"file": p[0], "line": p[1]} for p in places
    ]


# -- describe ------------------------------------------------------------------------------------


def describe(model: Model, word: str) -> Described:
    """The whole policy of a group in plain sentences, each with the lines that say so.

    Raises:
        UsageError: an unknown name, or a set.
    """
    group = model.one_group(word)
    name, info = model.groups.all[group].id, model.groups.all[group]
    people = _members(model)[group]
    endpoints = model.files.endpoints
    kinds = Counter(endpoints.kind(r) for r in people)
    sites = sorted({str(v) for r in people for v in endpoints.value(r, "site")})
    held = ", ".join(f"{n} {kind}{'s' * (n != 1)}" for kind, n in sorted(kinds.items()))
    who = f"{name} is the group with tag {model.groups.tag(group)}"
    who += f" ({info.title})" if info.title else ""
    where = f", at {', '.join(sites)}" if sites else ""
    sentences = [
        _sentence(f"{who}. {'It holds ' + held + where if held else 'Nobody is in it'}.", [])
    ]
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
        if matrix.forms[matrix.form(*pair, "would")] == blank and not _deciding(model, [pair]):
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


def _deciding(model: Model, pairs: list[tuple[int, int]]) -> list[Document]:
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


# -- around --------------------------------------------------------------------------------------


def around(model: Model, word: str) -> Around:
    """What comes into a set of groups, what passes inside it, and what goes out.

    Raises:
        UsageError: an unknown name.
    """
    inner = set(model.groups_of(model.end(word)))
    if not inner:
        raise UsageError(f"{word!r} holds no group")
    matrix = model.matrix
    blank = model.atoms.full if model.files.policy.default == "allow" else 0
    parts: dict[str, list[Document]] = {"comes_in": [], "passes_inside": [], "goes_out": []}
    by_default: dict[str, set[str]] = {part: set() for part in parts}
    every = range(len(model.groups))
    pairs = {(s, d) for g in inner for other in every for s, d in ((g, other), (other, g))}
    for s, d in sorted(pairs):
        form = matrix.forms[matrix.form(s, d)]
        part = "passes_inside" if {s, d} <= inner else "goes_out" if s in inner else "comes_in"
        if form == blank and not _deciding(model, [(s, d)]):
            if form:
                by_default[part].add(model.groups.all[d if part == "goes_out" else s].id)
            continue
        if not form:
            continue
        parts[part].append(
            {
                "source": model.groups.all[s].id, "destination": model.groups.all[d].id,
                "allows": model.text(form), "lines": _allowing(model, (s, d), form),
            }
        )  # fmt: skip
    names = [model.groups.all[g].id for g in sorted(inner)]
    rest = {part: sorted(cells) for part, cells in by_default.items()}
    default = model.files.policy.default
    return Around(set=word, groups=names, **parts, default=default, by_default=rest)
