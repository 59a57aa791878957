"""``domains``: whose groups are adopted, what is in force of them, what is there now, and what they
hold of ours."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from oaktag.core.bindings import BINDING_SOURCES
from oaktag.core.domains import Shared, name_of
from oaktag.errors import UsageError
from oaktag.findings import Finding, finding
from oaktag.located import Location
from oaktag.operations.adopting import Refused, contested_by, found_now, not_its_own
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row
from oaktag.operations.severities import borne
from oaktag.operations.sharing import told
from oaktag.workspace.adopted_files import held, wanted
from oaktag.workspace.domain_file import digest_of
from oaktag.workspace.sharing_part import Adopt
from oaktag.workspace.times import SECOND, instant_text


@dataclass(frozen=True, eq=False, repr=False)
class Domains(Result):
    """Domains whose groups are adopted."""

    ours: str
    domains: list[Row]
    findings: list[Row]
    command: ClassVar[str] = "domains"
    table: ClassVar[str] = "domains"


def domains(model: Model, *, ask: bool = True) -> Domains:
    """Each domain whose groups are adopted: what is in force, what is there now, what changed.

    Args:
        model: the workspace.
        ask: also where their documents are; else only what is held is told.

    Raises:
        UsageError: no domain's groups are adopted, or our key cannot be read.
    """
    config = model.files.config
    if not config.adopt:
        raise UsageError(
            "oaktag.yaml adopts nothing: adopt: [{origin: brindle, from: FILE or https://…, …}]"
        )
    now = None if config.share is None else digest_of(told(model))
    rows = [_row(model, adopt, now, ask=ask) for adopt in config.adopt]
    found = [
        f for adopt, row in zip(config.adopt, rows, strict=True)
        for f in _findings(config.file.place(adopt.node), row)
    ]  # fmt: skip
    ours = "" if config.share is None else config.share.origin
    return Domains(ours, rows, borne(model, "domains", found)["findings"])


def _findings(place: Location, row: Row) -> Iterator[Finding]:
    """What is wrong with a domain."""
    for words in row["contested"]:
        yield not_its_own(place, row["origin"], words)
    kept = "what is in force of it stays so" if row["serial"] else "nothing of it is in force"
    if row["state"] == "refused":
        yield finding(
            "OT504", place, f"the document of {row['origin']} is refused: {row['why']}", kept
        )
    elif row["state"] == "silent":
        yield finding("OT505", place, f"{row['origin']} does not answer: {row['why']}", kept)


def _row(model: Model, adopt: Adopt, now: str | None, *, ask: bool) -> Row:
    whole = held(model.files.folder, adopt)
    mine = None if whole is None else wanted(adopt, whole)
    found = found_now(model, adopt) if ask else None
    refused = found.why if isinstance(found, Refused) else ""
    there = None if found is None or isinstance(found, Refused) else found.shared
    latest = there or whole
    receipt = None
    share = model.files.config.share
    if latest is not None and share is not None:
        receipt = next((h for h in latest.holds if h.origin == share.origin), None)
    won = _bindings(model, adopt.origin)
    age = None if mine is None else (time.time_ns() // 1000 - mine.made) // SECOND
    if refused:
        state = "silent" if isinstance(found, Refused) and found.silent else "refused"
    elif there is None:
        state = "held" if mine is not None else "none"
    elif whole is None:
        state = "new"
    else:
        state = "newer" if there.serial > whole.serial else "same"
    return {
        "origin": adopt.origin, "from": adopt.where, "state": state, "why": refused,
        "serial": None if mine is None else mine.serial,
        "made": None if mine is None else instant_text(mine.made), "age": age,
        "bindings": won.total(),
        "groups": [] if mine is None else _groups(model, mine, won),
        "there": None if there is None else there.serial,
        "changed": [] if there is None else changes(mine, wanted(adopt, there)),
        "contested": [] if mine is None else list(contested_by(model, adopt, mine)),
        "holds": None if receipt is None else {
            "serial": receipt.serial, "current": receipt.digest == now,
        },
    }  # fmt: skip


def _bindings(model: Model, origin: str) -> Counter[int]:
    """How many bindings of a domain are in force here, by their tags."""
    held = model.registry.in_force
    adopted = held.take(held.sources == BINDING_SOURCES.index("adopted"))
    return Counter(b.tag for b in adopted if b.who == origin)


def _groups(model: Model, shared: Shared, won: Counter[int]) -> list[Row]:
    """Each group of a document, with its tag there and here."""
    rows: list[Row] = []
    for group in shared.groups:
        index = model.groups.index.get(name_of(shared.origin, group.id))
        tag = None if index is None else model.groups.tag(index)
        rows.append(
            {
                "group": name_of(shared.origin, group.id), "their_tag": group.tag, "tag": tag,
                "title": group.title, "owner": group.owner, "prefixes": len(group.prefixes),
                "bindings": 0 if tag is None else won[tag],
            }
        )  # fmt: skip
    return rows


def changes(was: Shared | None, now: Shared) -> list[Row]:
    """What a document says otherwise of groups than another: which came, went, have other prefixes,
    or another tag there."""
    before = {} if was is None else {g.id: g for g in was.groups}
    after = {g.id: g for g in now.groups}
    rows: list[Row] = []
    for name in sorted({*before, *after}):
        one, two = before.get(name), after.get(name)
        held = set(one.prefixes if one else ())
        holds = set(two.prefixes if two else ())
        if one != two:
            rows.append(
                {
                    "group": name_of(now.origin, name),
                    "is": "new" if one is None else "gone" if two is None else "changed",
                    "gained": [str(p) for p in sorted(holds - held)],
                    "lost": [str(p) for p in sorted(held - holds)],
                    "was_tag": None if one is None else one.tag,
                    "is_tag": None if two is None else two.tag,
                }
            )  # fmt: skip
    return rows
