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
from oaktag.report.network_layout import Link, Rectangle, Route, Site, Sizes, laid_out
from oaktag.report.site_columns import columns_of
from oaktag.report.site_table import draw_table
from oaktag.report.words import WORDS, count, few

if TYPE_CHECKING:
    from matplotlib.axes import Axes

Document = dict[str, Any]
#: Above so many nodes each site is one box; above so many sites they are rows and columns of a table.
MOST_NODES, MOST_BOXES = 60, 16
#: Inches: sizes of the drawing; of the text in a box.
SIZES = Sizes(
    wide=3.2, port=0.19, lane=0.1, below=0.16, site=0.46, line=0.17, label=1.05, edge=0.35
)
NAME, LINE, PAD = 0.2, 0.155, 0.14
#: So many characters of small text fit into a box, and of a name, there and above a site.
FITS, NAMES = 48, 32
#: The width of a character of the head, in inches.
HEAD = 0.115
DOES = {
    "point": "enforces", "marks": "marks frames", "carries": "carries tags", "learns": "learns sessions",
}  # fmt: skip
#: What is written beside links that carry tags, that lose them, or some of which do.
ALL_LOST = "tags lost"
LOST = {
    frozenset({True}): "", frozenset({False}): ALL_LOST,
    frozenset({True, False}): "tags lost on some",
}  # fmt: skip
EFFECTS = {"break": "break", "leak": "leak", "one-way": "get no answer"}


class Box(NamedTuple):
    """A node, or a site folded into one box: its name, what is written in it, what is wrong there."""

    name: str
    told: list[str]
    wrong: list[str]

    @property
    def names(self) -> list[str]:
        """The lines of the name."""
        return wrap(self.name, NAMES)

    @property
    def height(self) -> float:
        """Inches."""
        return NAME * len(self.names) + LINE * (len(self.told) + len(self.wrong)) + PAD


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
    columns = [
        [
            Site(wrap(f"site {s}" if s else "no site", NAMES), {b.name: b.height for b in boxes[s]})
            for s in column
        ]
        for column in columns_of(document, sites)
    ]
    laid = laid_out(columns, links_of(document, shown), SIZES, top=0.25)
    width = max(laid.width, 10.0)
    head = wrap(_head(document), int((width - 2 * SIZES.edge) / HEAD))
    notes = [
        line for note in _notes(document, folded) for line in wrap(note, int((width - 0.7) / 0.075))
    ]
    more = 0.22 * (len(head) - 1)
    height = more + laid.height + 0.2 * len(notes) + SIZES.edge
    figure = new_figure(width, height, path)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, width)
    axes.set_ylim(height - more, -more)
    axes.axis("off")
    axes.text(SIZES.edge, 0.15 - more, "\n".join(head), fontsize=12, fontweight="bold", va="top")
    for lines, (x, y) in laid.sites:
        for n, text in enumerate(lines):
            axes.text(x, y + n * SIZES.line, text, fontsize=9, va="center")
    for box in (box for held in boxes.values() for box in held):
        _draw(axes, box, laid.boxes[box.name])
    for route in laid.routes:
        _draw_link(axes, route)
    axes.text(
        SIZES.edge, height - more - SIZES.edge, "\n".join(notes), fontsize=8.5, va="bottom",
        linespacing=1.5,
    )  # fmt: skip
    save(figure, path)
    return None


def _box(node: Document) -> Box:
    does = " · ".join(DOES[word] for word in node["does"]) or "knows nothing of tags"
    told = wrap(does, FITS)
    if node["segments"]:
        told += _wrapped("segments: " + few(node["segments"], 6))
    if node["fed"]:
        told += _wrapped("bindings from " + few(node["fed"], 8))
    wrong = [
        line for found in node["wrong"] for line in _wrapped("! " + wrong_at(node["node"], found))
    ]
    if node["open"]:
        wrong += _wrapped("! leaks: no point on some paths from here")
    if node["lacks"]:
        wrong += _wrapped(f"  a feed from {few(node['lacks'], 4)} would mend it")
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
    return wrap(text, FITS, subsequent_indent="    ", drop_whitespace=True, break_on_hyphens=False)


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


def _draw(axes: Axes, box: Box, place: Rectangle) -> None:
    from matplotlib.patches import FancyBboxPatch

    axes.add_patch(
        FancyBboxPatch(
            (place.x, place.y), place.width, place.height, boxstyle="round,pad=0,rounding_size=0.06",
            facecolor=PAPER, edgecolor=WRONG if box.wrong else INK, lw=1.6 if box.wrong else 1, zorder=3,
        )
    )  # fmt: skip
    x, y = place.x + 0.1, place.y - 0.05
    for name in box.names:
        y += NAME
        axes.text(x, y, name, fontsize=10, fontweight="bold", va="center", zorder=4)
    y += 0.04
    for text, colour in [*((t, "#333333") for t in box.told), *((w, WRONG) for w in box.wrong)]:
        y += LINE
        axes.text(x, y, text, fontsize=8, va="center", color=colour, zorder=4)


def links_of(document: Document, shown: dict[str, str]) -> list[Link]:
    """The links between boxes, with what is written beside them."""
    between: dict[tuple[str, str], set[bool]] = {}
    for link in document["links"]:
        a, b = sorted((shown[link["a"]], shown[link["b"]]))
        if a != b:
            between.setdefault((a, b), set()).add(link["carries"])
    return [Link(a, b, LOST[frozenset(carries)]) for (a, b), carries in between.items()]


def _draw_link(axes: Axes, route: Route) -> None:
    label = route.link.label
    xs, ys = zip(*route.corners, strict=True)
    axes.plot(
        xs, ys, color=INK, zorder=1, lw=1.1 if label == ALL_LOST else 2.6,
        linestyle=(0, (5, 3)) if label == ALL_LOST else "-", solid_joinstyle="round",
    )  # fmt: skip
    if label:
        axes.text(*route.label_at, label, fontsize=7.5, ha="center", va="center", color=INK, zorder=2,
                  bbox={"facecolor": PAPER, "edgecolor": "none", "pad": 0.6})  # fmt: skip


def _notes(document: Document, folded: bool) -> list[str]:
    lines = ["thick line: frames keep their tags; dashed line: frames lose them"]
    if not folded:
        lines.append("bindings from: the feeds that tell a node which address has which tag")
    lines.append("leak: denied by the matrix, but let through; break: allowed by it, but dropped")
    if any(n["wrong"] or n["open"] for n in document["nodes"]):
        lines.append("! and a red edge: it goes wrong there")
    if folded:
        lines.append(f"{len(document['nodes'])} nodes: each site is one box")
    return lines
