"""``oaktag groups``."""

from __future__ import annotations

import click

from oaktag.cli.context import (
    Context,
    as_json,
    count,
    dry_run,
    emit,
    hint,
    pass_context,
    say,
    show_change,
    table,
    wait,
)


@click.command("groups")
@as_json
@click.option("--number", is_flag=True, help="Write issued numbers into groups.yaml.")
@dry_run
@wait
@pass_context
def command(context: Context, as_json: bool, number: bool, dry: bool, wait: bool) -> int:
    """Groups, their tags, members and bindings."""
    if number:
        changed = context.changing("groups --number", dry=dry, wait=wait).number_groups(dry=dry)
        if as_json:
            emit(changed)
            return 0
        show_change(changed)
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
        hint("oaktag groups --number writes the numbers that are not written yet")
    elif document["unassigned"]:
        hint("oaktag members --unassigned shows who is in no group, and who nearly is")
    return 0
