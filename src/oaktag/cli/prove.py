"""``oaktag prove``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, emit, pass_context, progress, say, table


@click.command("prove")
@click.argument("folder", metavar="DIR", default="lists")
@as_json
@pass_context
def command(context: Context, folder: str, as_json: bool) -> int:
    """Read the lists in DIR back and prove each equal to the matrix, for all packets."""
    from oaktag.operations.lists import prove

    document = prove(context.workspace().model, context.unlinked(folder), progress("proving"))
    wrong = [p for p in document["points"] if not p["equal"]]
    if as_json:
        emit(document)
        return int(bool(wrong))
    table(
        ("point", "list", "against the matrix"),
        [
            (
                p["point"],
                context.show(p["file"]),
                "equal, for all packets" if p["equal"] else "NOT EQUAL",
            )
            for p in document["points"]
        ],
    )
    for row in wrong:
        say(f"{row['point']}: {row['error'] or row['counterexample']['text']}")
    say(f"{len(document['points']) - len(wrong)} of {len(document['points'])} equal")
    return int(bool(wrong))
