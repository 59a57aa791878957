"""A figure of the network by site: what each node does and whose bindings it gets, links that carry
tags and that lose them, and where traffic leaks or breaks. Told by form and words; colour is never
the only sign.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from pathlib import Path
from textwrap import wrap
from typing import TYPE_CHECKING, Any, NamedTuple

from oaktag.report.figures import INK, PAPER, WRONG, new_figure, save
from oaktag.report.site_columns import columns_of
from oaktag.report.site_table import draw_table
from oaktag.report.words import WORDS, count, few

if TYPE_CHECKING:
    from matplotlib.axes import Axes

Document = dict[str, Any]
#: Above so many nodes each site is one box; above so many sites they are rows and columns of a table.
MOST_NODES, MOST_BOXES = 60, 16
#: Inches: the width of a box, what lies between columns, sites and boxes, and the edge around all.
WIDE, BETWEEN, SITES, BOXES, EDGE = 3.2, 1.35, 0.62, 0.16, 0.35
NAME, LINE, PAD = 0.24, 0.155, 0.1
#: So many characters of small text fit into a box.
FITS = 50
DOES = {
    "point": "enforces", "marks": "marks frames", "carries": "carries tags", "learns": "learns sessions",
}  # fmt: skip
EFFECTS = {"break": "break", "leak": "leak", "one-way": "get no answer"}


class Box(NamedTuple):
    """A node, or a site folded into one box: what is written in it, and what is wrong there."""

    name: str
    told: list[str]
    wrong: list[str]

    @property
    def height(self) -> float:
        """Inches."""
        return NAME + LINE * (len(self.told) + len(self.wrong)) + PAD


class Place(NamedTuple):
    """Where a box stands: its left side, its top, its height."""

    left: float
    top: float
    height: float

    @property
    def middle(self) -> float:
        """Where lines begin and end."""
        return self.top + self.height / 2


def draw_network(document: Document, path: Path) -> None:
    """Draw the document of ``operations.picture`` as PNG or SVG; the same bytes each time.

    Raises:
        UsageError: the file's name ends in neither .png nor .svg.
    """
    folded = len(document["nodes"]) > MOST_NODES
    sites: dict[str, list[Document]] = {}
    for node in document["nodes"]:
        sites.setdefault(node["site"], []).append(node)
    if folded and len(sites) > MOST_BOXES:
        return draw_table(document, sites, path)
    shown = {
        n["node"]: (n["site"] or "no site") if folded else n["node"] for n in document["nodes"]
    }
    boxes = {
        s: [_folded(s, rows)] if folded else [_box(n) for n in rows] for s, rows in sites.items()
    }
    columns = columns_of(document, sites)
    tall = {s: sum(b.height for b in held) + BOXES * (len(held) - 1) for s, held in boxes.items()}
    heights = [sum(tall[s] + SITES for s in column) for column in columns]
    head, notes = _head(document), _notes(document, folded)
    width = max(2 * EDGE + len(columns) * (WIDE + BETWEEN) - BETWEEN, 10.0)
    height = 0.75 + max(heights) + 0.25 + 0.2 * len(notes) + EDGE
    figure = new_figure(width, height, path)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, width)
    axes.set_ylim(height, 0)
    axes.axis("off")
    axes.text(EDGE, 0.3, head, fontsize=12, fontweight="bold", va="center")
    places: dict[str, Place] = {}
    for number, column in enumerate(columns):
        left, top = EDGE + number * (WIDE + BETWEEN), 0.75 + (max(heights) - heights[number]) / 2
        for site in column:
            axes.text(
                left,
                top + SITES - 0.3,
                f"site {site}" if site else "no site",
                fontsize=9,
                va="center",
            )
            top += SITES - 0.17
            for box in boxes[site]:
                places[box.name] = Place(left, top, box.height)
                _draw(axes, box, places[box.name])
                top += box.height + BOXES
            top += 0.17 - BOXES
    _links(axes, document, places, shown)
    _missing(axes, document, places, shown)
    axes.text(EDGE, height - EDGE, "\n".join(notes), fontsize=8.5, va="bottom", linespacing=1.5)
    save(figure, path)
    return None


def _box(node: Document) -> Box:
    does = " · ".join(DOES[word] for word in node["does"]) or "knows nothing of tags"
    told = wrap(does, FITS)
    if node["fed"]:
        told += _wrapped("bindings from " + few(node["fed"], 8))
    wrong = [
        line for found in node["wrong"] for line in _wrapped("! " + wrong_at(node["node"], found))
    ]
    if node["open"]:
        wrong += _wrapped("! leaks: no point on some paths from here")
    return Box(node["node"], told, wrong)


def _folded(site: str, nodes: list[Document]) -> Box:
    does = Counter(word for node in nodes for word in node["does"])
    told = f"{count(len(nodes), 'node')}: " + ", ".join(
        f"{does[w]} {t}" for w, t in DOES.items() if does[w]
    )
    wrong = []
    at = [n["node"] for n in nodes if n["wrong"]]
    if at:
        wrong += _wrapped(f"! goes wrong at {few(at)}")
    if any(n["open"] for n in nodes):
        wrong += _wrapped("! leaks: no point on some paths from here")
    return Box(site or "no site", _wrapped(told), wrong)


def wrong_at(node: str, found: Document) -> str:
    """What goes wrong at a node, in words."""
    if found["why"] == "unknown":
        why = f"does not know who is in {few(found['segments'])}"
    else:
        why = WORDS[found["why"]].format(node=node)
    return f"{why}: {_flows(found['flows'])}"


def _flows(by: Mapping[str, int]) -> str:
    """``83 flows break, 2 leak``."""
    parts = [f"{by[effect]:,} {{}}{words}" for effect, words in EFFECTS.items() if by.get(effect)]
    return ", ".join(p.format("" if n else "flows ") for n, p in enumerate(parts))


def _wrapped(text: str) -> list[str]:
    return wrap(
        text, FITS, subsequent_indent="    ", break_long_words=False, break_on_hyphens=False
    )


def _head(document: Document) -> str:
    total: Counter[str] = Counter()
    for node in document["nodes"]:
        for found in node["wrong"]:
            total.update(found["flows"])
    if document["without_point"]:
        total["leak"] += document["without_point"]
    if not total:
        return "Nothing leaks and nothing breaks"
    where = document["without_point"]
    return _flows(total) + (f": {where:,} of them where no point is on the path" if where else "")


def _draw(axes: Axes, box: Box, place: Place) -> None:
    from matplotlib.patches import FancyBboxPatch

    axes.add_patch(
        FancyBboxPatch(
            (place.left, place.top), WIDE, place.height, boxstyle="round,pad=0,rounding_size=0.06",
            facecolor=PAPER, edgecolor=WRONG if box.wrong else INK, lw=1.6 if box.wrong else 1, zorder=3,
        )
    )  # fmt: skip
    x, y = place.left + 0.1, place.top + 0.15
    axes.text(x, y, box.name, fontsize=10, fontweight="bold", va="center", zorder=4)
    y += 0.04
    for text, colour in [*((t, "#333333") for t in box.told), *((w, WRONG) for w in box.wrong)]:
        y += LINE
        axes.text(x, y, text, fontsize=8, va="center", color=colour, zorder=4)


def _ends(a: Place, b: Place) -> tuple[tuple[float, float], tuple[float, float]]:
    """Where a line between two boxes begins and ends: at the sides that face each other."""
    if a.left == b.left:
        upper, lower = sorted((a, b), key=lambda p: p.top)
        if lower.top - upper.top - upper.height <= BOXES + 0.01:
            x = a.left + WIDE / 2
            return (x, upper.top + upper.height), (x, lower.top)
        return (a.left + WIDE, a.middle), (b.left + WIDE, b.middle)
    if a.left < b.left:
        return (a.left + WIDE, a.middle), (b.left, b.middle)
    return (a.left, a.middle), (b.left + WIDE, b.middle)


def _links(axes: Axes, document: Document, places: dict[str, Place], shown: dict[str, str]) -> None:
    from matplotlib.patches import FancyArrowPatch

    between: dict[tuple[str, str], set[bool]] = {}
    for link in document["links"]:
        a, b = sorted((shown[link["a"]], shown[link["b"]]))
        if a != b:
            between.setdefault((a, b), set()).add(link["carries"])
    for (a, b), carries in between.items():
        start, end = _ends(places[a], places[b])
        bend = 0.5 if start[0] == end[0] and start[0] == places[a].left + WIDE else 0.0
        axes.add_patch(
            FancyArrowPatch(start, end, connectionstyle=f"arc3,rad={-bend}", arrowstyle="-", color=INK, shrinkA=0,
                            shrinkB=0, lw=3 if True in carries else 1.1, zorder=1,
                            linestyle="-" if True in carries else (0, (5, 3)))
        )  # fmt: skip
        if False in carries:
            x, y = (start[0] + end[0]) / 2 + bend * 0.5, (start[1] + end[1]) / 2
            axes.text(x, y, "tags lost on some" if True in carries else "tags lost", fontsize=7.5, ha="center",
                      va="center", color=INK, zorder=2, bbox={"facecolor": PAPER, "edgecolor": "none", "pad": 0.6})  # fmt: skip


def _missing(
    axes: Axes, document: Document, places: dict[str, Place], shown: dict[str, str]
) -> None:
    """Feeds that would mend what is unknown: arrows into where the hosts are not known."""
    senders: dict[str, list[str]] = {}
    for feed in document["missing"]:
        a, b = shown[feed["from"]], shown[feed["to"]]
        if a != b:
            senders[b] = [*senders.get(b, []), a]
    for receiver, names in senders.items():
        place = places[receiver]
        x, y = place.left + WIDE - 0.2, place.top - 0.36
        axes.annotate(
            "",
            (x, place.top),
            (x, y),
            zorder=5,
            arrowprops={
                "arrowstyle": "-|>",
                "color": WRONG,
                "lw": 1.4,
                "ls": ":",
                "shrinkA": 0,
                "shrinkB": 0,
            },
        )
        axes.text(
            x - 0.1, y + 0.06, f"no feed from {few(sorted(set(names)), 2)}", fontsize=8, color=WRONG,
            va="center", ha="right", zorder=5,
        )  # fmt: skip


def _notes(document: Document, folded: bool) -> list[str]:
    lines = ["thick line: frames keep their tags; dashed line: frames lose them"]
    if not folded:
        lines.append("bindings from: the feeds that tell a node which address has which tag")
    lines.append("leak: denied by the matrix, but let through; break: allowed by it, but dropped")
    if document["missing"]:
        lines.append(
            "! and a red edge: it goes wrong there; dotted arrow: a feed that would mend it"
        )
    elif any(n["wrong"] or n["open"] for n in document["nodes"]):
        lines.append("! and a red edge: it goes wrong there")
    if folded:
        lines.append(f"{len(document['nodes'])} nodes: each site is one box")
    return lines
