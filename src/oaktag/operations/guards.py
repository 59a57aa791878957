"""What a version does to its own guards: expectations, ``keep_open``, severities, ``accepted``.

Whoever takes an expectation away makes ``verify`` say that all is well; so a comparison says first
which guards of the older version the newer one lacks, counts as less severe, or bears beyond what
was borne. A guard is told by what it asks, not by its line; one that was changed is one less.
"""

from __future__ import annotations

from datetime import date

from oaktag.core.ends import End
from oaktag.core.groups import Groups
from oaktag.core.packets import Atoms
from oaktag.core.services import set_text
from oaktag.findings import CODES, SEVERITIES
from oaktag.located import Location
from oaktag.operations.documents import Document
from oaktag.operations.model import Model
from oaktag.workspace.config_file import Accepted
from oaktag.workspace.expectations_file import Borne, Expectation

#: From what stops most to what stops nothing.
_LESS = (*SEVERITIES, "off")


def guards(was: Model, now: Model) -> list[Document]:
    """What guards a version less than the one before, each with its place there (or, for what is
    borne anew, here)."""
    before, after = was.files, now.files
    groups = was.groups, now.groups
    return [
        *_fewer("expectation", before.expectations, after.expectations, groups),
        *_fewer("keep_open", before.keep_open, after.keep_open, groups),
        *_severities(was, now),
        *_borne(was, now),
    ]


def _row(guard: str, place: Location, text: str, told: str) -> Document:
    return {"guard": guard, "file": place.file, "line": place.line, "text": text, "told": told}


def _fewer(
    guard: str,
    before: tuple[Expectation, ...],
    after: tuple[Expectation, ...],
    groups: tuple[Groups, Groups],
) -> list[Document]:
    """What is not asked any more, or by the same words of fewer groups or other packets."""
    left: dict[str, list[Expectation]] = {}
    for one in after:
        left.setdefault(_asked(one), []).append(one)
    rows: list[Document] = []
    for one in before:
        same = left.get(_asked(one))
        told = _less(one, same.pop(0), groups) if same else "taken away"
        if told:
            rows.append(_row(guard, one.location, _asked(one), told))
    return rows


def _asked(one: Expectation) -> str:
    more = f"{', enforced' * one.enforced}{', on every path' * one.path}"
    return f"{one.source.word} → {one.destination.word}: {one.text}{more}"


def _less(old: Expectation, new: Expectation, groups: tuple[Groups, Groups]) -> str:
    """What an expectation of the same words does not ask any more; groups that are gone aside."""
    lost: set[str] = set()
    for end in ("source", "destination"):
        names = [
            {held.all[g].id for g in getattr(one, end).groups}
            for one, held in zip((old, new), groups, strict=True)
        ]
        lost |= {name for name in names[0] - names[1] if name in groups[1].index}
    if lost:
        return f"no longer about {', '.join(sorted(lost))}"
    return "" if old.boxes == new.boxes else "about other packets, for its service is another"


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
