"""``oaktag around``."""

from __future__ import annotations

from typing import Any

import click

from oaktag.cli.context import (
    Context,
    as_json,
    complete,
    emit,
    paragraph,
    pass_context,
    places,
    say,
    table,
)

#: Of so many groups each is named.
FEW = 12
PARTS = (
    ("comes_in", "comes in"), ("passes_inside", "passes inside"), ("goes_out", "goes out"),
)  # fmt: skip


@click.command("around")
@click.argument("set_", metavar="SET", shell_complete=complete("group"))
@click.option("--figure", metavar="FILE", help="Draw it, as PNG or SVG.")
@as_json
@pass_context
def command(context: Context, set_: str, figure: str | None, as_json: bool) -> int:
    """What comes into SET (a set or a group), passes inside it, and goes out."""
    document = context.workspace().around(set_)
    if figure:
        from oaktag.report.figures import draw_around

        draw_around(document, context.unlinked(figure))
    if as_json:
        emit(document)
        return 0
    say(f"{document['set']}: {', '.join(document['groups'])}")
    for key, title in PARTS:
        rest = document["by_default"][key]
        say(f"\n{title}:" if document[key] or rest else f"\nnothing {title}")
        if document[key]:
            table(("from", "to", "for", "by"), _folded(document[key]), wrap=(0, 1, 2, 3))
        if rest:
            few = ", ".join(rest) if len(rest) <= FEW else f"{len(rest)} groups"
            what = {"comes_in": "from", "passes_inside": "between", "goes_out": "to"}[key]
            paragraph(f"anything {what} {few}, by the default (allow)", "   ", first="")
    if figure:
        say(f"\ndrawn in {figure}")
    return 0


def _folded(rows: list[dict[str, Any]]) -> list[tuple[str, str, str, str]]:
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
