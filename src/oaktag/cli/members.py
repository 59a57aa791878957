"""``oaktag members``."""

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
    place,
    say,
    table,
)


@click.command("members")
@click.argument("group", required=False, shell_complete=complete("group"))
@click.option("--unassigned", is_flag=True, help="Only who is in no group; who nearly is.")
@as_json
@pass_context
def command(context: Context, group: str | None, unassigned: bool, as_json: bool) -> int:
    """Who is in GROUP (all groups by default), and why."""
    document = context.workspace().members(group, unassigned=unassigned)
    rows = document["endpoints"]
    if as_json:
        emit(document)
        return 0
    if unassigned:
        table(
            ("endpoint", "kind", "address", "nearly"),
            [(r["endpoint"], r["kind"], _addresses(r), _near(r)) for r in rows],
            wrap=(2, 3),
        )
        say(f"{count(len(rows), 'endpoint')} in no group")
        if any(r["near"] for r in rows):
            hint("give it the attribute in the inventory, or pin it in assignments.yaml")
        return 0
    table(
        ("endpoint", "kind", "group", "address", "why"),
        [(r["endpoint"], r["kind"], r["group"], _addresses(r), _why(r)) for r in rows],
        wrap=(3, 4),
    )
    assigned = sum(r["by"] is not None for r in rows)
    say(f"{count(len(rows), 'endpoint')}, {assigned} of them in a group")
    return 0


def _addresses(row: dict[str, Any]) -> str:
    return "\n".join(row["addresses"])


def _why(row: dict[str, Any]) -> str:
    by = row["by"]
    if by is None:
        return "nothing assigns it"
    also = f" (also {', '.join(place(a) for a in row['also'])})" if row["also"] else ""
    if by["kind"] == "pin":
        return f"pin in {place(by)}{also}"
    return f"{'; '.join(by['conditions'])} ({place(by)}){also}"


def _near(row: dict[str, Any]) -> str:
    return "; ".join(
        f"{n['group']}, but for {n['attribute']}"
        f"{', known too unsurely' if n['unsure'] else ''} ({place(n)})"
        for n in row["near"]
    )
