"""A packet's way, hop by hop."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count, place

#: How packets fare, in words; the worst first.
FARES = {
    "leak": "leak",
    "break": "break",
    "one-way": "lose their answers",
    "exact": "fare as meant",
}


def show(page: Page, d: Row) -> None:
    """How many fare how; then every way of the packet, the worst first, those that are alike once."""
    if not d["paths"]:
        page.say(d["verdict"])
    alike: dict[tuple[object, ...], list[Row]] = {}
    for path in d["paths"]:
        seen = tuple(_row(hop) for hop in path["hops"])
        back = tuple(_row(hop) for answer in path["answers"] for hop in answer["hops"])
        key = path["effect"], tuple(path["path"]), path["verdict"], seen, back
        alike.setdefault(key, []).append(path)
    if sum(p["pairs"] for p in d["paths"]) > 1:
        page.paragraph(_summary(d, len(alike)), "    ", first="")
        page.say()
    for paths in alike.values():
        _way(page, paths)
    if d["effect"] in ("leak", "break", "one-way"):
        page.hint(
            f"oaktag reach --from {d['source']} --to {d['destination']} shows what else fares so"
        )


def _summary(d: Row, ways: int) -> str:
    """In one line how many pairs of hosts fare how, those that fare wrong first."""
    counted: dict[str, int] = {}
    for path in d["paths"]:
        word = FARES[path["effect"]] if path["path"] else "are cut off"
        counted[word] = counted.get(word, 0) + path["pairs"]
    told = ", ".join(f"{n:,} {word}" for word, n in counted.items())
    return (
        f"{d['source']} → {d['destination']}, {d['service']}: of the pairs of hosts and ways "
        f"{told}; {count(ways, 'different way')}"
    )


def _way(page: Page, paths: list[Row]) -> None:
    """One way, by an example, and how many more fare alike."""
    path = paths[0]
    ends = [
        f"{e['endpoint'] or e['group']} ({e['address']} in {e['segment'] or e['node']})"
        for e in (path["from"], path["to"])
    ]
    pairs = sum(p["pairs"] for p in paths)
    more = f", and {count(pairs - 1, 'more pair')} alike" if pairs > 1 else ""
    page.paragraph(f"{path['text']}, {ends[0]} → {ends[1]}{more}", "    ", first="")
    _hops(page, path["hops"])
    page.paragraph(path["verdict"], "    ", first="")
    for answer in path["answers"]:
        page.say("\nand back:")
        _hops(page, answer["hops"])
        page.paragraph(answer["verdict"], "    ", first="")
    page.say()


def _hops(page: Page, hops: list[Row]) -> None:
    if hops:
        page.table(
            ("node", "source seen as", "destination seen as", "what it does", "by"),
            [_row(hop) for hop in hops],
            wrap=(1, 2, 4),
        )


def _row(hop: Row) -> tuple[str, ...]:
    return (
        hop["point"] or hop["node"],
        _seen(hop["source_group"], hop["source_tag"], hop["source_from"]),
        _seen(hop["destination_group"], hop["destination_tag"], hop["destination_from"]),
        _deed(hop), place(hop["line"]) if hop["line"] else hop["by"],
    )  # fmt: skip


def _seen(group: str, tag: int, origin: str) -> str:
    return f"{group} ({origin})" if tag else "not known"


def _deed(hop: Row) -> str:
    if hop["judged"]:
        return str(hop["action"])
    reasons = {"direction": "not in this direction", "inside": "not inside a segment"}
    return reasons.get(hop["why"] or "", "passes it on")
