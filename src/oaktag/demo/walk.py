"""The walk through the job, in the order of the work: which commands, and why each."""

from __future__ import annotations

from collections import Counter
from typing import Any, NamedTuple

Document = dict[str, Any]


class Step(NamedTuple):
    """One command of the walk, and what an engineer wants to know there."""

    why: str
    command: tuple[str, ...]


STEPS = (
    Step("Do the files agree? Is everybody somewhere?", ("check",)),
    Step("Which groups are there, with which numbers?", ("groups",)),
    Step("Who is in no group, and who nearly is?", ("members", "--unassigned")),
    Step("What may whom do? The whole matrix.", ("matrix",)),
    Step("One cell: its lines, and what they come to.", ("cell", "kiosks", "catalogue")),
    Step("One question.", ("decide", "patrons", "loans-1", "8443/tcp")),
    Step("Lines and entries that no packet reaches.", ("review",)),
    Step("Is all that must be allowed or denied so?", ("expect",)),
    Step("Do the tags reach the enforcement point, on every path?", ("reach",)),
    Step("The list for every point, proved before it is written.", ("compile",)),
    Step("Read the lists back: still equal to the matrix?", ("prove",)),
)
LAB_STEPS = (
    Step("The same network from namespaces, on this machine.", ("lab", "up")),
    Step("Real packets, without the lists and with them.", ("lab", "probe")),
)
DOWN_STEPS = (Step("Enough.", ("lab", "down")),)
MENDED_STEPS = (
    Step("The mended files.", ("check",)),
    Step("No line hides another.", ("review",)),
    Step("All hold.", ("expect",)),
    Step("Every flow is exact.", ("reach",)),
    Step("The lists once more.", ("compile",)),
)


def wrong(documents: dict[str, Document]) -> list[tuple[str, str]]:
    """What the commands found, as (command, one sentence), the findings alike as one.

    Args:
        documents: command → its document, for those of check, review, expect, reach and
            lab probe that ran.
    """
    found: list[tuple[str, str]] = []
    for command in ("check", "review"):
        for finding in documents.get(command, {}).get("findings", ()):
            place = f"{finding['file']}:{finding['line']}"
            found.append((command, f"{finding['code']} {place}: {finding['message']}"))
    for row in documents.get("expect", {}).get("expectations", ()):
        if not row["holds"]:
            asks = f"{row['from']} → {row['to']}: {row['asks']}"
            found.append(("expect", f"{row['file']}:{row['line']} does not hold: {asks}"))
    for cause in documents.get("reach", {}).get("summary", {}).get("causes", ()):
        found.append(
            ("reach", f"{_effect(cause)}, {cause['flows']} flows, e.g. {cause['example']}")
        )
    verdicts = Counter(p["verdict"] for p in documents.get("lab probe", {}).get("probes", ()))
    found += [
        ("lab probe", f"{n} of the probes: {verdict}")
        for verdict, n in verdicts.items()
        if verdict != "as meant"
    ]
    return found


def _effect(cause: Document) -> str:
    where = [r["node"] for r in cause["reasons"] if r["node"]]
    place = f" at {where[-1]}" if where else ", on a path without a point"
    return ("leak" if cause["effect"] == "leak" else "break") + place
