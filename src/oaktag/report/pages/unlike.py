"""Groups whose members fare differently."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count, few


def show(page: Page, d: Row) -> None:
    """Each group in its parts, with what differs and what tells them apart."""
    for group in d["unlike"]:
        page.say(f"{group['group']}: {len(group['parts'])} parts that fare differently")
        page.table(
            ("endpoints", "in", "fare so", "all of them, and only they"),
            [
                (
                    f"{len(p['endpoints'])}: {few(p['endpoints'], 3)}",
                    few(p["segments"], 4),
                    _fares(p["fares"]),
                    p["when"] or "—",
                )
                for p in group["parts"]
            ],
            wrap=(0, 1, 2, 3),
            spaced=True,
        )
        page.say()
    if not d["unlike"]:
        page.say("all members of each group fare alike")
        return
    page.say(f"{count(len(d['unlike']), 'group')} whose members fare differently")
    first = next(
        ((g["group"], p["when"]) for g in d["unlike"] for p in g["parts"] if p["when"]), None
    )
    if first:
        page.hint(
            f"oaktag reach shows why, and what would mend it; if it shall stay so: oaktag split "
            f"{first[0]} NEW --when '{first[1]}'"
        )
    else:
        page.hint("oaktag reach shows why, and what would mend it")


def _fares(rows: list[Row]) -> str:
    """What goes wrong, groups of which the same is to be said together; ``some``: of some packets'
    ends there it does, of others not."""
    ways: dict[tuple[str, tuple[str, ...]], list[str]] = {}
    for r in rows:
        if any(effect != "exact" for effect in r["effects"]):
            ways.setdefault((r["other"], tuple(r["effects"])), []).append(r["direction"])
    alike: dict[tuple[str, tuple[str, ...]], list[str]] = {}
    for (other, effects), found in ways.items():
        alike.setdefault((" and ".join(sorted(found, reverse=True)), effects), []).append(other)
    told = []
    for (way, effects), others in alike.items():
        wrong = " and ".join(e for e in effects if e != "exact")
        told.append(f"{'some ' * ('exact' in effects)}{wrong}, {way} {few(others, 3)}")
    return "; ".join(told) or "as meant"
