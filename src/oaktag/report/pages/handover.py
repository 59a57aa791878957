"""What the new owner of an address inherits."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, few


def show(page: Page, d: Row) -> None:
    """Who had it, who has it, and what goes wrong until the tables have caught up."""
    was, now = d["was"], d["now"]
    page.say(f"{d['address']} in {d['segment']}: {_who(was)} until now, {_who(now)} from then on")
    if not d["tables"]:
        page.say("no node's table changes: nothing is inherited")
        return
    if not d["all_late"] and not any(t["inherits"] for t in d["tables"]):
        page.say("nothing is inherited: no packet fares otherwise while tables are late")
        return
    page.say()
    page.say("until any table has caught up:")
    _rows(page, [("", d["all_late"])])
    page.say("if only one is late:")
    _rows(page, [(_table(t), t["inherits"]) for t in d["tables"]], name="table of")
    quiet = [t["node"] for t in d["tables"] if not t["inherits"]]
    if quiet:
        page.paragraph(f"no harm if late: {few(quiet, 8)}", "   ", first="")
    if d["late"] > len(d["tables"]):
        page.say(
            f"and {d['late'] - len(d['tables']):,} more tables change, not looked at one by one"
        )
    page.hint(f"oaktag bindings --at NODE {d['address']} shows what a node knows now")


def _who(end: Row) -> str:
    return f"{end['endpoint']} ({end['group']})" if end["endpoint"] else str(end["group"])


def _table(t: Row) -> str:
    does = {"marks": "marks frames", "point": "judges"}
    said = " and ".join(does[word] for word in t["does"])
    by = f", by {' → '.join(t['from'])}" if t["from"] else ""
    return f"{t['node']}{f' ({said})' if said else ''}{by}"


def _rows(page: Page, parts: list[tuple[str, list[Row]]], name: str = "") -> None:
    """What passes and is dropped wrongly, groups of which the same is to be said together."""
    told = []
    for head, rows in parts:
        alike: dict[tuple[str, str, str], list[str]] = {}
        for r in rows:
            key = r["direction"], r["passes_text"], r["dropped_text"]
            alike.setdefault(key, []).append(r["other"])
        told += [
            ("" if number else head, f"{way} {few(others)}", passes, dropped)
            for number, ((way, passes, dropped), others) in enumerate(alike.items())
        ]
    heads = (name, "to, or from", "passes though denied", "dropped though allowed")
    if told:
        skip = 0 if name else 1
        page.table(heads[skip:], [row[skip:] for row in told], wrap=tuple(range(4 - skip)))
    else:
        page.say("   nothing goes wrong")
    page.say()
