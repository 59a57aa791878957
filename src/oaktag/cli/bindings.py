"""``oaktag bindings``."""

from __future__ import annotations

from typing import Any

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
@click.option("--missing", metavar="NODE", help="What NODE should know and does not, and why.")
@click.option("--feed", metavar="NAME", help="Both ends of one feed against each other.")
@as_json
@pass_context
def command(
    context: Context,
    addresses: tuple[str, ...],
    node: str | None,
    missing: str | None,
    feed: str | None,
    as_json: bool,
) -> int:
    """Which prefix has which tag, in the registry or as one node knows it.

    With addresses: the tag of each, and the binding that gives it.
    """
    if sum(x is not None for x in (node, missing, feed)) > 1:
        raise click.UsageError("one of --at, --missing and --feed at a time")
    workspace = context.workspace()
    if missing is not None:
        document = workspace.missing(missing)
    elif feed is not None:
        document = workspace.feed_ends(feed)
    else:
        document = workspace.bindings(node, addresses)
    if as_json:
        emit(document)
        return 0
    if "missing" in document:
        return _missing(document)
    if "ends" in document:
        return _ends(document)
    if addresses:
        rows = [(f["address"], f["tag"], f["group"], *_by(f["binding"])) for f in document["found"]]
        table(("address", "tag", "group", "by", "source", "of"), rows, right=(1,))
        return 0
    table(
        ("prefix", "tag", "group", "source", "of", "came by" if node else "learned at"),
        [
            (
                b["prefix"], b["tag"], b["group"], b["source"], b["who"],
                ", ".join(b["via"]) or b["from"],
            )
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


def _missing(document: dict[str, Any]) -> int:
    rows = document["missing"]
    if rows:
        table(
            ("address", "of", "group", "known as", "where it stopped"),
            [
                (
                    r["address"], r["who"] or f"unknown hosts of {r['segment']}", r["group"],
                    r["known_group"], r["stopped"],
                )
                for r in rows
            ],
            wrap=(1, 4),
        )  # fmt: skip
    noun = "address" if len(rows) == 1 else "addresses"
    say(f"{len(rows)} {noun} that {document['at']} should know otherwise")
    return 0


def _ends(document: dict[str, Any]) -> int:
    counts: dict[str, int] = {}
    for row in document["ends"]:
        counts[row["said"]] = counts.get(row["said"], 0) + 1
    usual = ("the same at both ends", "not relayed")
    odd = [r for r in document["ends"] if r["said"] not in usual]
    if odd:
        table(
            ("prefix", f"at {document['sender']}", f"at {document['at']}", "so"),
            [(r["prefix"], r["sent_group"], r["held_group"], r["said"]) for r in odd],
        )
    for said, number in counts.items():
        say(f"{number} {said}")
    return 0
