"""What a figure of the network shows: nodes by site, links, feeds, and where traffic goes wrong."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping
from typing import Any

from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model

#: What a node does not know of whom, by the reason of a row.
UNKNOWN = {"source-unknown": "from_segments", "destination-unknown": "to_segments"}


def picture(model: Model, reach: Mapping[str, Any]) -> Document:
    """The network and the causes of ``reach``, as ``report.network_figure`` draws them."""
    network = model.network
    at = {name: s.node for name, s in network.segments.items()}
    wrong: dict[str, dict[str, Counter[str]]] = defaultdict(lambda: defaultdict(Counter))
    unknown: dict[str, set[str]] = defaultdict(set)
    missing: set[tuple[str, str]] = set()
    open_from: set[str] = set()
    without_point = 0
    for cause in reach["summary"]["causes"]:
        last = next((r for r in reversed(cause["reasons"]) if r["node"]), None)
        if last is None:
            if cause["effect"] == "leak":
                without_point += cause["flows"]
                open_from |= {at[s] for s in cause["from_segments"]}
            continue
        node, why = last["node"], last["why"]
        if why in UNKNOWN:
            unknown[node] |= set(cause[UNKNOWN[why]])
            missing |= {(at[s], node) for s in cause[UNKNOWN[why]]}
        wrong[node]["unknown" if why in UNKNOWN else why][cause["effect"]] += cause["flows"]
    inhabited = set(at.values())
    fed: dict[str, list[str]] = defaultdict(list)
    for feed in network.feeds:
        fed[feed.receiver].append(feed.origin + ("" if feed.up else " (down)"))
    held: dict[str, list[str]] = defaultdict(list)
    for name, node in at.items():
        held[node].append(name)
    return {
        "nodes": [
            {
                "node": n.name, "site": n.site,
                "does": [
                    *(["point"] if n.points else []), *(["marks"] if n.marks else []),
                    *(["carries"] if n.carries else []), *(["learns"] if n.learns else []),
                ],
                "inhabited": n.name in inhabited,
                "open": n.name in open_from,
                "fed": fed.get(n.name, []),
                "segments": held.get(n.name, []),
                "lacks": sorted(a for a, b in missing if b == n.name and a != n.name),
                "wrong": [
                    {
                        "why": why, "flows": dict(sorted(by.items())),
                        "segments": sorted(unknown[n.name]) if why == "unknown" else [],
                    }
                    for why, by in wrong.get(n.name, {}).items()
                ],
            }
            for n in network.nodes.values()
        ],
        "links": [{"a": k.a, "b": k.b, "carries": k.carries} for k in network.links],
        "feeds": [{"from": f.origin, "to": f.receiver, "up": f.up} for f in network.feeds],
        "missing": [{"from": a, "to": b} for a, b in sorted(missing)],
        "without_point": without_point,
    }  # fmt: skip
