"""A card of tests."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count, few, place


def show(page: Page, d: Row) -> None:
    """Each test with what it tells, and what none can tell."""
    page.table(
        ("", "from", "to", "try", "must", "else one of these lines does not act as written"),
        [
            (
                t["number"],
                _end(t["source"]),
                _end(t["destination"]),
                t["service"],
                "pass" if t["passes"] else "not pass",
                few([place(n) for n in t["tells"]], 5),
            )
            for t in d["tests"]
        ],
        right=(0,),
        wrap=(1, 2, 5),
    )
    told = {place(n) for t in d["tests"] for n in t["tells"]}
    page.say(
        f"{count(len(d['tests']), 'test')}, the fewest that tell of each of {count(len(told), 'line')} "
        "whether it acts as written"
    )
    if d["untold"]:
        page.say("no test between endpoints tells:")
    for row in d["untold"]:
        page.paragraph(f"{place(row)} {row['change']}: {row['why']}", "     ", first="   - ")
    page.hint("oaktag lab probe --card tries them with real packets")


def _end(end: Row) -> str:
    return f"{end['endpoint']} {end['address']}"
