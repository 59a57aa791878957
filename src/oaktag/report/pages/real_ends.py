"""Who really reaches whom."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import WORDS, Row, count, few


def show(page: Page, d: Row) -> None:
    """Groups, what gets through or not, and why; those of which the same is to be said together."""
    alike: dict[tuple[str, str, str], list[Row]] = {}
    for r in d["ends"]:
        alike.setdefault((r["how"], r["packets_text"], _why(r)), []).append(r)
    meant = [(k, rows) for k, rows in alike.items() if k[0] == "as meant"]
    other = [(k, rows) for k, rows in alike.items() if k[0] != "as meant"]
    page.table(
        ("get through as meant", "packets"), [(_groups(rows), k[1]) for k, rows in meant],
        wrap=(0, 1),
    )  # fmt: skip
    if meant and other:
        page.say()
    page.table(
        ("otherwise", "", "packets", "why", "e.g. over"),
        [(_groups(rows), *k, " ".join(rows[0]["path"])) for k, rows in other],
        wrap=(0, 2, 3, 4),
    )
    if alike:
        page.say()
    through = {r["group"] for r in d["ends"] if r["how"] != "not, though allowed"}
    leaks = {r["group"] for r in d["ends"] if r["how"] == "by a leak"}
    asked = "" if d["service"] == "any" else f" with {d['service']}"
    verb = "reach" if d["command"] == "callers real" else "can be reached from"
    page.say(
        f"{count(len(through), 'group')} really {verb} {d['asked']}{asked}, {len(leaks)} of them by "
        "a leak; --json has their segments and paths"
    )
    if leaks:
        page.hint("oaktag reach --mend shows the cheapest change after which nothing leaks")


def _why(row: Row) -> str:
    if row["how"] == "as meant":
        return ""
    why = [WORDS[r["why"]].format(node=r["node"]) for r in row["reasons"]]
    return "; ".join(dict.fromkeys(why)) or "no path joins them"


def _groups(rows: list[Row]) -> str:
    return few([r["group"] for r in rows], 12)
