"""What no expectation speaks of."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count, few

#: So many rows are shown.
SHOWN = 40


def show(page: Page, d: Row, *, every: bool = False) -> None:
    """Cells and packets, the widest first."""
    rows = d["uncovered"]
    most = len(rows) if every else SHOWN
    if rows:
        page.table(
            ("from", "to", "allowed, and not asked for", ""),
            [
                (
                    few(r["sources"], most if every else 4),
                    few(r["destinations"], most if every else 4),
                    r["allowed_text"],
                    "other packets are asked about" if r["spoken"] else "",
                )
                for r in rows[:most]
            ],
            wrap=(0, 1, 2, 3),
        )
        page.say()
    page.say(
        f"expectations speak of {d['spoken']:,} of {count(d['cells'], 'cell')}; in {d['loose']:,} "
        "something is allowed that none asks for"
    )
    if len(rows) > most:
        page.hint(f"{count(len(rows) - most, 'more row')}: --all")
    elif rows:
        page.hint("oaktag cell SRC DST shows the lines; write what is meant into expectations.yaml")
