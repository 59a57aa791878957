"""``oaktag grant``."""

from __future__ import annotations

from typing import Literal

import click

from oaktag.cli.changes import changing, note_option, owner_option
from oaktag.cli.context import Context, complete, finish, pass_context


@click.command("grant")
@click.argument("source", metavar="SRC", shell_complete=complete("group"))
@click.argument("destination", metavar="DST", shell_complete=complete("group"))
@click.argument("service")
@click.option("--only", is_flag=True, help="To SRC alone, an endpoint: not to all of its group.")
@click.option("--until", metavar="DAY", help="The last day it is allowed.")
@owner_option
@note_option
@changing
@pass_context
def command(
    context: Context,
    source: str,
    destination: str,
    service: str,
    only: bool,
    until: str | None,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
    owner: str | None,
    note: str | None,
) -> int:
    """The smallest change that allows SERVICE from SRC to DST, proved; who else would gain."""
    fields = {
        k: v for k, v in {"owner": owner, "note": note, "expires": until}.items() if v is not None
    }
    return amend(
        context, "allow", (source, destination, service), fields, write, wait, anyway, as_json,
        only=only,
    )  # fmt: skip


def amend(
    context: Context,
    action: Literal["allow", "deny"],
    what: tuple[str, str, str],
    fields: dict[str, str],
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
    *,
    only: bool = False,
) -> int:
    """Show a grant or its opposite, and write it where asked to."""
    workspace = context.changing("grant" if action == "allow" else "revoke", write=write, wait=wait)
    result = workspace.grant(*what, fields, action=action, only=only, write=write, anyway=anyway)
    finish(context, result, as_json=as_json)
    return 0
