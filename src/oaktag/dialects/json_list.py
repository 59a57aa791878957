"""Access lists in our own neutral form: a row of entries as JSON, for whatever is made of it.

The form is described by the JSON Schema ``access-list.json``, and where entries match addresses by
``access-list-addresses.json``. Numbers of protocols, ports, types
and codes are ranges with both ends; where what is asked for is everything, ``any`` stands. An entry
that is ``readable`` matches only packets whose ports, or type and code, can be read.

``json_list_reader`` reads such text back. It shares nothing with this file but how lines are laid
out.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from oaktag.core.accesslist import Blank, ListEntry, Look, PassBetween, PassUnless
from oaktag.core.addressed import AddressList
from oaktag.core.addresses import Prefix, Range, Span, span_text
from oaktag.core.flatlist import FlatList
from oaktag.core.packets import Region
from oaktag.dialects.json_lines import text_of


def write(held: FlatList | AddressList) -> str:
    """The list as JSON text; the same list gives the same bytes."""
    return text_of(document(held))


def document(held: FlatList | AddressList) -> dict[str, Any]:
    """The list as a document."""
    return _of_tags(held) if isinstance(held, FlatList) else _of_addresses(held)


def _of_addresses(held: AddressList) -> dict[str, Any]:
    return {
        "access_list": 2,
        "point": held.point,
        "matches": "addresses",
        "stateful": held.stateful,
        "own": [_span(s) for s in held.own],
        "groups": _groups(held.names),
        "entries": [
            {
                "from": "any" if e.source is None else _prefix(e.source),
                "to": "any" if e.destination is None else _prefix(e.destination),
                **_entry(e.entry),
            }
            for e in held.entries
        ],
    }


def _of_tags(held: FlatList) -> dict[str, Any]:
    looks = [s.unless_known for s in held.head if isinstance(s, Look)]
    sides = {
        end: [_span(s) for step in steps for s in step.spans] if steps else "any"
        for end in ("source", "destination")
        for steps in ([s for s in held.head if isinstance(s, PassUnless) and s.end == end],)
    }
    inside = [
        [_span(a), _span(b)]
        for step in held.head
        if isinstance(step, PassBetween)
        for a, b in step.pairs
    ]
    return {
        "access_list": 2,
        "point": held.point,
        "matches": "tags",
        "stateful": held.stateful,
        "source_tag": (
            "address" if Blank() in held.head else "frame" if all(looks) else "bindings"
        ),
        "from": sides["source"],
        "toward": sides["destination"],
        "not_inside": inside,
        "own": [_span(s) for s in held.own],
        "outside": dict(zip(("action", "would"), held.outside, strict=True)),
        "groups": _groups(held.names),
        "source_bindings": [_binding(r) for r in held.source_bindings],
        "destination_bindings": [_binding(r) for r in held.destination_bindings],
        "sources": list(held.sources),
        "destinations": list(held.destinations),
        "entries": [
            {
                "from": "any" if e.sources is None else sorted(e.sources),
                "to": "any" if e.destinations is None else sorted(e.destinations),
                **_entry(e.entry),
            }
            for e in held.entries
        ],
    }


def _groups(names: Mapping[int, str]) -> list[dict[str, Any]]:
    return [{"tag": tag, "group": name} for tag, name in sorted(names.items())]


def _prefix(prefix: Prefix) -> str:
    return span_text(prefix.family, prefix.start, prefix.end)


def _span(span: Span | Range) -> str:
    return span_text(span.family, span.start, span.end)


def _binding(held: Range) -> dict[str, Any]:
    return {"addresses": _span(held), "tag": held.tag}


def _entry(entry: ListEntry) -> dict[str, Any]:
    return {
        "packets": "any" if entry.region is None else _packets(entry.region),
        "readable": entry.readable,
        "action": entry.action,
        "would": entry.would,
        "log": entry.log,
        "answer": entry.answer,
        "keys": list(entry.keys),
        "permissions": list(entry.words),
    }


def _packets(region: Region) -> dict[str, Any]:
    return {
        "families": list(region.families),
        "protocols": [list(r) for r in region.protocols],
        "source_ports": [list(r) for r in region.sources],
        "destination_ports": [list(r) for r in region.destinations],
    }
