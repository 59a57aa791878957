"""A network of one point, and random matrices on it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from hypothesis import strategies as st

import oaktag as package
from oaktag.core.network import Point
from oaktag.operations.model import Model
from oaktag.testing.slow import Stack
from oaktag.testing.strategies import write_stack

#: Who has which address where: two segments behind the node, one beyond a link, and nobody's.
PLACES = {
    "ada": ["10.1.0.1", "2001:db8:1::1"], "bo": ["10.1.0.2", "2001:db8:1::2"],
    "cy": ["10.2.0.1", "2001:db8:2::1"], "di": ["10.3.0.1", "2001:db8:3::1"],
    "untagged": ["10.1.0.9", "2001:db8:2::9", "192.0.2.7", "2001:db8:99::1"],
}  # fmt: skip
SEGMENTS = {
    "left": ["10.1.0.0/24", "2001:db8:1::/64"], "right": ["10.2.0.0/24", "2001:db8:2::/64"],
    "far": ["10.3.0.0/24", "2001:db8:3::/64"],
}  # fmt: skip
#: The node's own addresses, on a segment and on none, and the group that they are of.
OWN = ["10.1.0.254", "10.9.0.1", "2001:db8:1::fe", "2001:db8:9::1"]
HOME = "bo"

ends = st.sampled_from(("*", "*", "*", ["left"], ["right", "far"], ["left", "right"]))
points = st.fixed_dictionaries(
    {
        "mode": st.sampled_from(("enforce", "enforce", "observe")),
        "match": st.sampled_from(({"source": "tag"}, {"source": "address"})),
        "from": ends, "toward": ends, "inside": st.booleans(),
        "scope": st.sampled_from(("all", "known", {"destinations": ["cy", "front"]}, {"sources": ["ada"]}, {"sources": ["nobody"]})),
        "outside": st.sampled_from(("allow", "deny")),
        "if_differ": st.sampled_from(("frame", "bindings")),
        "stateful": st.sampled_from((True, True, False)),
        "own": st.booleans(),
    }
)  # fmt: skip


def model_of(stack: Stack, point: dict[str, Any], folder: Path) -> tuple[Model, Point]:
    write_stack(stack, folder)
    config = json.loads((folder / "oaktag.yaml").read_text())
    config["sources"] = [{"file": "servers.csv", "kind": "server", "id": "name", "address": "ip"}]
    rows = [f"{n}-1,{';'.join(a)},{n}" for n, a in PLACES.items() if n != "untagged"]
    (folder / "servers.csv").write_text("\n".join(["name,ip,role", *rows]) + "\n")
    files = {
        "oaktag.yaml": config,
        "assignments.yaml": {"rules": [{"give": n, "when": {"role": n}} for n in stack.groups]},
        "network.yaml": {
            "nodes": [
                {"node": "gate", "point": point, "address": OWN, "group": HOME},
                {"node": "next", "marks": True},
            ],
            "segments": [
                {"segment": s, "node": "next" if s == "far" else "gate", "prefixes": p}
                for s, p in SEGMENTS.items()
            ],
            "links": [{"between": ["gate", "next"]}],
            "feeds": [{"from": "registry", "to": "gate"}, {"from": "registry", "to": "next"}],
        },
    }
    for name, content in files.items():
        (folder / name).write_text(json.dumps(content))
    model = package.Workspace.load(folder).model
    return model, model.network.points["gate"]
