"""``oaktag find``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, at_a_time, finish, pass_context


@click.command("find")
@click.argument("text")
@click.option("--lists", metavar="DIR", help="Where access lists lie; lists if none is named.")
@click.option("--all", "every", is_flag=True, help="Show every line, however many there are.")
@as_json
@at_a_time
@pass_context
def command(context: Context, text: str, lists: str | None, every: bool, as_json: bool) -> int:
    """Every place where TEXT occurs: files, bindings, access lists.

    TEXT is a name, a piece of any text, an address or prefix (what holds it, what is inside), a
    port or service (8443/tcp), or a tag. What is not there is an answer too.
    """
    result = context.workspace().find(text, None if lists is None else context.unlinked(lists))
    finish(context, result, as_json=as_json, every=every)
    return 0
