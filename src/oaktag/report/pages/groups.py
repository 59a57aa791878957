"""Groups, tags, members, bindings."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count


def show(page: Page, d: Row) -> None:
    """Every group in file order."""
    page.table(
        ("group", "tag", "hex", "number", "members", "bindings", "title"),
        [
            (
                g["group"], g["tag"], g["hexadecimal"], g["number"], g["members"], g["bindings"],
                g["title"],
            )
            for g in d["groups"]
        ],
        right=(1, 2, 4, 5),
    )  # fmt: skip
    page.say(
        f"{count(len(d['groups']), 'group')}; {count(d['unassigned'], 'endpoint')} in none of them"
    )
    for offer in d["offered"]:
        tail = "" if offer["tag"] is None else f", tag: issued {offer['tag']}"
        page.say(f"a rule comes to {offer['group']}; to have it: - {{id: {offer['group']}{tail}}}")
    if any(g["number"] == "not written" for g in d["groups"]):
        page.hint("oaktag groups --number --write writes the numbers that are not written yet")
    elif d["unassigned"]:
        page.hint("oaktag members --unassigned shows who is in no group, and who nearly is")
