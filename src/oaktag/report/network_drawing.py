"""The network as boxes and lines for a page: nodes by site, links that keep or lose tags, and where
traffic goes wrong. Sizes are in pixels.
"""

from __future__ import annotations

from collections import Counter
from textwrap import wrap
from typing import Any

from oaktag.report.network_figure import DOES, MOST_BOXES, MOST_NODES, wrong_at
from oaktag.report.site_columns import columns_of
from oaktag.report.words import count, few

Document = dict[str, Any]
WIDE, ACROSS, BELOW, SITE, EDGE = 250, 110, 12, 40, 12
NAME, LINE, PAD, FITS = 24, 16, 10, 36


def drawing(picture: Document) -> Document | None:
    """Boxes, links and sites with their places; None where there are too many to draw."""
    sites: dict[str, list[Document]] = {}
    for node in picture["nodes"]:
        sites.setdefault(node["site"], []).append(node)
    folded = len(picture["nodes"]) > MOST_NODES
    if folded and len(sites) > MOST_BOXES:
        return None
    boxes: dict[str, Document] = {}
    heads: list[Document] = []
    columns = columns_of(picture, sites)
    tallest = 0
    for number, column in enumerate(columns):
        top, left = EDGE, EDGE + number * (WIDE + ACROSS)
        for site in column:
            heads.append({"text": f"site {site}" if site else "no site", "x": left, "y": top + 26})
            top += SITE
            for held in [sites[site]] if folded else [[node] for node in sites[site]]:
                box = _box(site, held, folded=folded)
                boxes[box["name"]] = box | {"x": left, "y": top, "width": WIDE}
                top += box["height"] + BELOW
        tallest = max(tallest, top)
    of = {n["node"]: (n["site"] or "no site") if folded else n["node"] for n in picture["nodes"]}
    return {
        "folded": folded, "boxes": list(boxes.values()), "sites": heads,
        "links": _links(picture, boxes, of),
        "width": 2 * EDGE + len(columns) * (WIDE + ACROSS) - ACROSS, "height": tallest + EDGE,
    }  # fmt: skip


def _box(site: str, nodes: list[Document], *, folded: bool) -> Document:
    if folded:
        does = Counter(word for node in nodes for word in node["does"])
        said = f"{count(len(nodes), 'node')}: "
        said += ", ".join(f"{does[w]} {t}" for w, t in DOES.items() if does[w])
        at = [n["node"] for n in nodes if n["wrong"]]
        wrong = [f"goes wrong at {few(at)}"] if at else []
        name = site or "no site"
    else:
        (node,) = nodes
        said = " · ".join(DOES[word] for word in node["does"]) or "knows nothing of tags"
        if node["fed"]:
            said += f"; bindings from {few(node['fed'], 6)}"
        wrong = [wrong_at(node["node"], found) for found in node["wrong"]]
        name = node["node"]
    if any(n["open"] for n in nodes):
        wrong.append("leaks: no point on some paths from here")
    told = wrap(said, FITS, break_on_hyphens=False)
    bad = [line for text in wrong for line in wrap(f"! {text}", FITS, break_on_hyphens=False)]
    return {
        "name": name, "told": told, "wrong": bad, "point": any("point" in n["does"] for n in nodes),
        "height": NAME + LINE * (len(told) + len(bad)) + PAD,
    }  # fmt: skip


def _links(picture: Document, boxes: dict[str, Document], of: dict[str, str]) -> list[Document]:
    between: dict[tuple[str, str], list[Document]] = {}
    for link in picture["links"]:
        a, b = sorted((of[link["a"]], of[link["b"]]))
        if a != b:
            between.setdefault((a, b), []).append(link)
    found = []
    for (a, b), links in between.items():
        one, other = sorted((boxes[a], boxes[b]), key=lambda box: (box["x"], box["y"]))
        start = one["y"] + one["height"] / 2
        end = other["y"] + other["height"] / 2
        x, far = one["x"] + WIDE, other["x"] + (WIDE if one["x"] == other["x"] else 0)
        bend = ACROSS / 2 if one["x"] == other["x"] else (far - x) / 2
        turn = far + bend if one["x"] == other["x"] else far - bend
        carry = {link["carries"] for link in links}
        found.append(
            {
                "a": a, "b": b, "keeps": carry == {True}, "some": len(carry) > 1,
                "path": f"M{x:g},{start:g} C{x + bend:g},{start:g} {turn:g},{end:g} {far:g},{end:g}",
                "x": (x + far) / 2 + (bend * 0.75 if one["x"] == other["x"] else 0),
                "y": (start + end) / 2,
            }
        )  # fmt: skip
    return found
