"""Groups that could be one."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count


def show(page: Page, d: Row) -> None:
    """Each kind, with how many are in its groups."""
    for row in d["alike"]:
        pairs = zip(row["groups"], row["members"], strict=True)
        page.paragraph(", ".join(f"{name} ({many})" for name, many in pairs), "    ", first="")
    kinds = len(d["alike"])
    page.say(
        f"{count(kinds, 'kind')} of groups that fare alike, toward all and from all" if kinds
        else "no two groups fare alike"
    )  # fmt: skip
    if kinds:
        old, heir = d["alike"][0]["groups"][1], d["alike"][0]["groups"][0]
        page.hint(
            f"oaktag retire {old} takes it out" if heir == "untagged"
            else f"oaktag merge {old} {heir} makes one of two"
        )  # fmt: skip
