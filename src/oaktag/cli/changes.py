"""What commands that change files share: their options, and how a change is shown."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, TypeVar

import click

from oaktag.cli.context import (
    Context,
    as_json,
    count,
    emit,
    hint,
    paragraph,
    places,
    say,
    table,
)
from oaktag.letters import shown, tame

F = TypeVar("F", bound=Callable[..., Any])

write = click.option("--write", is_flag=True, help="Write the change; else it is only shown.")
wait = click.option("--wait", is_flag=True, help="Wait while another change of the files goes on.")
anyway = click.option("--anyway", is_flag=True, help="Also where an expectation fails then.")
#: So many rows of one kind are shown of a change.
SHOWN = 20


def changing(command: F) -> F:
    """The options that every command has that changes files."""
    for option in (as_json, anyway, wait, write):
        command = option(command)
    return command


def tell(context: Context, document: dict[str, Any], *, as_json: bool) -> int:
    """A change: the diff, what it does, and whether it was written."""
    if as_json:
        emit(document)
        return 0
    click.echo(tame(shown(document["diff"])), nl=False)
    if document["files"]:
        show_effect(document)
    written(document)
    return 0


def written(document: dict[str, Any]) -> None:
    """Whether a change was written, and how to."""
    files = ", ".join(document["files"])
    if not document["files"]:
        say("nothing to change")
    elif document["written"]:
        say(f"written: {files}")
    else:
        say(f"not written: {files}")
        hint("--write writes it")


def show_effect(document: dict[str, Any]) -> None:
    """All that a change does: decisions, endpoints, expectations, the network."""
    parts = ("cells", "endpoints", "expectations", "network")
    if document["hidden_by"]:
        say(f"no decision changes: {places(document['hidden_by'])} decides all its packets first")
    elif not any(document[part] for part in parts):
        say("nothing else changes: no decision, no endpoint's group, no expectation, no path")
    cells(document["cells"])
    if document["endpoints"]:
        rows = [(r["endpoint"], r["was"] or "—", r["is"] or "—") for r in document["endpoints"]]
        table(("endpoint", "was in", "is in then"), rows[:SHOWN])
        _more(rows, "endpoint", "moves")
    for r in document["expectations"]:
        verb = "holds then" if r["is"] else "FAILS then"
        say(f"{verb}: {r['from']} → {r['to']}: {r['asks']} ({r['file']}:{r['line']})")
    network(document["network"])
    if document["not_followed"]:
        paragraph(f"not followed: {document['not_followed']}", "   ", first="")
    broken = sum(r["is"] is False for r in document["expectations"])
    if broken and not document["written"]:
        say(f"{count(broken, 'expectation')} would fail: only --anyway writes this")


#: So many groups that fare alike are named.
NAMED = 4


def cells(rows: list[dict[str, Any]]) -> None:
    """What is opened and closed, by cell; cells of which the same is to be said as one row."""
    first: dict[tuple[str, str, str], list[str]] = {}
    for c in rows:
        key = f"{c['destination']} ({c['destination_members']})", c["opened_text"], c["closed_text"]
        first.setdefault(key, []).append(f"{c['source']} ({c['source_members']})")
    second: dict[tuple[tuple[str, ...], str, str], list[str]] = {}
    for (destination, opened, closed), sources in first.items():
        second.setdefault((tuple(sources), opened, closed), []).append(destination)
    folded_rows = [
        (_few(sources), _few(destinations), opened, closed)
        for (sources, opened, closed), destinations in second.items()
    ]
    if folded_rows:
        table(("from", "to", "opened", "closed"), folded_rows[:SHOWN], wrap=(0, 1, 2, 3))
        _more(folded_rows, "cell", "differs")


def _few(names: Sequence[str]) -> str:
    more = f" and {len(names) - NAMED} more" if len(names) > NAMED else ""
    return ", ".join(names[:NAMED]) + more


def _more(rows: list[Any], word: str, verb: str) -> None:
    if len(rows) > SHOWN:
        left = len(rows) - SHOWN
        verb = verb if left == 1 else {"differs": "differ", "moves": "move"}[verb]
        say(f"and {count(left, word)} more {verb}; --json has all")


def folded(rows: list[dict[str, Any]]) -> list[tuple[str, str, str, str]]:
    """What the network does otherwise, by cause: what, how many flows, why, an example."""
    alike: dict[tuple[bool, str, str, bool], list[dict[str, Any]]] = {}
    for row in rows:
        key = row["new"], row["effect"], row["why"], row["accepted"]
        alike.setdefault(key, []).append(row)
    return [
        (
            f"{'new' if new else 'over'} {effect}{' (accepted)' * accepted}",
            f"{sum(r['flows'] for r in of):,}", why, _example(of[0]),
        )
        for (new, effect, why, accepted), of in alike.items()
    ]  # fmt: skip


def network(rows: list[dict[str, Any]]) -> None:
    """What the network does otherwise, folded by cause."""
    causes = folded(rows)
    if causes:
        table(("network", "flows", "why", "for example"), causes[:SHOWN], right=(1,), wrap=(2, 3))
        _more(causes, "cause", "differs")


def _example(row: dict[str, Any]) -> str:
    ends = [f"{end['group']} in {end['segment']}" for end in (row["source"], row["destination"])]
    packets = f": {row['packets_text']}" if row["packets_text"] not in ("", "any") else ""
    return f"{ends[0]} → {ends[1]}{packets}"
