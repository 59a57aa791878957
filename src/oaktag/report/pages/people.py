"""Who gains and who loses: the first thing that a comparison, or a change, has to say."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from oaktag.english import counted, listed
from oaktag.report.page import Page
from oaktag.report.words import Row, place

#: So many rows of one kind are shown, and so many names in a cell.
SHOWN, NAMED = 20, 4


def show(page: Page, d: Row) -> None:
    """One sentence, then who gains and who loses, and why."""
    page.say(headline(d))
    rows(page, d)


def rows(page: Page, d: Row) -> None:
    """Who gains and who loses, and why; who is new or gone; who fares as before."""
    for key, verb in (("gained", "gains"), ("lost", "loses")):
        some = [
            (ends(r["sources"], r["source_count"]), ends(r["destinations"], r["destination_count"]),
             r["packets_text"], cause(r["cause"]))
            for r in d[key]
        ]  # fmt: skip
        if some:
            heads = f"who {verb}", "toward", "packets", "because of"
            page.table(heads, _once(some[:SHOWN]), wrap=(0, 1, 2, 3))
            more(page, len(some))
            page.say()
    for key, verb in (("new", "is new"), ("gone", "is gone")):
        once = [
            (
                ends(r["endpoints"], r["count"]), r["group"],
                "; ".join(map(_reached, r["obtains"][:NAMED])) or "nothing",
            )
            for r in d[key]
        ]  # fmt: skip
        if once:
            page.table((f"who {verb}", "group", "may reach"), once[:SHOWN], wrap=(0, 2))
            more(page, len(once))
            page.say()
    for r in d["same_access"][:SHOWN]:
        who = ends(r["endpoints"], r["count"])
        page.paragraph(
            f"{who}: in {r['is']} instead of {r['was']}, with the same access as before",
            "    ", first="",
        )  # fmt: skip
    if d["same_access"]:
        page.say()


def _once(some: Sequence[tuple[str, str, str, str]]) -> list[tuple[str, str, str, str]]:
    """Rows in which who, and why, stand once where the next rows are of the same."""
    told = [("", "", "", ""), *some]
    return [
        ("" if (who, why) == (before[0], before[3]) else who, toward, packets,
         "" if (who, why) == (before[0], before[3]) else why)
        for before, (who, toward, packets, why) in zip(told, some, strict=False)
    ]  # fmt: skip


def _reached(row: Row) -> str:
    return f"{listed(row['destinations'], NAMED)}: {row['packets_text']}"


def headline(d: Row) -> str:
    """Who gains and who loses, in one sentence."""
    parts = [
        f"{_who(d['affected'][verb])} {verb}"
        for key, verb in (("gained", "gain"), ("lost", "lose"))
        if d[key]
    ]
    if not parts:
        return "nobody gains and nobody loses"
    if not d["lost"]:
        parts.append("nobody loses")
    elif not d["gained"]:
        parts.insert(0, "nobody gains")
    told = "; ".join(parts).replace("1 endpoint gain", "1 endpoint gains")
    return told.replace("1 endpoint lose", "1 endpoint loses")


def _who(affected: Row) -> str:
    """How many senders there are."""
    parts = []
    if affected["endpoints"]:
        parts.append(counted(affected["endpoints"], "endpoint"))
    if affected["segments"]:
        parts.append(f"the unknown hosts of {counted(affected['segments'], 'segment')}")
    return " and ".join(parts)


def ends(some: Sequence[Any], number: int) -> str:
    """The ends of a row: endpoints by name, unknown hosts by segment."""
    names = [
        end if isinstance(end, str) else f"unknown hosts of {end['segment']} ({end['group']})"
        for end in some[:NAMED]
    ]
    if number > len(names):
        return f"{', '.join(names)} and {number - len(names):,} more"
    return listed(names)


def cause(row: Row) -> str:
    """Why somebody gains or loses."""
    if row["kind"] == "move":
        more = row["count"] - 1
        who = f"{row['endpoint']} and {more:,} more move" if more else f"{row['endpoint']} moves"
        return f"{who} from {row['was']} to {row['is']} ({place(row)})"
    if row["kind"] == "default":
        return "the default"
    return f"the {row['kind']} in {place(row)}"


def more(page: Page, number: int) -> None:
    """That more rows are left out."""
    if number > SHOWN:
        page.say(f"and {counted(number - SHOWN, 'row')} more; --json has all")
