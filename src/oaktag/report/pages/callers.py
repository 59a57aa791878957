"""Who may reach a destination, and what a source may reach."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count, places


def show(page: Page, d: Row) -> None:
    """Groups with what they are allowed, and by which lines."""
    service = None if d["service"] == "any" else d["service"]
    if d["command"] == "callers":
        _rows(page, d["callers"], f"may reach {d['destination']['group']}", service)
    else:
        _rows(page, d["callees"], f"can be reached from {d['source']['group']}", service)


def _rows(page: Page, rows: list[Row], verb: str, service: str | None) -> None:
    """Groups with what they are allowed, and by which lines."""
    if rows:
        heads = ["group", "members", "for", "by"]
        listed = [[r["group"], r["members"], _what(r), places(r["lines"])] for r in rows]
        if "of" in rows[0]:
            heads.insert(2, "of")
            for cells, row in zip(listed, rows, strict=True):
                cells.insert(2, ", ".join(row["of"]))
        if "endpoints" in rows[0]:
            heads.append("endpoints")
            for cells, row in zip(listed, rows, strict=True):
                cells.append(", ".join(row["endpoints"]))
        page.table(heads, listed, right=(1,), wrap=(2, 3, 4, 5))
    asked = f" with {service}" if service else ""
    page.say(f"{count(len(rows), 'group')} {verb}{asked}")
    if any(r["would_allow"] != r["allows"] for r in rows):
        page.hint("oaktag compare --if-enforced shows what the observed lines would change")


def _what(row: Row) -> str:
    if row["would_allow"] == row["allows"]:
        return str(row["allows"])
    return f"{row['allows']}; would be: {row['would_allow']}"
