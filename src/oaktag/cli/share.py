"""``oaktag share``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, finish, pass_context


@click.command("share")
@click.option("--out", metavar="FILE", help="The document; the same bytes where nothing changed.")
@click.option(
    "--lists", metavar="DIR", help="The prefixes of each group as plain text, for other gear."
)
@as_json
@pass_context
def command(context: Context, out: str | None, lists: str | None, as_json: bool) -> int:
    """Our groups that oaktag.yaml shares, with their stable bindings, as other domains are told of
    them; signed. Without --out they are only shown."""
    result = context.workspace().share(
        None if out is None else context.unlinked(out),
        None if lists is None else context.unlinked(lists),
    )
    finish(context, result, as_json=as_json)
    return 0
