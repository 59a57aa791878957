"""In what access lists differ, in words."""

from __future__ import annotations

from collections.abc import Iterator

from oaktag.report.words import Row, count

#: So many cells, entries and bindings of a list are named.
NAMED = 3


def differing(points: list[Row]) -> dict[str, list[str]]:
    """What differs in lists, in words; points of which the same is to be said together."""
    found: dict[str, list[str]] = {}
    for point in points:
        if point.get("error"):
            told = f"the earlier list cannot be read: {point['error']}"
        elif str(point["is"]).startswith("cannot"):
            told = f"the list {point['is']}"
        elif point["was"] is None or point["is"] is None:
            told = "a list that was not there" if point["was"] is None else "no list any more"
        else:
            told = "; ".join(_contents(point)) or "the same entries for other lines"
        found.setdefault(told, []).append(point["point"])
    return found


def _contents(point: Row) -> Iterator[str]:
    cells = sum(len(e["cells"]) for e in point["entries"])
    if cells:
        first = point["entries"][0]
        ends = ", ".join(f"{s} → {d}" for s, d in first["cells"][:NAMED])
        signs = [f"less {t}" for t in first["gone"]] + [f"more {t}" for t in first["come"]]
        more = "" if cells <= NAMED and len(point["entries"]) == 1 else ", …"
        yield f"{count(cells, 'cell')} ({ends}: {'; '.join(signs[:NAMED])}{more})"
    if point["bindings"]:
        rows = [f"{b['addresses']} {b['was'] or 'nobody'} → {b['is'] or 'nobody'}"
                for b in point["bindings"]]  # fmt: skip
        more = ", …" * (len(rows) > NAMED)
        yield f"{count(len(rows), 'binding')} ({', '.join(rows[:NAMED])}{more})"
    if point["judges"]:
        yield "what it judges at all"
