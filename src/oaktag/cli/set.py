"""``oaktag set``."""

from __future__ import annotations

from typing import Any

import click

from oaktag.cli.context import (
    Context,
    as_json,
    complete,
    count,
    dry_run,
    emit,
    pass_context,
    places,
    say,
    show_change,
    table,
    wait,
)

anyway = click.option("--anyway", is_flag=True, help="Also where an expectation fails then.")


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
@click.option("--owner")
@click.option("--note")
@anyway
@dry_run
@wait
@as_json
@pass_context
def command(
    context: Context,
    source: str | None,
    destination: str | None,
    permission: str | None,
    where: str | None,
    new_permission: str | None,
    layer: str | None,
    anyway: bool,
    dry: bool,
    wait: bool,
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
    workspace = context.changing("set", dry=dry, wait=wait)
    if where is not None:
        if source is not None:
            raise click.UsageError("name SRC, DST and PERMISSION, or use --where, not both")
        fields |= {"permission": new_permission} if new_permission else {}
        document = workspace.set_many(where, fields, dry=dry, anyway=anyway)
    elif source is None or destination is None or permission is None:
        raise click.UsageError("SRC, DST and PERMISSION are needed, or --where")
    else:
        document = workspace.set_line(
            source, destination, permission, fields, layer, dry=dry, anyway=anyway
        )
    if as_json:
        emit(document)
    else:
        show_change(document)
        show_effect(document)
    return 0


def show_effect(document: dict[str, Any]) -> None:
    """What a change of lines opens and closes, and which expectations it touches."""
    if document["cells"]:
        table(
            ("from", "to", "opened", "closed"),
            [
                (
                    f"{c['source']} ({c['source_members']})",
                    f"{c['destination']} ({c['destination_members']})",
                    c["opened_text"], c["closed_text"],
                )
                for c in document["cells"]
            ],
            wrap=(2, 3),
        )  # fmt: skip
    elif document["hidden_by"]:
        say(f"no decision changes: {places(document['hidden_by'])} decides all its packets first")
    else:
        say("no decision changes")
    for r in document["expectations"]:
        verb = "holds then" if r["is"] else "FAILS then"
        say(f"{verb}: {r['from']} → {r['to']}: {r['asks']} ({r['file']}:{r['line']})")
    broken = sum(r["is"] is False for r in document["expectations"])
    if broken and not document["written"]:
        say(f"{count(broken, 'expectation')} would fail: only --anyway writes this")
