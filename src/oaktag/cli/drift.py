"""``oaktag drift``."""

from __future__ import annotations

import click

from oaktag.cli.context import Context, as_json, count, emit, hint, pass_context, say, table

SHOWN = 8


@click.command("drift")
@click.argument("folder", default="observed", metavar="[DIR]")
@as_json
@pass_context
def command(context: Context, folder: str, as_json: bool) -> int:
    """What nodes report (files NODE.json in DIR) against what is intended, the worst first."""
    document = context.workspace().drift(context.unlinked(folder))
    if as_json:
        emit(document)
        return int(bool(document["drift"]))
    for row in document["drift"]:
        kinds = ("leaks", "leak"), ("breaks", "break"), ("one_way", "lose their answers")
        done = [f"{row[key]} {word}" for key, word in kinds if row[key]]
        most = "" if row["known"] else "at worst "
        said = f"{most}{', '.join(done)} of the flows that are meant to be exact"
        say(f"{row['node']}, {row['kind']}: {said if done else 'no flow fares otherwise by it'}")
        if row["example"]:
            say(f"   e.g. {row['example']}")
        table(
            ("   what", "about", "meant", "held"),
            [(f"   {d['what']}", d["about"], d["meant"], d["held"])
             for d in row["differences"][:SHOWN]],
            wrap=(3,),
        )  # fmt: skip
        if len(row["differences"]) > SHOWN:
            say(f"   and {len(row['differences']) - SHOWN} more; --json has all")
        say()
    if not document["drift"]:
        say("all that is reported is as intended")
    else:
        say(f"{count(len(document['drift']), 'drift')} found")
        hint(f"oaktag reach --observed {folder} shows the network as it is reported")
    if document["silent"]:
        say(f"no report from {', '.join(document['silent'][:8])}"
            + (" …" if len(document["silent"]) > 8 else ""))  # fmt: skip
    return int(bool(document["drift"]))
