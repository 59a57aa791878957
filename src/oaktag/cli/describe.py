"""``oaktag describe``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, complete, emit, paragraph, pass_context, places


@click.command("describe")
@click.argument("group", shell_complete=complete("group"))
@as_json
@pass_context
def command(context: Context, group: str, as_json: bool) -> int:
    """GROUP's whole policy in plain sentences, in and out, with the lines that say so."""
    document = context.workspace().describe(group)
    if as_json:
        emit(document)
        return 0
    for sentence in document["sentences"]:
        by = f" [{places(sentence['lines'])}]" if sentence["lines"] else ""
        paragraph(f"{sentence['text']}{by}", "    ", first="")
    return 0
