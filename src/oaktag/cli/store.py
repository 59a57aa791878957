"""``oaktag store``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, finish, pass_context


@click.command("store")
@click.option(
    "--check", is_flag=True, help="Work sessions out anew from the records; do they agree?"
)
@click.option(
    "--keep", type=click.IntRange(0, 36_500), metavar="DAYS",
    help="Take out sessions that have been over for longer, and their records.",
)  # fmt: skip
@as_json
@pass_context
def command(context: Context, check: bool, keep: int | None, as_json: bool) -> int:
    """What the store holds of what comes by itself, how much, since when. Nothing is ever taken out
    but by --keep."""
    result = context.workspace().stored(check=check, keep=keep)
    finish(context, result, as_json=as_json)
    return 1 if result.as_json().get("differing") else 0
