"""``oaktag help``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, finish, pass_context


@click.command("help")
@click.argument("word", metavar="[KEY]", required=False)
@as_json
@pass_context
@click.pass_context
def command(ctx: click.Context, context: Context, word: str | None, as_json: bool) -> int:
    """What KEY means: a key of a file (until, scope, network.yaml:feeds[].only), or a file.

    Without one, every key of every file; with a command's name, that command.
    """
    from oaktag.operations.reference import reference

    parent = ctx.parent
    if word is not None and parent is not None and isinstance(parent.command, click.Group):
        named = parent.command.get_command(parent, word)
        if named is not None:
            with click.Context(named, info_name=word, parent=parent) as inner:
                click.echo(named.get_help(inner))
            return 0
    finish(context, reference(word), as_json=as_json)
    return 0
