"""Where boxes, sites and links stand in a drawing of the network: one layout for all drawings.

Sites stand in columns, boxes of a site one below the other. A link is horizontal and vertical lines
only. It leaves a box at the side, at a height that no other link has there, turns in the gutter
between two columns, and enters the other box from its side; over more than one column it goes by
the corridor above all boxes. So no line runs through a box, and each label has a place of its own:
beside the box where its link begins. Two boxes of one site, one directly below the other, are
joined straight. Sizes are in the unit of the drawing.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

Point = tuple[float, float]


class Sizes(NamedTuple):
    """The width of boxes; the distance of links at a side, and of lines beside each other; what
    lies between boxes, above the first box of a site and for each line of its name; the width of
    the longest label; the edge around all."""

    wide: float
    port: float
    lane: float
    below: float
    site: float
    line: float
    label: float
    edge: float


class Site(NamedTuple):
    """A site: the lines of its name, and its boxes with the least height of each."""

    name: list[str]
    boxes: Mapping[str, float]


class Rectangle(NamedTuple):
    """A box in its place; ``y`` grows downwards."""

    x: float
    y: float
    width: float
    height: float


class Link(NamedTuple):
    """Two boxes that are joined, and what is written beside their link."""

    a: str
    b: str
    label: str = ""


class Route(NamedTuple):
    """The corners of a link, and the middle of its label."""

    link: Link
    corners: list[Point]
    label_at: Point


class Layout(NamedTuple):
    """A drawing: boxes by name, sites with the place of their names (left, middle of the first
    line), links, and the size of all."""

    boxes: dict[str, Rectangle]
    sites: list[tuple[list[str], Point]]
    routes: list[Route]
    width: float
    height: float


def laid_out(
    columns: Sequence[Sequence[Site]], links: Iterable[Link], sizes: Sizes, top: float = 0.0
) -> Layout:
    """The layout of a drawing.

    Args:
        columns: sites, from left to right.
        links: between boxes; of each two at most one.
        sizes: of everything.
        top: what is left free above all.
    """
    return _Laying(columns, links, sizes, top).done()


class _Laying:
    def __init__(
        self, columns: Sequence[Sequence[Site]], links: Iterable[Link], sizes: Sizes, top: float
    ) -> None:
        self.columns, self.sizes, self.top = columns, sizes, top
        names = [[name for site in column for name in site.boxes] for column in columns]
        self.place = {name: (c, n) for c, held in enumerate(names) for n, name in enumerate(held)}
        self.site_of = {
            name: (c, s)
            for c, column in enumerate(columns) for s, site in enumerate(column)
            for name in site.boxes
        }  # fmt: skip
        #: The box on the left, or the upper one, is the first end.
        self.links = [
            link if self.place[link.a] <= self.place[link.b] else link._replace(a=link.b, b=link.a)
            for link in links
        ]
        self.straight = [link for link in self.links if self._is_straight(link)]
        self.routed = [link for link in self.links if not self._is_straight(link)]
        self.far = [x for x in self.routed if self.place[x.b][0] > self.place[x.a][0] + 1]

    def _is_straight(self, link: Link) -> bool:
        one, two = self.place[link.a], self.place[link.b]
        same = self.site_of[link.a] == self.site_of[link.b]
        return same and not link.label and two[1] == one[1] + 1

    def done(self) -> Layout:
        """Everything in its place."""
        ports = self._ports()
        heights = self._heights(ports)
        lanes = self._lanes()
        boxes, sites, bottom = self._stacked(heights, self._lefts(lanes))
        at = self._heights_of_links(ports, boxes)
        routes = [self._straight_route(link, boxes) for link in self.straight]
        routes += [self._route(link, boxes, at, lanes) for link in self.routed]
        right = max((x for r in routes for x, _ in r.corners), default=0.0)
        right = max([right + self.sizes.lane, *(b.x + b.width for b in boxes.values())])
        return Layout(boxes, sites, routes, right + self.sizes.edge, bottom + self.sizes.edge)

    # -- sizes -----------------------------------------------------------------------------------

    def _ports(self) -> dict[tuple[str, str], list[Link]]:
        """The links at each side of each box, in the order in which they leave it."""
        found: dict[tuple[str, str], list[Link]] = {}
        for link in self.routed:
            found.setdefault((link.a, "right"), []).append(link)
            side = "right" if self.place[link.a][0] == self.place[link.b][0] else "left"
            found.setdefault((link.b, side), []).append(link)
        for (name, _), held in found.items():
            held.sort(key=lambda x: self.place[x.b if x.a == name else x.a])
        return found

    def _heights(self, ports: Mapping[tuple[str, str], list[Link]]) -> dict[str, float]:
        return {
            name: max(
                least,
                *((len(ports.get((name, s), ())) + 0.5) * self.sizes.port for s in ("left", "right")),
            )
            for column in self.columns for site in column for name, least in site.boxes.items()
        }  # fmt: skip

    def _lanes(self) -> dict[tuple[int, Link], int]:
        """Of each gutter the links that turn there, numbered from the left."""
        found: dict[tuple[int, Link], int] = {}
        count: dict[int, int] = {}
        for link in sorted(self.routed, key=lambda x: (self.place[x.a], self.place[x.b])):
            first, last = self.place[link.a][0], self.place[link.b][0]
            for gutter in {first, max(last - 1, first)}:
                found[gutter, link] = count.get(gutter, 0)
                count[gutter] = found[gutter, link] + 1
        return found

    def _lefts(self, lanes: Mapping[tuple[int, Link], int]) -> list[float]:
        """Where each column begins, and where the gutter behind the last one ends."""
        sizes = self.sizes
        found = [sizes.edge]
        for gutter in range(len(self.columns)):
            count = sum(g == gutter for g, _ in lanes)
            width = self._label(gutter) + (count + 1) * sizes.lane
            found.append(found[-1] + sizes.wide + max(width, 6 * sizes.lane))
        self.lefts = found
        return found

    def _label(self, gutter: int) -> float:
        """What is left for labels in a gutter, beside the column on its left."""
        some = any(x.label and self.place[x.a][0] == gutter for x in self.routed)
        return self.sizes.label if some else self.sizes.lane

    def _stacked(
        self, heights: Mapping[str, float], lefts: Sequence[float]
    ) -> tuple[dict[str, Rectangle], list[tuple[list[str], Point]], float]:
        sizes = self.sizes
        tall = [
            sum(
                sizes.site + sizes.line * (len(site.name) - 1)
                + sum(heights[name] + sizes.below for name in site.boxes)
                for site in column
            )
            for column in self.columns
        ]  # fmt: skip
        start = sizes.edge + self.top + len(self.far) * sizes.lane
        boxes: dict[str, Rectangle] = {}
        sites: list[tuple[list[str], Point]] = []
        for column, left, height in zip(self.columns, lefts, tall, strict=False):
            y = start + (max(tall) - height) / 2
            for site in column:
                sites.append((site.name, (left, y + sizes.site - sizes.line)))
                y += sizes.site + sizes.line * (len(site.name) - 1)
                for name in site.boxes:
                    boxes[name] = Rectangle(left, y, sizes.wide, heights[name])
                    y += heights[name] + sizes.below
        return boxes, sites, start + max(tall, default=0.0)

    # -- links -----------------------------------------------------------------------------------

    def _heights_of_links(
        self, ports: Mapping[tuple[str, str], list[Link]], boxes: Mapping[str, Rectangle]
    ) -> dict[tuple[str, Link], float]:
        """How high each link is at each of its boxes; in a gutter no two lie in one line."""
        found: dict[tuple[str, Link], float] = {}
        taken: dict[int, list[float]] = {}
        close = self.sizes.port / 6
        for (name, side), held in sorted(ports.items(), key=lambda one: self.place[one[0][0]]):
            box, gutter = boxes[name], self.place[name][0] - (side == "left")
            for n, link in enumerate(held):
                middle = box.y + (n + 0.5) * box.height / len(held)
                tries = (middle + close * (k // 2 + 1) * (1, -1)[k % 2] * (k > 0) for k in range(9))
                used = taken.setdefault(gutter, [])
                y = next((t for t in tries if all(abs(t - u) >= close for u in used)), middle)
                used.append(y)
                found[name, link] = y
        return found

    def _x(self, gutter: int, link: Link, lanes: Mapping[tuple[int, Link], int]) -> float:
        begin = self.lefts[gutter] + self.sizes.wide + self._label(gutter)
        return begin + (lanes[gutter, link] + 0.5) * self.sizes.lane

    def _route(
        self, link: Link, boxes: Mapping[str, Rectangle], at: Mapping[tuple[str, Link], float],
        lanes: Mapping[tuple[int, Link], int],
    ) -> Route:  # fmt: skip
        one, two = boxes[link.a], boxes[link.b]
        first, last = self.place[link.a][0], self.place[link.b][0]
        y, end_y = at[link.a, link], at[link.b, link]
        begin = one.x + one.width
        end = two.x + (two.width if first == last else 0)
        x = self._x(first, link, lanes)
        corners: list[Point] = [(begin, y), (x, y)]
        if link in self.far:
            corridor = self.sizes.edge + self.top + self.far.index(link) * self.sizes.lane
            x2 = self._x(last - 1, link, lanes)
            corners += [(x, corridor), (x2, corridor), (x2, end_y)]
        else:
            corners.append((x, end_y))
        corners.append((end, end_y))
        return Route(link, corners, (begin + self.sizes.label / 2, y))

    @staticmethod
    def _straight_route(link: Link, boxes: Mapping[str, Rectangle]) -> Route:
        one, two = boxes[link.a], boxes[link.b]
        x = one.x + one.width / 2
        ends = [(x, one.y + one.height), (x, two.y)]
        return Route(link, ends, ends[0])
