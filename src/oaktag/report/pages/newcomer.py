"""What a host that nobody knows obtains."""

from __future__ import annotations

from oaktag.english import counted
from oaktag.report.page import Page
from oaktag.report.words import WORDS, Row


def show(page: Page, d: Row) -> None:
    """How many groups it reaches, as whom, and what gets through to whom."""
    reached = [r for r in d["obtains"] if r["passes"]]
    told = f"a host that nobody knows in {d['segment']} reaches {counted(len(reached), 'group')}"
    page.paragraph(f"{told}; {_as_whom(d['hosts'])}", "    ", first="")
    if not d["obtains"]:
        return
    alike: dict[tuple[str, ...], list[str]] = {}
    for r in d["obtains"]:
        why = "; ".join(WORDS[w["why"]].format(node=w["node"]) for w in r["why"])
        some = f"{r['somewhere_text']} (not from all addresses)" if r["somewhere_text"] else ""
        lost = f"{r['unanswered_text']} (no answers)" if r["unanswered_text"] else ""
        remarks = "; ".join(filter(None, (some, lost)))
        alike.setdefault((r["passes_text"], r["leaks_text"], why, remarks), []).append(r["group"])
    page.table(
        ("to", "gets through", "of it leaks", "because of", "except"),
        [(", ".join(names), *cells) for cells, names in alike.items()],
        wrap=(0, 1, 2, 3, 4),
    )
    if any(r["leaks_text"] for r in d["obtains"]):
        page.hint(f"oaktag reach --from {d['segment']} shows the paths")


def _as_whom(hosts: list[Row]) -> str:
    """The groups that newcomers are taken for, with an address of each."""
    first: dict[tuple[str, int], list[str]] = {}
    for h in hosts:
        first.setdefault((h["group"], h["tag"]), []).append(h["address"])
    taken = [f"{name} (tag {tag}; for example at {some[0]})" for (name, tag), some in first.items()]
    return f"it is taken for {' or '.join(taken)}"
