"""``oaktag report``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, finish, pass_context, progress


@click.command("report")
@click.option(
    "--out", required=True, metavar="FILE",
    help="The page; a report that is there is held against the new one.",
)  # fmt: skip
@click.option("--since", metavar="A", help="What changed since A: a git revision, or a folder.")
@as_json
@pass_context
def command(context: Context, out: str, since: str | None, as_json: bool) -> int:
    """Write one HTML page that tells all of it, to everybody, and needs nothing else."""
    result = context.workspace().report(
        context.unlinked(out), since=since, progress=progress("followed or compiled")
    )
    finish(context, result, as_json=as_json)
    return 0
