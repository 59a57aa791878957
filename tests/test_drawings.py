"""The network as it is drawn: no line through a box, nothing outside the frame, every label whole."""

from __future__ import annotations

import json
import random
import re
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg

import oaktag as package
from networks import random_net, write_net
from oaktag.operations.picture import picture
from oaktag.operations.reach import reach
from oaktag.report import network_figure
from oaktag.report.network_drawing import drawing
from sizes import scaled

Box = tuple[float, float, float, float]
Line = tuple[tuple[float, float], tuple[float, float]]
SLACK = 0.01


def network(seed: int, folder: Path) -> dict[str, Any]:
    """A random network in a few sites, or none, with links inside them; some names are long."""
    rng, net = random.Random(seed), random_net(seed)
    names = ["", "north", "south", "a-site-whose-name-is-longer-than-most-names-of-sites-are"]
    for node in net.nodes:
        if site := rng.choice(names[: 1 + seed % 4]):
            node["site"] = site
    model = write_net(net, folder).model
    found = picture(model, reach(model) if seed % 3 else {"summary": {"causes": []}})
    long = {f"n{seed % 7}": f"n{seed % 7}-the-node-with-by-far-the-longest-name-in-the-cellar"}
    for node in found["nodes"]:
        node["node"] = long.get(node["node"], node["node"])
    for link in found["links"]:
        link |= {end: long.get(link[end], link[end]) for end in "ab"}
    return found


def through(line: Line, box: Box) -> bool:
    """Whether a horizontal or vertical line has a point inside of a box."""
    (x1, y1), (x2, y2) = line
    left, top, right, bottom = box
    across = min(x1, x2) < right - SLACK and max(x1, x2) > left + SLACK
    return across and min(y1, y2) < bottom - SLACK and max(y1, y2) > top + SLACK


def apart(boxes: list[Box]) -> bool:
    return not any(
        a[0] < b[2] - SLACK and b[0] < a[2] - SLACK and a[1] < b[3] - SLACK and b[1] < a[3] - SLACK
        for n, a in enumerate(boxes) for b in boxes[:n]
    )  # fmt: skip


def inside(inner: Box, outer: Box) -> bool:
    return (
        outer[0] - SLACK <= inner[0] and inner[2] <= outer[2] + SLACK
        and outer[1] - SLACK <= inner[1] and inner[3] <= outer[3] + SLACK
    )  # fmt: skip


def straight(corners: list[tuple[float, float]]) -> Iterator[Line]:
    for a, b in pairwise(corners):
        assert abs(a[0] - b[0]) < SLACK or abs(a[1] - b[1]) < SLACK
        yield a, b


@pytest.mark.parametrize("seed", range(scaled(30)))
def test_a_figure_of_any_network(
    seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    document, caught = network(seed, tmp_path), []
    monkeypatch.setattr(network_figure, "save", lambda figure, _: caught.append(figure))
    network_figure.draw_network(document, tmp_path / "n.png")
    (figure,) = caught
    renderer = FigureCanvasAgg(figure).get_renderer()  # type: ignore[no-untyped-call]
    (axes,) = figure.axes
    width, height = figure.bbox.width, figure.bbox.height
    frame = (0.0, 0.0, width, height)

    def extent(of: Any) -> Box:
        held = of.get_window_extent(renderer)
        return held.x0, held.y0, held.x1, held.y1

    boxes = [extent(patch) for patch in axes.patches]
    texts = [extent(text) for text in axes.texts if text.get_text()]
    assert len(boxes) == len(document["nodes"]) and apart(boxes) and apart(texts)
    assert all(inside(box, frame) for box in (*boxes, *texts))
    for text in texts:  # whole in its box, or beside all of them
        held = [box for box in boxes if not apart([text, box])]
        assert all(inside(text, box) for box in held), axes.texts[texts.index(text)].get_text()
    joined = {frozenset((link["a"], link["b"])) for link in document["links"]}
    assert len(axes.lines) == len({pair for pair in joined if len(pair) == 2})
    lines = [list(straight(axes.transData.transform(x.get_xydata()).tolist())) for x in axes.lines]
    for line in lines:
        for part in line:
            assert not any(through(part, box) for box in boxes)
            assert all(0 <= x <= width and 0 <= y <= height for x, y in part)
        ends = line[0][0], line[-1][1]
        assert all(any(inside((*end, *end), box) for box in boxes) for end in ends)
    labels = [t for t in axes.texts if t.get_text() in network_figure.LOST.values()]
    for label in labels:  # no other line than its own comes near
        near = [n for n, line in enumerate(lines) if any(through(p, extent(label)) for p in line)]
        assert len(near) == 1, label.get_text()


def _corners(path: str) -> list[tuple[float, float]]:
    """The corners of a path of straight lines."""
    return [(float(x), float(y)) for x, y in (p.split(",") for p in path[1:].split(" L"))]


@pytest.mark.parametrize("seed", range(scaled(30)))
def test_a_drawing_of_any_network(seed: int, tmp_path: Path) -> None:
    """The same of the page's: of the widths of texts, see the page in a browser."""
    document = network(seed, tmp_path)
    found = drawing(document)
    assert found is not None
    boxes = [(b["x"], b["y"], b["x"] + b["width"], b["y"] + b["height"]) for b in found["boxes"]]
    frame = (0.0, 0.0, found["width"], found["height"])
    assert apart(boxes) and all(inside(box, frame) for box in boxes)
    heads = [
        (s["x"], s["y"] - 12, s["x"] + 7.5 * len(s["text"]), s["y"] + 4) for s in found["sites"]
    ]
    assert apart([*boxes, *heads]) and all(inside(head, frame) for head in heads)
    for link in found["links"]:
        for part in straight(_corners(link["path"])):
            assert not any(through(part, box) for box in (*boxes, *heads))
            assert all(0 <= x <= frame[2] and 0 <= y <= frame[3] for x, y in part)
        if link["label"]:
            half = 3.6 * len(link["label"])
            label = (link["x"] - half, link["y"] - 7, link["x"] + half, link["y"] + 7)
            assert inside(label, frame) and apart([label, *boxes])
            others = [
                x for x in found["links"] if x is not link
                for part in straight(_corners(x["path"])) if through(part, label)
            ]  # fmt: skip
            assert not others
    assert {(x["a"], x["b"]) for x in found["links"]} | {
        (x["b"], x["a"]) for x in found["links"]
    } >= {(link["a"], link["b"]) for link in document["links"] if link["a"] != link["b"]}


def test_of_what_passes_inside_a_large_set_the_rest_is_counted(tmp_path: Path) -> None:
    """Forty-three groups, each of which may reach the next: a line each, of which forty are drawn."""
    names = [f"g{n:02}" for n in range(44)]
    lines = [f"{a},{b},web,enforce,to" for a, b in pairwise(names)]
    held: dict[str, Any] = {
        "oaktag.yaml": {"workspace": "wide", "layers": ["m.csv"]},
        "groups.yaml": {"groups": [{"id": n, "tag": 100 + i} for i, n in enumerate(names)], "sets": {"all-of-them": names}},
        "permissions.yaml": {"permissions": {"web": [{"allow": ["443/tcp"]}]}},
        "assignments.yaml": {"rules": []},
    }  # fmt: skip
    for name, content in held.items():
        (tmp_path / name).write_text(json.dumps(content), encoding="utf-8")
    head = "source,destination,permission,mode,way"
    (tmp_path / "m.csv").write_text("\n".join([head, *lines, ""]), encoding="utf-8")
    figure = tmp_path / "around.svg"
    workspace = package.Workspace.load(tmp_path)
    workspace.draw_around(workspace.around("all-of-them"), figure)
    said = re.findall(r"<!-- (.*?) -->", figure.read_text(encoding="utf-8"), re.S)
    last = said.index("and 3 lines more")
    assert said[last - 40 : last] == [f"{a} → {b} (a)" for a, b in [*pairwise(names)][:40]]
