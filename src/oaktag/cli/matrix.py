"""``oaktag matrix``."""

from __future__ import annotations

from typing import Any

import click

from oaktag.cli.context import (
    Context,
    as_json,
    complete,
    emit,
    hint,
    paragraph,
    pass_context,
    say,
    table,
)

#: From so many rows or columns on, those that are equal are shown as one.
FOLDED_FROM = 21


@click.command("matrix")
@click.option("--from", "source", metavar="WHO", shell_complete=complete("group"))
@click.option("--to", "destination", metavar="WHO", shell_complete=complete("group"))
@click.option("--service", metavar="SERVICE", help="Only what cells say about this service.")
@click.option(
    "--only",
    type=click.Choice(["observed", "default", "changed"]),
    help="Cells that observed lines change, that no line speaks of, or changed since --since.",
)
@click.option(
    "--since", metavar="REV", default="HEAD", show_default=True, help="For --only changed."
)
@click.option("--search", metavar="TEXT", help="Cells of lines with TEXT in a name, note or owner.")
@click.option("--figure", metavar="FILE", help="Draw it, as PNG or SVG.")
@as_json
@pass_context
def command(
    context: Context,
    source: str | None,
    destination: str | None,
    service: str | None,
    only: str | None,
    since: str,
    search: str | None,
    figure: str | None,
    as_json: bool,
) -> int:
    """The matrix: what each source group may do to each destination group."""
    document = context.workspace().matrix(
        source, destination, service=service, only=only, search=search,
        since=since if only == "changed" else None,
    )  # fmt: skip
    if figure:
        from oaktag.report.figures import draw_matrix

        draw_matrix(document, context.unlinked(figure))
    if as_json:
        emit(document)
    elif not document["cells"]:
        say("no cell is like that")
    else:
        _text(document)
    if figure and not as_json:
        say(f"drawn in {figure}")
    return 0


def _text(document: dict[str, Any]) -> None:
    from oaktag.report.figures import codes

    code = codes(document["forms"])
    rows, columns = document["rows"], document["columns"]
    if max(len(document["sources"]), len(document["destinations"])) < FOLDED_FROM:
        rows = [[g["group"]] for g in document["sources"]]
        columns = [[g["group"]] for g in document["destinations"]]
    cells = {(c["source"], c["destination"]): c for c in document["cells"]}
    rows = [r for r in rows if any((r[0], c[0]) in cells for c in columns)]
    columns = [c for c in columns if any((r[0], c[0]) in cells for r in rows)]
    numbered = list(enumerate(columns, 1))
    room = max(8, (96 - max(len(_named(r)) for r in rows)) // 4)
    if len(columns) <= 20:
        room = 20
    for start in range(0, len(columns), room):
        page = numbered[start : start + room]
        some = [r for r in rows if any((r[0], c[0]) in cells for _, c in page)]
        table(
            ("from \\ to", *(str(n) for n, _ in page)),
            [(_named(r), *(_code(code, cells.get((r[0], c[0]))) for _, c in page)) for r in some],
        )
        say()
    paragraph(
        ", ".join(f"{n}\N{NO-BREAK SPACE}{_named(c)}" for n, c in enumerate(columns, 1)),
        " " * 4,
        first="to: ",
    )
    for block in dict.fromkeys(tuple(b) for b in (*rows, *columns) if len(b) > 1):
        paragraph(", ".join(block), " " * 8, first=f"    {_named(list(block))}: ")
    say()
    about = f"allows of {document['service']}" if document["service"] else "allows"
    table(("code", about), [(code[f["form"]], f["allows"]) for f in document["forms"]], wrap=(1,))
    if any(c["form"] != c["would_form"] for c in document["cells"]):
        say("x>y  allows x now; would allow y if the lines in observe were enforced")
    hint("oaktag cell SRC DST shows the lines of one cell")


def _named(block: list[str]) -> str:
    return block[0] if len(block) == 1 else f"{block[0]}\N{NO-BREAK SPACE}+{len(block) - 1}"


def _code(code: dict[int, str], cell: dict[str, Any] | None) -> str:
    if cell is None:
        return ""
    later = "" if cell["form"] == cell["would_form"] else f">{code[cell['would_form']]}"
    return code[cell["form"]] + later
