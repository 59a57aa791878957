"""``oaktag help``."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import click

from oaktag.cli.context import Context, as_json, finish, pass_context

if TYPE_CHECKING:
    from oaktag.operations.result import Result


@click.command("help")
@click.argument("word", metavar="[TOPIC]", required=False)
@as_json
@pass_context
@click.pass_context
def command(ctx: click.Context, context: Context, word: str | None, as_json: bool) -> int:
    """What TOPIC means: a key of a file (until, network.yaml:feeds[].only), a file, a code of a
    finding (OT203), or a JSON answer (reach.json).

    Without one, every key of every file; with a command's name, that command.
    """
    parent = ctx.parent
    if word is not None and parent is not None and isinstance(parent.command, click.Group):
        named = parent.command.get_command(parent, word)
        if named is not None:
            with click.Context(named, info_name=word, parent=parent) as inner:
                click.echo(named.get_help(inner))
            return 0
    finish(context, _topic(word), as_json=as_json)
    return 0


def _topic(word: str | None) -> Result:
    from oaktag.operations.reference import reference
    from oaktag.operations.topics import answers, code_help, field_help

    if word is not None and re.fullmatch(r"(?i)ot\d+", word):
        return code_help(word.upper())
    name = (word or "").removesuffix(".json")
    if name != word and name in answers():
        return field_help(name)
    return reference(word)
