"""What a host that nobody knows obtains."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import WORDS, Row


def show(page: Page, d: Row) -> None:
    """As whom it is taken, and what gets through to whom."""
    taken = ", ".join(f"{h['address']} as {h['group']} (tag {h['tag']})" for h in d["hosts"])
    page.paragraph(f"somebody unknown in {d['segment']} is taken at {taken}", "    ", first="")
    if not d["obtains"]:
        page.say("nothing that it sends gets through to anybody")
        return
    alike: dict[tuple[str, str, str], list[str]] = {}
    for r in d["obtains"]:
        why = "; ".join(WORDS[w["why"]].format(node=w["node"]) for w in r["why"])
        alike.setdefault((r["passes_text"], r["leaks_text"], why), []).append(r["group"])
    page.table(
        ("to", "gets through", "of it leaks", "for"),
        [(", ".join(names), *told) for told, names in alike.items()],
        wrap=(0, 1, 2, 3),
    )
    if any(r["leaks_text"] for r in d["obtains"]):
        page.hint(f"oaktag reach --from {d['segment']} shows the paths")
