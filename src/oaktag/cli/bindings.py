"""``oaktag bindings``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, complete, finish, pass_context


@click.command("bindings")
@click.argument("addresses", nargs=-1, metavar="[ADDRESS]...")
@click.option(
    "--at", "node", metavar="NODE", shell_complete=complete("node"), help="As NODE knows them."
)
@click.option("--missing", metavar="NODE", help="What NODE should know and does not, and why.")
@click.option("--feed", metavar="NAME", help="Both ends of one feed against each other.")
@as_json
@pass_context
def command(
    context: Context,
    addresses: tuple[str, ...],
    node: str | None,
    missing: str | None,
    feed: str | None,
    as_json: bool,
) -> int:
    """Which prefix has which tag, in the registry or as one node knows it.

    With addresses: the tag of each, and the binding that gives it.
    """
    if sum(x is not None for x in (node, missing, feed)) > 1:
        raise click.UsageError("one of --at, --missing and --feed at a time")
    workspace = context.workspace()
    if missing is not None:
        result = workspace.missing(missing)
    elif feed is not None:
        result = workspace.feed_ends(feed)
    else:
        result = workspace.bindings(node, addresses)
    finish(context, result, as_json=as_json)
    return 0
