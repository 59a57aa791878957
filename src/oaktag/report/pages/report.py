"""What a report came to."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row


def show(page: Page, d: Row) -> None:
    """Its figures, beside those of the last one."""
    heads = ["", "figure", "", "of"]
    if d["earlier"]:
        heads.append(f"on {d['earlier']}")
    rows = []
    for f in d["figures"]:
        if f["of"] == 0:
            continue
        row = [
            "" if f["well"] else "!",
            f["figure"],
            f"{f['count']:,}",
            "" if f["of"] is None else f"{f['of']:,}",
        ]
        if d["earlier"]:
            row.append("" if f["was"] is None else f"{f['was'][0]:,}")
        rows.append(row)
    page.table(heads, rows, right=(2, 3, 4) if d["earlier"] else (2, 3))
    page.say(f"written: {d['file']}")
