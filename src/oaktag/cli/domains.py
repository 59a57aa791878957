"""``oaktag domains``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, finish, pass_context
from oaktag.cli.pull import SILENT


@click.command("domains")
@click.option("--held", is_flag=True, help="Ask nobody: only what is in force here.")
@click.option("--all", "every", is_flag=True, help="Every prefix that came or went.")
@as_json
@pass_context
def command(context: Context, held: bool, every: bool, as_json: bool) -> int:
    """Other domains whose groups oaktag.yaml adopts: serial, age, groups and their tags, bindings,
    what changed there since, and what they hold of ours."""
    result = context.workspace().domains(ask=not held)
    finish(context, result, as_json=as_json, every=every)
    codes = {f["code"] for f in result.findings}
    return 1 if codes - {"OT505"} else SILENT if codes else 0
