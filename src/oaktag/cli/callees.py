"""``oaktag callees``."""

from __future__ import annotations

import click

from oaktag.cli.callers import each
from oaktag.cli.context import Context, as_json, complete, finish, pass_context


@click.command("callees")
@click.argument("source", metavar="SRC", shell_complete=complete("group"))
@click.argument("service", required=False)
@each
@as_json
@pass_context
def command(
    context: Context, source: str, service: str | None, endpoints: bool, as_json: bool
) -> int:
    """What SRC may reach, with SERVICE or with anything."""
    result = context.workspace().callees(source, service, endpoints=endpoints)
    finish(context, result, as_json=as_json)
    return 0
