"""``oaktag correct``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing
from oaktag.cli.context import Context, complete, finish, pass_context
from oaktag.errors import UsageError


@click.command("correct")
@click.argument("who", shell_complete=complete("end"))
@click.argument("attribute")
@click.argument("value", required=False)
@click.option("--undo", is_flag=True, help="Take the correction out again.")
@click.option("--by", default="", metavar="NAME", help="Who says so.")
@click.option("--why", default="", metavar="TEXT", help="Why.")
@changing
@pass_context
def command(
    context: Context,
    who: str,
    attribute: str,
    value: str | None,
    undo: bool,
    by: str,
    why: str,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
) -> int:
    """Correct an ATTRIBUTE of the endpoint WHO by hand: it is VALUE, whatever the sources say.

    Several values are parted by a semicolon; '' says that it has none.
    """
    if (value is None) != undo:
        raise UsageError("say the value, or --undo to take the correction out again")
    workspace = context.changing("correct", write=write, wait=wait)
    result = workspace.correct(who, attribute, value, by=by, why=why, write=write, anyway=anyway)
    finish(context, result, as_json=as_json)
    return 0
