"""``oaktag set``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing, note_option, owner_option
from oaktag.cli.context import Context, complete, finish, pass_context


@click.command("set")
@click.argument("source", metavar="[SRC]", required=False, shell_complete=complete("group"))
@click.argument("destination", metavar="[DST]", required=False, shell_complete=complete("group"))
@click.argument("permission", metavar="[PERMISSION]", required=False)
@click.option("--where", metavar="CONDITIONS", help="All lines with 'owner=reading services'.")
@click.option("--permission", "new_permission", metavar="NAME", help="With --where: this one.")
@click.option("--layer", metavar="FILE", help="The layer of the line.")
@click.option("--mode", type=click.Choice(["enforce", "observe", "off"]))
@click.option("--way", type=click.Choice(["to", "both"]))
@click.option("--expires", metavar="DAY", help="The last day it counts.")
@owner_option
@note_option
@changing
@pass_context
def command(
    context: Context,
    source: str | None,
    destination: str | None,
    permission: str | None,
    where: str | None,
    new_permission: str | None,
    layer: str | None,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
    mode: str | None,
    way: str | None,
    expires: str | None,
    owner: str | None,
    note: str | None,
) -> int:
    """Give SRC → DST a PERMISSION, or change many lines at once with --where."""
    given = {"mode": mode, "way": way, "expires": expires, "owner": owner, "note": note}
    fields = {k: v for k, v in given.items() if v is not None}
    workspace = context.changing("set", write=write, wait=wait)
    if where is not None:
        if source is not None:
            raise click.UsageError("name SRC, DST and PERMISSION, or use --where, not both")
        fields |= {"permission": new_permission} if new_permission else {}
        result = workspace.set_many(where, fields, write=write, anyway=anyway)
    elif source is None or destination is None or permission is None:
        raise click.UsageError("SRC, DST and PERMISSION are needed, or --where")
    else:
        result = workspace.set_line(
            source, destination, permission, fields, layer, write=write, anyway=anyway
        )
    finish(context, result, as_json=as_json)
    return 0
