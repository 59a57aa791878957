"""Where something occurs."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count

#: So many rows of each kind are shown.
SHOWN = 40


def show(page: Page, d: Row, *, every: bool = False) -> None:
    """Lines of files, bindings, and lines of lists."""
    files = {p["file"] for p in d["places"]}
    found = [
        f"{count(len(d['places']), 'line')} of {count(len(files), 'file')}" if files else "no file",
        count(len(d["bindings"]), "binding"), count(len(d["lists"]), "list"),
    ]  # fmt: skip
    page.say(f"{d['what']} ({', '.join(d['taken_for'])}): {', '.join(found)}")
    most = max(len(d["places"]), len(d["bindings"])) if every else SHOWN
    if d["places"]:
        page.say()
        page.table(
            ("place", "why", "line"),
            [(f"{p['file']}:{p['line']}", p["why"], p["text"]) for p in d["places"][:most]],
            wrap=(2,),
        )
    if d["bindings"]:
        page.say()
        page.table(
            ("binding", "tag", "group", "source", "who"),
            [
                (b["prefix"], b["tag"], b["group"], b["source"], b["who"] or "")
                for b in d["bindings"][:most]
            ],
            right=(1,),
        )
    if d["lists"]:
        page.say()
        page.table(
            ("list", "lines", "first"),
            [(r["point"], r["lines"], f"{r['line']}: {r['text']}") for r in d["lists"]],
            right=(1,),
            wrap=(2,),
        )
    left = sum(max(len(d[key]) - most, 0) for key in ("places", "bindings"))
    if left:
        page.hint(f"{count(left, 'more row')}: --all")
    elif not (d["places"] or d["bindings"] or d["lists"]):
        page.hint("oaktag groups, members and attributes list what there is")
