"""Reach: what tags do on every path."""

from __future__ import annotations

from collections import Counter

from oaktag.report.page import Page
from oaktag.report.words import Row, why

#: The same where there are very many places.
KINDS = {
    "": "the points that judge do not agree with the matrix",
    "no-point": "no point on the path",
    "direction": "the last point on the path does not judge this direction",
    "inside": "the last point on the path does not judge inside a segment",
    "source-unknown": "the last point on the path does not know the source's tag",
    "source-wrong": "the last point on the path sees a wrong source tag",
    "destination-unknown": "the last point on the path does not know the destination's tag",
    "destination-wrong": "the last point on the path sees a wrong destination tag",
    "no-cell": "the list of the last point on the path lacks the cell",
    "answer-dropped": "a point on a way back drops the answers",
}
EFFECTS = ("leak", "break", "one-way", "exact")


def show(
    page: Page, d: Row, *, flows: bool = False, accepted: bool = False, by: str | None = None
) -> None:
    """What is cut off, counts, and causes; or rows, or counts by cell, point, segment, endpoint."""
    summary = d["summary"]
    effects = summary["effects"]
    bad = sum(n for effect, n in effects.items() if effect != "exact") + len(summary["cut_off"])
    for off in summary["cut_off"][:WORST]:
        ends = " and ".join(dict.fromkeys(off["between"]))
        page.say(f"cut off: no path joins {ends} ({off['flows']:,} flows, e.g. {off['example']})")
    if len(summary["cut_off"]) > WORST:
        page.say(
            f"and {len(summary['cut_off']) - WORST:,} more pairs of segments that nothing joins"
        )
    counted = [f"{n:,} {e}" for e in ("exact", *EFFECTS[:3]) if (n := effects.get(e, 0))]
    page.say(
        f"{sum(effects.values()):,} flows between segments and groups: "
        f"{', '.join(counted) or 'none'}"
    )
    results = summary["results"]
    if results:
        page.say("   " + ", ".join(f"{results[r]:,} {r}" for r in sorted(results)))
    if summary["accepted"]:
        borne = ", ".join(f"{n:,} {effect}" for effect, n in sorted(summary["accepted"].items()))
        page.say(f"   accepted in oaktag.yaml: {borne}; --accepted shows them")
    if by == "endpoint":
        page.say()
        heads = [f"{effect} {word}" for effect in EFFECTS[:3] for word in ("from", "to")]
        page.table(
            ("endpoint", *heads),
            [tuple(row.values()) for row in d["endpoints"]],
            right=tuple(range(1, 7)),
        )
        page.say()
    elif by:
        _by(page, [f for f in d["flows"] if not f["accepted"]], by)
    elif accepted and not summary["accepted"]:
        page.say("nothing is accepted in oaktag.yaml, or nothing that it accepts is there")
    elif flows or accepted:
        _flows(page, [f for f in d["flows"] if f["accepted"] or not accepted])
    elif summary["causes"]:
        _causes(page, summary["causes"])
        _most(page, d)
    if (flows or by) and len(d["flows"]) < sum(effects.values()):
        page.say("too many to take each: these are one for each cause; --from and --to narrow it")
    if d["unplaced"]:
        page.say(f"nobody of these groups is on a segment: {', '.join(d['unplaced'])}")
    if bad and not flows:
        page.hint("oaktag reach --flows shows each of them; --from and --to narrow it")


#: So many causes fit a screen; of more, kinds are shown and so many of the worst.
SCREEN, WORST = 15, 10


def _most(page: Page, d: Row) -> None:
    """Where most of it is."""
    most = d["summary"]["most"]
    if len(most) > 1:
        told = ", ".join(f"{m['segment']} ({m['flows']:,})" for m in most)
        page.paragraph(f"segments in most of it: {told}", "    ", first="")


def _causes(page: Page, causes: list[Row]) -> None:
    """What is not exact, by cause; where there are very many, by kind of cause first."""
    page.say()
    if len(causes) > SCREEN:
        kinds: dict[tuple[str, str], Counter[str]] = {}
        for c in causes:
            last = c["reasons"][-1] if c["reasons"] else {"node": "", "why": ""}
            kind = c["effect"], KINDS[last["why"]]
            kinds.setdefault(kind, Counter())[last["node"] or ""] += c["flows"]
        order = sorted(kinds.items(), key=lambda i: (EFFECTS.index(i[0][0]), -i[1].total(), i[0]))
        page.table(
            ("effect", "flows", "why", "places"),
            [
                (effect, f"{at.total():,}", why, len(at) if any(at) else "")
                for (effect, why), at in order
            ],
            right=(1, 3),
        )
        page.say()
        page.say(f"{len(causes):,} causes; the {WORST} worst:")
    page.table(
        ("effect", "flows", "why", "for example", "what to do"),
        [
            (
                c["effect"],
                f"{c['flows']:,}",
                why(c["reasons"], c["watching"]),
                c["example"],
                c["advice"],
            )
            for c in causes[: SCREEN if len(causes) <= SCREEN else WORST]
        ],
        right=(1,),
        wrap=(2, 3, 4),
        spaced=True,
    )
    page.say()


def _by(page: Page, rows: list[Row], what: str) -> None:
    """What leaks and breaks, counted by cell, by the place where it goes wrong, or by segment."""
    counted: dict[tuple[str, ...], Counter[str]] = {}
    for row in rows:
        if row["effect"] == "exact":
            continue
        if what == "cell":
            key: tuple[str, ...] = row["source"]["group"], row["destination"]["group"]
        elif what == "segment":
            key = row["source"]["segment"], row["destination"]["segment"]
        else:
            told = row["reasons"] or row["amiss"]
            if row["effect"] == "one-way":
                told = [r for r in row["amiss"] if r["why"] == "answer-dropped"]
            places = [r["node"] for r in told if r["node"]]
            key = (places[-1] if places else row["at"] or "no point on the path",)
        counted.setdefault(key, Counter())[row["effect"]] += 1
    heads = {"cell": ("from", "to"), "segment": ("from", "to"), "point": ("at",)}[what]
    order = sorted(counted.items(), key=lambda i: (*(-i[1][e] for e in EFFECTS[:3]), i[0]))
    page.say()
    page.table(
        (*heads, *EFFECTS[:3]),
        [(*k, *(c[e] for e in EFFECTS[:3])) for k, c in order],
        right=tuple(range(len(heads), len(heads) + 3)),
    )
    page.say()


def _flows(page: Page, rows: list[Row]) -> None:
    page.say()
    page.table(
        ("effect", "source", "destination", "path", "result", "packets"),
        [
            (
                r["effect"],
                f"{r['source']['group']} in {r['source']['segment']}",
                f"{r['destination']['group']} in {r['destination']['segment']}",
                " ".join(r["path"]),
                f"{r['result']} at {r['at']}" if r["at"] else f"{r['result']}: {why(r['reasons'])}",
                r["packets_text"].partition(" ")[2]
                if ";" not in r["packets_text"]
                else r["packets_text"],
            )
            for r in sorted(rows, key=lambda r: EFFECTS.index(r["effect"]))
        ],
        wrap=(1, 2, 3, 4, 5),
    )
