"""The lab: what is up, what packets did."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count


def show(page: Page, d: Row, *, everything: bool = False) -> None:
    """What is up, or written, or taken away; of probes the odd ones, or all."""
    match d["command"]:
        case "lab up":
            _up(page, d)
        case "lab probe":
            _probes(page, d, everything=everything)
        case "lab state":
            page.say(f"written: {count(len(d['files']), 'report')} in {d['folder']}")
            page.hint(f"oaktag drift {d['folder']} holds them against what is intended")
        case _:
            page.say("down" if d["was_up"] else "no lab was up")


def _up(page: Page, d: Row) -> None:
    page.say(
        f"up: {count(d['nodes'], 'node')}, {count(d['hosts'], 'endpoint')}, "
        f"{count(d['links'], 'link')} (tags in frames on {d['tunnels']}); "
        f"it ends by itself after {d['hours']:g} h"
    )
    page.hint("oaktag lab probe sends packets before and after the lists are loaded")


def _probes(page: Page, d: Row, *, everything: bool) -> None:
    odd = [p for p in d["probes"] if p["verdict"] != "as meant"]
    for feed in d["feeds"]:
        page.say(f"feed {feed['feed']}: {count(feed['bindings'], 'binding')} arrived")
    rows = d["probes"] if everything else _some(odd)
    if rows:
        page.table(
            ("probe", "from", "to", "meant", "no list", "with lists", "verdict"),
            [
                (
                    f"{p['protocol']} {p['port'] or 'echo'}",
                    f"{p['source']['group']}\n{p['source']['address']}",
                    f"{p['destination']['group']}\n{p['destination']['address']}",
                    p["meant"], _word(p["before"]), _word(p["after"]), p["verdict"],
                )
                for p in rows
            ],
            wrap=(1, 2, 6),
        )  # fmt: skip
    if len(odd) > len(rows):
        page.say(f"and {len(odd) - len(rows)} more like these; --all shows every probe")
    counts = ", ".join(f"{n} {verdict}" for verdict, n in sorted(d["summary"].items()))
    page.say(f"{count(len(d['probes']), 'probe')}: {counts or 'nobody is there to send one'}")
    for row in d["counters"]:
        agree = "agree" if row["agree"] else "DO NOT AGREE"
        page.say(f"{row['point']}: {row['packets']} new flows counted by cell; counters {agree}")
        for cell in row["differ"]:
            ends = f"{cell['source']} → {cell['destination']}"
            page.say(f"   {ends}: {cell['expected']} sent, {cell['counted']} counted")
    if odd:
        page.hint("oaktag reach says where a tag is lost, and what to do")


def _some(probes: list[Row], most: int = 5) -> list[Row]:
    """The first few of each verdict."""
    seen: dict[str, int] = {}
    kept = []
    for probe in probes:
        seen[probe["verdict"]] = seen.get(probe["verdict"], 0) + 1
        if seen[probe["verdict"]] <= most:
            kept.append(probe)
    return kept


def _word(answered: bool) -> str:
    return "answered" if answered else "no answer"
