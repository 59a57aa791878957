"""Small pieces of text that pages share."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

from oaktag.report.page import Page

Row = Mapping[str, Any]
SEVERITIES = ("error", "warning", "note")
#: So many findings of one code are shown, unless all are asked for.
FIRST_OF_A_CODE = 8


#: Why a row fares as it does, at a node.
WORDS = {
    "no-point": "no point on the path",
    "direction": "{node} does not judge this direction",
    "inside": "{node} does not judge inside a segment",
    "source-unknown": "{node} does not know the source's tag",
    "source-wrong": "{node} sees a wrong source tag",
    "destination-unknown": "{node} does not know the destination's tag",
    "destination-wrong": "{node} sees a wrong destination tag",
    "no-cell": "{node}'s list lacks the cell",
    "answer-dropped": "{node} drops the answers",
}


def why(reasons: Sequence[Row], watching: Sequence[str] = ()) -> str:
    """Why a row of reach fares as it does, in words."""
    if watching:
        verb = "watches" if len(watching) == 1 else "watch"
        return f"{few(watching)} only {verb} (mode: observe)"
    if not reasons:
        return "the points that judge do not agree with the matrix"
    return "; ".join(WORDS[r["why"]].format(node=r["node"]) for r in reasons)


def severe(found: Row, level: str) -> bool:
    """Whether a finding is as severe as a level: ``error``, ``warning``, ``note`` or ``never``."""
    return level != "never" and SEVERITIES.index(found["severity"]) <= SEVERITIES.index(level)


def count(number: int, word: str) -> str:
    """A number of things: ``1 group``, ``2 groups``."""
    return f"{number:,} {word}" if number == 1 else f"{number:,} {word}s"


def place(row: Row | None) -> str:
    """Where something stands: file and line."""
    if row is None:
        return "default"
    return f"{row['file']}:{row['line']}" if row["line"] else str(row["file"])


def places(lines: Sequence[Row]) -> str:
    """Where some lines stand, each as file and line."""
    return ", ".join("default" if n["file"] is None else place(n) for n in lines)


def few(names: Sequence[str], most: int = 4) -> str:
    """Some names, and how many more."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def letters() -> list[str]:
    """Codes for contents: a to z, then aa, ab …; 702 of them."""
    alphabet = "abcdefghijklmnopqrstuvwxyz"
    return [*alphabet, *(a + b for a in alphabet for b in alphabet)]


def findings(page: Page, found: Sequence[Row], accepted: int = 0, *, every: bool = False) -> None:
    """Findings for people: what, where, and what to do."""
    seen: Counter[str] = Counter()
    for row in found:
        seen[row["code"]] += 1
        if seen[row["code"]] > FIRST_OF_A_CODE and not every:
            continue
        where = place(row) if row["line"] else row["file"]
        page.say(f"{row['code']} {row['severity']:<7} {where}")
        page.paragraph(row["message"], " " * 6)
        if row["example"] and "text" in row["example"]:
            ends = f"{row['example']['source']} → {row['example']['destination']}"
            page.paragraph(f"e.g. {ends}, {row['example']['text']}", " " * 6)
        page.paragraph(row["hint"], " " * 8, first="      → ")
    more = {code: n - FIRST_OF_A_CODE for code, n in seen.items() if n > FIRST_OF_A_CODE}
    if more and not every:
        page.say(
            "and more: " + ", ".join(f"{n} of {code}" for code, n in more.items()) + " (--all)"
        )
    kinds = {s: sum(f["severity"] == s for f in found) for s in SEVERITIES}
    counts = ", ".join(count(n, s) for s, n in kinds.items() if n)
    borne = f"; {accepted} accepted in oaktag.yaml" if accepted else ""
    page.say(f"{counts or 'nothing'} found{borne}")
