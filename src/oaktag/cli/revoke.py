"""``oaktag revoke``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing, note_option, owner_option
from oaktag.cli.context import Context, complete, pass_context
from oaktag.cli.grant import amend


@click.command("revoke")
@click.argument("source", metavar="SRC", shell_complete=complete("group"))
@click.argument("destination", metavar="DST", shell_complete=complete("group"))
@click.argument("service")
@owner_option
@note_option
@changing
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
