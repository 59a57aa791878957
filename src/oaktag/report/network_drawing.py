"""The network as boxes and lines for a page: nodes by site, links that keep or lose tags, and where
traffic goes wrong. Sizes are in pixels.
"""

from __future__ import annotations

from collections import Counter
from textwrap import wrap
from typing import Any

from oaktag.report.network_figure import DOES, MOST_BOXES, MOST_NODES, links_of, wrong_at
from oaktag.report.network_layout import Layout, Site, Sizes, laid_out
from oaktag.report.site_columns import columns_of
from oaktag.report.words import count, few

Document = dict[str, Any]
#: Pixels.
SIZES = Sizes(wide=260, port=17, lane=9, below=12, site=40, line=17, label=128, edge=12)
NAME, LINE, PAD, FITS, NAMES = 20, 16, 18, 37, 28


def drawing(picture: Document) -> Document | None:
    """Boxes, links and sites with their places; None where there are too many to draw."""
    sites: dict[str, list[Document]] = {}
    for node in picture["nodes"]:
        sites.setdefault(node["site"], []).append(node)
    folded = len(picture["nodes"]) > MOST_NODES
    if folded and len(sites) > MOST_BOXES:
        return None
    held = {
        site: [_box(site, some, folded=folded) for some in ([nodes] if folded else [[n] for n in nodes])]
        for site, nodes in sites.items()
    }  # fmt: skip
    columns = [
        [
            Site(
                wrap(f"site {s}" if s else "no site", NAMES),
                {b["name"]: b["height"] for b in held[s]},
            )
            for s in column
        ]
        for column in columns_of(picture, sites)
    ]
    of = {n["node"]: (n["site"] or "no site") if folded else n["node"] for n in picture["nodes"]}
    laid = laid_out(columns, links_of(picture, of), SIZES)
    return {
        "folded": folded,
        "boxes": [b | laid.boxes[b["name"]]._asdict() for some in held.values() for b in some],
        "sites": [
            {"text": text, "x": x, "y": y + n * SIZES.line}
            for lines, (x, y) in laid.sites for n, text in enumerate(lines)
        ],
        "links": _routes(laid), "width": laid.width, "height": laid.height,
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
        if node["segments"]:
            said += f"; segments {few(node['segments'], 6)}"
        if node["fed"]:
            said += f"; bindings from {few(node['fed'], 6)}"
        wrong = [wrong_at(node["node"], found) for found in node["wrong"]]
        name = node["node"]
    if any(n["open"] for n in nodes):
        wrong.append("leaks: no point on some paths from here")
    if len(nodes) == 1 and nodes[0]["lacks"]:
        wrong.append(f"a feed from {few(nodes[0]['lacks'], 4)} would mend it")
    told = wrap(said, FITS, break_on_hyphens=False)
    names = wrap(name, NAMES)
    bad = [line for text in wrong for line in wrap(f"! {text}", FITS, break_on_hyphens=False)]
    return {
        "name": name, "names": names, "told": told, "wrong": bad, "point": any("point" in n["does"] for n in nodes),
        "height": NAME * len(names) + LINE * (len(told) + len(bad)) + PAD,
    }  # fmt: skip


def _routes(laid: Layout) -> list[Document]:
    """Links as paths, with the place of what is written beside them."""
    return [
        {
            "a": route.link.a, "b": route.link.b, "label": route.link.label,
            "keeps": not route.link.label,
            "path": "M" + " L".join(f"{x:g},{y:g}" for x, y in route.corners),
            "x": route.label_at[0], "y": route.label_at[1],
        }
        for route in laid.routes
    ]  # fmt: skip
