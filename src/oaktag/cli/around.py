"""``oaktag around``."""

from __future__ import annotations

import click

from oaktag.cli.context import (
    Context,
    as_json,
    at_a_time,
    complete,
    drawn,
    figure_option,
    finish,
    pass_context,
)


@click.command("around")
@click.argument("set_", metavar="SET", shell_complete=complete("group"))
@figure_option
@as_json
@at_a_time
@pass_context
def command(context: Context, set_: str, figure: str | None, as_json: bool) -> int:
    """What comes into SET (a set or a group), passes inside it, and goes out."""
    workspace = context.workspace()
    result = workspace.around(set_)
    if figure:
        workspace.draw_around(result, context.unlinked(figure))
    finish(context, result, as_json=as_json)
    drawn(figure, as_json=as_json)
    return 0
