"""``network --out``, ``network --in``: the network as RFC 8345 data, and ``network.yaml`` drafted
from such data."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

from oaktag.core.addresses import parse_prefix
from oaktag.errors import UsageError
from oaktag.operations.change import Change, made
from oaktag.operations.model import Model
from oaktag.workspace.network_file import FILE
from oaktag.workspace.topology import Topology, read_topology, topology_text
from oaktag.workspace.yaml_edits import quoted, with_items


def topology(model: Model) -> str:
    """The network as JSON (RFC 8345, RFC 8346).

    Raises:
        UsageError: there is none.
    """
    if not model.network.nodes:
        raise UsageError(f"there is no network: {FILE} has no node")
    return topology_text(model.network, model.files.config.workspace)


def topology_in(
    model: Model, name: str, data: bytes, network: str | None = None, *,
    write: bool, anyway: bool = False,
) -> Change:  # fmt: skip
    """Add to ``network.yaml`` what a topology has and it has not; nothing that is there changes.

    Args:
        model: the workspace.
        name: the file's name, for messages.
        data: its bytes.
        network: the id of the network, where there are several.
        write: write it; else it is only shown.
        anyway: also where an expectation fails then.

    Raises:
        UsageError: it is no such data.
    """
    found = read_topology(name, data, network)
    text = model.files.folder.text(FILE)
    notes = list(found.notes)
    nodes = [f"{{node: {n}}}" for n in found.nodes if n not in model.network.nodes]
    if gone := [n for n in model.network.nodes if n not in found.nodes]:
        notes.append(f"the topology has not, and {FILE} keeps: {', '.join(gone)}")
    for key, items in (
        ("nodes", nodes), ("segments", _segments(model, found)), ("links", _links(model, found)),
    ):  # fmt: skip
        if items:
            text = with_items(text, key, items, behind=True)
    shown = made(model, "network in", {FILE: text}, write=write, anyway=anyway)
    return replace(shown, notes=notes)


def _segments(model: Model, found: Topology) -> list[str]:
    """One segment for each prefix that none has yet."""
    known = {p for s in model.network.segments.values() for p in s.prefixes}
    names = set(model.network.segments)
    items = []
    for node, prefixes in found.nodes.items():
        for prefix in prefixes:
            if parse_prefix(prefix) in known:
                continue
            number = 1
            while f"{node}-{number}" in names:
                number += 1
            names.add(f"{node}-{number}")
            items.append(
                f"{{segment: {node}-{number}, node: {node}, prefixes: [{quoted(prefix)}]}}"
            )
    return items


def _links(model: Model, found: Topology) -> list[str]:
    """The links that are not there yet; of several between two nodes as many as are missing."""
    there = Counter(frozenset((k.a, k.b)) for k in model.network.links)
    items = []
    for link in found.links:
        ends = frozenset((link.a, link.b))
        if there[ends]:
            there[ends] -= 1
            continue
        cost = f", cost: {link.cost}" if link.cost != 1 else ""
        items.append(f"{{between: [{link.a}, {link.b}]{cost}}}")
    return items
