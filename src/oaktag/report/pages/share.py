"""Our groups, as other domains are told of them."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count


def show(page: Page, d: Row) -> None:
    """Each group with its prefixes; what was written."""
    page.table(
        ("group", "tag", "prefixes", ""),
        [
            (
                g["group"], str(g["tag"]), f"{len(g['prefixes']):,}",
                ", ".join(g["prefixes"][:3]) + (" …" if len(g["prefixes"]) > 3 else ""),
            )
            for g in d["groups"]
        ],
        right=(1, 2),
    )  # fmt: skip
    for name in d["left"]:
        page.say(f"of no group that is shared, and left there: {name}")
    if not d["file"]:
        page.say(
            f"{d['origin']}: {count(len(d['groups']), 'group')}, no document written: --out FILE"
        )
    else:
        page.say(f"{d['origin']}, serial {d['serial']} of {d['made']}")
    for name in d["written"]:
        page.say(f"written: {name}")
    if d["file"] and d["file"] not in d["written"]:
        page.say(f"unchanged: {d['file']}")
