"""Figures of the matrix, as PNG or SVG, drawn from the commands' own documents.

Everything is told by form and letters; colour is never the only sign. The same document gives the
same bytes.
"""

from __future__ import annotations

import io
import warnings
from collections.abc import Mapping
from pathlib import Path
from textwrap import wrap
from typing import TYPE_CHECKING, Any

import numpy as np

from oaktag.errors import OakTagError, UsageError
from oaktag.report.words import few, letters
from oaktag.workspace.textfile import write_bytes

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

Document = Mapping[str, Any]
Places = list[tuple[float, float]]
INK, TINT, PAPER, GRID, HINT = "#3b4f5c", "#bccad3", "#ffffff", "#d5d9dc", "#8a5a00"
WRONG = "#a01010"
#: Up to so many groups, each has a row and a column of its own; above, equal ones share one.
MOST_ALONE = 60
FORMATS = (".png", ".svg")


def new_figure(width: float, height: float, path: Path) -> Figure:
    """An empty figure for a file.

    Raises:
        UsageError: the file's name ends in neither .png nor .svg.
        OakTagError: the plotting library is not installed.
    """
    if path.suffix.lower() not in FORMATS:
        raise UsageError(f"{path.name!r} ends in neither {' nor '.join(FORMATS)}")
    try:
        from matplotlib import rcParams
        from matplotlib.figure import Figure as Made
    except ImportError:
        raise OakTagError(
            "figures need the package matplotlib: pip install 'oaktag[figures]'"
        ) from None
    rcParams["svg.hashsalt"] = "oaktag"
    rcParams["text.parse_math"] = False  # a $ in a name is a $
    rcParams["font.family"] = "DejaVu Sans"
    return Made(figsize=(width, height), facecolor=PAPER)


def save(figure: Figure, path: Path) -> None:
    """Write a figure, whole or not at all."""
    kind, made = path.suffix.lower()[1:], io.BytesIO()
    options: dict[str, Any] = (
        {"metadata": {"Date": None}}
        if kind == "svg"
        else {"metadata": {"Software": None}, "pil_kwargs": {"compress_level": 1}}
    )
    with warnings.catch_warnings():  # of letters that the font lacks, a box says enough
        warnings.simplefilter("ignore", UserWarning)
        figure.savefig(made, format=kind, dpi=100, **options)
    write_bytes(path, made.getvalue())


def draw_matrix(document: Document, path: Path) -> None:
    """The matrix, a row and a column for each group; of very many groups, equal ones in blocks.

    The more is allowed, the fuller a cell, in equal steps; its letter says what. A cell that
    observed lines would change has a bar over it, and the letter that it would have.

    Raises:
        UsageError: the file's name ends in neither .png nor .svg.
    """
    from matplotlib.collections import PolyCollection

    rows, columns = (_alone(document[side]) for side in ("rows", "columns"))
    order = {block[0]: n for n, block in enumerate(rows)}
    if all(len(block) == 1 for block in columns):
        columns.sort(key=lambda block: order.get(block[0], len(order)))
    first = {
        side: {name: block[0] for block in document[side] for name in block}
        for side in ("rows", "columns")
    }
    code = {form["form"]: form["code"] for form in document["forms"]}
    steps = sorted({f["share"] for f in document["forms"]} - {0, 1})
    fill = {share: (n + 1) / (len(steps) + 1) for n, share in enumerate(steps)} | {0: 0, 1: 1}
    share = {f["form"]: fill[f["share"]] for f in document["forms"]}
    cells = {(c["source"], c["destination"]): c for c in document["cells"]}
    side = 0.42 if max(len(rows), len(columns)) <= 30 else 0.21
    labels = [_label(block) for block in rows], [_label(block) for block in columns]
    legend = [(code[f["form"]], f["allows"]) for f in document["forms"] if f["allows"] != "none"]
    left, top = 0.08 * max(map(len, labels[0])) + 0.3, 0.065 * max(map(len, labels[1])) + 0.25
    width = max(left + side * len(columns) + 0.9, 8.0)
    across = int(width / 0.066)
    blocks = dict.fromkeys(tuple(block) for block in (*rows, *columns) if len(block) > 1)
    lines = [
        line
        for block in blocks
        for line in wrap(
            f"{_label(list(block))}: {', '.join(block)}", across, break_on_hyphens=False
        )
    ] + _wrapped(legend, across)
    height = top + side * len(rows) + 0.35 + 0.165 * (len(lines) + 1)
    figure = new_figure(width, height, path)
    axes = figure.add_axes((left / width, 1 - (top + side * len(rows)) / height,
                            side * len(columns) / width, side * len(rows) / height))  # fmt: skip
    axes.set_xlim(0, len(columns))
    axes.set_ylim(len(rows), 0)
    size = 7.5 if side > 0.3 else 5.5
    boxes: dict[str, list[tuple[float, float, float, float]]] = {
        kind: [] for kind in ("not asked", "part", "full", "changing")
    }
    written: dict[tuple[str, bool], Places] = {}
    for i, sources in enumerate(rows):
        for j, destinations in enumerate(columns):
            ends = first["rows"][sources[0]], first["columns"][destinations[0]]
            cell = cells.get(ends)
            if cell is None:
                boxes["not asked"].append((j, i, 1, 1))
                continue
            part, full = 0.94 * share[cell["form"]], share[cell["form"]] == 1
            if part:
                boxes["full" if full else "part"].append((j + 0.03, i + 0.97 - part, 0.94, part))
            text = code[cell["form"]]
            if cell["form"] != cell["would_form"]:
                text += f">{code[cell['would_form']]}"
                boxes["changing"].append((j + 0.03, i + 0.03, 0.94, 0.2))
            if text != ".":
                written.setdefault((text, full), []).append((j + 0.5, i + 0.5))
    for kind, colour in (
        ("not asked", "#eeeeee"),
        ("part", TINT),
        ("full", INK),
        ("changing", PAPER),
    ):
        shape = [[(x, y), (x + w, y), (x + w, y + h), (x, y + h)] for x, y, w, h in boxes[kind]]
        filled = PolyCollection(shape, facecolors=colour, edgecolors="none", zorder=1)
        if kind == "changing":
            filled.set(edgecolor=HINT, hatch="////", linewidth=0.8)
        axes.add_collection(filled, autolim=False)
    _letters(axes, written, size)
    small = 8 if side > 0.3 else 6.5
    _ruled(axes, len(rows), len(columns))
    for i, label in enumerate(labels[0]):  # ticks would take three times as long
        axes.text(-0.04 / side, i + 0.5, label, ha="right", va="center", fontsize=small)
    for j, label in enumerate(labels[1]):
        axes.text(j + 0.3, -0.04 / side, label, rotation=60, rotation_mode="anchor", fontsize=8)
    foot = 1 - (top + side * len(rows) + 0.2) / height
    note = "rows: from; columns: to. The fuller a cell, the more ports it allows."
    if any(c["form"] != c["would_form"] for c in document["cells"]):
        note += " x>y under a hatched bar: x now, y if the observed lines were enforced."
    figure.text(
        0.3 / width, foot, "\n".join([note, *lines]), fontsize=7.5, va="top", linespacing=1.5
    )
    save(figure, path)


def _letters(axes: Axes, written: Mapping[tuple[str, bool], Places], size: float) -> None:
    """Each text once, as a mark at all its places: a text each would take minutes for 40,000 cells."""
    from matplotlib.collections import PathCollection
    from matplotlib.textpath import TextPath
    from matplotlib.transforms import Affine2D

    for (text, light), places in written.items():
        drawn = TextPath((0, 0), text, size=size)
        xs = np.asarray(drawn.vertices)[:, 0]
        middle = (xs.min() + xs.max()) / 2
        mark = drawn.transformed(Affine2D().translate(-middle, -0.3 * size))
        many = PathCollection(
            [mark], offsets=places, offset_transform=axes.transData, linewidths=0, snap=False,
            facecolors=PAPER if light else "#101010", zorder=3,
        )  # fmt: skip
        many.set_transform(Affine2D().scale(1 / 72) + axes.figure.dpi_scale_trans)
        axes.add_collection(many, autolim=False)


def _alone(blocks: list[list[str]]) -> list[list[str]]:
    """Each group for itself, where they are not too many."""
    if sum(map(len, blocks)) > MOST_ALONE:
        return list(blocks)
    return [[name] for block in blocks for name in block]


def _label(block: list[str]) -> str:
    return block[0] if len(block) == 1 else f"{block[0]} +{len(block) - 1}"


def _ruled(axes: Axes, rows: int, columns: int) -> None:
    axes.hlines(range(rows + 1), 0, columns, color=GRID, lw=0.5)
    axes.vlines(range(columns + 1), 0, rows, color=GRID, lw=0.5)
    axes.axis("off")


def _wrapped(legend: list[tuple[str, str]], width: int) -> list[str]:
    lines = [""]
    for code, allows in legend:
        part = f"{code} = {allows}"
        if lines[-1] and len(lines[-1]) + len(part) + 4 > width:
            lines.append("")
        lines[-1] += ("    " if lines[-1] else "") + part
    return lines[:40] + ([f"and {len(lines) - 40} lines more"] if len(lines) > 40 else [])


def draw_around(document: Document, path: Path) -> None:
    """What comes into a set, passes inside, and goes out: three columns of groups, and arrows.

    Raises:
        UsageError: the file's name ends in neither .png nor .svg.
    """
    from matplotlib.patches import FancyArrowPatch, FancyBboxPatch

    inner = document["groups"]
    sources = list(dict.fromkeys(r["source"] for r in document["comes_in"]))
    targets = list(dict.fromkeys(r["destination"] for r in document["goes_out"]))
    every = [*document["comes_in"], *document["passes_inside"], *document["goes_out"]]
    used = dict.fromkeys(r["allows"] for r in every)
    code = dict(zip(used, letters(), strict=False))
    most = max(len(sources), len(inner), len(targets), 1)
    lines = [*_inside(document, code), *_wrapped([(code[a], a) for a in used], 105)]
    height = 0.42 * most + 1.1 + 0.19 * len(lines)
    half = max(0.038 * max(map(len, (*sources, *inner, *targets)), default=0) + 0.12, 0.6)
    middles = [0.3 + half + n * (2 * half + 1.9) for n in range(3)]
    width = middles[-1] + half + 0.3
    figure = new_figure(width, height, path)
    axes = figure.add_axes(
        (0, 0.19 * (len(lines) + 1) / height, 1, 1 - 0.19 * (len(lines) + 1) / height)
    )
    axes.set_xlim(0, width)
    axes.set_ylim(most + 0.9, -1.25)
    axes.axis("off")
    places: dict[tuple[int, str], tuple[float, float]] = {}
    for column, (x, title, names) in enumerate(
        (
            (middles[0], "comes in from", sources),
            (middles[1], document["set"], inner),
            (middles[2], "goes out to", targets),
        )
    ):
        axes.text(x, -0.75, title, ha="center", fontsize=9.5, fontweight="bold")
        for n, name in enumerate(names):
            y = (n + 0.5) * most / len(names)
            places[column, name] = x, y
            axes.text(x, y, name, ha="center", va="center", fontsize=8.5)
            axes.add_patch(
                FancyBboxPatch((x - half, y - 0.3), 2 * half, 0.6, boxstyle="round,pad=0,rounding_size=0.08",
                               facecolor=PAPER, edgecolor=INK)
            )  # fmt: skip
    nth: dict[tuple[int, str], int] = {}
    for part, start, end in (("comes_in", 0, 1), ("goes_out", 1, 2)):
        for r in document[part]:
            (xa, ya), (xb, yb) = places[start, r["source"]], places[end, r["destination"]]
            xa, xb = xa + half, xb - half
            axes.add_patch(
                FancyArrowPatch((xa, ya), (xb, yb), arrowstyle="-|>", mutation_scale=9, lw=0.8, color=INK,
                                shrinkA=0, shrinkB=0)
            )  # fmt: skip
            outer = (0, r["source"]) if start == 0 else (2, r["destination"])
            nth[outer] = (
                nth.get(outer, 0) + 1
            )  # letters near the outer boxes, where arrows lie apart
            t = 0.08 + 0.13 * (nth[outer] % 5)
            t = t if start == 0 else 1 - t
            axes.text(xa + t * (xb - xa), ya + t * (yb - ya), code[r["allows"]], fontsize=7.5,
                      ha="center", va="center", bbox={"facecolor": PAPER, "edgecolor": "none", "pad": 0.8})  # fmt: skip
    figure.text(0.02, 0.1 / height, "\n".join(lines), fontsize=7.5, va="bottom", linespacing=1.5)
    save(figure, path)


def _inside(document: Document, code: Mapping[str, str]) -> list[str]:
    """What passes inside the set, as text: arrows between boxes of one column cannot be told apart."""
    by: dict[str, list[str]] = {}
    for r in document["passes_inside"]:
        to = "itself" if r["source"] == r["destination"] else r["destination"]
        by.setdefault(r["source"], []).append(f"{to} ({code[r['allows']]})")
    lines = [
        line
        for s, to in by.items()
        for line in wrap(f"{s} → {few(to, 40)}", 105, break_on_hyphens=False)
    ]
    more = [f"and {len(lines) - 40} lines more"] if len(lines) > 40 else []
    return [f"inside {document['set']}:", *lines[:40], *more, ""] if lines else []
