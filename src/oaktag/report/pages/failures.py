"""What each single failure does."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row

#: So many of the worst are shown.
WORST = 10


def show(page: Page, d: Row) -> None:
    """The worst losses first."""
    columns = ("cut_off", "leaks", "breaks", "one_way")
    worse = [f for f in d["failures"] if any(f[c] for c in columns)]
    if worse:
        page.table(
            ("lost", "", "cut off", "leak", "break", "one-way", "for example"),
            [
                (f["kind"], f["name"], *(f[c] or "" for c in columns), f["example"])
                for f in worse[:WORST]
            ],
            right=(2, 3, 4, 5),
            wrap=(1, 6),
        )
    tried = len(d["failures"])
    harm = f"{len(worse)} do harm: they cut off what is joined,\n"
    harm += "or make what is exact leak, break or go one-way"
    page.say(f"{tried} single failures tried; {harm if worse else 'none does harm'}")
    if len(worse) > WORST:
        page.say(f"the {WORST} worst are shown; --json has all {len(worse)}")
    if d["opens_most"]:
        point = d["opens_most"]
        page.say(
            f"the loss of the point {point['name']} opens most: {point['leaks']} flows would leak"
        )
