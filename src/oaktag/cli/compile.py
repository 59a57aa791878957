"""``oaktag compile``."""

from __future__ import annotations

import click

from oaktag.cli.changes import wait
from oaktag.cli.context import Context, as_json, complete, finish, pass_context, progress
from oaktag.cli.workers import who, workers
from oaktag.errors import UsageError


@click.command("compile")
@click.option("--out", default="lists", show_default=True, metavar="DIR", help="Where to write.")
@click.option("--point", metavar="P", shell_complete=complete("point"), help="One point alone.")
@click.option("--no-prove", is_flag=True, help="Do not read the lists back and prove them.")
@click.option(
    "--why", type=click.IntRange(min=1), metavar="LINE",
    help="Of the entry at a line of P's list the matrix lines, and the cells.",
)  # fmt: skip
@click.option(
    "--for", "cell", nargs=2, metavar="SRC DST", shell_complete=complete("end"),
    help="The entries of P's list that are tried for a cell.",
)  # fmt: skip
@click.option(
    "--since", metavar="DIR",
    help="Write only the lists that differ from those in DIR, and say in what.",
)  # fmt: skip
@workers
@wait
@as_json
@pass_context
def command(
    context: Context, out: str, point: str | None, no_prove: bool, why: int | None,
    cell: tuple[str, str] | None, since: str | None,
    jobs: int | None, on: str | None, wait: bool, as_json: bool,
) -> int:  # fmt: skip
    """Write the access list of every point, proved equal to the matrix first.

    With --why or --for nothing is written.
    """
    if why is not None or cell is not None:
        if point is None or (why is not None and cell is not None):
            raise UsageError("oaktag compile --point P and one of --why LINE, --for SRC DST")
        workspace = context.workspace()
        if why is not None:
            finish(context, workspace.entry_at(point, why), as_json=as_json)
        elif cell is not None:
            finish(context, workspace.entries_for(point, *cell), as_json=as_json)
        return 0
    result = context.workspace().compile(
        context.unlinked(out), point, proved=not no_prove, patience=None if wait else 10.0,
        progress=progress("compiled"), on=who(jobs, on),
        since=None if since is None else context.unlinked(since),
    )  # fmt: skip
    finish(context, result, as_json=as_json, folder=context.folder.as_posix())
    return 0
