"""``verify``: check, review, expect and reach in one, for CI."""

from __future__ import annotations

from oaktag.errors import WorkspaceError
from oaktag.operations.check import check, clashes
from oaktag.operations.documents import Document, document
from oaktag.operations.expect import expect
from oaktag.operations.model import Model
from oaktag.operations.reach import reach
from oaktag.operations.review import review


def verify(model: Model) -> Document:
    """What each of the four found, and the documents themselves."""
    held = {"check": check(model), "review": review(model), "expect": expect(model)}
    flows = reach(model)
    rows = [*held["expect"]["expectations"], *held["expect"]["keep_open"]]
    parts = [
        *(_findings(name, held[name]) for name in ("check", "review")),
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
    return document(
        "verify",
        parts=parts,
        findings=[f for name in ("check", "review") for f in held[name]["findings"]],
        failed=[r for r in rows if not r["holds"]],
        causes=flows["summary"]["causes"],
    )


def contradiction(error: WorkspaceError) -> Document:
    """The document where the files contradict each other: nothing else can be asked then."""
    held = clashes(error)
    return document(
        "verify", parts=[_findings("check", held)], findings=held["findings"], failed=[], causes=[]
    )


def _findings(name: str, held: Document) -> Document:
    by = {
        s: sum(f["severity"] == s for f in held["findings"]) for s in ("error", "warning", "note")
    }
    told = ", ".join(f"{n} {s}{'s' * (n != 1)}" for s, n in by.items() if n)
    return {
        "part": name, "found": len(held["findings"]), "well": not by["error"],
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
