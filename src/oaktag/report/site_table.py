"""A figure of very many sites: a table of sites by sites, links below its diagonal, feeds above it."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from oaktag.report.figures import HINT, INK, PAPER, TINT, WRONG, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes

Document = dict[str, Any]
#: So many sites are rows and columns at most.
MOST_ROWS = 80
LABELS = 3.5


def draw_table(document: Document, sites: Iterable[str], path: Path) -> None:
    """Draw sites by sites, those first where most goes wrong."""
    sites = list(sites)
    of = {n["node"]: n["site"] for n in document["nodes"]}
    held = Counter(of.values())
    points = Counter(of[n["node"]] for n in document["nodes"] if "point" in n["does"])
    wrong = Counter(n["site"] for n in document["nodes"] if n["wrong"])
    fed = Counter(of[f["to"]] for f in document["feeds"] if f["from"] not in of)
    names = sorted(sites, key=lambda s: (-wrong[s], -points[s], sites.index(s)))[:MOST_ROWS]
    place = {name: n for n, name in enumerate(names)}
    cell = min(0.3, 8.4 / len(names))
    size = len(names) * cell
    notes = _notes(document, len(sites) - len(names))
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
                      color=WRONG, fontweight="bold")  # fmt: skip
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
        if of.get(f["from"]) in place and of[f["to"]] in place
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


def _notes(document: Document, left_out: int) -> list[str]:
    lines = [
        "below the diagonal, links between sites: full square, frames keep their tags; empty with ×, tags are "
        "lost; full with ×, some of each",
        "above it, feeds between nodes: > from the site of the row, < to it; fed: nodes with a feed from a "
        "registry",
        "! nodes where traffic goes wrong: flows that leak (denied, but let through) or break (allowed, but "
        "dropped)",
    ]
    if left_out:
        lines.append(f"{left_out} more sites are left out, those where least goes wrong")
    if document["without_point"]:
        lines.append(f"on paths without any point: {document['without_point']:,} flows leak")
    return lines
