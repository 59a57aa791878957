"""``oaktag prove``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, finish, pass_context, progress


@click.command("prove")
@click.argument("folder", metavar="DIR", default="lists")
@as_json
@pass_context
def command(context: Context, folder: str, as_json: bool) -> int:
    """Read the lists in DIR back and prove each equal to the matrix, for all packets."""
    result = context.workspace().prove(context.unlinked(folder), progress("proving"))
    finish(context, result, as_json=as_json, folder=context.folder.as_posix())
    return int(not result.equal)
