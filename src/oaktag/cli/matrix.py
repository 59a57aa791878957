"""``oaktag matrix``."""

from __future__ import annotations

import click

from oaktag.cli.context import (
    Context,
    as_json,
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
    workspace = context.workspace()
    view = workspace.matrix(
        source, destination, service=service, only=only, search=search,
        since=since if only == "changed" else None,
    )  # fmt: skip
    if figure:
        workspace.draw_matrix(view, context.unlinked(figure))
    finish(context, view, as_json=as_json)
    drawn(figure, as_json=as_json)
    return 0
