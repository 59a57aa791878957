"""Where sites stand in a picture of the network: in columns, by how far they are from the points."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from typing import Any

Document = dict[str, Any]


def columns_of(document: Document, sites: Mapping[str, list[Document]]) -> list[list[str]]:
    """Sites by how far they are from the one with the most points, which is on the right.

    What lies outside (nodes with hosts, but nothing that knows of tags) is on the right too.
    """
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
    for site, nodes in sites.items():
        if not any(n["does"] for n in nodes) and any(n["inhabited"] for n in nodes):
            far[site] = 0
    columns: list[list[str]] = [[] for _ in range(last + 1)]
    for site in sites:
        columns[last - far.get(site, last)].append(site)
    columns[-1].sort(key=lambda s: far[s] or s != start)
    for number in range(
        last - 1, -1, -1
    ):  # each beside what it is joined to, so that few lines cross
        beside = {site: place for place, site in enumerate(columns[number + 1])}
        order = {
            s: sum(near) / len(near)
            if (near := [beside[o] for o in joined[s] if o in beside])
            else 0.0
            for s in columns[number]
        }
        columns[number].sort(key=order.__getitem__)
    return [column for column in columns if column]
