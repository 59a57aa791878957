"""A policy in plain sentences."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, places


def show(page: Page, d: Row) -> None:
    """One sentence after the other, each with its lines."""
    for sentence in d["sentences"]:
        by = f" [{places(sentence['lines'])}]" if sentence["lines"] else ""
        page.paragraph(f"{sentence['text']}{by}", "    ", first="")
