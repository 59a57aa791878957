"""``oaktag explain``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, at_a_time, complete, finish, pass_context


@click.command("explain")
@click.argument("what", shell_complete=complete("end"))
@at_a_time
@as_json
@pass_context
def command(context: Context, what: str, as_json: bool) -> int:
    """All that is known about WHAT: an endpoint, an address, a prefix, a group or a tag."""
    finish(context, context.workspace().explain(what), as_json=as_json)
    return 0
