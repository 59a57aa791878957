"""Access lists as data of the YANG model of RFC 8519, in JSON (RFC 7951).

An ACL for each family. Lists by tags add what the module ``oaktag-acl`` (in ``oaktag/yang``) says:
the tables, what is judged, tags, both answers, keys. Lists by addresses are plain RFC 8519, and the
name of an ACE says what fits nowhere else: its number, what would be, the severity, as many keys as
there is room for.

``ietf_acl_reader`` reads such text back. It shares nothing with this file but how lines are laid
out.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from oaktag.core.accesslist import DEFAULT_KEY, Blank, ListEntry, Look, PassBetween, PassUnless
from oaktag.core.addressed import AddressEntry, AddressList
from oaktag.core.addresses import Prefix, Range, Span, span_text
from oaktag.core.flatlist import FlatEntry, FlatList
from oaktag.core.packets import ICMP_OF, TOP, Ranges, Region
from oaktag.dialects.json_lines import Path, text_of
from oaktag.errors import UnwritableEntry

#: Protocols whose ports RFC 8519 names, and the one whose ports the module does.
_PORTS = {6: "tcp", 17: "udp"}
_SCTP = 132
#: The most letters of an ACE's name.
_MOST_NAME = 64
_WHOLE: Ranges = ((0, TOP),)
_TYPES: Ranges = ((0, 255),)


def opened(path: Path) -> bool:
    """What has a line for each key: all but ACEs and rows of tables."""
    return len(path) < 5 and "oaktag-acl:point" not in path[:-1] and "ace" not in path


def write(held: FlatList | AddressList) -> str:
    """The list as JSON text; the same list gives the same bytes.

    Raises:
        UnwritableEntry: an entry that RFC 8519 cannot express.
    """
    acls: dict[str, Any] = {"acl": [_acl(held, family) for family in (4, 6)]}
    if isinstance(held, FlatList):
        acls["oaktag-acl:point"] = _point(held)
    return text_of({"ietf-access-control-list:acls": acls}, opened)


#: Of a region for every packet of its family.
_ALL_PROTOCOLS: Ranges = ((0, 255),)


def _acl(held: FlatList | AddressList, family: int) -> dict[str, Any]:
    plain = isinstance(held, AddressList)
    aces: list[dict[str, Any]] = []
    # A list of no cells is for nothing, but an ACL has an entry.
    idle = ListEntry(None, "allow", "allow", keys=(DEFAULT_KEY,))
    for one in held.entries or (FlatEntry(None, None, idle),):
        entry = one.entry
        if entry.region is not None and family not in entry.region.families:
            continue
        if isinstance(one, AddressEntry) and any(
            p is not None and p.family != family for p in (one.source, one.destination)
        ):
            continue
        name = _name(len(aces) + 1, entry) if plain else str(len(aces) + 1)
        matches = _matches(held.point, one, family)
        ace: dict[str, Any] = {"name": name}
        if matches:
            ace["matches"] = matches
        ace["actions"] = _actions(entry, plain=plain)
        aces.append(ace)
    return {
        "name": f"{held.point}-ipv{family}",
        "type": f"ipv{family}-acl-type",
        "aces": {"ace": aces},
    }


# -- one entry -----------------------------------------------------------------------------------


def _matches(point: str, one: FlatEntry | AddressEntry, family: int) -> dict[str, Any]:
    region, readable = one.entry.region, one.entry.readable
    network: dict[str, Any] = {}
    layer: dict[str, Any] = {}
    if region is not None and region.protocols != _ALL_PROTOCOLS:
        ((number, _),) = region.protocols
        network["protocol"] = number
        layer = _layer(point, region, family, number, readable=readable)
    if isinstance(one, AddressEntry):
        for end, prefix in (("destination", one.destination), ("source", one.source)):
            if prefix is not None:
                network[f"{end}-ipv{family}-network"] = _prefix(prefix)
    found: dict[str, Any] = {f"ipv{family}": network} if network else {}
    found |= layer
    if isinstance(one, FlatEntry):
        for end, tags in (("source", one.sources), ("destination", one.destinations)):
            if tags is not None:
                found[f"oaktag-acl:{end}-tag"] = sorted(tags)
    elif any(key.startswith("oaktag-acl:") for key in layer):
        raise UnwritableEntry(f"{point}: RFC 8519 has no match for {region}")
    return found


def _layer(
    point: str, region: Region, family: int, number: int, *, readable: bool
) -> dict[str, Any]:
    """What is matched behind the network's header."""
    axes = region.sources, region.destinations
    if number == ICMP_OF[family]:
        if axes == (_TYPES, _TYPES):
            return {"oaktag-acl:readable": [None]} if readable else {}
        held = zip(("type", "code"), axes, strict=True)
        return {"icmp": {word: axis[0][0] for word, axis in held if axis != _TYPES}}
    if number not in (*_PORTS, _SCTP) or (axes == (_WHOLE, _WHOLE) and not readable):
        return {}
    word = _PORTS.get(number, "oaktag-acl:sctp")
    ports = {
        f"{end}-port": _port(axis)
        for end, axis in zip(("source", "destination"), axes, strict=True)
        if axis != _WHOLE or readable
    }
    return {word: ports}


def _port(axis: Ranges) -> dict[str, Any]:
    ((low, high),) = axis
    if low == high:
        return {"operator": "eq", "port": low}
    return {"lower-port": low, "upper-port": high}


def _actions(entry: ListEntry, *, plain: bool) -> dict[str, Any]:
    refused = entry.answer and entry.action == "deny"
    word = "reject" if refused else {"allow": "accept", "deny": "drop"}[entry.action]
    found: dict[str, Any] = {"forwarding": word}
    if entry.recorded:
        found["logging"] = "log-syslog"
    if plain:
        return found
    if entry.action != entry.would:
        found["oaktag-acl:would"] = entry.would
    if entry.log is not None:
        found["oaktag-acl:severity"] = entry.log
    found["oaktag-acl:key"] = list(entry.keys)
    if entry.words:
        found["oaktag-acl:permission"] = list(entry.words)
    return found


def _name(number: int, entry: ListEntry) -> str:
    """The name of an ACE of a plain list."""
    told = str(number)
    if entry.action != entry.would:
        told += f"-would-{entry.would}"
    if entry.log is not None:
        told += f"-{entry.log}"
    for place, key in enumerate(entry.keys):
        left = len(entry.keys) - place - 1
        more = f"-and-{left + 1}-more" if left else ""
        if len(told) + 1 + len(key) + len(more) > _MOST_NAME:
            return f"{told}-and-{left + 1}-more"
        told += f"-{key}"
    return told


def _prefix(prefix: Prefix) -> str:
    return f"{span_text(prefix.family, prefix.start, prefix.start)}/{prefix.length}"


# -- the point -----------------------------------------------------------------------------------


def _point(held: FlatList) -> dict[str, Any]:
    looks = [s.unless_known for s in held.head if isinstance(s, Look)]
    found: dict[str, Any] = {
        "name": held.point,
        "stateful": held.stateful,
        "source-tag": "address" if Blank() in held.head else "frame" if all(looks) else "bindings",
    }
    for word, end in (("from", "source"), ("toward", "destination")):
        steps = [s for s in held.head if isinstance(s, PassUnless) and s.end == end]
        if steps:
            found[word] = _spans(span for step in steps for span in step.spans)
            found[f"{word}-some"] = [None]
    pairs = [p for step in held.head if isinstance(step, PassBetween) for p in step.pairs]
    found["not-inside"] = [{"from": _span(a), "toward": _span(b)} for a, b in pairs]
    found["own"] = _spans(held.own)
    found["outside"] = held.outside[0]
    if held.outside[0] != held.outside[1]:
        found["outside-would"] = held.outside[1]
    found["group"] = [{"tag": tag, "name": name} for tag, name in sorted(held.names.items())]
    found["source"] = _table(held.source_bindings)
    found["destination"] = _table(held.destination_bindings)
    found["source-tags"] = list(held.sources)
    found["destination-tags"] = list(held.destinations)
    return {word: value for word, value in found.items() if value != []}


def _table(ranges: Sequence[Range]) -> list[dict[str, Any]]:
    return [{"addresses": _span(r), "tag": r.tag} for r in ranges]


def _spans(spans: Iterable[Span]) -> list[str]:
    return [_span(span) for span in spans]


def _span(span: Span | Range) -> str:
    return span_text(span.family, span.start, span.end)
