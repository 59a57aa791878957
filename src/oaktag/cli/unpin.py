"""``oaktag unpin``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, dry_run, emit, pass_context, show_change, wait


@click.command("unpin")
@click.argument("who")
@dry_run
@wait
@as_json
@pass_context
def command(context: Context, who: str, dry: bool, wait: bool, as_json: bool) -> int:
    """Take the pin of WHO, an endpoint or a prefix, out again."""
    document = context.changing("unpin", dry=dry, wait=wait).unpin(who, dry=dry)
    if as_json:
        emit(document)
    else:
        show_change(document)
    return 0
