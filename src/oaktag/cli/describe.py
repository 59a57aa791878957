"""``oaktag describe``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, at_a_time, complete, finish, pass_context


@click.command("describe")
@click.argument("group", shell_complete=complete("group"))
@click.option(
    "--in", "segment", metavar="SEGMENT", help="What a host that nobody knows obtains there."
)
@as_json
@at_a_time
@pass_context
def command(context: Context, group: str, segment: str | None, as_json: bool) -> int:
    """GROUP's whole policy in plain sentences, in and out, with the lines that say so.

    With untagged --in SEGMENT: as whom a newcomer is taken there, and what gets through.
    """
    if segment is not None:
        if group != "untagged":
            raise click.UsageError("--in goes with untagged: who comes to a segment is in no group")
        finish(context, context.workspace().newcomer(segment), as_json=as_json)
        return 0
    finish(context, context.workspace().describe(group), as_json=as_json)
    return 0
