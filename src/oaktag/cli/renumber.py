"""``oaktag renumber``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing
from oaktag.cli.context import Context, complete, finish, pass_context
from oaktag.core.groups import tag_number


@click.command("renumber")
@click.argument("group", shell_complete=complete("group"))
@click.argument("number", required=False)
@changing
@pass_context
def command(
    context: Context,
    group: str,
    number: str | None,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
) -> int:
    """Give GROUP another NUMBER in all files, without one the next that is issued.

    A number that was issued is retired: points may hold it for a while.
    """
    tag = None
    if number is not None and not (tag := tag_number(number)):
        raise click.UsageError(f"{number!r} is no number of a group: 1 to 65535, or 0x1 to 0xffff")
    workspace = context.changing("renumber", write=write, wait=wait)
    result = workspace.renumber(group, tag, write=write, anyway=anyway)
    finish(context, result, as_json=as_json)
    return 0
