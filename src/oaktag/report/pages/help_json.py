"""Fields of a JSON answer."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row


def show(page: Page, d: Row) -> None:
    """Each field with its type and what it holds."""
    rows = []
    for f in d["fields"]:
        within, _, field = f["path"].rpartition(".")
        rows.append((field, within, f["type"], f["text"]))
    page.table(("field", "in", "type", "what it holds"), rows, wrap=(2, 3))
    page.hint(f"the JSON Schema is schemas/{d['of']}.json of the package")
