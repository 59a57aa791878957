"""``oaktag callees``."""

from __future__ import annotations

import click

from oaktag.cli.callers import answer, asked_for
from oaktag.cli.context import Context, as_json, at_a_time, complete, pass_context


@click.command("callees")
@click.argument("source", metavar="SRC", shell_complete=complete("group"))
@asked_for
@as_json
@at_a_time
@pass_context
def command(
    context: Context,
    source: str,
    service: str | None,
    endpoints: bool,
    real: bool,
    out: str | None,
    as_json: bool,
) -> int:
    """What SRC may reach, with SERVICE or with anything."""
    asked = (source, service)
    return answer(
        context, "callees", asked, endpoints=endpoints, real=real, out=out, as_json=as_json
    )
