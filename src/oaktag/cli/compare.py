"""``oaktag compare``."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import Any

import click

from oaktag.cli.changes import folded, network
from oaktag.cli.context import (
    Context,
    as_json,
    count,
    emit,
    hint,
    paragraph,
    pass_context,
    place,
    say,
    table,
)
from oaktag.letters import markdown

PARTS = ("guards", "renamed", "cells", "endpoints", "expectations", "points", "network")
WAYS = ("guards", "opened", "closed", "network", "any", "never")


@click.command("compare")
@click.argument("was", required=False, metavar="[A]")
@click.argument("now", required=False, metavar="[B]")
@click.option("--if-enforced", is_flag=True, help="Instead: if observed lines were enforced.")
@click.option("--where", metavar="CONDITIONS", help="Only lines with 'owner=reading services'.")
@click.option("--summary", is_flag=True, help="As Markdown, for a request to merge.")
@click.option(
    "--fail-on", type=click.Choice(WAYS), default="never", show_default=True,
    help="Exit with 1 where guards are weaker, a cell is opened, closed, the network does anything "
    "wrong anew, or anything differs.",
)  # fmt: skip
@as_json
@pass_context
def command(
    context: Context,
    was: str | None,
    now: str | None,
    if_enforced: bool,
    where: str | None,
    summary: bool,
    fail_on: str,
    as_json: bool,
) -> int:
    """Exactly what differs between versions A and B: git revisions, or folders (./DIR or DIR/).

    Without B, between A and this folder; without A, between HEAD and this folder.
    """
    workspace = context.workspace()
    if if_enforced or where is not None:
        if was is not None:
            raise click.UsageError("--if-enforced and --where ask about this folder alone")
        document = workspace.if_enforced(where)
    else:
        document = workspace.compare("HEAD" if was is None else was, now)
    if as_json:
        emit(document)
    elif summary:
        _markdown(document)
    else:
        _text(document)
    found = {
        "guards": bool(document["guards"]),
        "opened": any(c["opened"] for c in document["cells"]),
        "closed": any(c["closed"] for c in document["cells"]),
        "network": any(r["new"] and not r["accepted"] for r in document["network"]),
        "any": any(document[k] for k in PARTS),
    }
    return int(found.get(fail_on, False))


def _text(document: dict[str, Any]) -> None:
    if document["guards"]:
        say(f"{count(len(document['guards']), 'guard')} taken away or weaker:")
        table(
            ("guard", "where", "what", ""),
            [(g["guard"], place(g), g["text"], g["told"]) for g in document["guards"]],
            wrap=(2, 3),
        )
        say()
    for row in document["renamed"]:
        say(f"the group {row['was']} is called {row['is']} now (tag {row['tag']}, {row['tag']:#x})")
    if document["cells"]:
        table(
            ("from", "to", "opened", "closed"),
            [(*_ends(c), c["opened_text"], c["closed_text"]) for c in document["cells"]],
            wrap=(2, 3),
        )
        say()
    if document["endpoints"]:
        table(("endpoint", "was", "is"), _moves(document["endpoints"]))
        say()
    if document["expectations"]:
        table(
            ("expectation", "from", "to", "asks", "was", "is"),
            [
                (place(r), r["from"], r["to"], r["asks"], _holds(r["was"]), _holds(r["is"]))
                for r in document["expectations"]
            ],
            wrap=(3,),
        )
        say()
    if document["network"]:
        network(document["network"])
        say()
    paragraph(_counts(document), "    ", first="")
    for told, names in _lists(document["points"]).items():
        paragraph(f"{', '.join(names)}: {told}", "       ", first="   ")
    if document["cells"]:
        first = document["cells"][0]
        hint(f"oaktag cell {first['source']} {first['destination']} shows the lines of a cell")


def _markdown(document: dict[str, Any]) -> None:
    """For a request to merge: first what opens and closes, leaks and breaks anew."""
    for g in document["guards"]:
        told = f"{g['guard']} {g['told']}"
        say(f"- **{markdown(told)}**: {markdown(g['text'])} ({markdown(place(g))})")
    if document["guards"]:
        say()
    say(f"**{_counts(document)}**\n")
    if document["cells"]:
        say("| from | to | opened | closed |\n|---|---|---|---|")
        for c in document["cells"]:
            _row(*_ends(c), *(c[k] or "—" for k in ("opened_text", "closed_text")))
        say()
    rows = folded(document["network"])
    if rows:
        say("| network | flows | why | for example |\n|---|---|---|---|")
        for row in rows:
            _row(*row)
        say()
    for r in document["expectations"]:
        asks = markdown(f"{r['from']} → {r['to']}: {r['asks']}")
        where = markdown(place(r))
        say(f"- expectation {asks} ({where}): {_holds(r['was'])}, now {_holds(r['is'])}")
    for row in document["renamed"]:
        say(f"- the group `{row['was']}` is called `{row['is']}` now (tag {row['tag']})")
    if document["expectations"] or document["renamed"]:
        say()
    if document["endpoints"]:
        say("| endpoint | was in | is in |\n|---|---|---|")
        for moved in _moves(document["endpoints"]):
            _row(*moved)
        say()
    for told, names in _lists(document["points"]).items():
        say(f"- {', '.join(f'`{n}`' for n in names)}: {markdown(told)}")


#: So many cells, entries and bindings of a list are named.
NAMED = 3


def _lists(points: list[dict[str, Any]]) -> dict[str, list[str]]:
    """What differs in lists, in words; points of which the same is to be said together."""
    found: dict[str, list[str]] = {}
    for point in points:
        if str(point["is"]).startswith("cannot"):
            told = f"the list {point['is']}"
        elif point["was"] is None or point["is"] is None:
            told = "a list that was not there" if point["was"] is None else "no list any more"
        else:
            told = "; ".join(_contents(point)) or "the same entries for other lines"
        found.setdefault(told, []).append(point["point"])
    return found


def _contents(point: dict[str, Any]) -> Iterator[str]:
    cells = sum(len(e["cells"]) for e in point["entries"])
    if cells:
        first = point["entries"][0]
        ends = ", ".join(f"{s} → {d}" for s, d in first["cells"][:NAMED])
        signs = [f"less {t}" for t in first["gone"]] + [f"more {t}" for t in first["come"]]
        more = "" if cells <= NAMED and len(point["entries"]) == 1 else ", …"
        yield f"{count(cells, 'cell')} ({ends}: {'; '.join(signs[:NAMED])}{more})"
    if point["bindings"]:
        rows = [f"{b['addresses']} {b['was'] or 'nobody'} → {b['is'] or 'nobody'}"
                for b in point["bindings"]]  # fmt: skip
        more = ", …" * (len(rows) > NAMED)
        yield f"{count(len(rows), 'binding')} ({', '.join(rows[:NAMED])}{more})"
    if point["judges"]:
        yield "what it judges at all"


def _row(*cells: str) -> None:
    say(f"| {' | '.join(map(markdown, cells))} |")


def _ends(cell: dict[str, Any]) -> tuple[str, str]:
    return (
        f"{cell['source']} ({cell['source_members']})",
        f"{cell['destination']} ({cell['destination_members']})",
    )


def _moves(rows: list[dict[str, Any]]) -> list[tuple[str, str, str]]:
    return [(r["endpoint"], r["was"] or "not there", r["is"] or "not there") for r in rows]


def _holds(value: bool | None) -> str:
    return "not asked" if value is None else "holds" if value else "FAILS"


def _counts(document: dict[str, Any]) -> str:
    opened = sum(bool(c["opened"]) for c in document["cells"])
    closed = sum(bool(c["closed"]) for c in document["cells"])
    weaker = len(document["guards"])
    parts = [f"{count(weaker, 'guard')} weaker"] * bool(weaker)
    parts += [f"{count(opened, 'cell')} opened", f"{closed} closed"]
    parts.append(f"{count(len(document['endpoints']), 'endpoint')} moved")
    broken = sum(r["is"] is False for r in document["expectations"])
    if document["expectations"]:
        touched = count(len(document["expectations"]), "expectation")
        parts.append(f"{touched} touched, {broken} of them failing now")
    parts.append(f"{count(len(document['points']), 'list')} changed")
    for new, word in ((True, "new"), (False, "over")):
        told: Counter[str] = Counter()
        for r in document["network"]:
            if r["new"] == new:
                told[r["effect"]] += r["flows"]
        parts += [f"{n:,} {word} {effect}" for effect, n in told.items()]
    return ", ".join(parts)
