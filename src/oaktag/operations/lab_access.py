"""``lab log-in`` and ``lab log-off``: somebody logs in at an access node of the lab, by real RADIUS
packets from there to a listener at the registry; what that keeps makes the lab another.

The listener answers by the files that the lab is made from, and has a store of the lab's own: the
workspace's is not touched.
"""

from __future__ import annotations

import secrets
import time
from dataclasses import dataclass
from typing import Any, ClassVar

from oaktag.core.addresses import WIDTH, Prefix, address_text, parse_address
from oaktag.core.network import Segment
from oaktag.errors import NotPossibleHere, UsageError
from oaktag.lab.handle import Held, Lab
from oaktag.near import perhaps
from oaktag.operations.lab import held_by, lab_of, with_people
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row

#: What a listener in a lab is, to the lab.
MODULE = "oaktag.operations.lab_listener"
#: So many addresses of a segment are tried for one that is free.
TRIED = 4096


@dataclass(frozen=True, eq=False, repr=False)
class LabAccess(Result):
    """What became of a log-in, or a log-off, in the lab."""

    endpoint: str
    sessions: list[Row]
    things: list[Row]
    tables: list[Row]
    ended: int
    command: str = "lab log-in"
    shown_by: ClassVar[str] = "lab"
    table: ClassVar[str] = "sessions"

    @property
    def done(self) -> bool:
        """Whether all was accepted and is kept."""
        return all(s["accepted"] and s["acknowledged"] for s in self.sessions)


def log_in(model: Model, who: str, segment: str, address: str | None = None) -> LabAccess:
    """Somebody logs in on a segment of the lab.

    Args:
        model: the folder's workspace; its lab may be of an older version.
        who: an endpoint.
        segment: where; its node asks for the group, and tells of the session.
        address: the address that is given out; one that is free by default.

    Raises:
        UsageError: there is no such endpoint, segment or address, or it is not in the lab.
        OakTagError: no lab is up.
    """
    lab = lab_of(model)
    was, broken, held = held_by(lab, model.files.root)
    if who not in was.files.endpoints.index:
        hint = perhaps(who, was.files.endpoints.index)
        raise UsageError(f"no source has an endpoint {who!r}{hint and f'; {hint}'}")
    there = was.network.segments.get(segment)
    if there is None:
        hint = perhaps(segment, was.network.segments)
        raise UsageError(f"no segment of the lab is called {segment!r}{hint and f'; {hint}'}")
    if ("node", there.node) in broken:
        raise UsageError(f"{there.node} is broken in the lab; oaktag lab heal mends it")
    prefix = _free(was, there) if address is None else _asked(was, there, address)
    session = {
        "endpoint": who, "node": there.node, "segment": segment, "address": str(prefix),
        "session": secrets.token_hex(6),
    }  # fmt: skip
    return _told(lab, was, held, who, "log-in", [session])


def log_off(model: Model, who: str) -> LabAccess:
    """Somebody who logged in in the lab logs off, wherever that is.

    Raises:
        UsageError: nobody of that name is logged in there.
        OakTagError: no lab is up.
    """
    lab = lab_of(model)
    was, _, held = held_by(lab, model.files.root)
    mine = [s for s in lab.kept("logged-in") or () if s["endpoint"] == who]
    if not mine:
        known = sorted({s["endpoint"] for s in lab.kept("logged-in") or ()})
        told = f"these are: {', '.join(known)}" if known else "oaktag lab log-in comes first"
        raise UsageError(f"{who} is not logged in in the lab; {told}")
    return _told(lab, was, held, who, "log-off", mine)


def _told(
    lab: Lab, was: Model, held: Held, who: str, what: str, sessions: list[dict[str, Any]]
) -> LabAccess:
    """Tell the listener of sessions, and make the lab what it keeps."""
    try:
        import pyrad  # noqa: F401
        import sqlalchemy  # noqa: F401
    except ModuleNotFoundError as error:
        raise NotPossibleHere(
            f"a log-in in the lab needs the package {error.name}: pip install 'oaktag[live]'"
        ) from None
    spaces = {s["node"]: lab.ask("space", name=s["node"])["space"] for s in sessions}
    place = lab.folder
    assert place is not None, "a lab is up"
    for name, data in held.files.items():
        path = place / "listener" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
    said = lab.doing(
        MODULE,
        {
            "what": what,
            "day": was.today,
            "sessions": sessions,
            "spaces": spaces,
            "files": list(held.files),
        },
    )
    answers: list[Row] = said["answers"]
    gone = {s["session"] for s in sessions}
    left = [s for s in lab.kept("logged-in") or () if s["session"] not in gone]
    done = [a for a in answers if a["accepted"] and a["acknowledged"]]
    if what == "log-in":
        left += [s for s in sessions if s["session"] in {a["session"] for a in done}]
    lab.keep("logged-in", left)
    moment = max(held.facts["moment"] or 0, time.time_ns() // 1000)
    changed = with_people(lab, was, held, said["people"], moment)
    known = lab.ask("state")["known"]
    for answer in answers:
        tags = {
            node: tag
            for node, rows in known.items()
            for prefix, tag, source, _ in rows
            if prefix == answer["address"] and source == "session"
        }
        answer["known"] = [{"node": node, "tag": tag} for node, tag in tags.items()]
    return LabAccess(
        endpoint=who, sessions=answers, things=changed.things, tables=changed.tables,
        ended=changed.ended, command=f"lab {what}",
    )  # fmt: skip


def _asked(model: Model, segment: Segment, text: str) -> Prefix:
    """An address that was asked for."""
    try:
        family, number = parse_address(text)
    except ValueError as error:
        raise UsageError(str(error)) from None
    where = model.network.segment_at(family, number)
    if where != segment.name:
        raise UsageError(f"{text} is on {where or 'no segment'}, not on {segment.name}")
    if (family, number) in _taken(model):
        raise UsageError(f"{text} is another's; leave it out for one that is free")
    return Prefix(family, number, WIDTH[family])


def _free(model: Model, segment: Segment) -> Prefix:
    """An address of a segment that nobody has."""
    taken = _taken(model)
    for prefix in segment.prefixes:
        for number in range(prefix.start + 1, min(prefix.end, prefix.start + TRIED)):
            here = model.network.segment_at(prefix.family, number) == segment.name
            if here and (prefix.family, number) not in taken:
                return Prefix(prefix.family, number, WIDTH[prefix.family])
    first = segment.prefixes[0]
    example = address_text(first.family, first.start + 1)
    raise UsageError(f"{segment.name} has no address that is free; name one, as {example}")


def _taken(model: Model) -> set[tuple[int, int]]:
    taken = {(p.address.family, p.address.start) for p in model.places}
    nodes = model.network.nodes.values()
    return taken | {(a.family, a.start) for n in nodes for a in n.addresses}
