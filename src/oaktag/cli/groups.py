"""``oaktag groups``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, count, emit, hint, pass_context, say, table


@click.command("groups")
@as_json
@click.option("--number", is_flag=True, help="Write issued numbers into groups.yaml.")
@pass_context
def command(context: Context, as_json: bool, number: bool) -> int:
    """Groups, their tags, members and bindings."""
    written: dict[str, int] = {}
    if number:
        written = context.workspace().number_groups()
    document = context.workspace().groups()
    if as_json:
        emit({**document, "written": written} if number else document)
        return 0
    for group, tag in written.items():
        say(f"{group}: issued {tag}, written to groups.yaml")
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
    if any(g["number"] == "not written" for g in document["groups"]):
        hint("oaktag groups --number writes the numbers that are not written yet")
    elif document["unassigned"]:
        hint("oaktag members --unassigned shows who is in no group, and who nearly is")
    return 0
