"""``oaktag compare``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, finish, pass_context

PARTS = (
    "gained",
    "lost",
    "new",
    "gone",
    "guards",
    "renamed",
    "cells",
    "endpoints",
    "expectations",
    "points",
    "network",
)
WAYS = ("gained", "lost", "guards", "opened", "closed", "network", "any", "never")


@click.command("compare")
@click.argument("was", required=False, metavar="[A]")
@click.argument("now", required=False, metavar="[B]")
@click.option("--if-enforced", is_flag=True, help="Instead: if observed lines were enforced.")
@click.option("--where", metavar="CONDITIONS", help="Only lines with 'owner=reading services'.")
@click.option("--summary", is_flag=True, help="As Markdown, for a request to merge.")
@click.option(
    "--fail-on", type=click.Choice(WAYS), default="never", show_default=True,
    help="Exit with 1 if somebody gains, somebody loses, guards are weaker, a cell is opened, a "
    "cell is closed, the network does something wrong that it did not before, or anything differs.",
)  # fmt: skip
@as_json
@pass_context
def command(
    context: Context,
    was: str | None,
    now: str | None,
    if_enforced: bool,
    where: str | None,
    summary: bool,
    fail_on: str,
    as_json: bool,
) -> int:
    """Who gains and who loses between versions A and B: git revisions, or folders (./DIR or DIR/).

    Without B, between A and this folder; without A, between HEAD and this folder.
    """
    workspace = context.workspace()
    if if_enforced or where is not None:
        if was is not None:
            raise click.UsageError("--if-enforced and --where ask about this folder alone")
        result = workspace.if_enforced(where)
    else:
        result = workspace.compare("HEAD" if was is None else was, now)
    finish(context, result, as_json=as_json, summary=summary)
    found = {
        "gained": bool(result.gained),
        "lost": bool(result.lost),
        "guards": bool(result.guards),
        "opened": any(c["opened"] for c in result.cells),
        "closed": any(c["closed"] for c in result.cells),
        "network": any(r["new"] and not r["accepted"] for r in result.network),
        "any": any(result[part] for part in PARTS),
    }
    return int(found.get(fail_on, False))
