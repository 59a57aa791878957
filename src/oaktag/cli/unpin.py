"""``oaktag unpin``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing
from oaktag.cli.context import Context, complete, finish, pass_context


@click.command("unpin")
@click.argument("who", shell_complete=complete("end"))
@click.option(
    "--at",
    metavar="NODE",
    shell_complete=complete("node"),
    help="Of several pins of a prefix, that at this node (registry: that of no node).",
)
@changing
@pass_context
def command(
    context: Context,
    who: str,
    at: str | None,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
) -> int:
    """Take the pin of WHO, an endpoint or a prefix, out again."""
    workspace = context.changing("unpin", write=write, wait=wait)
    result = workspace.unpin(who, at, write=write, anyway=anyway)
    finish(context, result, as_json=as_json)
    return 0
