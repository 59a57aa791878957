"""``oaktag compile``."""

from __future__ import annotations

import click

from oaktag.cli.changes import wait
from oaktag.cli.context import Context, as_json, complete, finish, pass_context, progress


@click.command("compile")
@click.option("--out", default="lists", show_default=True, metavar="DIR", help="Where to write.")
@click.option("--point", metavar="P", shell_complete=complete("point"), help="One point alone.")
@click.option("--no-prove", is_flag=True, help="Do not read the lists back and prove them.")
@wait
@as_json
@pass_context
def command(
    context: Context, out: str, point: str | None, no_prove: bool, wait: bool, as_json: bool
) -> int:
    """Write the access list of every point, proved equal to the matrix first."""
    result = context.workspace().compile(
        context.unlinked(out), point, proved=not no_prove, patience=None if wait else 10.0,
        progress=progress("compiling"),
    )  # fmt: skip
    finish(context, result, as_json=as_json, folder=context.folder.as_posix())
    return 0
