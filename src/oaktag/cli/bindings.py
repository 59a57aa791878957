"""``oaktag bindings``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from oaktag.cli.context import (
    Context,
    as_json,
    branch_option,
    complete,
    finish,
    pass_context,
    sheet_option,
)

if TYPE_CHECKING:
    from oaktag.operations.result import Result


def _node_or_time(
    ctx: click.Context, parameter: click.Parameter, values: tuple[str, ...]
) -> str | None:
    times = [value for value in values if value[:1].isdigit()]
    nodes = [value for value in values if value not in times]
    if max(len(times), len(nodes)) > 1:
        raise click.BadParameter("one node and one time at most")
    if times:
        ctx.ensure_object(Context).at = times[0]
    return nodes[0] if nodes else None


@click.command("bindings")
@click.argument("addresses", nargs=-1, metavar="[ADDRESS]...")
@click.option(
    "--at", "node", metavar="NODE|TIME", multiple=True, callback=_node_or_time,
    shell_complete=complete("node"), help="As NODE knows them; as git had it at a time; or both.",
)  # fmt: skip
@branch_option
@click.option("--missing", metavar="NODE", help="What NODE should know and does not, and why.")
@click.option("--feed", metavar="NAME", help="Both ends of one feed against each other.")
@click.option(
    "--taken-by", "owner", metavar="WHO", shell_complete=complete("end"),
    help="What WHO inherits with ADDRESS until tables have caught up.",
)  # fmt: skip
@sheet_option
@as_json
@pass_context
def command(
    context: Context,
    addresses: tuple[str, ...],
    node: str | None,
    missing: str | None,
    feed: str | None,
    owner: str | None,
    out: str | None,
    as_json: bool,
) -> int:
    """Which prefix has which tag, in the registry or as one node knows it.

    With addresses: the tag of each, and the binding that gives it.
    """
    if sum(x is not None for x in (node, missing, feed, owner)) > 1:
        raise click.UsageError("one of --at, --missing, --feed and --taken-by at a time")
    if owner is not None and len(addresses) != 1:
        raise click.UsageError("--taken-by asks of one address")
    workspace = context.workspace()
    result: Result
    if missing is not None:
        result = workspace.missing(missing)
    elif owner is not None:
        result = workspace.handover(addresses[0], owner)
    elif feed is not None:
        result = workspace.feed_ends(feed)
    else:
        result = workspace.bindings(node, addresses)
    finish(context, result, as_json=as_json, out=out)
    return 0
