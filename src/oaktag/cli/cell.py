"""``oaktag cell``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, at_a_time, complete, finish, pass_context


@click.command("cell")
@click.argument("source", metavar="SRC", shell_complete=complete("end"))
@click.argument("destination", metavar="DST", shell_complete=complete("end"))
@as_json
@at_a_time
@pass_context
def command(context: Context, source: str, destination: str, as_json: bool) -> int:
    """One cell: its lines in order, their entries, and what they come to."""
    result = context.workspace(source, destination).cell(source, destination)
    finish(context, result, as_json=as_json)
    return 0
