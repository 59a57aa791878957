"""What comes into a set of groups, passes inside it, and goes out."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, places

#: Of so many groups each is named.
FEW = 12
PARTS = (
    ("comes_in", "comes in"), ("passes_inside", "passes inside"), ("goes_out", "goes out"),
)  # fmt: skip


def show(page: Page, d: Row) -> None:
    """The three parts, alike rows as one."""
    page.say(f"{d['set']}: {', '.join(d['groups'])}")
    for key, title in PARTS:
        rest = d["by_default"][key]
        page.say(f"\n{title}:" if d[key] or rest else f"\nnothing {title}")
        if d[key]:
            page.table(("from", "to", "for", "by"), _folded(d[key]), wrap=(0, 1, 2, 3))
        if rest:
            few = ", ".join(rest) if len(rest) <= FEW else f"{len(rest)} groups"
            what = {"comes_in": "from", "passes_inside": "between", "goes_out": "to"}[key]
            page.paragraph(f"anything {what} {few}, by the default (allow)", "   ", first="")


def _folded(rows: list[Row]) -> list[tuple[str, str, str, str]]:
    """Rows of one destination, content and lines as one; then those of the same sources."""
    first: dict[tuple[str, str, str], list[str]] = {}
    for r in rows:
        first.setdefault((r["destination"], r["allows"], places(r["lines"])), []).append(
            r["source"]
        )
    second: dict[tuple[str, str, str], list[str]] = {}
    for (destination, allows, lines), sources in first.items():
        second.setdefault((", ".join(sources), allows, lines), []).append(destination)
    return [(s, ", ".join(d), allows, lines) for (s, allows, lines), d in second.items()]
