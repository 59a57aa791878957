"""``oaktag callees``."""

from __future__ import annotations

import click

from oaktag.cli.callers import each, real
from oaktag.cli.context import Context, as_json, complete, finish, pass_context


@click.command("callees")
@click.argument("source", metavar="SRC", shell_complete=complete("group"))
@click.argument("service", required=False)
@each
@real
@as_json
@pass_context
def command(
    context: Context,
    source: str,
    service: str | None,
    endpoints: bool,
    real: bool,
    as_json: bool,
) -> int:
    """What SRC may reach, with SERVICE or with anything."""
    if real:
        if endpoints:
            raise click.UsageError("--real tells groups and segments; leave out --endpoints")
        found = context.workspace().real_callees(source, service)
        finish(context, found, as_json=as_json)
        return 0
    result = context.workspace().callees(source, service, endpoints=endpoints)
    finish(context, result, as_json=as_json)
    return 0
