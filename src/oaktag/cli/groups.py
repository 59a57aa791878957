"""``oaktag groups``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing
from oaktag.cli.context import Context, at_a_time, finish, pass_context


@click.command("groups")
@click.option("--number", is_flag=True, help="Give numbers to the groups that have none.")
@click.option("--alike", is_flag=True, help="Groups that fare alike, and could be one.")
@click.option(
    "--unlike", is_flag=True, help="Groups whose members fare differently in the network."
)
@changing
@at_a_time
@pass_context
def command(
    context: Context,
    number: bool,
    alike: bool,
    unlike: bool,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
) -> int:
    """Groups, their tags, members and bindings."""
    if number + alike + unlike > 1:
        raise click.UsageError("--number, --alike and --unlike are questions of their own")
    if number:
        workspace = context.changing("groups --number", write=write, wait=wait)
        finish(context, workspace.number_groups(write=write), as_json=as_json)
        return 0
    if write or wait or anyway:
        raise click.UsageError("--write, --wait and --anyway go with --number")
    if alike:
        finish(context, context.workspace().alike(), as_json=as_json)
        return 0
    if unlike:
        finish(context, context.workspace().unlike(), as_json=as_json)
        return 0
    finish(context, context.workspace().groups(), as_json=as_json)
    return 0
