"""Who really reaches whom."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import WORDS, Row, count, few


def show(page: Page, d: Row) -> None:
    """How many groups get through; then who does, who does otherwise, and why."""
    through = {r["group"] for r in d["ends"] if r["how"] in ("as meant", "by a leak")}
    leaks = {r["group"] for r in d["ends"] if r["how"] == "by a leak"}
    lost = {r["group"] for r in d["ends"] if r["how"] == "without its answer"}
    asked = "" if d["service"] == "any" else f" with {d['service']}"
    one = len(through) == 1
    callers = d["command"] == "callers real"
    verb = f"really reach{'es' * one}" if callers else "can really be reached from"
    parts = [f"{count(len(through), 'group')} {verb} {d['asked']}{asked}"]
    parts += [f"{len(leaks)} of them by a leak"] * bool(leaks)
    parts += [f"packets of {count(len(lost), 'group')} arrive, but their answers are lost"] * bool(
        lost
    )
    page.paragraph("; ".join(parts), "    ", first="")
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
        ("otherwise", "how", "packets", "why", "for example over"),
        [(_groups(rows), *k, " ".join(rows[0]["path"])) for k, rows in other],
        wrap=(0, 2, 3, 4),
    )
    if leaks:
        page.hint("oaktag reach --mend shows the cheapest change after which nothing leaks")
    elif alike:
        page.hint("--json has the endpoints, segments and a path of each group")


def _why(row: Row) -> str:
    if row["how"] == "as meant":
        return ""
    why = [WORDS[r["why"]].format(node=r["node"]) for r in row["reasons"]]
    return "; ".join(dict.fromkeys(why)) or "no path joins them"


def _groups(rows: list[Row]) -> str:
    return few([f"{r['group']} ({_hosts(r)})" for r in rows], 12)


def _hosts(row: Row) -> str:
    """How many hosts of a group: known ones, and where unknown ones are."""
    parts = [str(row["count"])] if row["count"] or not row["unknown_in"] else []
    if row["unknown_in"]:
        parts.append(f"unknown hosts in {few(row['unknown_in'], 2)}")
    return ", ".join(parts)
