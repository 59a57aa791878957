"""``oaktag retire``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing
from oaktag.cli.context import Context, complete, finish, pass_context


@click.command("retire")
@click.argument("group", shell_complete=complete("group"))
@changing
@pass_context
def command(
    context: Context, group: str, write: bool, wait: bool, anyway: bool, as_json: bool
) -> int:
    """Take GROUP out of all files, with all that names it; its number is retired.

    Its members are where later rules put them, or in no group.
    """
    workspace = context.changing("retire", write=write, wait=wait)
    result = workspace.retire(group, write=write, anyway=anyway)
    finish(context, result, as_json=as_json)
    return 0
