"""``oaktag callers``."""

from __future__ import annotations

from typing import Any

import click

from oaktag.cli.context import (
    Context,
    as_json,
    complete,
    count,
    emit,
    hint,
    pass_context,
    places,
    say,
    table,
)

each = click.option("--endpoints", is_flag=True, help="Each endpoint of the groups too.")


@click.command("callers")
@click.argument("destination", metavar="DST", shell_complete=complete("group"))
@click.argument("service", required=False)
@each
@as_json
@pass_context
def command(
    context: Context, destination: str, service: str | None, endpoints: bool, as_json: bool
) -> int:
    """Who may reach DST, for SERVICE or for anything."""
    document = context.workspace().callers(destination, service, endpoints=endpoints)
    if as_json:
        emit(document)
    else:
        show(document["callers"], f"may reach {document['destination']['group']}", service)
    return 0


def show(rows: list[dict[str, Any]], verb: str, service: str | None) -> None:
    """Groups with what they are allowed, and by which lines."""
    if rows:
        heads = ["group", "members", "for", "by"]
        listed = [[r["group"], r["members"], _what(r), places(r["lines"])] for r in rows]
        if "endpoints" in rows[0]:
            heads.append("endpoints")
            for cells, row in zip(listed, rows, strict=True):
                cells.append(", ".join(row["endpoints"]))
        table(heads, listed, right=(1,), wrap=(2, 3, 4))
    asked = f" with {service}" if service else ""
    say(f"{count(len(rows), 'group')} {verb}{asked}")
    if any(r["would_allow"] != r["allows"] for r in rows):
        hint("oaktag compare --if-enforced shows what the observed lines would change")


def _what(row: dict[str, Any]) -> str:
    if row["would_allow"] == row["allows"]:
        return str(row["allows"])
    return f"{row['allows']}; would be: {row['would_allow']}"
