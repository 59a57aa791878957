"""``oaktag split``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing
from oaktag.cli.context import Context, complete, finish, pass_context


@click.command("split")
@click.argument("old", shell_complete=complete("group"))
@click.argument("new")
@click.option("--when", required=True, metavar="CONDITIONS", help="Whom NEW gets: 'site=ashgrove'.")
@changing
@pass_context
def command(
    context: Context,
    old: str,
    new: str,
    when: str,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
) -> int:
    """Part the group OLD: members whom CONDITIONS take are in NEW then.

    NEW fares exactly as OLD does, which is proved; lines of its own can follow.
    """
    workspace = context.changing("split", write=write, wait=wait)
    result = workspace.split(old, new, when, write=write, anyway=anyway)
    finish(context, result, as_json=as_json)
    return 0
