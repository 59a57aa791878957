"""``oaktag lab``: up, probe, down."""

from __future__ import annotations

from typing import Any

import click

from oaktag.cli.context import Context, as_json, count, emit, hint, pass_context, say, table


@click.group("lab")
def command() -> None:
    """A real small network on this machine, from namespaces, without root."""


@command.command("up")
@click.option(
    "--hours", type=click.FloatRange(min=0, min_open=True), default=8.0, show_default=True,
    help="When it ends by itself.",
)  # fmt: skip
@as_json
@pass_context
def up(context: Context, hours: float, as_json: bool) -> int:
    """Build the network of network.yaml, with every endpoint in it, and no list yet."""
    from oaktag.operations import lab

    document = lab.up(context.workspace().model, hours)
    if as_json:
        emit(document)
        return 0
    say(
        f"up: {count(document['nodes'], 'node')}, {count(document['hosts'], 'endpoint')}, "
        f"{count(document['links'], 'link')} (tags in frames on {document['tunnels']}); "
        f"it ends by itself after {hours:g} h"
    )
    hint("oaktag lab probe sends packets before and after the lists are loaded")
    return 0


@command.command("probe")
@click.option("--all", "everything", is_flag=True, help="Every probe, not the odd ones alone.")
@as_json
@pass_context
def probe(context: Context, everything: bool, as_json: bool) -> int:
    """Send real packets for every expectation and cell, without lists and with them."""
    from oaktag.operations import lab

    document = lab.probe(context.workspace().model)
    odd = [p for p in document["probes"] if p["verdict"] != "as meant"]
    differ = [c for c in document["counters"] if not c["agree"]]
    if as_json:
        emit(document)
        return int(bool(odd or differ))
    for feed in document["feeds"]:
        say(f"feed {feed['feed']}: {count(feed['bindings'], 'binding')} arrived")
    rows = document["probes"] if everything else _some(odd)
    if rows:
        table(
            ("probe", "from", "to", "meant", "no list", "with lists", "verdict"),
            [
                (
                    f"{p['protocol']} {p['port'] or 'echo'}",
                    f"{p['source']['group']}\n{p['source']['address']}",
                    f"{p['destination']['group']}\n{p['destination']['address']}",
                    p["meant"], _word(p["before"]), _word(p["after"]), p["verdict"],
                )
                for p in rows
            ],
            wrap=(1, 2, 6),
        )  # fmt: skip
    if len(odd) > len(rows):
        say(f"and {len(odd) - len(rows)} more like these; --all shows every probe")
    counts = ", ".join(f"{n} {verdict}" for verdict, n in sorted(document["summary"].items()))
    say(f"{count(len(document['probes']), 'probe')}: {counts or 'nobody is there to send one'}")
    for row in document["counters"]:
        agree = "agree" if row["agree"] else "DO NOT AGREE"
        say(f"{row['point']}: {row['packets']} new flows counted by cell; counters {agree}")
        for cell in row["differ"]:
            ends = f"{cell['source']} → {cell['destination']}"
            say(f"   {ends}: {cell['expected']} sent, {cell['counted']} counted")
    if odd:
        hint("oaktag reach says where a tag is lost, and what to do")
    return int(bool(odd or differ))


def _some(probes: list[dict[str, Any]], most: int = 5) -> list[dict[str, Any]]:
    """The first few of each verdict."""
    seen: dict[str, int] = {}
    kept = []
    for probe in probes:
        seen[probe["verdict"]] = seen.get(probe["verdict"], 0) + 1
        if seen[probe["verdict"]] <= most:
            kept.append(probe)
    return kept


def _word(answered: bool) -> str:
    return "answered" if answered else "no answer"


@command.command("state")
@click.argument("folder", default="observed", metavar="[DIR]")
@as_json
@pass_context
def state(context: Context, folder: str, as_json: bool) -> int:
    """Write what the nodes of the lab report of themselves, for oaktag drift."""
    from oaktag.operations import lab

    document = lab.write_state(context.workspace().model, context.unlinked(folder))
    if as_json:
        emit(document)
        return 0
    say(f"written: {count(len(document['files']), 'report')} in {folder}")
    hint(f"oaktag drift {folder} holds them against what is intended")
    return 0


@command.command("down")
@as_json
@pass_context
def down(context: Context, as_json: bool) -> int:
    """Take the network away."""
    from oaktag.operations import lab

    document = lab.down(context.workspace().model)
    if as_json:
        emit(document)
    else:
        say("down" if document["was_up"] else "no lab was up")
    return 0
