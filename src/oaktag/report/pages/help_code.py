"""What codes of findings mean."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row


def show(page: Page, d: Row) -> None:
    """Each code with an example and what to do."""
    for number, c in enumerate(d["codes"]):
        if number:
            page.say()
        page.say(f"{c['code']} {c['severity']}: {c['title']}")
        page.paragraph(c["means"], "   ")
        page.paragraph(c["example"], "   ", first="   for example: ")
        page.paragraph(c["todo"], "      ", first="   → ")
