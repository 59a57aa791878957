"""Access lists: written, and proved."""

from __future__ import annotations

from oaktag.report.list_words import differing
from oaktag.report.page import Page
from oaktag.report.words import Row, few

#: From so many percent of its capacity on a point is nearly full.
FULL = 80


def show(page: Page, d: Row, *, folder: str = "") -> None:
    """Every list with its size; or whether each is equal to the matrix."""
    match d["command"]:
        case "prove":
            _proved(page, d, folder)
        case "compile entries":
            _entries(page, d)
        case _:
            _written(page, d, folder)


def _written(page: Page, d: Row, folder: str) -> None:
    page.table(
        ("point", "mode", "entries", "plain", "capacity", "% full", "bindings", "proved", "file"),
        [
            (
                p["point"], p["mode"], p["entries"], p["plain_entries"],
                p["capacity"] or "", _full(p), p["bindings"], "yes" if p["proved"] else "no", _below(folder, p["file"]),
            )
            for p in d["points"]
        ],
        right=(2, 3, 4, 5, 6),
    )  # fmt: skip
    for p in d["points"]:
        full = 100 * p["entries"] / p["capacity"] if p["capacity"] else 0
        if full >= FULL:
            page.say(
                f"{p['point']} is {full:.0f} % full: {p['entries']} of {p['capacity']} entries"
            )
    if unread := [p["point"] for p in d["points"] if not p["proved"]]:
        page.say(f"not proved: {few(unread, 6)}")
    _silent(page, d["points"])
    _leaner(page, [p for p in d["points"] if (p["known_entries"] or p["entries"]) < p["entries"]])
    if d["changes"] is not None:
        _changed(page, d["changes"])
    page.say(f"the lines behind the keys in the lists: {_below(folder, d['keys'])}")
    if not d["points"]:
        page.hint("no node of network.yaml is a point: there is nothing to compile")
    else:
        page.hint("oaktag lab up, then oaktag lab probe, try the lists with real packets")


def _changed(page: Page, changes: list[Row]) -> None:
    """In what lists differ from earlier ones."""
    if not changes:
        page.say("no list differs from the earlier ones; none is written")
    for told, names in differing(changes).items():
        page.paragraph(f"{few(names, 6)}: {told}", "  ", first="changed: ")


def _full(row: Row) -> str:
    """How much of its point's capacity a list takes, in per cent."""
    return f"{100 * row['entries'] / row['capacity']:.0f}" if row["capacity"] else ""


def _leaner(page: Page, points: list[Row]) -> None:
    """What points would save that need not hold all cells."""
    if not points:
        return
    told = [f"{p['point']} {p['known_entries']} instead of {p['entries']}" for p in points]
    page.paragraph(
        f"with scope: known, {few(told, 6)}; whoever then joins behind a point, in a group that "
        "nobody there is in yet, meets outside until its list is compiled again, "
        f"with {_more(points)}",
        first="",
    )


def _more(points: list[Row]) -> str:
    """What lists would need more for the first of a group."""
    most = [(p["newcomer"]["entries"], p["newcomer"]["group"]) for p in points if p["newcomer"]]
    entries, group = max(most, default=(0, ""))
    return f"{entries:,} entries more for the dearest" + (f" ({group})" if group else "")


def _entries(page: Page, d: Row) -> None:
    for entry in d["entries"]:
        would = "" if entry["would"] == entry["action"] else f" (would {entry['would']})"
        log = f", recorded as {entry['log']}" if entry["log"] else ""
        page.say(f"{d['file']}:{entry['line']}: {entry['action']}{would} {entry['packets']}{log}")
        for line in entry["lines"]:
            ends = f"{line['source']} → {line['destination']}"
            page.say(f"  by {line['file']}:{line['line']}: {ends}, {line['permission']}")
        if entry["default"]:
            page.say("  by the default")
        cells = [f"{c['source']} → {c['destination']}" for c in entry["cells"]]
        page.paragraph(few(cells, 8), "      ", first="  for ")
    if d["outside"] is not None:
        page.say(f"the list of {d['point']} has no such cell; what it judges there, it lets meet "
                 f"outside: {d['outside']}")  # fmt: skip
    if d["entries"]:
        page.hint("oaktag cell SRC DST shows all lines of a cell, in order")


def _proved(page: Page, d: Row, folder: str) -> None:
    told = [p for p in d["points"] if not p["equal"]]
    right = sum(p["equal"] is True for p in d["points"])
    words = {True: "equal, for all packets", False: "NOT EQUAL", None: "not proved"}
    page.table(
        ("point", "list", "against the matrix"),
        [
            (
                p["point"],
                _below(folder, p["file"]),
                words[p["equal"]],
            )
            for p in d["points"]
        ],
    )
    for row in told:
        page.say(f"{row['point']}: {row['error'] or row['counterexample']['text']}")
    _silent(page, d["points"])
    page.say(f"{right} of {len(d['points'])} equal")


def _silent(page: Page, points: list[Row]) -> None:
    """The lists that have no room for what the proof covers elsewhere."""
    if names := [p["point"] for p in points if p["unproved"]]:
        page.say(
            f"not part of the proof: which line decides; not every entry has room for it in the "
            f"{'list' if len(names) == 1 else 'lists'} of {few(names, 6)}"
        )


def _below(folder: str, path: str) -> str:
    """A path as seen from a folder."""
    return path.removeprefix(f"{folder}/") if folder else path
