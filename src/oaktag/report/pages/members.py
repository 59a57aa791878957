"""Who is in which group, and why."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.pages import people
from oaktag.report.words import Row, count, place


def show(page: Page, d: Row, *, everybody: bool | None = None, unassigned: bool = False) -> None:
    """Every group in numbers, or endpoints one by one: where nobody says which, these where all are of
    one group."""
    if everybody is None:
        everybody = len({e["group"] for e in d.get("endpoints", ())}) == 1
    if "moved" in d:
        if "gained" in d:
            people.show(page, d)
        _moved(page, d["moved"])
    elif "takes" in d:
        _by_rule(page, d)
    elif "withheld" in d:
        _withheld(page, d["withheld"])
    elif unassigned:
        _unassigned(page, d["endpoints"])
    elif everybody:
        _everybody(page, d["endpoints"])
    else:
        _groups(page, d)


def _groups(page: Page, document: Row) -> None:
    page.table(
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
    page.say(f"{count(len(document['endpoints']), 'endpoint')}, {outside} in no group")
    page.hint("oaktag members GROUP shows one with reasons, --all everybody")


def _everybody(page: Page, rows: list[Row]) -> None:
    page.table(
        ("endpoint", "kind", "group", "address", "why"),
        [(r["endpoint"], r["kind"], r["group"], _addresses(r), _why(r)) for r in rows],
        wrap=(3, 4),
    )
    assigned = sum(r["by"] is not None for r in rows)
    page.say(f"{count(len(rows), 'endpoint')}, {assigned} of them in a group")


def _unassigned(page: Page, rows: list[Row]) -> None:
    page.table(
        ("endpoint", "kind", "address", "nearly"),
        [(r["endpoint"], r["kind"], _addresses(r), _near(r)) for r in rows],
        wrap=(2, 3),
    )
    page.say(f"{count(len(rows), 'endpoint')} in no group")
    if any(r["near"] for r in rows):
        page.hint(
            "give it the attribute in the inventory, or pin it: oaktag pin ENDPOINT --to GROUP"
        )


def _moved(page: Page, rows: list[Row]) -> None:
    page.table(
        ("endpoint", "was", "is"),
        [(r["endpoint"], r["was"] or "not there", r["is"] or "not there") for r in rows],
    )
    page.say(f"{count(len(rows), 'endpoint')} moved")


def _by_rule(page: Page, document: Row) -> None:
    rows = [("takes", r) for r in document["takes"]] + [("loses", r) for r in document["loses"]]
    page.table(
        ("", "endpoint", "kind", "group", "why"),
        [(verb, r["endpoint"], r["kind"], r["group"], _why(r)) for verb, r in rows],
        wrap=(4,),
    )
    page.say(f"takes {len(document['takes'])}, loses {len(document['loses'])} to what comes before")


def _withheld(page: Page, rows: list[Row]) -> None:
    page.table(
        ("endpoint", "address", "group", "why it has no standing binding"),
        [(r["endpoint"], _addresses(r), r["group"], r["why"]) for r in rows],
        wrap=(1, 3),
    )
    page.say(f"{count(len(rows), 'member')} without a standing binding")


def _addresses(row: Row) -> str:
    held = [*row["addresses"]]
    told = {s["address"]: s for s in row["sessions"]}
    held += [f"{a} (session)" for a in told if a not in held]
    return "\n".join(held)


def _why(row: Row) -> str:
    by = row["by"]
    if by is None:
        return "nothing assigns it"
    also = f" (also {', '.join(place(a) for a in row['also'])})" if row["also"] else ""
    if by["kind"] == "pin":
        return f"pin in {place(by)}{also}"
    return f"{'; '.join(by['conditions'])} ({place(by)}){also}"


def nearest(near: list[Row]) -> list[Row]:
    """Near misses, first those that failed by certainty or ``unless`` alone."""
    return sorted(near, key=lambda n: not (n["unsure"] or n["attribute"] == "unless"))


def _near(row: Row) -> str:
    near = nearest(row["near"])
    told = [
        f"{n['group']}, but for {n['attribute']}"
        f"{', known too unsurely' if n['unsure'] else ''} ({place(n)})"
        for n in near[:2]
    ]
    return "; ".join(told) + (f"; {len(near) - 2} more" if len(near) > 2 else "")
