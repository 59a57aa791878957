"""``oaktag grant``."""

from __future__ import annotations

from typing import Any, Literal

import click

from oaktag.cli.changes import changing, show_effect, written
from oaktag.cli.context import Context, complete, count, emit, paragraph, pass_context, say
from oaktag.letters import shown, tame


@click.command("grant")
@click.argument("source", metavar="SRC", shell_complete=complete("group"))
@click.argument("destination", metavar="DST", shell_complete=complete("group"))
@click.argument("service")
@click.option("--only", is_flag=True, help="To SRC alone, an endpoint: not to all of its group.")
@click.option("--until", metavar="DAY", help="The last day it is allowed.")
@click.option("--owner")
@click.option("--note")
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
    command = "grant" if action == "allow" else "revoke"
    workspace = context.changing(command, write=write, wait=wait)
    document = workspace.grant(*what, fields, action=action, only=only, write=write, anyway=anyway)
    if as_json:
        emit(document)
        return 0
    if document["already"]:
        say(document["already"])
        return 0
    click.echo(tame(shown(document["diff"])), nl=False)
    if alone := document["alone"]:
        paragraph(
            f"{alone['endpoint']} gets a group of its own through {alone['until']}: "
            f"{alone['group']} (tag {alone['tag']}), which fares exactly as {alone['fares_as']} in "
            f"all of its {alone['cells']} cells, proved. Beside that:", "    ", first="",
        )  # fmt: skip
    show_effect(document)
    verb = "gain" if action == "allow" else "lose"
    for row in document["others"]:
        _others(row, verb)
    written(document)
    return 0


def _others(row: dict[str, Any], verb: str) -> None:
    names = row["endpoints"]
    if not names:
        say(f"nobody else in {row['group']} would {verb} by it")
        return
    some = ", ".join(names[:12]) + (f" and {len(names) - 12} more" if len(names) > 12 else "")
    end = {"source": "as a source", "destination": "as a destination"}[row["side"]]
    paragraph(f"would {verb} by it too, {end}: {count(len(names), 'endpoint')} of {row['group']}: "
              f"{some}", "    ", first="")  # fmt: skip
