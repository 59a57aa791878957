"""``oaktag revoke``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, complete, pass_context, wait
from oaktag.cli.grant import amend, write
from oaktag.cli.set import anyway


@click.command("revoke")
@click.argument("source", metavar="SRC", shell_complete=complete("group"))
@click.argument("destination", metavar="DST", shell_complete=complete("group"))
@click.argument("service")
@click.option("--owner")
@click.option("--note")
@write
@wait
@anyway
@as_json
@pass_context
def command(
    context: Context,
    source: str,
    destination: str,
    service: str,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
    owner: str | None,
    note: str | None,
) -> int:
    """The smallest change that ends SERVICE from SRC to DST, proved; who else would lose."""
    fields = {k: v for k, v in {"owner": owner, "note": note}.items() if v is not None}
    return amend(
        context, "deny", (source, destination, service), fields, write, wait, anyway, as_json
    )
