"""Attributes and their values."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count


def show(page: Page, d: Row) -> None:
    """Every attribute, or the values of some."""
    if not d["values"] and d["attributes"]:
        page.table(
            ("attribute", "endpoints", "values", "unsure", "given by"),
            [
                (a["attribute"], a["endpoints"], a["values"], a["unsure"], ", ".join(a["sources"]))
                for a in d["attributes"]
            ],
            right=(1, 2, 3),
            wrap=(4,),
        )
        page.hint("oaktag attributes NAME shows its values")
        return
    page.table(
        ("attribute", "value", "endpoints", "least confidence"),
        [
            (v["attribute"], v["value"], v["endpoints"], f"{v['least_confidence']:g}")
            for v in d["values"]
        ],
        right=(2, 3),
        wrap=(1,),
    )
    page.say(count(len(d["values"]), "value"))
    if d["values"]:
        first = d["values"][0]
        page.hint(f"oaktag members --when '{first['attribute']}={first['value']}' shows who has it")
