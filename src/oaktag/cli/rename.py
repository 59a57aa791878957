"""``oaktag rename``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing
from oaktag.cli.context import Context, complete, finish, pass_context


@click.command("rename")
@click.argument("old", shell_complete=complete("group"))
@click.argument("new")
@changing
@pass_context
def command(
    context: Context, old: str, new: str, write: bool, wait: bool, anyway: bool, as_json: bool
) -> int:
    """Rename the group or set OLD in all files, or in none."""
    workspace = context.changing("rename", write=write, wait=wait)
    result = workspace.rename(old, new, write=write, anyway=anyway)
    finish(context, result, as_json=as_json)
    return 0
