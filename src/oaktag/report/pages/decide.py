"""Allow or deny, and the line that says so."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, place


def show(page: Page, d: Row) -> None:
    """The answer first, then who says so."""
    ends = f"{d['source']['group']} → {d['destination']['group']}"
    page.say(f"{d['action']}   {ends}, {d['service']}")
    if d["action"] != "mixed" and d["would"] != d["action"]:
        page.say(f"   would {d['would']} if the lines in observe were enforced")
    if "cells" in d:
        _cells(page, d["cells"])
    elif d["action"] == "mixed" or "parts" in d:
        rows = [(p["action"], p["services"], _said(p)) for p in d["parts"]]
        for action, services, said in dict.fromkeys(rows):
            page.paragraph(services, " " * 10, first=f"   {action:<5}  ")
            page.say(f"          by {said}")
    else:
        page.say(f"   by {_said(d)}")
    for told in d["addressed"]:
        page.paragraph(told["text"], "   ")
    page.hint(f"oaktag cell {d['source']['group']} {d['destination']['group']}")


def _cells(page: Page, cells: list[Row]) -> None:
    """Cells of one answer by one line together, what is denied first."""
    alike: dict[tuple[str, str], dict[str, list[str]]] = {}
    for cell in cells:
        said = "its packets differ: oaktag cell" if cell["action"] == "mixed" else _said(cell)
        by = alike.setdefault((cell["action"], said), {})
        by.setdefault(cell["source"]["group"], []).append(cell["destination"]["group"])
    rows: list[tuple[str, str, str, str]] = []
    for (action, said), by in sorted(alike.items(), key=lambda item: item[0][0] != "deny"):
        same: dict[tuple[str, ...], list[str]] = {}
        for source, destinations in by.items():
            same.setdefault(tuple(destinations), []).append(source)
        rows += [(action, ", ".join(s), ", ".join(d), said) for d, s in same.items()]
    page.table(("", "from", "to", "by"), rows, wrap=(1, 2, 3))


def _said(row: Row) -> str:
    if row["line"] is None:
        text = "the default"
    else:
        text = f"{place(row['line'])}  {row['permission']}: {row['entry']}"
    if row["would"] != row["action"] and "would_line" in row:
        text += f"; would {row['would']} by {place(row['would_line'])}"
    return text
