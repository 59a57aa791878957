"""A change of files: the diff, what it does, whether it was written."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from oaktag.report.page import Page
from oaktag.report.pages import people
from oaktag.report.words import Row, count, few, place, places

#: So many rows of one kind are shown of a change.
SHOWN = 20


def show(page: Page, d: Row) -> None:
    """Who gains and loses, the diff, all else that it does, and whether it was written."""
    if d["files"]:
        people.show(page, d)
    if d["diff"]:
        page.say(d["diff"].rstrip("\n"))
        page.say()
    if alone := d.get("alone"):
        page.paragraph(
            f"{alone['endpoint']} gets a group of its own through {alone['until']}: "
            f"{alone['group']} (tag {alone['tag']}), which fares exactly as {alone['fares_as']} in "
            f"all of its {alone['cells']} cells, proved. Beside that:", "    ", first="",
        )  # fmt: skip
    if d.get("already"):
        page.say(d["already"])
        return
    if d.get("places"):
        _places(page, d["places"])
        return
    if d.get("rules"):
        _rules(page, d["rules"])
    if moved := d.get("renumbered"):
        was, now = moved["was"], moved["is"]
        page.paragraph(
            f"{moved['group']}: {was} ({was:#x}) → {now} ({now:#x}). Every list and every table of "
            "bindings holds the number; until all of them are written anew and in place (oaktag "
            "compile), nodes and points say two numbers for one group", "    ", first="",
        )  # fmt: skip
    for note in d.get("notes", ()):
        page.paragraph(note, "     ", first="   - ")
    for row in d.get("refused", ()):
        verb = "does not answer" if row["silent"] else "is refused"
        page.paragraph(f"{row['origin']} {verb}: {row['why']}", "     ", first="   ")
    if d.get("refused"):
        page.say("   what was in force of it stays so")
    if d["files"]:
        effect(page, d)
    fares(page, d.get("fares", ()))
    for row in d.get("others", ()):
        _others(page, row, "gain" if d["command"] == "grant" else "lose")
    written(page, d)


def _rules(page: Page, rows: Sequence[Row]) -> None:
    """Of those whom conditions take, what each rule takes."""
    page.table(
        ("of those who are meant", "gives", "took", "takes then"),
        [
            (
                f"{'the new rule, ' * r['new']}{r['file']}:{r['line']}" if r["line"] else "by pins",
                r["group"] or "", r["took"], r["takes"],
            )
            for r in rows
        ],
        right=(2, 3),
    )  # fmt: skip
    page.say()


def _places(page: Page, rows: list[Row]) -> None:
    """What each place of a line would change."""
    told = []
    for r in rows:
        ends = [f"line {n}" if n else "the end" for n in (r["first_before"], r["last_before"])]
        cells = [f"{source} → {destination}" for source, destination in r["cells"]]
        place = f"before {ends[0]}" if ends[0] == ends[1] else f"before {ends[0]} to {ends[1]}"
        told.append((place + (" (as now)" if r["here"] else ""), few(cells, 4) or "no decision"))
    page.table(("place", "cells that differ then"), told, wrap=(1,))
    page.hint("oaktag move FILE:LINE before LINE shows such a change, --write writes it")


def written(page: Page, d: Row) -> None:
    """Whether a change was written, and how to."""
    files = ", ".join(d["files"])
    if not d["files"]:
        page.say("nothing to change")
    elif d["written"]:
        page.paragraph(f"written: {files}", "    ", first="")
    else:
        page.paragraph(f"not written: {files}", "    ", first="")
        page.hint("--write writes it")


def effect(page: Page, d: Row) -> None:
    """All that a change does beside that: decisions, endpoints, expectations, the network."""
    parts = ("cells", "endpoints", "expectations", "network")
    if d["hidden_by"]:
        page.say(f"no decision changes: {places(d['hidden_by'])} decides all its packets first")
    elif not any(d[part] for part in parts):
        page.say("nothing else changes: no decision, no endpoint's group, no expectation, no path")
    _overruled(page, [r for r in d["overruled"] if r["otherwise"]])
    cells(page, d["cells"])
    if d["endpoints"]:
        rows = [(r["endpoint"], r["was"] or "—", r["is"] or "—") for r in d["endpoints"]]
        page.table(("endpoint", "was in", "is in then"), rows[:SHOWN])
        _more(page, rows, "endpoint", "moves")
        page.say()
    for r in d["expectations"]:
        verb = {True: "holds then", False: "FAILS then", None: "is not asked then"}[r["is"]]
        page.say(f"{verb}: {r['from']} → {r['to']}: {r['asks']} ({r['file']}:{r['line']})")
    if d["expectations"]:
        page.say()
    network(page, d["network"])
    if d["not_followed"]:
        page.paragraph(f"not followed: {d['not_followed']}", "   ", first="")
    broken = sum(r["is"] is False for r in d["expectations"])
    if broken and not d["written"]:
        page.say(f"{count(broken, 'expectation')} would fail: only --anyway writes this")


def _overruled(page: Page, rows: Sequence[Row]) -> None:
    """What the line was to decide, and more exact or earlier lines decide otherwise."""
    told = [
        (place(r), {"allow": "allows", "deny": "denies"}[r["action"]], r["packets_text"],
         f"{r['source']} → {r['destination']}" + f" and {r['cells'] - 1:,} more" * (r["cells"] > 1))
        for r in rows
    ]  # fmt: skip
    if told:
        page.say("this line does not decide everything that it speaks of; before it")
        page.table(("line", "does", "packets", "in the cell"), told[:SHOWN], wrap=(2, 3))
        _more(page, told, "row", "differs")
        page.say()


def fares(page: Page, rows: Sequence[Row]) -> None:
    """What those who move may do more and less; the same toward several groups as one row."""
    alike: dict[tuple[str, str, str, str], list[str]] = {}
    for r in rows:
        who = f"{r['was']} → {r['is']} ({r['endpoints']})"
        key = who, r["direction"], r["opened_text"], r["closed_text"]
        alike.setdefault(key, []).append(r["other"])
    told = [
        (who, f"{way} {few(others)}", opened, closed)
        for (who, way, opened, closed), others in alike.items()
    ]
    if told:
        page.table(("who moves", "to, or from", "gains", "loses"), told[:SHOWN], wrap=(1, 2, 3))
        _more(page, told, "row", "differs")
        page.say()


def cells(page: Page, rows: list[Row]) -> None:
    """What is opened and closed, by cell; cells of which the same is to be said as one row."""
    first: dict[tuple[str, str, str], list[str]] = {}
    for c in rows:
        key = f"{c['destination']} ({c['destination_members']})", c["opened_text"], c["closed_text"]
        first.setdefault(key, []).append(f"{c['source']} ({c['source_members']})")
    second: dict[tuple[tuple[str, ...], str, str], list[str]] = {}
    for (destination, opened, closed), sources in first.items():
        second.setdefault((tuple(sources), opened, closed), []).append(destination)
    folded_rows = [
        (few(sources), few(destinations), opened, closed)
        for (sources, opened, closed), destinations in second.items()
    ]
    if folded_rows:
        page.table(("from", "to", "opened", "closed"), folded_rows[:SHOWN], wrap=(0, 1, 2, 3))
        _more(page, folded_rows, "cell", "differs")
        page.say()


def _more(page: Page, rows: list[Any], word: str, verb: str) -> None:
    if len(rows) > SHOWN:
        left = len(rows) - SHOWN
        verb = verb if left == 1 else {"differs": "differ", "moves": "move"}[verb]
        page.say(f"and {count(left, word)} more {verb}; --json has all")


def folded(rows: list[Row]) -> list[tuple[str, str, str, str]]:
    """What the network does otherwise, by cause: what, how many flows, why, an example."""
    alike: dict[tuple[bool, str, str, bool], list[Row]] = {}
    for row in rows:
        key = row["new"], row["effect"], row["why"], row["accepted"]
        alike.setdefault(key, []).append(row)
    return [
        (
            f"{'new' if new else 'mended'} {effect}{' (accepted)' * accepted}",
            f"{sum(r['flows'] for r in of):,}", why, _example(of[0]),
        )
        for (new, effect, why, accepted), of in alike.items()
    ]  # fmt: skip


def network(page: Page, rows: list[Row]) -> None:
    """What the network does otherwise, folded by cause."""
    causes = folded(rows)
    if causes:
        page.table(
            ("network", "flows", "why", "for example"), causes[:SHOWN], right=(1,), wrap=(2, 3)
        )
        _more(page, causes, "cause", "differs")
        page.say()


def _example(row: Row) -> str:
    ends = [f"{end['group']} in {end['segment']}" for end in (row["source"], row["destination"])]
    packets = f": {row['packets_text']}" if row["packets_text"] not in ("", "any") else ""
    return f"{ends[0]} → {ends[1]}{packets}"


def _others(page: Page, row: Row, verb: str) -> None:
    names = row["endpoints"]
    if not names:
        page.say(f"nobody else in {row['group']} would {verb} by it")
        return
    some = ", ".join(names[:12]) + (f" and {len(names) - 12} more" if len(names) > 12 else "")
    end = {"source": "as a source", "destination": "as a destination"}[row["side"]]
    page.paragraph(f"would {verb} by it too, {end}: {count(len(names), 'endpoint')} of {row['group']}: "
              f"{some}", "    ", first="")  # fmt: skip
