"""``oaktag pull``."""

from __future__ import annotations

import sys

import click

from oaktag.cli.changes import changing
from oaktag.cli.context import Context, finish, pass_context
from oaktag.errors import WorkspaceError

#: Exit status where somebody does not answer (interface.md).
SILENT = 3


@click.command("pull")
@click.argument("files", nargs=-1, metavar="[FILE]...")
@changing
@pass_context
def command(
    context: Context, files: tuple[str, ...], write: bool, wait: bool, anyway: bool, as_json: bool
) -> int:
    """Read directories and other domains into the FILEs of the workspace that stand for them (all
    of these where none is named), so that what changed there is a diff."""

    def progress(count: int) -> None:
        if sys.stderr.isatty():
            click.echo(f"\r{count:,} entries …", err=True, nl=False)

    try:
        workspace = context.changing("pull", write=write, wait=wait)
    except WorkspaceError:
        # Who is named in other files may be in what has not been pulled yet.
        from oaktag.operations.pulling import pull_first

        result = pull_first(context.folder, files, write=write, anyway=anyway, progress=progress)
    else:
        result = workspace.pull(files, write=write, anyway=anyway, progress=progress)
    finish(context, result, as_json=as_json)
    refused = result.as_json()["refused"]
    if any(not r["silent"] for r in refused):
        return 1
    return SILENT if refused else 0
