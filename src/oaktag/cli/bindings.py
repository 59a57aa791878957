"""``oaktag bindings``."""

from __future__ import annotations

import click

from oaktag.cli.context import (
    Context,
    as_json,
    complete,
    count,
    emit,
    hint,
    pass_context,
    say,
    table,
)


@click.command("bindings")
@click.argument("addresses", nargs=-1, metavar="[ADDRESS]...")
@click.option(
    "--at", "node", metavar="NODE", shell_complete=complete("node"), help="As NODE knows them."
)
@as_json
@pass_context
def command(context: Context, addresses: tuple[str, ...], node: str | None, as_json: bool) -> int:
    """Which prefix has which tag, in the registry or as one node knows it.

    With addresses: the tag of each, and the binding that gives it.
    """
    document = context.workspace().bindings(node, addresses)
    if as_json:
        emit(document)
        return 0
    if addresses:
        rows = [(f["address"], f["tag"], f["group"], *_by(f["binding"])) for f in document["found"]]
        table(("address", "tag", "group", "by", "source", "of"), rows, right=(1,))
        return 0
    table(
        ("prefix", "tag", "group", "source", "of", "learned at"),
        [
            (b["prefix"], b["tag"], b["group"], b["source"], b["who"], b["from"])
            for b in document["bindings"]
        ],
        right=(1,),
        wrap=(4,),
    )  # fmt: skip
    say(f"{count(len(document['bindings']), 'binding')} known at {document['at']}")
    if node is None:
        hint("oaktag bindings --at NODE shows what one node knows of them")
    elif not document["bindings"]:
        hint(f"no feed brings {node} anything: see feeds in network.yaml, and oaktag reach")
    return 0


def _by(binding: dict[str, str] | None) -> tuple[str, str, str]:
    if binding is None:
        return "no binding", "", ""
    return binding["prefix"], binding["source"], binding["who"]
