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
    if d["action"] == "mixed" or "parts" in d:
        rows = [(p["action"], p["services"], _said(p)) for p in d["parts"]]
        for action, services, said in dict.fromkeys(rows):
            page.paragraph(services, " " * 10, first=f"   {action:<5}  ")
            page.say(f"          by {said}")
    else:
        page.say(f"   by {_said(d)}")
    for told in d["addressed"]:
        page.paragraph(told["text"], "   ")
    page.hint(f"oaktag cell {d['source']['group']} {d['destination']['group']}")


def _said(row: Row) -> str:
    if row["line"] is None:
        text = "the default"
    else:
        text = f"{place(row['line'])}  {row['permission']}: {row['entry']}"
    if row["would"] != row["action"] and "would_line" in row:
        text += f"; would {row['would']} by {place(row['would_line'])}"
    return text
