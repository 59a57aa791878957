"""``oaktag trace``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, at_a_time, complete, finish, pass_context


@click.command("trace")
@click.argument("source", metavar="SRC", shell_complete=complete("end"))
@click.argument("destination", metavar="DST", shell_complete=complete("end"))
@click.argument("service")
@click.option("--return", "back", is_flag=True, help="The answer's way as well.")
@at_a_time
@as_json
@pass_context
def command(
    context: Context, source: str, destination: str, service: str, back: bool, as_json: bool
) -> int:
    """One packet's way from SRC to DST, hop by hop, over all paths."""
    result = context.workspace().trace(source, destination, service, back=back)
    finish(context, result, as_json=as_json)
    return int(result.effect in ("leak", "break", "one-way"))
