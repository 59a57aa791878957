"""``oaktag pin``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing, note_option
from oaktag.cli.context import Context, complete, finish, pass_context


@click.command("pin")
@click.argument("who", shell_complete=complete("end"))
@click.option("--to", "group", required=True, metavar="GROUP", shell_complete=complete("group"))
@click.option("--until", metavar="DAY", help="The last day it counts.")
@note_option
@changing
@pass_context
def command(
    context: Context,
    who: str,
    group: str,
    until: str | None,
    note: str | None,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
) -> int:
    """Put WHO, an endpoint or a prefix, into a group by hand, above every rule."""
    workspace = context.changing("pin", write=write, wait=wait)
    result = workspace.pin(who, group, until, note, write=write, anyway=anyway)
    finish(context, result, as_json=as_json)
    return 0
