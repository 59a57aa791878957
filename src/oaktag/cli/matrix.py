"""``oaktag matrix``."""

from __future__ import annotations

from typing import Literal

import click

from oaktag.cli.changes import changing
from oaktag.cli.context import (
    Context,
    at_a_time,
    complete,
    drawn,
    figure_option,
    finish,
    pass_context,
)


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
@figure_option
@click.option("--out", metavar="FILE", help="Write it as a sheet: .csv, .xlsx or .ods.")
@click.option(
    "--form",
    type=click.Choice(["lines", "grid"]),
    default="lines",
    show_default=True,
    help="With --out: a row for each line, or sources down and destinations across.",
)
@click.option("--in", "sheet", metavar="FILE", help="Bring the edits of such a sheet back.")
@changing
@at_a_time
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
    out: str | None,
    form: Literal["lines", "grid"],
    sheet: str | None,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
) -> int:
    """The matrix: what each source group may do to each destination group.

    A sheet that --out wrote comes back with --in: shown as a diff with all that it does, and
    written with --write.
    """
    if sheet is not None:
        if out or figure:
            raise click.UsageError("--in brings a sheet back; --out and --figure are other runs")
        workspace = context.changing("matrix --in", write=write, wait=wait)
        path = context.unlinked(sheet)
        result = workspace.sheet_in(path, write=write, anyway=anyway)
        finish(context, result, as_json=as_json)
        return 0
    if write or wait or anyway:
        raise click.UsageError("--write, --wait and --anyway go with --in")
    workspace = context.workspace()
    if out is not None:
        workspace.sheet(context.unlinked(out), form)
        click.echo(f"written: {out}; its edits come back with oaktag matrix --in {out}")
        return 0
    view = workspace.matrix(
        source, destination, service=service, only=only, search=search,
        since=since if only == "changed" else None,
    )  # fmt: skip
    if figure:
        workspace.draw_matrix(view, context.unlinked(figure))
    finish(context, view, as_json=as_json)
    drawn(figure, as_json=as_json)
    return 0
