"""``oaktag merge``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing
from oaktag.cli.context import Context, complete, finish, pass_context


@click.command("merge")
@click.argument("old", shell_complete=complete("group"))
@click.argument("heir", shell_complete=complete("group"))
@click.option("--lines", is_flag=True, help="What lines say of OLD is said of HEIR then.")
@changing
@pass_context
def command(
    context: Context,
    old: str,
    heir: str,
    lines: bool,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
) -> int:
    """Join the group OLD to HEIR: its members fare as HEIR does, and its number is retired.

    What is asked and borne of OLD (expectations, accepted leaks) is asked and borne of HEIR. Lines
    that name OLD go, unless --lines keeps them.
    """
    workspace = context.changing("merge", write=write, wait=wait)
    result = workspace.merge(old, heir, lines=lines, write=write, anyway=anyway)
    finish(context, result, as_json=as_json)
    return 0
