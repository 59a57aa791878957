"""``oaktag move``."""

from __future__ import annotations

from typing import get_args

import click

from oaktag.cli.changes import changing
from oaktag.cli.context import Context, finish, pass_context
from oaktag.operations.move import Where


@click.command("move")
@click.argument("line", metavar="FILE:LINE")
@click.argument("where", required=False, type=click.Choice(get_args(Where)))
@click.argument("other", required=False, metavar="[LINE]")
@changing
@pass_context
def command(
    context: Context,
    line: str,
    where: Where | None,
    other: str | None,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
) -> int:
    """Put a line of the matrix at another place of its file; without a place: what each changes.

    As in: oaktag move matrix/20-reading.csv:8 before 4
    """
    if (where in ("before", "after")) != (other is not None):
        raise click.UsageError("before and after need the number of another line, others none")
    workspace = context.changing("move", write=write, wait=wait)
    result = workspace.move(line, where, other, write=write, anyway=anyway)
    finish(context, result, as_json=as_json)
    return 0
