"""Other domains: what is in force of them, what is there now, what they hold of ours."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count

#: What each state is called, and what to do.
STATES = {
    "same": "in force, and the newest",
    "held": "in force (nobody was asked)",
    "newer": "in force; a newer one is there: oaktag pull --write",
    "new": "nothing adopted yet: oaktag pull --write",
    "none": "nothing adopted yet (nobody was asked)",
    "refused": "what is there is refused (OT504)",
    "silent": "no answer (OT505)",
}
#: So many prefixes of a group are shown.
SHOWN = 4


def show(page: Page, d: Row, *, every: bool = False) -> None:
    """Domain by domain."""
    for number, row in enumerate(d["domains"]):
        if number:
            page.say()
        page.say(f"{row['origin']}: {STATES[row['state']]}")
        if row["why"]:
            page.paragraph(row["why"], "   ", first="   ")
        if row["serial"] is not None:
            page.say(f"   serial {row['serial']} of {row['made']} ({_age(row['age'])} old)")
        elif row["state"] in ("refused", "silent"):
            page.say("   nothing of it was ever adopted")
        for told in row["contested"]:
            page.say(f"   not its own (OT501): {told}")
        if row["groups"]:
            page.say()
            page.table(
                ("group", "tag there", "here", "prefixes", "in force", "title", "owner"),
                [
                    (
                        g["group"], str(g["their_tag"]), "none" if g["tag"] is None else str(g["tag"]),
                        f"{g['prefixes']:,}", f"{g['bindings']:,}", g["title"], g["owner"],
                    )
                    for g in row["groups"]
                ],
                right=(1, 2, 3, 4),
            )  # fmt: skip
            page.say()
        for change in row["changed"]:
            page.paragraph(_change(change, every=every), "      ", first="   there now: ")
        if row["holds"] is not None:
            known = "as they are now" if row["holds"]["current"] else "as they were before"
            page.say(f"   it holds our groups {known} (serial {row['holds']['serial']})")
        elif d["ours"] and row["state"] not in ("refused", "silent", "none"):
            page.say("   it holds nothing of ours")


def _change(row: Row, *, every: bool) -> str:
    """What is otherwise there, of one group."""
    parts = [f"{row['group']} {row['is']}"]
    if row["is"] == "changed" and row["was_tag"] != row["is_tag"]:
        parts.append(f"its tag there {row['was_tag']} → {row['is_tag']}")
    for key, sign in (("gained", "+"), ("lost", "-")):
        held = row[key]
        some = held if every else held[:SHOWN]
        more = f" and {len(held) - len(some):,} more" if len(held) > len(some) else ""
        if held:
            parts.append(", ".join(f"{sign}{p}" for p in some) + more)
    return "; ".join(parts)


def _age(seconds: int) -> str:
    """How old something is, in its largest unit."""
    for size, unit in ((86_400, "day"), (3600, "hour"), (60, "minute")):
        if seconds >= size:
            return count(seconds // size, unit)
    return count(max(seconds, 0), "second")
