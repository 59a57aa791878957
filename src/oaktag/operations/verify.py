"""``verify``: check, review, expect and reach in one, for CI."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import ClassVar

from oaktag.english import counted
from oaktag.errors import WorkspaceError
from oaktag.findings import SEVERITIES
from oaktag.operations.check import check, clashes
from oaktag.operations.expect import expect
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.reach import reach
from oaktag.operations.result import Result, Row
from oaktag.operations.review import review


@dataclass(frozen=True, eq=False, repr=False)
class Verified(Result):
    """Check, review, expect and reach in one, and what was not looked at."""

    parts: list[Row]
    findings: list[Row]
    failed: list[Row]
    causes: list[Row]
    not_looked_at: list[str]
    command: ClassVar[str] = "verify"
    table: ClassVar[str] = "parts"

    @property
    def well(self) -> bool:
        """Whether all parts are well."""
        return all(part["well"] for part in self.parts)


def verify(
    model: Model, level: str = "error", progress: Callable[[str], None] | None = None
) -> Verified:
    """What each of the four found, the documents themselves, and what nobody looked at.

    Args:
        model: the workspace.
        level: the severity from which findings are no longer well: ``error``, ``warning``,
            ``note`` or ``never``.
        progress: told how far it is.
    """
    held: dict[str, Result] = {
        "check": check(model, progress),
        "review": review(model),
        "expect": expect(model),
    }
    flows = reach(model, progress=progress)
    rows = [*held["expect"]["expectations"], *held["expect"]["keep_open"]]
    parts = [
        *(_findings(name, held[name], level) for name in ("check", "review")),
        {
            "part": "expect",
            "found": sum(not r["holds"] for r in rows),
            "well": all(r["holds"] for r in rows),
            "text": f"{sum(r['holds'] for r in rows)} of {len(rows)} hold"
            if rows
            else "no expectation is written down: nothing is asked of this workspace",
        },
        _reach(flows["summary"]),
    ]
    return Verified(
        parts=parts,
        findings=[f for name in ("check", "review") for f in held[name]["findings"]],
        failed=[r for r in rows if not r["holds"]],
        causes=flows["summary"]["causes"],
        not_looked_at=list(_not_looked_at(model)),
    )


def _not_looked_at(model: Model) -> Iterator[str]:
    """What a green result says nothing about."""
    if not model.files.expectations:
        yield "no expectation is written down: nothing was asked of the matrix by name"
    if not model.files.keep_open:
        yield "keep_open is empty: nothing says which way must stay open for yourselves"
    if not model.network.segments:
        yield "network.yaml has no segment: nothing was asked of paths and tags"
    else:
        elsewhere = len(model.nowhere)
        if elsewhere:
            told = counted(elsewhere, "address", "addresses")
            yield f"{told} on no segment: nobody follows these packets"
        for point in model.network.points.values():
            if point.mode != "enforce":
                yield f"the point {point.id} is in {point.mode}: it stops nothing"
    held = model.assignment.group < 0
    if held.any():
        alone = int(held.sum())
        verb = "is" if alone == 1 else "are"
        yield f"{counted(alone, 'endpoint')} {verb} in no group and {verb} treated as untagged"
    if model.files.config.accepted or model.files.borne:
        yield "what oaktag.yaml accepts: oaktag reach --accepted shows it"
    yield "whether points hold these lists: oaktag prove and oaktag drift ask them"


def contradiction(error: WorkspaceError) -> Verified:
    """The document where the files contradict each other: nothing else can be asked then."""
    held = clashes(error)
    return Verified(
        parts=[_findings("check", held, "error")],
        findings=held["findings"], failed=[], causes=[],
        not_looked_at=["all else: the files contradict each other"],
    )  # fmt: skip


def _fails(found: Document, level: str) -> bool:
    """Whether a finding is as severe as a level."""
    return level != "never" and SEVERITIES.index(found["severity"]) <= SEVERITIES.index(level)


def _findings(name: str, held: Result, level: str) -> Document:
    by = {
        s: sum(f["severity"] == s for f in held["findings"]) for s in ("error", "warning", "note")
    }
    told = ", ".join(f"{n} {s}{'s' * (n != 1)}" for s, n in by.items() if n)
    return {
        "part": name, "found": len(held["findings"]),
        "well": not any(_fails(f, level) for f in held["findings"]),
        "text": told or "nothing found",
    }  # fmt: skip


def _reach(summary: Document) -> Document:
    effects = summary["effects"]
    off = sum(row["flows"] for row in summary["cut_off"])
    wrong = off + sum(n for effect, n in effects.items() if effect != "exact")
    told = ", ".join(
        [f"{off} cut off"] * bool(off) + [f"{n} {effect}" for effect, n in sorted(effects.items())]
    )
    return {"part": "reach", "found": wrong, "well": not wrong, "text": told or "no flows"}
