"""``oaktag attributes``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, count, emit, hint, pass_context, say, table


@click.command("attributes")
@click.argument("name", required=False)
@click.option("--like", metavar="TEXT", help="Values that hold this text, whatever the case.")
@as_json
@pass_context
def command(context: Context, name: str | None, like: str | None, as_json: bool) -> int:
    """Which attributes the sources give; the values of NAME with their counts."""
    document = context.workspace().attributes(name, like)
    if as_json:
        emit(document)
        return 0
    if name is None and like is None:
        table(
            ("attribute", "endpoints", "values", "unsure", "given by"),
            [
                (a["attribute"], a["endpoints"], a["values"], a["unsure"], ", ".join(a["sources"]))
                for a in document["attributes"]
            ],
            right=(1, 2, 3),
            wrap=(4,),
        )
        hint("oaktag attributes NAME shows its values")
        return 0
    table(
        ("attribute", "value", "endpoints", "least confidence"),
        [
            (v["attribute"], v["value"], v["endpoints"], f"{v['least_confidence']:g}")
            for v in document["values"]
        ],
        right=(2, 3),
        wrap=(1,),
    )
    say(count(len(document["values"]), "value"))
    if document["values"]:
        first = document["values"][0]
        hint(f"oaktag members --when '{first['attribute']}={first['value']}' shows who has it")
    return 0
