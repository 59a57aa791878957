"""What a version does to its own guards: expectations, ``keep_open``, severities, ``accepted``.

Whoever takes an expectation away makes ``verify`` say that all is well; so a comparison says first
which guards of the older version the newer one lacks, counts as less severe, or bears beyond what
was borne. A guard is told by what it asks, not by its line; one that was changed is one less.
"""

from __future__ import annotations

from datetime import date

from oaktag.core.comparison import renamed
from oaktag.core.groups import STAR, Groups
from oaktag.core.packets import Atoms
from oaktag.core.question_words import End
from oaktag.core.service_text import set_text
from oaktag.errors import UsageError
from oaktag.findings import CODES, SEVERITIES
from oaktag.located import Location
from oaktag.operations.expect import checked
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.workspace.config_file import Accepted
from oaktag.workspace.expectations_file import Borne, Expectation

#: From what stops most to what stops nothing.
_LESS = (*SEVERITIES, "off")


class Asked:
    """What expectations of two versions ask, so that two can be told to be the same: a group that
    is renamed has its new name in both, and a set that one of them lacks is known by its groups."""

    def __init__(self, was: Groups, now: Groups) -> None:
        self.groups = was, now
        self._new = renamed(was, now)

    def ids(self, end: End, version: int) -> set[str]:
        """The groups of an end, by their newest names; ``version`` is 0 for the older."""
        held = self.groups[version]
        return {self._new.get(held.all[g].id, held.all[g].id) for g in end.groups}

    def _end(self, end: End, version: int) -> str:
        if end.kind == "set" and end.word not in (STAR, *self.groups[1 - version].sets):
            return " ".join(sorted(self.ids(end, version)))
        return self._new.get(end.word, end.word)

    def key(self, one: Expectation, version: int) -> str:
        """What one asks, as a text that is the same for the same."""
        ends = [self._end(end, version) for end in (one.source, one.destination)]
        return f"{' → '.join(ends)}: {_what(one)}"

    def less(self, old: Expectation, new: Expectation) -> str:
        """What an expectation of the same words asks no more; groups that are gone aside."""
        lost: set[str] = set()
        for end in ("source", "destination"):
            lost |= self.ids(getattr(old, end), 0) - self.ids(getattr(new, end), 1)
        lost &= set(self.groups[1].index)
        if lost:
            return f"no longer about {', '.join(sorted(lost))}"
        return "" if old.boxes == new.boxes else "about other packets, for its service is another"


def _what(one: Expectation) -> str:
    return f"{one.text}{', enforced' * one.enforced}{', on every path' * one.path}"


def guards(was: Model, now: Model) -> list[Document]:
    """What guards a version less than the one before, each with its place there (or, for what is
    borne anew, here)."""
    before, after = was.files, now.files
    asked = Asked(was.groups, now.groups)
    return [
        *_fewer(now, "expectation", before.expectations, after.expectations, asked),
        *_fewer(now, "keep_open", before.keep_open, after.keep_open, asked),
        *_severities(was, now),
        *_borne(was, now),
    ]


def _row(
    guard: str, place: Location, text: str, told: str, would_hold: bool | None = None
) -> Document:
    where = {"file": place.file, "line": place.line}
    return {"guard": guard, **where, "text": text, "told": told, "would_hold": would_hold}


def _fewer(
    now: Model,
    guard: str,
    before: tuple[Expectation, ...],
    after: tuple[Expectation, ...],
    asked: Asked,
) -> list[Document]:
    """What is not asked any more, or by the same words of fewer groups or other packets."""
    left: dict[str, list[Expectation]] = {}
    for one in after:
        left.setdefault(asked.key(one, 1), []).append(one)
    rows: list[Document] = []
    for one in before:
        same = left.get(asked.key(one, 0))
        told = asked.less(one, same.pop(0)) if same else "taken away"
        if told:
            text = f"{one.source.word} → {one.destination.word}: {_what(one)}"
            holds = _would_hold(now, one, keep=guard == "keep_open")
            rows.append(_row(guard, one.location, text, told, holds))
    return rows


def _would_hold(now: Model, one: Expectation, *, keep: bool) -> bool | None:
    """Whether what an older version asked holds in the newer one; None where that has no such
    ends any more."""
    try:
        source, destination = (
            now.end(end.word, points=True) for end in (one.source, one.destination)
        )
    except UsageError:
        return None
    same = one._replace(source=source, destination=destination)
    return bool(checked(now, same, keep=keep)["holds"])


def _severities(was: Model, now: Model) -> list[Document]:
    rows: list[Document] = []
    before, after = was.files.config, now.files.config
    for code, usual in ((c.code, c.severity) for c in CODES.values()):
        old, new = (side.severities.get(code, usual) for side in (before, after))
        if _LESS.index(new) > _LESS.index(old):
            rows.append(
                _row("severity", Location(after.file.name, 1), code, f"was {old}, is {new}")
            )
    return rows


def _borne(was: Model, now: Model) -> list[Document]:
    before, after = _all_borne(was), _all_borne(now)
    gone = [_row("accepted", p, t, "taken away") for t, p in before.items() if t not in after]
    more = [_row("accepted", p, t, "borne anew") for t, p in after.items() if t not in before]
    return gone + more


def _all_borne(model: Model) -> dict[str, Location]:
    every: list[Accepted | Borne] = [*model.files.config.accepted, *model.files.borne]
    return {_text(one): one.location for one in every}


def _text(one: Accepted | Borne) -> str:
    """A row of ``accepted`` in one line: all that says what it covers, and until when."""
    if isinstance(one, Accepted):
        parts = [one.code, one.file or "", one.match]
    else:
        ends = [_end("from", one.source), _end("to", one.destination)]
        parts = [one.effect, one.cause or "", " ".join(one.at), *ends, _boxes(one)]
    return f"{' '.join(p for p in parts if p)}, until {date.fromordinal(one.until)}"


def _end(word: str, end: End | None) -> str:
    return "" if end is None else f"{word} {end.word}"


def _boxes(one: Borne) -> str:
    if not one.boxes:
        return ""
    atoms = Atoms(one.boxes)
    return set_text(atoms, atoms.mask(one.boxes))
