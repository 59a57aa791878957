"""``oaktag pin``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing, note_option
from oaktag.cli.context import Context, complete, finish, listed, pass_context


@click.command("pin")
@click.argument("who", nargs=-1, metavar="[WHO]...", shell_complete=complete("end"))
@click.option("--to", "group", required=True, metavar="GROUP", shell_complete=complete("group"))
@click.option("--when", metavar="CONDITIONS", help="All whom 'site=ashgrove, model=SC-*' takes.")
@click.option("--list", "file", metavar="FILE", help="All in a file, one a line; - is the input.")
@click.option("--until", metavar="DAY", help="The last day it counts.")
@note_option
@changing
@pass_context
def command(
    context: Context,
    who: tuple[str, ...],
    group: str,
    when: str | None,
    file: str | None,
    until: str | None,
    note: str | None,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
) -> int:
    """Put WHO, endpoints or prefixes, into a group by hand, above every rule."""
    names = [*who, *(listed(context, file) if file else ())]
    if not names and when is None:
        raise click.UsageError("name somebody: WHO, --when or --list")
    workspace = context.changing("pin", write=write, wait=wait)
    one = names[0] if len(names) == 1 else names
    result = workspace.pin(one, group, until, note, when=when, write=write, anyway=anyway)
    finish(context, result, as_json=as_json)
    return 0
