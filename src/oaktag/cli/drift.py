"""``oaktag drift``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, finish, pass_context


@click.command("drift")
@click.argument("folder", default="observed", metavar="[DIR]")
@as_json
@pass_context
def command(context: Context, folder: str, as_json: bool) -> int:
    """What nodes report (files NODE.json in DIR) against what is intended, the worst first."""
    result = context.workspace().drift(context.unlinked(folder))
    finish(context, result, as_json=as_json, folder=folder)
    return int(bool(result.drift))
