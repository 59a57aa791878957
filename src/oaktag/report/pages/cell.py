"""One cell of the matrix."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, place


def show(page: Page, d: Row) -> None:
    """Lines in order, their entries, and what they come to."""
    if "alike" not in d:
        ends = d["source"], d["destination"]
        page.say(" → ".join(f"{e['group']} (tag {e['tag']}, {e['tag']:#x})" for e in ends))
        page.say()
        _one(page, d, d)
        return
    for number, cell in enumerate(d["alike"]):
        if number:
            page.say("\n")
        by: dict[str, list[str]] = {}
        for source, destination in cell["pairs"]:
            by.setdefault(source, []).append(destination)
        same: dict[tuple[str, ...], list[str]] = {}
        for source, destinations in by.items():
            same.setdefault(tuple(destinations), []).append(source)
        for toward, sources in same.items():
            page.paragraph(f"{', '.join(sources)} → {', '.join(toward)}", "    ", first="")
        page.say()
        _one(page, d, cell)


def _one(page: Page, d: Row, c: Row) -> None:
    """What one cell says."""
    lines = {(x["file"], x["line"], x["mirrored"]): x for x in c["lines"]}
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
            for e in c["entries"]
        ]
        + [
            (
                " " if c["default_decides"] else "-",
                f"{d['default']} everything else", "the default", "",
            )
        ],
    )  # fmt: skip
    if not c["default_decides"] or any(not e["decides"] for e in c["entries"]):
        page.say("-  decides no packet of this cell: the entries above it leave none")
    page.say()
    page.say(f"allows:       {c['allows']}")
    if c["would_allow"] != c["allows"]:
        page.say(f"would allow:  {c['would_allow']}")
