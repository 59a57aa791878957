"""``report``: everything about a workspace as one page that needs nothing else."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import ClassVar

from oaktag.core.addresses import span_text
from oaktag.core.network import Segment
from oaktag.errors import UsageError
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row

#: What a page says of itself, so that the next one can tell what changed.
FIGURES = re.compile(
    r'<script type="application/json" id="oaktag-figures">(.*?)</script>', re.DOTALL
)
LARGEST = 64 << 20


@dataclass(frozen=True, eq=False, repr=False)
class Reported(Result):
    """The page that was written: its figures, beside those of the last report of an earlier day."""

    file: str
    day: str
    earlier: str | None
    figures: list[Row]
    command: ClassVar[str] = "report"
    table: ClassVar[str] = "figures"


def report(
    model: Model,
    out: Path,
    *,
    since: tuple[str, Document] | None = None,
    progress: Callable[[str], None] | None = None,
) -> Reported:
    """Write the page.

    Args:
        model: the workspace.
        out: its file; a report that is there already is held against the new one.
        since: an earlier version's name, and what differs from it, as ``compare`` says it.
        progress: told how far it is.

    Raises:
        UsageError: there is a file, and it is no report.
    """
    from oaktag.operations.check import check
    from oaktag.operations.expect import expect
    from oaktag.operations.picture import picture
    from oaktag.operations.reach import reach
    from oaktag.operations.report_parts import groups_part, lists_part, matrix_part, paths_part
    from oaktag.operations.review import review
    from oaktag.report.html_page import write_page

    before = earlier(out)
    findings = [*check(model)["findings"], *review(model)["findings"]]
    asked = expect(model)
    expectations = [*asked["expectations"], *asked["keep_open"]]
    flows = reach(model, progress=progress)
    lists = lists_part(model, progress)
    today = date.fromordinal(model.today).isoformat()
    figures = list(_figures(model, expectations, flows["summary"], lists["points"], findings))
    last = _last(before, today)
    for row in figures:
        row["was"] = None if last is None else last["figures"].get(row["figure"])
    kept = {
        "day": today, "figures": {r["figure"]: [r["count"], r["of"]] for r in figures},
        "earlier": last,
    }  # fmt: skip
    data, cells = matrix_part(model)
    network = model.network
    document = {
        "workspace": model.files.config.workspace, "day": today,
        "default": model.files.policy.default,
        "earlier": None if last is None else last["day"],
        "figures": figures, "kept": kept,
        "sentences": list(_sentences(figures, model)),
        "accepted": _accepted(model),
        "groups": groups_part(model),
        "sets": [
            {"set": name, "groups": list(model.groups.members(name))} for name in model.groups.sets
        ],
        "permissions": _permissions(model),
        "findings": findings, "expectations": expectations,
        "picture": picture(model, flows) if network.nodes else None,
        "segments": [
            {"segment": s.name, "node": s.node, "prefixes": _prefixes(s)}
            for s in network.segments.values()
        ],
        "flows": flows["summary"],
        "paths": paths_part(model, flows["flows"]),
        "lists": lists,
        "since": None if since is None else {"version": since[0], **since[1]},
    }  # fmt: skip
    write_page(document, data, cells, out)
    return Reported(file=out.as_posix(), day=today, earlier=document["earlier"], figures=figures)


def earlier(out: Path) -> Document | None:
    """What the report that a file holds says of itself; None where there is no file.

    Raises:
        UsageError: there is a file, and it is no report.
    """
    try:
        with out.open(encoding="utf-8", errors="replace") as file:
            text = file.read(LARGEST)
    except FileNotFoundError:
        return None
    found = FIGURES.search(text)
    held: Document
    try:
        held = json.loads(found[1] if found else "null")
        date.fromisoformat(held["day"])
        dict(held["figures"]), held["earlier"]
    except (TypeError, ValueError, KeyError):
        raise UsageError(
            f"{out.name} is there, and is no report of this tool; name another file with --out"
        ) from None
    return held


def _last(before: Document | None, today: str) -> Document | None:
    """The last report of an earlier day: a page made twice on a day is held against the same."""
    for held in (before, before and before["earlier"]):
        if held is not None and held["day"] < today:
            return {"day": held["day"], "figures": held["figures"]}
    return None


def _figures(
    model: Model, expectations: list[Document], flows: Document, lists: list[Document],
    findings: list[Document],
) -> Iterator[Document]:  # fmt: skip
    """The figures that count, each with of how many."""
    effects = flows["effects"]
    every = sum(effects.values()) + sum(flows["accepted"].values())
    given = model.assignment.group
    for figure, number, of, good in (
        ("endpoints in a group", int((given >= 0).sum()), len(given), True),
        ("expectations that hold", sum(e["holds"] for e in expectations), len(expectations), True),
        ("flows exactly as meant", effects.get("exact", 0), every, True),
        ("flows that leak", effects.get("leak", 0), every, False),
        ("flows that break", effects.get("break", 0), every, False),
        ("flows without answers", effects.get("one-way", 0), every, False),
        ("flows that are cut off", sum(r["flows"] for r in flows["cut_off"]), None, False),
        ("leaks and breaks accepted", sum(flows["accepted"].values()), None, False),
        ("lists proved", sum(r["proved"] for r in lists), len(model.network.points), True),
        ("findings", len(findings), None, False),
    ):  # fmt: skip
        well = (number == of if of is not None else True) if good else not number
        yield {"figure": figure, "count": number, "of": of, "well": well}


def _sentences(figures: list[Document], model: Model) -> Iterator[str]:
    """The summary: what is well, what is not."""
    at = {row["figure"]: row for row in figures}

    def share(figure: str, what: str, verb: str) -> str:
        number, of = at[figure]["count"], at[figure]["of"]
        if number == of:
            return f"All {of:,} {what} {verb}" if of > 1 else f"The one {what.rstrip('s')} {verb}s"
        return f"{number:,} of {of:,} {what} {verb}"

    if at["endpoints in a group"]["of"]:
        row = at["endpoints in a group"]
        missing = row["of"] - row["count"]
        yield (
            f"All {row['of']:,} endpoints are in a group."
            if not missing
            else f"{row['count']:,} of {row['of']:,} endpoints are in a group; "
            f"{missing:,} {'fares' if missing == 1 else 'fare'} as untagged."
        )
    if at["expectations that hold"]["of"]:
        yield share("expectations that hold", "expectations", "hold") + "."
    else:
        yield "No expectation is written down."
    if at["flows exactly as meant"]["of"]:
        wrong = [
            f"{at[name]['count']:,} {verb}"
            for name, verb in (
                ("flows that leak", "leak"), ("flows that break", "break"),
                ("flows without answers", "get no answer"),
            )
            if at[name]["count"]
        ]  # fmt: skip
        told = share("flows exactly as meant", "flows", "fare exactly as the matrix says")
        yield told + (f"; {', '.join(wrong)}." if wrong else ".")
    if cut := at["flows that are cut off"]["count"]:
        yield f"{cut:,} more have no path at all."
    if at["lists proved"]["of"]:
        number, of = at["lists proved"]["count"], at["lists proved"]["of"]
        yield (
            f"{_all_of(number, of)} access lists "
            f"{'is' if number == 1 else 'are'} proved equal to the matrix for every packet."
            if of > 1
            else f"The one access list is{'' if number else ' not'} proved equal to the matrix."
        )
    if accepted := at["leaks and breaks accepted"]["count"]:
        first = min(b.until for b in model.files.borne)
        yield f"{accepted:,} are accepted, the first of them until {date.fromordinal(first)}."


def _all_of(number: int, of: int) -> str:
    if number != of:
        return f"{number:,} of {of:,}"
    return "Both" if of == 2 else f"All {of:,}"


def _accepted(model: Model) -> list[Document]:
    """What is known and borne, and until when."""
    rows = [
        {
            "what": f"{b.effect}{f' ({b.cause})' if b.cause else ''}", "why": b.why,
            "until": date.fromordinal(b.until).isoformat(), "counts": model.today <= b.until,
            "file": b.location.file, "line": b.location.line,
        }
        for b in model.files.borne
    ]  # fmt: skip
    rows += [
        {
            "what": f"finding {a.code}", "why": a.why,
            "until": date.fromordinal(a.until).isoformat(), "counts": model.today <= a.until,
            "file": a.location.file, "line": a.location.line,
        }
        for a in model.files.config.accepted
    ]  # fmt: skip
    return sorted(rows, key=lambda row: (row["until"], row["line"]))


def _permissions(model: Model) -> list[Document]:
    """Each permission with its entries, in words, and how many lines give it."""
    used = [0] * len(model.files.policy.permissions)
    for line in model.lines:
        used[line.permission] += 1
    return [
        {
            "permission": p.name, "file": p.location.file, "line": p.location.line,
            "entries": [
                " ".join(
                    filter(None, (e.action, e.text, f"log {e.log}" if e.log else "",
                                  "refuse with an answer" if e.answer else ""))
                )
                for e in p.steps
            ],
            "lines": used[n],
        }
        for n, p in enumerate(model.files.policy.permissions)
    ]  # fmt: skip


def _prefixes(segment: Segment) -> list[str]:
    return [span_text(p.family, p.start, p.end) for p in segment.prefixes]
