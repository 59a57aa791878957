"""``oaktag attributes``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, at_a_time, finish, pass_context


@click.command("attributes")
@click.argument("name", required=False)
@click.option("--like", metavar="TEXT", help="Values that hold this text, whatever the case.")
@click.option(
    "--typos", is_flag=True, help="Values of which one changed character gives somebody more."
)
@click.option("--all", "every", is_flag=True, help="With --typos: every row.")
@as_json
@at_a_time
@pass_context
def command(
    context: Context, name: str | None, like: str | None, typos: bool, every: bool, as_json: bool
) -> int:
    """Which attributes the sources give; the values of NAME with their counts."""
    if typos:
        finish(context, context.workspace().typos(), as_json=as_json, every=every)
        return 0
    result = context.workspace().attributes(name, like)
    finish(context, result, as_json=as_json)
    return 0
