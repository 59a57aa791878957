"""``oaktag describe``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, complete, finish, pass_context


@click.command("describe")
@click.argument("group", shell_complete=complete("group"))
@as_json
@pass_context
def command(context: Context, group: str, as_json: bool) -> int:
    """GROUP's whole policy in plain sentences, in and out, with the lines that say so."""
    finish(context, context.workspace().describe(group), as_json=as_json)
    return 0
