"""``oaktag rename``."""

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


@click.command("rename")
@click.argument("old", shell_complete=complete("group"))
@click.argument("new")
@dry_run
@wait
@as_json
@pass_context
def command(context: Context, old: str, new: str, dry: bool, wait: bool, as_json: bool) -> int:
    """Rename the group or set OLD in all files, or in none."""
    document = context.changing("rename", dry=dry, wait=wait).rename(old, new, dry=dry)
    if as_json:
        emit(document)
    else:
        show_change(document)
    return 0
