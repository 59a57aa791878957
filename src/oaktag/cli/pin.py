"""``oaktag pin``."""

from __future__ import annotations

import click

from oaktag.cli.context import (
    Context,
    as_json,
    complete,
    dry_run,
    emit,
    pass_context,
    show_change,
    wait,
)


@click.command("pin")
@click.argument("who", shell_complete=complete("end"))
@click.option("--to", "group", required=True, metavar="GROUP", shell_complete=complete("group"))
@click.option("--until", metavar="DAY", help="The last day it counts.")
@click.option("--note", metavar="TEXT", help="Why.")
@dry_run
@wait
@as_json
@pass_context
def command(
    context: Context,
    who: str,
    group: str,
    until: str | None,
    note: str | None,
    dry: bool,
    wait: bool,
    as_json: bool,
) -> int:
    """Put WHO, an endpoint or a prefix, into a group by hand, above every rule."""
    document = context.changing("pin", dry=dry, wait=wait).pin(who, group, until, note, dry=dry)
    if as_json:
        emit(document)
    else:
        show_change(document)
    return 0
