"""``oaktag prove``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, finish, pass_context, progress
from oaktag.cli.workers import who, workers


@click.command("prove")
@click.argument("folder", metavar="DIR", default="lists")
@workers
@as_json
@pass_context
def command(context: Context, folder: str, jobs: int | None, on: str | None, as_json: bool) -> int:
    """Read the lists in DIR back and prove each equal to the matrix, for all packets."""
    workspace = context.workspace()
    result = workspace.prove(context.unlinked(folder), progress("proved"), on=who(jobs, on))
    finish(context, result, as_json=as_json, folder=context.folder.as_posix())
    return int(not result.equal)
