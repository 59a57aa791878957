"""What a figure of the network shows: nodes by site, links, feeds, and where traffic goes wrong."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from typing import Any

from oaktag.operations.documents import Document
from oaktag.operations.model import Model


def picture(model: Model, reach: Mapping[str, Any]) -> Document:
    """The network and the causes of ``reach``, as ``report.network_figure`` draws them."""
    network = model.network
    wrong: dict[str, Counter[str]] = {}
    without_point = 0
    for cause in reach["summary"]["causes"]:
        node = next((r["node"] for r in reversed(cause["reasons"]) if r["node"]), None)
        if node is not None:
            wrong.setdefault(node, Counter())[cause["effect"]] += cause["flows"]
        elif cause["effect"] == "leak":
            without_point += cause["flows"]
    return {
        "nodes": [
            {
                "node": n.name, "site": n.site,
                "does": [
                    *(["point"] if n.points else []), *(["marks"] if n.marks else []),
                    *(["carries"] if n.carries else []), *(["learns"] if n.learns else []),
                ],
            }
            for n in network.nodes.values()
        ],
        "links": [{"a": k.a, "b": k.b, "carries": k.carries} for k in network.links],
        "feeds": [{"from": f.sender, "to": f.receiver, "up": f.up} for f in network.feeds],
        "wrong": {
            node: ", ".join(f"{n} {effect}" for effect, n in sorted(by.items(), reverse=True))
            for node, by in wrong.items()
        },
        "without_point": without_point,
    }  # fmt: skip
