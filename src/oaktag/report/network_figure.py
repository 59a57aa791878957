"""A figure of the network by site: links that carry tags and that lose them, feeds, points, and
where traffic leaks or breaks. Told by form and words; colour is never the only sign.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from oaktag.report.figures import HINT, INK, PAPER, TINT, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes

Document = dict[str, Any]
#: Above so many nodes each site is one box.
MOST_NODES = 60
WIDE, ROW, GAP = 2.9, 0.3, 1.5
#: Above so many sites they are rows and columns of a table, of which there are so many at most.
MOST_BOXES, MOST_ROWS = 16, 80
LABELS = 3.5


class Place(NamedTuple):
    """Where a node (or a folded site) stands: the middle of its row, and its site's sides."""

    x: float
    y: float
    left: float
    right: float


def draw_network(document: Document, path: Path) -> None:
    """Draw the document of ``operations.picture`` as PNG or SVG; the same bytes each time.

    Raises:
        UsageError: the file's name ends in neither .png nor .svg.
    """
    folded = len(document["nodes"]) > MOST_NODES
    sites = _sites(document, folded)
    if folded and len(sites) > MOST_BOXES:
        return _grid(document, sites, path)
    columns = _columns(document, sites)
    tall = max(sum(len(sites[s]) * ROW + 0.75 for s in column) for column in columns)
    width = len(columns) * (WIDE + GAP) - GAP + 0.6
    notes = _notes(document, folded)
    height = tall + 1.9 + 0.2 * len(notes)
    figure = new_figure(width, height, path)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, width)
    axes.set_ylim(height, 0)
    axes.axis("off")
    places: dict[str, Place] = {}
    for number, column in enumerate(columns):
        left = 0.3 + number * (WIDE + GAP)
        y = 1.0 + (tall - sum(len(sites[s]) * ROW + 0.75 for s in column)) / 2
        for site in column:
            y = _site(axes, site, sites[site], left, y, places)
    _links(axes, document, places, folded)
    _feeds(axes, document, places, folded)
    axes.text(0.3, height - 0.25, "\n".join(notes), fontsize=8, va="bottom", linespacing=1.5)
    save(figure, path)
    return None


def _grid(document: Document, sites: dict[str, list[tuple[str, str, str]]], path: Path) -> None:
    """Very many sites as a table of sites by sites: links below the diagonal, feeds above it."""
    of = {n["node"]: n["site"] for n in document["nodes"]}
    held = Counter(of.values())
    points = Counter(of[n["node"]] for n in document["nodes"] if "point" in n["does"])
    wrong = Counter(of[node] for node in document["wrong"])
    fed = Counter(of[f["to"]] for f in document["feeds"] if f["from"] == "registry")
    names = sorted(sites, key=lambda s: (-wrong[s], -points[s], list(sites).index(s)))[:MOST_ROWS]
    place = {name: n for n, name in enumerate(names)}
    cell = min(0.3, 8.4 / len(names))
    size = len(names) * cell
    notes = _grid_notes(document, len(sites) - len(names))
    width, top = LABELS + size + 0.4, 1.3
    height = top + size + 0.45 + 0.2 * len(notes)
    figure = new_figure(width, height, path)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, width)
    axes.set_ylim(height, 0)
    axes.axis("off")
    small = min(7.5, cell * 40)
    heads = ((1.45, "nodes"), (1.95, "points"), (2.45, "fed"), (LABELS - 0.15, "wrong at"))
    for x, head in heads:
        axes.text(x, top - 0.08, head, fontsize=7, ha="right", va="bottom", color="#555555")
    for name, number in place.items():
        middle = top + (number + 0.5) * cell
        axes.text(0.25, middle, name or "no site", fontsize=small, va="center", fontweight="bold")
        for (x, _), value in zip(heads, (held[name], points[name], fed[name]), strict=False):
            axes.text(x, middle, str(value), fontsize=small, va="center", ha="right")
        if wrong[name]:
            axes.text(LABELS - 0.15, middle, f"! {wrong[name]}", fontsize=small, va="center", ha="right",
                      color="#a01010", fontweight="bold")  # fmt: skip
        at = LABELS + (number + 0.5) * cell
        axes.text(at, top - 0.08, name, fontsize=small, ha="center", va="bottom", rotation=90)
        for line in (top + number * cell, top + size):
            axes.plot((LABELS, LABELS + size), (line, line), color=TINT, lw=0.5)
        for line in (LABELS + number * cell, LABELS + size):
            axes.plot((line, line), (top, top + size), color=TINT, lw=0.5)
        axes.plot(
            (at - cell / 2, at + cell / 2), (middle - cell / 2, middle + cell / 2), color=TINT, lw=1
        )
    _marks(axes, document, of, place, (LABELS, top, cell))
    axes.text(0.25, height - 0.2, "\n".join(notes), fontsize=8, va="bottom", linespacing=1.5)
    save(figure, path)


def _marks(
    axes: Axes,
    document: Document,
    of: dict[str, str],
    place: dict[str, int],
    corner: tuple[float, float, float],
) -> None:
    left, top, cell = corner
    links: dict[tuple[int, int], set[bool]] = defaultdict(set)
    for link in document["links"]:
        a, b = (place.get(of[link[end]]) for end in ("a", "b"))
        if a is not None and b is not None and a != b:
            links[max(a, b), min(a, b)].add(link["carries"])
    feeds = {
        (place[of[f["from"]]], place[of[f["to"]]])
        for f in document["feeds"]
        if f["from"] != "registry" and of[f["from"]] in place and of[f["to"]] in place
    }
    side = cell * 72 * 0.55
    for (row, column), carries in sorted(links.items()):
        x, y = left + (column + 0.5) * cell, top + (row + 0.5) * cell
        filled = INK if True in carries else PAPER
        axes.plot(x, y, "s", markersize=side, markerfacecolor=filled, markeredgecolor=INK, mew=0.7)
        if False in carries:
            over = PAPER if True in carries else INK
            axes.plot(x, y, "x", markersize=side * 0.6, color=over, mew=0.9)
    for a, b in sorted(feeds):
        if a != b:
            row, column = min(a, b), max(a, b)
            x, y = left + (column + 0.5) * cell, top + (row + 0.5) * cell
            axes.plot(x, y, ">" if a < b else "<", markersize=side, color=HINT, mew=0)


def _grid_notes(document: Document, left_out: int) -> list[str]:
    lines = [
        "below the diagonal, links between sites: full square, frames keep their tags; empty with ×, tags are "
        "lost; full with ×, some of each",
        "above it, feeds between nodes: > from the site of the row, < to it; fed: nodes with a feed from the "
        "registry",
        "! nodes where traffic goes wrong: flows that leak (denied, but let through) or break (allowed, but "
        "dropped)",
    ]
    if left_out:
        lines.append(f"{left_out} more sites are left out, those where least goes wrong")
    if document["without_point"]:
        lines.append(f"on paths without any point: {document['without_point']:,} flows leak")
    return lines


def _sites(document: Document, folded: bool) -> dict[str, list[tuple[str, str, str]]]:
    """Site → rows of (node, what it does, what goes wrong there)."""
    wrong = document["wrong"]
    sites: dict[str, list[tuple[str, str, str]]] = defaultdict(list)
    for node in document["nodes"]:
        sites[node["site"]].append(
            (node["node"], ", ".join(node["does"]), wrong.get(node["node"], ""))
        )
    if not folded:
        return dict(sites)
    result: dict[str, list[tuple[str, str, str]]] = {}
    for site, rows in sites.items():
        does = Counter(word for _, words, _ in rows for word in words.split(", ") if word)
        held = ", ".join(f"{n} {word}" for word, n in sorted(does.items()))
        bad = sum(bool(w) for _, _, w in rows)
        result[site] = [
            (site, f"{len(rows)} nodes: {held}", f"{bad} nodes where it goes wrong" if bad else "")
        ]
    return result


def _columns(document: Document, sites: dict[str, list[tuple[str, str, str]]]) -> list[list[str]]:
    """Sites by how far they are from the one with the most points, which is on the right."""
    of = {n["node"]: n["site"] for n in document["nodes"]}
    points = Counter(n["site"] for n in document["nodes"] if "point" in n["does"])
    joined: dict[str, set[str]] = {site: set() for site in sites}
    for link in document["links"]:
        a, b = of[link["a"]], of[link["b"]]
        if a != b:
            joined[a].add(b)
            joined[b].add(a)
    start = max(sites, key=lambda s: (points[s], len(joined[s]), s))
    far = {start: 0}
    waiting = [start]
    while waiting:
        here = waiting.pop(0)
        for other in sorted(joined[here] - set(far)):
            far[other] = far[here] + 1
            waiting.append(other)
    last = max(far.values())
    columns: list[list[str]] = [[] for _ in range(last + 1)]
    for site in sites:
        columns[last - far.get(site, last)].append(site)
    return columns


def _site(
    axes: Axes,
    site: str,
    rows: list[tuple[str, str, str]],
    left: float,
    y: float,
    places: dict[str, Place],
) -> float:
    from matplotlib.patches import FancyBboxPatch

    height = len(rows) * ROW + 0.18
    axes.add_patch(
        FancyBboxPatch(
            (left, y), WIDE, height, boxstyle="round,pad=0.04", facecolor=PAPER, edgecolor=INK, lw=1
        )
    )
    axes.text(left + 0.05, y - 0.1, site or "no site", fontsize=8.5, fontweight="bold", va="bottom")
    for number, (node, does, wrong) in enumerate(rows):
        middle = y + 0.24 + number * ROW
        places[node] = Place(left + WIDE / 2, middle, left - 0.04, left + WIDE + 0.04)
        axes.text(left + 0.2, middle, node, fontsize=7.5, va="center")
        axes.text(
            left + WIDE - 0.06, middle, does, fontsize=6, va="center", ha="right", color="#555555"
        )
        if wrong:
            axes.text(left + WIDE - 0.06, middle + 0.13, f"! {wrong}", fontsize=6.5, va="center", ha="right",
                      color="#a01010", fontweight="bold")  # fmt: skip
    return y + height + 0.45


def _ends(a: Place, b: Place) -> tuple[tuple[float, float], tuple[float, float]]:
    """Where a line between two places begins and ends: at the sides that face each other."""
    if a.left == b.left:
        return (a.right, a.y), (b.right, b.y)
    if a.x < b.x:
        return (a.right, a.y), (b.left, b.y)
    return (a.left, a.y), (b.right, b.y)


def _links(axes: Axes, document: Document, places: dict[str, Place], folded: bool) -> None:
    from matplotlib.patches import FancyArrowPatch

    drawn: set[tuple[str, str, bool]] = set()
    for link in document["links"]:
        a, b = (_shown(document, link[end], folded) for end in ("a", "b"))
        key = min(a, b), max(a, b), link["carries"]
        if a == b or key in drawn:
            continue
        drawn.add(key)
        start, end = _ends(places[a], places[b])
        bend = 0.35 if start[0] == end[0] else 0.0
        axes.add_patch(
            FancyArrowPatch(start, end, connectionstyle=f"arc3,rad={-bend}", arrowstyle="-", color=INK,
                            lw=2.2 if link["carries"] else 1.1, linestyle="-" if link["carries"] else (0, (5, 3)))
        )  # fmt: skip
        if not link["carries"]:
            axes.text((start[0] + end[0]) / 2, (start[1] + end[1]) / 2, "×", fontsize=9, ha="center",
                      va="center", color=INK, bbox={"facecolor": PAPER, "edgecolor": "none", "pad": 0.4})  # fmt: skip


def _feeds(axes: Axes, document: Document, places: dict[str, Place], folded: bool) -> None:
    from matplotlib.patches import FancyArrowPatch

    drawn: set[tuple[str, str]] = set()
    for number, feed in enumerate(document["feeds"]):
        if feed["from"] == "registry":
            continue
        a, b = (_shown(document, feed[end], folded) for end in ("from", "to"))
        if a == b or (a, b) in drawn:
            continue
        drawn.add((a, b))
        start, end = _ends(places[a], places[b])
        bend = 0.28 + 0.03 * (number % 4)
        axes.add_patch(
            FancyArrowPatch(start, end, connectionstyle=f"arc3,rad={bend}", arrowstyle="-|>", mutation_scale=8,
                            color=HINT, lw=0.9, linestyle=":" if feed["up"] else (0, (1, 5)))
        )  # fmt: skip
    fed = {_shown(document, f["to"], folded) for f in document["feeds"] if f["from"] == "registry"}
    for node in sorted(fed):
        place = places[node]
        axes.text(place.left + 0.15, place.y, "R", fontsize=6.5, ha="right", va="center", color=HINT,
                  bbox={"facecolor": TINT, "edgecolor": "none", "pad": 0.8})  # fmt: skip


def _shown(document: Document, node: str, folded: bool) -> str:
    if not folded:
        return node
    return str(next(n["site"] for n in document["nodes"] if n["node"] == node))


def _notes(document: Document, folded: bool) -> list[str]:
    lines = [
        "thick line: frames keep their tags; dashed line with ×: tags are lost; dotted arrow: a feed; "
        "R: fed by the registry",
        "! what goes wrong there: flows that leak (denied, but let through) or break (allowed, but dropped)",
    ]
    if folded:
        lines.append(f"{len(document['nodes'])} nodes: each site is one box")
    if document["without_point"]:
        lines.append(f"on paths without any point: {document['without_point']:,} flows leak")
    return lines
