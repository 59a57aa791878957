"""A packet's way, hop by hop."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, place


def show(page: Page, d: Row) -> None:
    """Every path of the packet, the worst first."""
    if not d["paths"]:
        page.say(d["verdict"])
    for path in d["paths"]:
        ends = [
            f"{e['endpoint'] or e['group']} ({e['address']} in {e['segment'] or e['node']})"
            for e in (path["from"], path["to"])
        ]
        page.paragraph(f"{path['text']}, {ends[0]} → {ends[1]}", "    ", first="")
        _hops(page, path["hops"])
        page.paragraph(path["verdict"], "    ", first="")
        for answer in path["answers"]:
            page.say("\nand back:")
            _hops(page, answer["hops"])
            page.paragraph(answer["verdict"], "    ", first="")
        page.say()
    if d["effect"] in ("leak", "break", "one-way"):
        page.hint(
            f"oaktag reach --from {d['source']} --to {d['destination']} shows what else fares so"
        )


def _hops(page: Page, hops: list[Row]) -> None:
    if hops:
        page.table(
            ("node", "source seen as", "destination seen as", "what it does", "by"),
            [
                (
                    h["point"] or h["node"],
                    _seen(h["source_group"], h["source_tag"], h["source_from"]),
                    _seen(h["destination_group"], h["destination_tag"], h["destination_from"]),
                    _deed(h), place(h["line"]) if h["line"] else h["by"],
                )
                for h in hops
            ],
            wrap=(1, 2, 4),
        )  # fmt: skip


def _seen(group: str, tag: int, origin: str) -> str:
    return f"{group} ({origin})" if tag else "not known"


def _deed(hop: Row) -> str:
    if hop["judged"]:
        return str(hop["action"])
    reasons = {"direction": "not in this direction", "inside": "not inside a segment"}
    return reasons.get(hop["why"] or "", "passes it on")
