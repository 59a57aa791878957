"""``oaktag unpin``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing, tell
from oaktag.cli.context import Context, complete, pass_context


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
    document = workspace.unpin(who, at, write=write, anyway=anyway)
    return tell(context, document, as_json=as_json)
