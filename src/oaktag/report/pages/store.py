"""What a store holds."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count


def show(page: Page, d: Row) -> None:
    """Kinds, how much of each, since when; whether it agrees with itself."""
    page.table(
        ("kind", "rows", "first", "last"),
        [(k["kind"], f"{k['rows']:,}", k["first"] or "", k["last"] or "") for k in d["kinds"]],
        right=(1,),
    )
    page.say(f"{count(d['lasting'], 'session')} now, in {d['store']}")
    for gone in d.get("dropped", []):
        page.say(f"{gone['rows']:,} of {gone['kind']} taken out")
    if "differing" in d:
        some = d["differing"]
        if some:
            page.say(f"of {count(len(some), 'address')} sessions differ: {', '.join(some[:6])}")
            page.hint("take the store away and listen anew, and tell us how this came about")
        else:
            page.say("all sessions are what comes of the records")
