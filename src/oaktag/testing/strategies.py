"""Hypothesis strategies for workspaces, and writing them as files.

Needs the package hypothesis, which ``pip install oaktag[dev]`` brings.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from hypothesis import strategies as st

from oaktag.testing.slow import Stack

SERVICES = (
    "any", "icmp", "icmp/echo-request", "icmp4/3", "icmp4/3/4", "icmp6/1", "proto/47", "proto/1",
    "proto/58", "proto/6", "https", "http", "domain", "ssh", "80/tcp", "80-90/tcp", "85-443/tcp",
    "1-1023/tcp", "1024-65535/udp", "53/udp", "5000-5010/udp", "7/sctp", "0/tcp", "65535/tcp",
    "own",
)  # fmt: skip
PORTED = (
    "https", "80-90/tcp", "85-443/tcp", "1024-65535/udp", "domain", "7/sctp", "5000-5010/udp",
)  # fmt: skip
GROUPS = {
    "ada": (310, {"tier": "desk"}), "bo": (320, {"tier": "desk", "zone": "dry"}),
    "cy": (410, {"tier": "store", "zone": "dry"}), "di": (411, {"tier": "store"}),
}  # fmt: skip
SETS = {
    "front": ["ada", "bo"], "stores": {"traits": {"tier": "store"}},
    "dry": {"traits": {"zone": "dry"}}, "odd": ["front", "cy", "untagged"],
    "nobody": {"traits": {"tier": "none"}}, "desks": [{"traits": {"tier": ["desk", "none"]}}],
}  # fmt: skip
SOURCES = (*GROUPS, *SETS, "untagged", "*")


@st.composite
def entries(draw: st.DrawFn) -> dict[str, Any]:
    """One entry of a permission."""
    action = draw(st.sampled_from(("allow", "allow", "deny", "pass")))
    if draw(st.integers(0, 4)) == 0:
        spoken = draw(st.lists(st.sampled_from(PORTED), min_size=1, max_size=2, unique=True))
        return {action: spoken, "from_ports": draw(st.sampled_from((123, "1024-65535", "0-80")))}
    return {action: draw(st.lists(st.sampled_from(SERVICES), min_size=1, max_size=3, unique=True))}


permissions = st.fixed_dictionaries(
    {
        "entries": st.lists(entries(), min_size=1, max_size=3),
        "otherwise": st.sampled_from((None, None, "allow", "deny", "pass")),
    }
)
#: All ports together, but of no entry alone: what packets without readable ports do not match.
HALVES = {
    "entries": [{"allow": ["0-500/tcp"]}, {"allow": ["501-65535/tcp"]}, {"deny": ["icmp4/3"]}],
    "otherwise": None,
}


@st.composite
def stacks(draw: st.DrawFn, most_lines: int = 6, *, recorded: bool = False) -> Stack:
    """A matrix with every feature: layers, orders, sets, ways, modes, pass, observed default.

    ``recorded``: some of its entries are logged, and some answer the sender.
    """
    named: dict[str, dict[str, Any]] = {
        f"p{n}": draw(permissions) for n in range(draw(st.integers(1, 4)))
    }
    for entry in (e for p in named.values() for e in p["entries"] if recorded and "pass" not in e):
        if draw(st.booleans()):
            entry["log"] = draw(st.sampled_from(("warning", "notice")))
        if "deny" in entry and draw(st.booleans()):
            entry["answer"] = True
    named["halves"] = dict(HALVES)
    row = st.fixed_dictionaries(
        {
            "source": st.sampled_from(SOURCES),
            "destination": st.sampled_from((*SOURCES, "itself")),
            "permission": st.sampled_from(sorted(named)),
            "mode": st.sampled_from(("", "enforce", "observe", "off")),
            "way": st.sampled_from(("", "to", "both")),
        }
    )
    layers = draw(st.lists(st.lists(row, max_size=most_lines), min_size=1, max_size=3))
    return Stack(
        dict(GROUPS), dict(SETS), named, layers,
        draw(st.sampled_from(("allow", "deny"))),
        draw(st.sampled_from((None, "allow", "deny"))),
        draw(st.sampled_from(("specific-first", "broad-first", "as-listed"))),
        {"own": ["9000-9010/tcp", "inner"], "inner": ["443/tcp"]},
    )  # fmt: skip


def write_stack(stack: Stack, folder: Path) -> None:
    """Write a stack as the files of a workspace (JSON is YAML)."""
    layers = [f"matrix/{n}0.csv" for n in range(1, len(stack.layers) + 1)]
    config: dict[str, Any] = {
        "workspace": "random", "default": stack.default, "order": stack.order, "layers": layers,
    }  # fmt: skip
    if stack.observed_default:
        config["observed_default"] = stack.observed_default
    groups = [{"id": n, "tag": tag, "traits": traits} for n, (tag, traits) in stack.groups.items()]
    named = {
        name: {k: v for k, v in permission.items() if v is not None}
        for name, permission in stack.permissions.items()
    }
    files: dict[str, Any] = {
        "oaktag.yaml": config,
        "groups.yaml": {"groups": groups, "sets": stack.sets},
        "permissions.yaml": {"services": stack.services, "permissions": named},
        "expectations.yaml": stack.expectations,
    }
    (folder / "matrix").mkdir(parents=True, exist_ok=True)
    for name, content in files.items():
        (folder / name).write_text(json.dumps(content), encoding="utf-8")
    columns = ("source", "destination", "permission", "mode", "way")
    for name, rows in zip(layers, stack.layers, strict=True):
        lines = [",".join(columns), *(",".join(r[c] for c in columns) for r in rows)]
        (folder / name).write_text("\n".join(lines) + "\n", encoding="utf-8")
