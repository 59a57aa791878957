"""``bindings``: address prefix → tag, in the registry or as one node knows it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from difflib import get_close_matches

from oaktag.core.addresses import parse_address
from oaktag.core.bindings import Binding, Lookup
from oaktag.core.network import REGISTRY
from oaktag.errors import UsageError
from oaktag.operations.documents import Document, document
from oaktag.operations.model import Model


def bindings(model: Model, node: str | None = None, find: Sequence[str] = ()) -> Document:
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
    result = document(
        "bindings",
        at=node or REGISTRY,
        bindings=[row_json(model, table.bindings[n]) for n in table.winners],
    )
    if find:
        result["found"] = found
    return result


def _table(model: Model, node: str) -> Lookup:
    if node not in model.network.nodes:
        close = get_close_matches(node, model.network.nodes, 3)
        hint = f"; perhaps {' or '.join(close)}" if close else ""
        raise UsageError(f"there is no node {node!r}{hint}")
    return model.knowledge.at(node)


def row_json(model: Model, binding: Binding) -> Document:
    """One binding."""
    since = binding.since
    return {
        "prefix": str(binding.prefix),
        "tag": binding.tag,
        "group": model.groups.name(binding.tag),
        "source": binding.source,
        "since": None if since is None else datetime.fromtimestamp(since, UTC).isoformat(),
        "from": binding.node or REGISTRY,
        "who": binding.who,
        "file": binding.location.file,
        "line": binding.location.line,
    }
