"""The page of a report: one HTML file that loads nothing and runs nothing but its own script.

Names and notes of a workspace may hold anything: all text is escaped, and the page's own policy
(CSP level 3, W3C) lets only this script and this style act, each by its hash.
"""

from __future__ import annotations

import json
import re
import zlib
from base64 import b64encode
from collections.abc import Mapping, Sequence
from hashlib import sha256
from importlib.resources import files
from itertools import accumulate
from pathlib import Path
from typing import TYPE_CHECKING, Any

from oaktag.letters import shown
from oaktag.report.network_drawing import drawing
from oaktag.report.pages import people
from oaktag.report.pages.change import folded
from oaktag.report.words import count, why
from oaktag.workspace.textfile import write_text

if TYPE_CHECKING:
    import numpy as np
    from markupsafe import Markup
    from numpy.typing import NDArray

Document = dict[str, Any]
#: So many rows of a table are on the page, and so many lines of the matrix.
MOST_ROWS, MOST_LINES = 500, 1_000
#: What may be a name in a sentence.
WORD = re.compile(r"\w[\w.@-]*\w|\w")
PARTS = {
    "summary": "summary", "matrix": "matrix", "network": "network", "groups": "groups",
    "points": "points", "rules": "lines", "findings": "findings", "expectations": "expectations",
    "changes": "changes",
}  # fmt: skip
#: Where each figure is told in full.
PLACES = {
    "endpoints in a group": "groups", "expectations that hold": "expectations",
    "lists proved": "points", "findings": "findings",
}  # fmt: skip


def write_page(document: Document, matrix: Document, cells: NDArray[np.uint16], out: Path) -> None:
    """Write the page, whole or not at all: the same bytes for the same document."""
    write_text(out, page(document, matrix, cells))


def page(document: Document, matrix: Document, cells: NDArray[np.uint16]) -> str:
    """The page as HTML."""
    from jinja2 import Environment, StrictUndefined
    from markupsafe import Markup

    document, matrix = _plain(document), _plain(matrix)
    folder = files("oaktag.report") / "whole"
    script, style = ((folder / name).read_text("utf-8") for name in ("page.js", "page.css"))
    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True)
    anchors = _anchors(document)
    names = [g["group"] for g in document["groups"]]
    made = drawing(document["picture"]) if document["picture"] else None
    if made is not None and made["folded"]:  # a node is in the box of its site
        boxes = {box["name"]: f"n{n}" for n, box in enumerate(made["boxes"])}
        at = {n["node"]: boxes[n["site"] or "no site"] for n in document["picture"]["nodes"]}
        links = _links({**anchors, "box": at}, drawn=True)
        anchors["box"] = boxes
    else:
        links = _links(anchors, drawn=made is not None)
    # A permission is often called by a plain word, which in a sentence says something else.
    prose = {n: place for n, place in links.items() if place[0] != "r" or not n.isalpha()}
    filters: dict[str, Any] = {
        "linked": lambda text: _linked(str(text), prose),
        "named": lambda text: _linked(str(text), links),
        "few_groups": lambda held: _groups(held, names),
        "why": lambda cause: why(cause["reasons"], cause["watching"]),
        "changed": _changed,
        "folded": folded,
        "who_changes": people.headline,
        "ends": lambda held: people.ends(*held),
        "cause_words": people.cause,
        "counted": count,
        "held": lambda value: "not asked" if value is None else "holds" if value else "fails",
    }
    environment.filters |= filters
    lines = _lines(matrix)
    packed = {
        "groups": document["groups"], "sets": document["sets"], "segments": document["segments"],
        "paths": document["paths"], "lists": [p["text"] for p in document["lists"]["points"]],
        **matrix,
    }  # fmt: skip
    there = {
        "network": document["picture"], "changes": document["since"],
        "points": document["lists"]["points"] or document["lists"]["error"],
    }  # fmt: skip
    text: str = environment.from_string((folder / "page.html").read_text("utf-8")).render(
        d=document, parts=[p for p in PARTS.items() if there.get(p[0], True)],
        places={f["figure"]: _place(f["figure"], there) for f in document["figures"]},
        forms=matrix["forms"], anchors=anchors, drawing=made, sites={n["site"] for n in (document["picture"] or {"nodes": []})["nodes"]},
        most=MOST_ROWS, lines=lines if len(lines) <= MOST_LINES else [], line_count=len(lines),
        style=Markup(style), style_hash=_hash(style), script=Markup(script), script_hash=_hash(script),
        kept=Markup(json.dumps(document["kept"]).replace("<", "\\u003c")),
        data=_packed(json.dumps(packed, ensure_ascii=False, separators=(",", ":")).encode()),
        cells=_packed(cells.astype("<u2").tobytes()),
    )  # fmt: skip
    return text


def _plain(held: Any) -> Any:
    """Everything that is written, with characters that act on a reader's screen as escapes; texts
    of lists as they are."""
    if isinstance(held, str):
        return shown(held)
    if isinstance(held, Mapping):
        return {name: value if name == "text" else _plain(value) for name, value in held.items()}
    if isinstance(held, list | tuple):
        return [_plain(value) for value in held]
    return held


def _hash(text: str) -> str:
    return b64encode(sha256(text.encode()).digest()).decode()


def _packed(data: bytes) -> str:
    """Bytes as text, packed (RFC 1950, RFC 4648)."""
    return b64encode(zlib.compress(data, 9)).decode()


def _place(figure: str, there: Mapping[str, Any]) -> str:
    place = PLACES.get(figure, "network")
    return place if there.get(place, True) else "summary"


def _anchors(document: Document) -> dict[str, dict[str, str]]:
    """Kind → name → the id of its place."""

    def numbered(letter: str, names: Sequence[str]) -> dict[str, str]:
        return {name: f"{letter}{n}" for n, name in enumerate(names)}

    nodes = [n["node"] for n in (document["picture"] or {"nodes": []})["nodes"]]
    return {
        "permission": numbered("r", [p["permission"] for p in document["permissions"]]),
        "segment": numbered("s", [s["segment"] for s in document["segments"]]),
        "box": numbered("n", nodes),
        "point": numbered("p", [p["point"] for p in document["lists"]["points"]]),
        "set": numbered("t", [s["set"] for s in document["sets"]]),
        "group": numbered("g", [g["group"] for g in document["groups"]]),
    }


def _links(anchors: Mapping[str, Mapping[str, str]], *, drawn: bool) -> dict[str, str]:
    """Where each name leads that has a place on the page; a group before all others. Nodes have one
    where the network is drawn."""
    found: dict[str, str] = {}
    most = {"permission": MOST_ROWS, "segment": MOST_ROWS, "point": MOST_ROWS}
    for kind, held in anchors.items():
        found |= dict(list(held.items())[: most.get(kind, len(held))])
    if not drawn:
        found = {name: place for name, place in found.items() if place[0] != "n"}
    found.pop("untagged", None)
    return found


def _linked(text: str, links: Mapping[str, str]) -> Markup:
    """Text in which every name leads to its place."""
    from markupsafe import Markup, escape

    parts, end = [], 0
    for word in WORD.finditer(text):
        place = links.get(word[0])
        if place is not None:
            parts += [
                escape(text[end : word.start()]),
                Markup('<a href="#{}">{}</a>').format(place, word[0]),
            ]
            end = word.end()
    return Markup("").join([*parts, escape(text[end:])])


def _groups(held: Sequence[int], names: Sequence[str], most: int = 40) -> Markup:
    from markupsafe import Markup

    shown_ = [Markup('<a href="#g{}">{}</a>').format(n, names[n]) for n in held[:most]]
    more = f" and {len(held) - most:,} more" if len(held) > most else ""
    return Markup(", ").join(shown_) + more


def _changed(figure: Document) -> str:
    number, of = figure["was"]
    by = figure["count"] - number
    told = f"{by:+,}" if by else "as many as"
    if by and of != figure["of"]:
        told += f" (of {of:,} then)" if of is not None else ""
    return told.replace("-", "−")


def _lines(matrix: Document) -> list[Document]:
    """Lines as rows, from their columns."""
    words, columns = matrix["words"], dict(matrix["lines"])
    columns["line"] = list(accumulate(columns["line"]))
    return [
        {
            name: value if name == "line" else words[value]
            for name, value in zip(columns, row, strict=True)
        }
        for row in zip(*columns.values(), strict=True)
    ]
