"""Keys of the files: what each means."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row

#: Of so many keys each is told in full.
FULL = 12


def show(page: Page, d: Row) -> None:
    """Few keys in full, many by their names."""
    if len(d["keys"]) <= FULL:
        for number, key in enumerate(d["keys"]):
            if number:
                page.say()
            _full(page, key)
        return
    by: dict[str, list[Row]] = {}
    for key in d["keys"]:
        by.setdefault(key["file"], []).append(key)
    for file, keys in by.items():
        page.say(f"\n{file}")
        page.table(
            ("key", "what it means"), [(f"  {k['path']}", k["text"]) for k in keys], wrap=(1,)
        )
    page.say()
    page.hint("oaktag help KEY says all of one: its default, its values, an example")


def _full(page: Page, key: Row) -> None:
    page.say(f"{key['file']}: {key['path']}{' (must be there)' if key['required'] else ''}")
    page.paragraph(key["text"], "   ")
    if key["values"]:
        page.paragraph(f"one of {', '.join(key['values'])}", "      ", first="   ")
    if key["default"]:
        page.paragraph(f"without it: {key['default']}", "      ", first="   ")
    page.paragraph(
        f"e.g. {key['name']}: {key['example']}" if key["example"] else "", "      ", first="   "
    )
