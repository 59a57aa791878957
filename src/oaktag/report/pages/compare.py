"""What differs between two versions."""

from __future__ import annotations

from collections import Counter

from oaktag.letters import markdown
from oaktag.report.list_words import differing
from oaktag.report.page import Page
from oaktag.report.pages import people
from oaktag.report.pages.change import folded, network
from oaktag.report.words import Row, count, place


def show(page: Page, d: Row, *, summary: bool = False) -> None:
    """In text, or as Markdown for a request to merge."""
    (_markdown if summary else _text)(page, d)


def _text(page: Page, d: Row) -> None:
    page.say(_headline(d))
    people.rows(page, d)
    if d["guards"]:
        page.say(f"{count(len(d['guards']), 'guard')} taken away or weaker:")
        page.table(
            ("guard", "where", "what", ""),
            [(g["guard"], place(g), g["text"], _told(g)) for g in d["guards"]],
            wrap=(2, 3),
        )
        page.say()
    for row in d["renamed"]:
        page.say(
            f"the group {row['was']} is called {row['is']} now (tag {row['tag']}, {row['tag']:#x})"
        )
    if d["cells"]:
        page.table(
            ("from", "to", "opened", "closed"),
            [(*_ends(c), c["opened_text"], c["closed_text"]) for c in d["cells"]],
            wrap=(2, 3),
        )
        page.say()
    if d["endpoints"]:
        page.table(("endpoint", "was", "is"), _moves(d["endpoints"]))
        page.say()
    if d["expectations"]:
        page.table(
            ("expectation", "from", "to", "asks", "was", "is"),
            [
                (place(r), r["from"], r["to"], r["asks"], _holds(r["was"]), _holds(r["is"]))
                for r in d["expectations"]
            ],
            wrap=(3,),
        )
        page.say()
    network(page, d["network"])
    page.paragraph(_counts(d), "    ", first="")
    for told, names in differing(d["points"]).items():
        page.paragraph(f"{', '.join(names)}: {told}", "       ", first="   ")
    if d["cells"]:
        first = d["cells"][0]
        page.hint(f"oaktag cell {first['source']} {first['destination']} shows the lines of a cell")


def _markdown(page: Page, d: Row) -> None:
    """For a request to merge: first who gains and who loses."""
    page.say(f"**{_headline(d)}**\n")
    for key, verb in (("gained", "gains"), ("lost", "loses")):
        if d[key]:
            page.say(f"| who {verb} | toward | packets | because of |\n|---|---|---|---|")
            for r in d[key]:
                _row(
                    page, people.ends(r["sources"], r["source_count"]),
                    people.ends(r["destinations"], r["destination_count"]), r["packets_text"],
                    people.cause(r["cause"]),
                )  # fmt: skip
            page.say()
    for g in d["guards"]:
        told = f"{g['guard']} {_told(g)}"
        page.say(f"- **{markdown(told)}**: {markdown(g['text'])} ({markdown(place(g))})")
    if d["guards"]:
        page.say()
    page.say(f"{_counts(d)}\n")
    if d["cells"]:
        page.say("| from | to | opened | closed |\n|---|---|---|---|")
        for c in d["cells"]:
            _row(page, *_ends(c), *(c[k] or "—" for k in ("opened_text", "closed_text")))
        page.say()
    rows = folded(d["network"])
    if rows:
        page.say("| network | flows | why | for example |\n|---|---|---|---|")
        for row in rows:
            _row(page, *row)
        page.say()
    for r in d["expectations"]:
        asks = markdown(f"{r['from']} → {r['to']}: {r['asks']}")
        where = markdown(place(r))
        page.say(f"- expectation {asks} ({where}): {_holds(r['was'])}, now {_holds(r['is'])}")
    for row in d["renamed"]:
        page.say(f"- the group `{row['was']}` is called `{row['is']}` now (tag {row['tag']})")
    if d["expectations"] or d["renamed"]:
        page.say()
    if d["endpoints"]:
        page.say("| endpoint | was in | is in |\n|---|---|---|")
        for moved in _moves(d["endpoints"]):
            _row(page, *moved)
        page.say()
    for told, names in differing(d["points"]).items():
        page.say(f"- {', '.join(f'`{n}`' for n in names)}: {markdown(told)}")


def _headline(d: Row) -> str:
    """Who gains and who loses, and how many guards are weaker."""
    weaker = len(d["guards"])
    return people.headline(d) + f"; {count(weaker, 'guard')} weaker" * bool(weaker)


def _told(guard: Row) -> str:
    """What became of a guard, and whether it would still hold."""
    holds = {None: "", True: "; it still holds", False: "; it would FAIL now"}
    return f"{guard['told']}{holds[guard['would_hold']]}"


def _row(page: Page, *cells: str) -> None:
    page.say(f"| {' | '.join(map(markdown, cells))} |")


def _ends(cell: Row) -> tuple[str, str]:
    return (
        f"{cell['source']} ({cell['source_members']})",
        f"{cell['destination']} ({cell['destination_members']})",
    )


def _moves(rows: list[Row]) -> list[tuple[str, str, str]]:
    return [(r["endpoint"], r["was"] or "not there", r["is"] or "not there") for r in rows]


def _holds(value: bool | None) -> str:
    return "not asked" if value is None else "holds" if value else "FAILS"


def _counts(d: Row) -> str:
    opened = sum(bool(c["opened"]) for c in d["cells"])
    closed = sum(bool(c["closed"]) for c in d["cells"])
    weaker = len(d["guards"])
    parts = [f"{count(weaker, 'guard')} weaker"] * bool(weaker)
    parts += [f"{count(opened, 'cell')} opened", f"{closed} closed"]
    parts.append(f"{count(len(d['endpoints']), 'endpoint')} moved")
    broken = sum(r["is"] is False for r in d["expectations"])
    if d["expectations"]:
        touched = count(len(d["expectations"]), "expectation")
        parts.append(f"{touched} touched, {broken} of them failing now")
    parts.append(f"{count(len(d['points']), 'list')} changed")
    for new, word in ((True, "new"), (False, "mended")):
        told: Counter[str] = Counter()
        for r in d["network"]:
            if r["new"] == new:
                told[r["effect"]] += r["flows"]
        parts += [count(n, f"{word} {effect}") for effect, n in told.items()]
    return ", ".join(parts)
