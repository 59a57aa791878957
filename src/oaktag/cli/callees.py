"""``oaktag callees``."""

from __future__ import annotations

import click

from oaktag.cli.callers import each, show
from oaktag.cli.context import Context, as_json, complete, emit, pass_context


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
    document = context.workspace().callees(source, service, endpoints=endpoints)
    if as_json:
        emit(document)
    else:
        show(document["callees"], f"can be reached from {document['source']['group']}", service)
    return 0
