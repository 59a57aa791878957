"""``oaktag trace``."""

from __future__ import annotations

from typing import Any

import click

from oaktag.cli.context import (
    Context,
    as_json,
    complete,
    emit,
    hint,
    paragraph,
    pass_context,
    place,
    say,
    table,
)


@click.command("trace")
@click.argument("source", metavar="SRC", shell_complete=complete("end"))
@click.argument("destination", metavar="DST", shell_complete=complete("end"))
@click.argument("service")
@click.option("--return", "back", is_flag=True, help="The answer's way as well.")
@as_json
@pass_context
def command(
    context: Context, source: str, destination: str, service: str, back: bool, as_json: bool
) -> int:
    """One packet's way from SRC to DST, hop by hop, over all paths."""
    document = context.workspace().trace(source, destination, service, back=back)
    if as_json:
        emit(document)
        return int(document["effect"] in ("leak", "break", "one-way"))
    if not document["paths"]:
        say(document["verdict"])
    for path in document["paths"]:
        ends = [
            f"{e['endpoint'] or e['group']} ({e['address']} in {e['segment'] or e['node']})"
            for e in (path["from"], path["to"])
        ]
        paragraph(f"{path['text']}, {ends[0]} → {ends[1]}", "    ", first="")
        _hops(path["hops"])
        paragraph(path["verdict"], "    ", first="")
        for answer in path["answers"]:
            say("\nand back:")
            _hops(answer["hops"])
            paragraph(answer["verdict"], "    ", first="")
        say()
    if document["effect"] in ("leak", "break", "one-way"):
        hint(f"oaktag reach --from {source} --to {destination} shows what else fares so")
    return int(document["effect"] in ("leak", "break", "one-way"))


def _hops(hops: list[dict[str, Any]]) -> None:
    if hops:
        table(
            ("node", "source seen as", "destination seen as", "what it does", "by"),
            [
                (
                    h["point"] or h["node"],
                    _seen(h["source_group"], h["source_tag"], h["source_from"]),
                    _seen(h["destination_group"], h["destination_tag"], h["destination_from"]),
                    _deed(h), place(h["line"]) if h["line"] else h["by"],
                )
                for h in hops
            ],
            wrap=(1, 2, 4),
        )  # fmt: skip


def _seen(group: str, tag: int, origin: str) -> str:
    return f"{group} ({origin})" if tag else "not known"


def _deed(hop: dict[str, Any]) -> str:
    if hop["judged"]:
        return str(hop["action"])
    reasons = {"direction": "not in this direction", "inside": "not inside a segment"}
    return reasons.get(hop["why"] or "", "passes it on")
