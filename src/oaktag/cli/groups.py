"""``oaktag groups``."""

from __future__ import annotations

import click

from oaktag.cli.changes import changing, tell
from oaktag.cli.context import Context, count, emit, hint, pass_context, say, table


@click.command("groups")
@click.option("--number", is_flag=True, help="Give numbers to the groups that have none.")
@changing
@pass_context
def command(
    context: Context, number: bool, write: bool, wait: bool, anyway: bool, as_json: bool
) -> int:
    """Groups, their tags, members and bindings."""
    if number:
        workspace = context.changing("groups --number", write=write, wait=wait)
        return tell(context, workspace.number_groups(write=write), as_json=as_json)
    if write or wait or anyway:
        raise click.UsageError("--write, --wait and --anyway go with --number")
    document = context.workspace().groups()
    if as_json:
        emit(document)
        return 0
    table(
        ("group", "tag", "hex", "number", "members", "bindings", "title"),
        [
            (
                g["group"], g["tag"], g["hexadecimal"], g["number"], g["members"], g["bindings"],
                g["title"],
            )
            for g in document["groups"]
        ],
        right=(1, 2, 4, 5),
    )  # fmt: skip
    say(
        f"{count(len(document['groups']), 'group')}; "
        f"{count(document['unassigned'], 'endpoint')} in none of them"
    )
    for offer in document["offered"]:
        tail = "" if offer["tag"] is None else f", tag: issued {offer['tag']}"
        say(f"a rule comes to {offer['group']}; to have it: - {{id: {offer['group']}{tail}}}")
    if any(g["number"] == "not written" for g in document["groups"]):
        hint("oaktag groups --number --write writes the numbers that are not written yet")
    elif document["unassigned"]:
        hint("oaktag members --unassigned shows who is in no group, and who nearly is")
    return 0
