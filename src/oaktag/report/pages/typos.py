"""Values that are one character away from more."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count, few

#: So many rows are shown.
SHOWN = 40


def show(page: Page, d: Row, *, every: bool = False) -> None:
    """Each value, what it might be, who that would be, and what they could do then."""
    rows = d["typos"]
    most = len(rows) if every else SHOWN
    if rows:
        page.table(
            ("attribute", "value", "one character away", "who", "would be", "and gain"),
            [
                (
                    r["attribute"], r["value"], r["instead"],
                    f"{r['count']} of {r['was']}", r["is"], _gains(r["gains"]),
                )
                for r in rows[:most]
            ],
            wrap=(1, 2, 5),
        )  # fmt: skip
    page.say(f"{count(len(rows), 'value')} of which one changed character gives more")
    if d["more"]:
        page.say("there are too many values near what rules ask for: not all of them were tried")
    if len(rows) > most:
        page.hint(f"{count(len(rows) - most, 'more row')}: --all")
    elif rows:
        first = rows[0]
        page.hint(f"oaktag members --when '{first['attribute']}={first['value']}' shows who it is")


def _gains(rows: list[Row]) -> str:
    alike: dict[tuple[str, str], list[str]] = {}
    for r in rows:
        alike.setdefault((r["direction"], r["opened_text"]), []).append(r["other"])
    told = [f"{text} {way} {few(names, 2)}" for (way, text), names in alike.items()]
    return few(told, 2)
