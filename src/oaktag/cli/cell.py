"""``oaktag cell``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, complete, emit, pass_context, place, say, table


@click.command("cell")
@click.argument("source", metavar="SRC", shell_complete=complete("end"))
@click.argument("destination", metavar="DST", shell_complete=complete("end"))
@as_json
@pass_context
def command(context: Context, source: str, destination: str, as_json: bool) -> int:
    """One cell: its lines in order, their entries, and what they come to."""
    document = context.workspace(source, destination).cell(source, destination)
    if as_json:
        emit(document)
        return 0
    ends = document["source"], document["destination"]
    say(" → ".join(f"{e['group']} (tag {e['tag']}, {e['tag']:#x})" for e in ends))
    say()
    lines = {(x["file"], x["line"], x["mirrored"]): x for x in document["lines"]}
    table(
        ("line", "as written", "mode", "permission", "owner", "note"),
        [
            (
                place(x),
                f"{x['source']} → {x['destination']}" + (" (mirrored)" if x["mirrored"] else ""),
                x["mode"], x["permission"], x["owner"], x["note"],
            )
            for x in lines.values()
        ],
        wrap=(4, 5),
    )  # fmt: skip
    say()
    table(
        ("", "entry", "of", "mode"),
        [
            (
                " " if e["decides"] else "-",
                f"{e['action']} {e['services']}" + (f" (log {e['log']})" if e["log"] else ""),
                place(e), e["mode"],
            )
            for e in document["entries"]
        ]
        + [
            (
                " " if document["default_decides"] else "-",
                f"{document['default']} everything else", "the default", "",
            )
        ],
    )  # fmt: skip
    if not document["default_decides"] or any(not e["decides"] for e in document["entries"]):
        say("-  decides no packet of this cell: the entries above it leave none")
    say()
    say(f"allows:       {document['allows']}")
    if document["would_allow"] != document["allows"]:
        say(f"would allow:  {document['would_allow']}")
    return 0
