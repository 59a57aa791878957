"""``oaktag rename``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing, tell
from oaktag.cli.context import Context, complete, pass_context


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
    document = workspace.rename(old, new, write=write, anyway=anyway)
    return tell(context, document, as_json=as_json)
