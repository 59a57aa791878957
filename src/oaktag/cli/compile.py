"""``oaktag compile``."""

from __future__ import annotations

import click

from oaktag.cli.changes import wait
from oaktag.cli.context import (
    Context,
    as_json,
    complete,
    emit,
    hint,
    pass_context,
    progress,
    say,
    table,
)


@click.command("compile")
@click.option("--out", default="lists", show_default=True, metavar="DIR", help="Where to write.")
@click.option("--point", metavar="P", shell_complete=complete("point"), help="One point alone.")
@click.option("--no-prove", is_flag=True, help="Do not read the lists back and prove them.")
@wait
@as_json
@pass_context
def command(
    context: Context, out: str, point: str | None, no_prove: bool, wait: bool, as_json: bool
) -> int:
    """Write the access list of every point, proved equal to the matrix first."""
    from oaktag.operations.lists import compile_lists

    model = context.workspace().model
    document = compile_lists(
        model, context.unlinked(out), point, proved=not no_prove,
        patience=None if wait else 10.0, progress=progress("compiling"),
    )  # fmt: skip
    if as_json:
        emit(document)
        return 0
    table(
        ("point", "mode", "entries", "plain", "capacity", "bindings", "proved", "file"),
        [
            (
                p["point"], p["mode"], p["entries"], p["plain_entries"], p["capacity"] or "",
                p["bindings"], "yes" if p["proved"] else "no", context.show(p["file"]),
            )
            for p in document["points"]
        ],
        right=(2, 3, 4, 5),
    )  # fmt: skip
    say(f"the lines behind the keys in the lists: {context.show(document['keys'])}")
    if not document["points"]:
        hint("no node of network.yaml is a point: there is nothing to compile")
    else:
        hint("oaktag lab up, then oaktag lab probe, try the lists with real packets")
    return 0
