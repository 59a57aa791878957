"""``bindings``: address prefix → tag, in the registry or as one node knows it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np

from oaktag.core.addresses import address_text, parse_address
from oaktag.core.bindings import Binding, Lookup
from oaktag.core.network import REGISTRY
from oaktag.errors import UsageError
from oaktag.near import perhaps
from oaktag.operations.advice import stopped
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.result import ABSENT, Result, Row
from oaktag.workspace.times import instant_text


@dataclass(frozen=True, eq=False, repr=False)
class BindingList(Result):
    """Bindings in force at the registry or a node; those of addresses asked of; what a node lacks;
    both ends of a feed."""

    at: str
    bindings: list[Row]
    found: list[Row] = field(default=ABSENT)
    missing: list[Row] = field(default=ABSENT)
    feed: str = field(default=ABSENT)
    sender: str = field(default=ABSENT)
    up: bool = field(default=ABSENT)
    ends: list[Row] = field(default=ABSENT)
    command: ClassVar[str] = "bindings"

    @property
    def table(self) -> str:  # type: ignore[override]
        """The rows that were asked for."""
        names = ("found", "missing", "ends")
        return next((n for n in names if getattr(self, n) is not ABSENT), "bindings")


def bindings(model: Model, node: str | None = None, find: Sequence[str] = ()) -> BindingList:
    """One row a prefix, the winner; and the binding that holds each address asked of.

    Raises:
        UsageError: no such node, or no address.
    """
    table = model.registry if node is None else _table(model, node)
    found: list[Document] = []
    for text in find:
        try:
            family, number = parse_address(text)
        except ValueError as error:
            raise UsageError(str(error)) from None
        row = int(table.find(family, [number])[0])
        held = None if row < 0 else row_json(model, table.bindings[row])
        tag = 0 if held is None else held["tag"]
        found.append(
            {"address": text, "tag": tag, "group": model.groups.name(tag), "binding": held}
        )
    return BindingList(
        at=node or REGISTRY,
        bindings=[row_json(model, b) | _via(model, b, node) for b in table.in_force],
        found=found if find else ABSENT,
    )


def _via(model: Model, binding: Binding, node: str | None) -> Document:
    """The feeds by which a binding came to a node."""
    chain = [] if node is None else model.knowledge.chain(binding, node) or []
    return {"via": [feed.name for feed in chain]}


def missing(model: Model, node: str) -> BindingList:
    """What a node should know and does not, and where it stopped.

    A node that has a point should know everybody whose packets can cross it; one that marks,
    its own segments.

    Raises:
        UsageError: no such node.
    """
    table = _table(model, node)
    here = model.network.nodes[node]
    rows: list[Document] = []
    for host in model.hosts:
        mine = host.node == node and here.marks
        crossing = bool(here.points) and node in model.paths.reached(host.node)
        true = model.groups.tag(host.group)
        if not (mine or crossing) or not true:
            continue
        tag = table.tag(host.family, host.address)
        if tag != true:
            who = model.files.endpoints.ids[host.endpoint] if host.endpoint >= 0 else None
            rows.append(
                {
                    "address": address_text(host.family, host.address), "who": who,
                    "segment": host.segment, "group": model.groups.all[host.group].id, "tag": true,
                    "known": tag, "known_group": model.groups.name(tag),
                    "stopped": stopped(model, host.family, host.address, node, tag),
                }
            )  # fmt: skip
    return BindingList(at=node, bindings=[], missing=rows)


def feed_ends(model: Model, name: str) -> BindingList:
    """Both ends of one feed against each other: what the sender has, and what the receiver makes
    of it.

    Raises:
        UsageError: no such feed.
    """
    feed = next((f for f in model.network.feeds if f.name == name), None)
    if feed is None:
        hint = perhaps(name, [f.name for f in model.network.feeds])
        raise UsageError(f"there is no feed {name!r}{hint and f'; {hint}'}")
    sender = model.registry if feed.sender == REGISTRY else model.knowledge.at(feed.sender)
    receiver = model.knowledge.at(feed.receiver)
    brought = {(b.prefix, b.tag, b.source) for b in model.knowledge.brought_by(feed)}
    there = {b.prefix: b for b in receiver.in_force}
    rows: list[Document] = []
    for binding in sender.in_force:
        other = there.get(binding.prefix)
        passed = (binding.prefix, binding.tag, binding.source) in brought
        if not feed.up:
            said = "the feed is down"
        elif not passed:
            said = "not relayed" if feed.passes(binding) else "kept back by only"
            registry = model.network.registries.get(feed.registry)
            if registry is not None and not registry.holds(binding.prefix):
                said = f"not of {feed.registry}"
        elif other is not None and other.tag == binding.tag:
            said = "the same at both ends"
        else:
            said = f"overruled there by {other.source if other else 'nothing'}"
        rows.append(
            {
                "prefix": str(binding.prefix), "sent": binding.tag,
                "sent_group": model.groups.name(binding.tag), "held": other.tag if other else 0,
                "held_group": model.groups.name(other.tag) if other else "untagged", "said": said,
            }
        )  # fmt: skip
    return BindingList(
        at=feed.receiver, bindings=[], feed=name, sender=feed.origin, up=feed.up,
        ends=rows,
    )  # fmt: skip


def _table(model: Model, node: str) -> Lookup:
    if (registry := model.network.registries.get(node)) is not None:
        every = model.registry_bindings
        rows = [every.prefixes.inside(p) for p in registry.prefixes or ()]
        none = np.empty(0, dtype=np.int64)
        mine = every.take(np.unique(np.concatenate([none, *rows])))
        return Lookup(every if registry.prefixes is None else mine, model.given.binding_order)
    if node not in model.network.nodes:
        hint = perhaps(node, [*model.network.nodes, *model.network.registries])
        raise UsageError(f"there is no node {node!r}{hint and f'; {hint}'}")
    return model.knowledge.at(node)


def row_json(model: Model, binding: Binding) -> Document:
    """One binding."""
    since = binding.since
    return {
        "prefix": str(binding.prefix),
        "tag": binding.tag,
        "group": model.groups.name(binding.tag),
        "source": binding.source,
        "since": None if since is None else instant_text(since),
        "from": binding.node or REGISTRY,
        "who": binding.who,
        "file": binding.location.file,
        "line": binding.location.line,
    }
