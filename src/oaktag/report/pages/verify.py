"""Check, review, expect and reach in one."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, place, severe


def show(page: Page, d: Row, *, level: str = "error") -> None:
    """What each part says, what is wrong, and what nobody looked at."""
    page.table(
        ("", "part", "what it says"),
        [("well" if p["well"] else "FAILS", p["part"], p["text"]) for p in d["parts"]],
    )
    for found in d["findings"]:
        if severe(found, level):
            page.say(f"{found['code']} {place(found)}: {found['message']}")
    for row in d["failed"]:
        page.say(f"{place(row)} fails: {row['from']} → {row['to']}: {row['asks']}")
    if d["not_looked_at"]:
        page.say("not looked at:")
    for told in d["not_looked_at"]:
        page.paragraph(told, "     ", first="   - ")
    wrong = [p["part"] for p in d["parts"] if not p["well"]]
    if wrong:
        verb = "says" if len(wrong) == 1 else "say"
        page.hint(f"{' and '.join(f'oaktag {name}' for name in wrong)} {verb} more")
