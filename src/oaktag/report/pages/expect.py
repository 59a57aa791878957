"""Whether expectations hold."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, place


def show(page: Page, d: Row) -> None:
    """Each expectation, and a packet for each that fails."""
    rows = [*d["expectations"], *d["keep_open"]]
    broken = [r for r in rows if not r["holds"]]
    page.table(
        ("", "from", "to", "asks", "written in"),
        [
            (
                "holds" if r["holds"] else "FAILS", r["from"], r["to"],
                r["asks"] + (" on every path" if r["path"] else ""), place(r),
            )
            for r in rows
        ],
        wrap=(3,),
    )  # fmt: skip
    for row in broken:
        example = row["counterexample"]
        page.paragraph(f"{place(row)}: {_ends(example)}{example['text']}", "      ", first="")
    page.say(f"{len(rows) - len(broken)} of {len(rows)} hold")
    if broken:
        example = broken[0]["counterexample"]
        if "source" in example:
            ends = f"{example['source']['group']} {example['destination']['group']}"
            page.hint(f"oaktag cell {ends} shows the lines; oaktag reach the paths")


def _ends(example: Row) -> str:
    if "source" not in example:
        return ""
    return f"{example['source']['group']} → {example['destination']['group']}, "
