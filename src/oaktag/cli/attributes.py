"""``oaktag attributes``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, finish, pass_context


@click.command("attributes")
@click.argument("name", required=False)
@click.option("--like", metavar="TEXT", help="Values that hold this text, whatever the case.")
@as_json
@pass_context
def command(context: Context, name: str | None, like: str | None, as_json: bool) -> int:
    """Which attributes the sources give; the values of NAME with their counts."""
    result = context.workspace().attributes(name, like)
    finish(context, result, as_json=as_json)
    return 0
