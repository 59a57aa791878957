"""``oaktag callers``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, complete, finish, pass_context

each = click.option("--endpoints", is_flag=True, help="Each endpoint of the groups too.")
real = click.option(
    "--real", is_flag=True, help="What the network really lets through, by which paths."
)


@click.command("callers")
@click.argument("destination", metavar="DST", shell_complete=complete("group"))
@click.argument("service", required=False)
@each
@real
@as_json
@pass_context
def command(
    context: Context,
    destination: str,
    service: str | None,
    endpoints: bool,
    real: bool,
    as_json: bool,
) -> int:
    """Who may reach DST, for SERVICE or for anything."""
    if real:
        if endpoints:
            raise click.UsageError("--real tells groups and segments; leave out --endpoints")
        found = context.workspace().real_callers(destination, service)
        finish(context, found, as_json=as_json)
        return 0
    result = context.workspace().callers(destination, service, endpoints=endpoints)
    finish(context, result, as_json=as_json)
    return 0
