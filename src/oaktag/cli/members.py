"""``oaktag members``."""

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
    place,
    say,
    table,
)


@click.command("members")
@click.argument("group", required=False, shell_complete=complete("group"))
@click.option("--all", "everybody", is_flag=True, help="Everybody, one by one.")
@click.option("--unassigned", is_flag=True, help="Only who is in no group; who nearly is.")
@click.option("--when", metavar="CONDITIONS", help="Whom 'site=ashgrove, model=SC-*' would take.")
@click.option("--uncertain", is_flag=True, help="Who would move if guesses were certain.")
@click.option(
    "--rule", type=int, metavar="LINE", help="What the rule in this line takes and loses."
)
@click.option("--withheld", is_flag=True, help="Members without a standing binding, and why.")
@click.option(
    "--against", metavar="REV", help="Who moved since a git revision, or a folder (DIR/)."
)
@as_json
@pass_context
def command(
    context: Context,
    group: str | None,
    everybody: bool,
    unassigned: bool,
    when: str | None,
    uncertain: bool,
    rule: int | None,
    withheld: bool,
    against: str | None,
    as_json: bool,
) -> int:
    """Who is in GROUP, and why; without one, every group in numbers."""
    from oaktag.operations import members as verbs

    asked = [group, unassigned, when, uncertain, rule, withheld, against]
    if sum(x not in (None, False) for x in asked) > 1:
        raise click.UsageError("one question at a time: a group, or one of the options")
    workspace = context.workspace()
    if uncertain:
        document = verbs.uncertain(workspace.model)
    elif rule is not None:
        document = verbs.by_rule(workspace.model, rule)
    elif withheld:
        document = verbs.withheld(workspace.model)
    elif against is not None:
        document = workspace.moved_since(against)
    else:
        document = workspace.members(group, unassigned=unassigned, when=when)
    if as_json:
        emit(document)
    elif "moved" in document:
        _moved(document["moved"])
    elif "takes" in document:
        _by_rule(document)
    elif "withheld" in document:
        _withheld(document["withheld"])
    elif unassigned:
        _unassigned(document["endpoints"])
    elif group is None and when is None and not everybody:
        _groups(document)
    else:
        _everybody(document["endpoints"])
    return 0


def _groups(document: dict[str, Any]) -> None:
    table(
        ("group", "tag", "members", "bindings", "kinds", "sites"),
        [
            (
                g["group"], g["tag"], g["members"], g["bindings"],
                ", ".join(count(n, kind) for kind, n in g["kinds"].items()), ", ".join(g["sites"]),
            )
            for g in document["groups"]
        ],
        right=(1, 2, 3),
        wrap=(4, 5),
    )  # fmt: skip
    outside = sum(e["by"] is None for e in document["endpoints"])
    say(f"{count(len(document['endpoints']), 'endpoint')}, {outside} in no group")
    hint("oaktag members GROUP shows one with reasons, --all everybody")


def _everybody(rows: list[dict[str, Any]]) -> None:
    table(
        ("endpoint", "kind", "group", "address", "why"),
        [(r["endpoint"], r["kind"], r["group"], _addresses(r), _why(r)) for r in rows],
        wrap=(3, 4),
    )
    assigned = sum(r["by"] is not None for r in rows)
    say(f"{count(len(rows), 'endpoint')}, {assigned} of them in a group")


def _unassigned(rows: list[dict[str, Any]]) -> None:
    table(
        ("endpoint", "kind", "address", "nearly"),
        [(r["endpoint"], r["kind"], _addresses(r), _near(r)) for r in rows],
        wrap=(2, 3),
    )
    say(f"{count(len(rows), 'endpoint')} in no group")
    if any(r["near"] for r in rows):
        hint("give it the attribute in the inventory, or pin it: oaktag pin ENDPOINT --to GROUP")


def _moved(rows: list[dict[str, Any]]) -> None:
    table(
        ("endpoint", "was", "is"),
        [(r["endpoint"], r["was"] or "not there", r["is"] or "not there") for r in rows],
    )
    say(f"{count(len(rows), 'endpoint')} moved")


def _by_rule(document: dict[str, Any]) -> None:
    rows = [("takes", r) for r in document["takes"]] + [("loses", r) for r in document["loses"]]
    table(
        ("", "endpoint", "kind", "group", "why"),
        [(verb, r["endpoint"], r["kind"], r["group"], _why(r)) for verb, r in rows],
        wrap=(4,),
    )
    say(f"takes {len(document['takes'])}, loses {len(document['loses'])} to what comes before")


def _withheld(rows: list[dict[str, Any]]) -> None:
    table(
        ("endpoint", "address", "group", "why it has no standing binding"),
        [(r["endpoint"], _addresses(r), r["group"], r["why"]) for r in rows],
        wrap=(1, 3),
    )
    say(f"{count(len(rows), 'member')} without a standing binding")


def _addresses(row: dict[str, Any]) -> str:
    return "\n".join(row["addresses"])


def _why(row: dict[str, Any]) -> str:
    by = row["by"]
    if by is None:
        return "nothing assigns it"
    also = f" (also {', '.join(place(a) for a in row['also'])})" if row["also"] else ""
    if by["kind"] == "pin":
        return f"pin in {place(by)}{also}"
    return f"{'; '.join(by['conditions'])} ({place(by)}){also}"


def nearest(near: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Near misses, first those that failed by certainty or ``unless`` alone."""
    return sorted(near, key=lambda n: not (n["unsure"] or n["attribute"] == "unless"))


def _near(row: dict[str, Any]) -> str:
    near = nearest(row["near"])
    told = [
        f"{n['group']}, but for {n['attribute']}"
        f"{', known too unsurely' if n['unsure'] else ''} ({place(n)})"
        for n in near[:2]
    ]
    return "; ".join(told) + (f"; {len(near) - 2} more" if len(near) > 2 else "")
