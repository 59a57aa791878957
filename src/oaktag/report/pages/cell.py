"""One cell of the matrix."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, place


def show(page: Page, d: Row) -> None:
    """Lines in order, their entries, and what they come to."""
    ends = d["source"], d["destination"]
    page.say(" → ".join(f"{e['group']} (tag {e['tag']}, {e['tag']:#x})" for e in ends))
    page.say()
    lines = {(x["file"], x["line"], x["mirrored"]): x for x in d["lines"]}
    page.table(
        ("line", "as written", "mode", "permission", "owner", "note"),
        [
            (
                place(x),
                f"{x['source']} → {x['destination']}" + (" (mirrored)" if x["mirrored"] else ""),
                x["mode"], x["permission"], x["owner"], x["note"],
            )
            for x in lines.values()
        ],
        wrap=(4, 5),
    )  # fmt: skip
    page.say()
    page.table(
        ("", "entry", "of", "mode"),
        [
            (
                " " if e["decides"] else "-",
                f"{e['action']} {e['services']}" + (f" (log {e['log']})" if e["log"] else ""),
                place(e), e["mode"],
            )
            for e in d["entries"]
        ]
        + [
            (
                " " if d["default_decides"] else "-",
                f"{d['default']} everything else", "the default", "",
            )
        ],
    )  # fmt: skip
    if not d["default_decides"] or any(not e["decides"] for e in d["entries"]):
        page.say("-  decides no packet of this cell: the entries above it leave none")
    page.say()
    page.say(f"allows:       {d['allows']}")
    if d["would_allow"] != d["allows"]:
        page.say(f"would allow:  {d['would_allow']}")
