"""``review``: findings about the matrix, each with an example packet that was decided first.

One of them, isolation that no point enforces, needs the network as well.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date
from typing import NamedTuple

import numpy as np

from oaktag.core.groups import STAR
from oaktag.core.lines import Line
from oaktag.core.packets import Box, Packet
from oaktag.core.painting import distinct
from oaktag.core.reach import Flow, Reach
from oaktag.core.review import (
    Shadowed,
    find_contradictions,
    find_redundant,
    find_shadowed,
    find_unheard,
)
from oaktag.core.service_text import packet_text
from oaktag.english import listed
from oaktag.findings import Finding, finding
from oaktag.operations.json_parts import Document, packet_json
from oaktag.operations.model import Model
from oaktag.operations.severities import Checked, borne
from oaktag.operations.unused_names import unused
from oaktag.workspace.expectations_file import Expectation

#: Within so many days a line expires soon.
SOON = 30
#: What routers send back where a packet is too big (RFC 1191, section 4; RFC 8201, section 4).
TOO_BIG = (Box(4, (1, 1), (3, 3), (4, 4)), Box(6, (58, 58), (2, 2), (0, 0)))


def review(model: Model) -> Checked:
    """All findings about the matrix, in the order of files and lines."""
    return borne(model, "review", findings(model))


def findings(model: Model) -> list[Finding]:
    """Everything that section 4 names and that needs no paths."""
    model.matrix.square()
    return [
        *(_shadowed(model, s) for s in find_shadowed(model.matrix)),
        *_contradicting(model),
        *_redundant(model),
        *_swapped(model),
        *_too_big(model.cut_along(TOO_BIG)),
        *unused(model),
        *_expiring(model),
        *_isolating(model),
    ]


def _shadowed(model: Model, found: Shadowed) -> Finding:
    line = model.lines[found.line]
    permission = model.files.policy.permissions[line.permission]
    first = found.mask
    if found.entry is None and permission.entries:
        first = model.atoms.mask(permission.entries[0].boxes)
    by = [model.lines[n].location for n in found.by if n != found.line]
    hiding = listed([str(place) for place in by], 3) if by else ""
    verb = "decides" if len(by) == 1 else "decide"
    if found.entry is None:
        code, what = "OT301", f"no packet reaches the line {_way(model, line)}"
    else:
        entry = permission.entries[found.entry]
        code = "OT302"
        entry_text = f"{entry.action}: {entry.text}"
        what = f"no packet reaches the entry {entry_text} of the line {_way(model, line)}"
        if not by:
            hiding, verb = f"an earlier entry of {permission.name}", "decides"
    narrower = "move it above, make what hides it narrower, or take it out"
    return finding(
        code, line.location,
        f"{what}; {hiding} {verb} all of its packets first",
        f"{narrower}: oaktag cell {_names(model, found.cell)} shows the order",
        _example(model, found.cell, model.atoms.packet(first), found.by, found.line),
    )  # fmt: skip


def _contradicting(model: Model) -> Iterator[Finding]:
    for found in find_contradictions(model.matrix):
        first, second = model.lines[found.first], model.lines[found.second]
        yield finding(
            "OT303", second.location,
            f"the line {_way(model, second)} contradicts {first.location}, {_way(model, first)}: "
            "both are equally specific, and the order in the file decides",
            f"make one of them narrower, or take it out: oaktag cell {_names(model, found.cell)} "
            "shows both",
            _example(
                model, found.cell, model.atoms.packet(found.mask), (found.first,), found.second
            ),
        )  # fmt: skip


def _redundant(model: Model) -> Iterator[Finding]:
    for number in find_redundant(model.matrix):
        line = model.lines[number]
        yield finding(
            "OT304", line.location,
            f"the line {_way(model, line)} changes nothing: without it every packet is decided "
            "the same",
            "take it out, or let its permission log what it is there to show",
        )  # fmt: skip


# -- swapped -------------------------------------------------------------------------------------


def _swapped(model: Model) -> Iterator[Finding]:
    """Lines of a pair of their own that has none the other way, where that is what is meant."""
    own = {(line.source, line.destination) for line in model.lines if line.counts(model.today)}
    missed, kinds = _missed(model), _kinds(model)
    for line in model.lines:
        back = line.destination, line.source
        ends = {line.source, line.destination}
        if not line.counts(model.today) or line.way == "both" or back in own or len(ends) == 1:
            continue
        if not all(word in model.groups.index or word == STAR for word in ends):
            continue
        why = _expected_back(model, line, missed) or _served_by_users(model, line, kinds)
        if why:
            yield finding(
                "OT305", line.location,
                f"source and destination of {_way(model, line)} look swapped: {why}",
                f"exchange them, or add the line {line.destination} → {line.source}",
            )  # fmt: skip


class _Missed(NamedTuple):
    """An expectation that fails, what it asks for, and of which sources and destinations."""

    expectation: Expectation
    asked: int
    sources: set[int]
    destinations: set[int]


def _missed(model: Model) -> list[_Missed]:
    found = []
    for expectation in (*model.files.expectations, *model.files.keep_open):
        asked = model.atoms.mask(expectation.boxes)
        if expectation.kind not in ("at-least", "exactly", "allowed") or not asked:
            continue
        sources = set(model.groups_of(expectation.source))
        destinations = set(model.groups_of(expectation.destination))
        if any(asked & ~_allowed(model, (s, d)) for s in sources for d in destinations):
            found.append(_Missed(expectation, asked, sources, destinations))
    return found


def _expected_back(model: Model, line: Line, missed: list[_Missed]) -> str | None:
    """An expectation that fails and asks for just what this line allows, the other way."""
    effect = model.matrix.effects[line.permission]
    for expectation, asked, sources, destinations in missed:
        if asked & ~effect.allows or not sources <= set(model.groups.members(line.destination)):
            continue
        if destinations <= set(model.groups.members(line.source)):
            ends = f"{expectation.source.word} → {expectation.destination.word}"
            return f"{expectation.location} expects it of {ends}, and that fails"
    return None


def _served_by_users(model: Model, line: Line, kinds: list[set[str]]) -> str | None:
    """Whether servers alone are to reach what users alone offer; or servers alone what everybody
    offers, or everybody what users alone offer, where the services are named."""
    allows = model.matrix.effects[line.permission].allows
    if not allows:
        return None
    everybody = STAR in (line.source, line.destination)
    if everybody and allows == model.atoms.full:
        return None
    told = []
    for word, kind in ((line.source, "server"), (line.destination, "user")):
        if word != STAR and kinds[model.groups.index[word]] != {kind}:
            return None
        told += [f"all of {word} are {kind}s"] * (word != STAR)
    return ", and ".join(told)


def _kinds(model: Model) -> list[set[str]]:
    """Of which kinds the members of each group are."""
    found: list[set[str]] = [set() for _ in range(len(model.groups))]
    kind = model.files.endpoints.columns.get("kind")
    if kind is not None and len(kind.codes):
        for group, code in distinct(model.assignment.group, kind.codes)[0]:
            found[group].add(kind.values[code][0])
    return found


# -- other findings ------------------------------------------------------------------------------


def _too_big(model: Model) -> Iterator[Finding]:
    """Lines that deny what routers answer to a sender, where the sender may send TCP or UDP."""
    flows = model.atoms.touched([Box(0, (6, 6)), Box(0, (17, 17))])
    for found in find_unheard(model.matrix, model.atoms.mask(TOO_BIG), flows):
        line = model.lines[found.line]
        here, there = (model.groups.all[g].id for g in found.cell)
        yield finding(
            "OT306", line.location,
            f"the line {_way(model, line)} denies the ICMP that tells {there} when its "
            f"packets to {here} are too big: large ones vanish without a word",
            "allow icmp4/3/4 and icmp6/2 before it denies the rest",
            _example(model, found.cell, model.atoms.packet(found.mask), (found.line,), -1),
        )  # fmt: skip


def _isolating(model: Model) -> Iterator[Finding]:
    """Lines that keep members of a group apart, where some meet without any point between."""
    if not model.network.points:
        return
    told: set[int] = set()
    for group in model.matrix.denied_to_itself():
        pending: dict[int, int] = {}
        for piece in model.matrix.pieces(group, group, "action"):
            number = model.matrix.rows[piece.row].line
            if piece.row >= 0 and piece.action == "deny" and number not in told:
                pending[number] = pending.get(number, 0) | piece.mask
        for flow in _unjudged(model, group) if pending else ():
            family, leaking = next((f, m) for f, m in flow.leaks.items() if m)
            for number in [n for n, mask in pending.items() if mask & leaking]:
                common = leaking & pending.pop(number)
                told.add(number)
                line = model.lines[number]
                name, (source, _), (destination, _) = (
                    model.groups.all[group].id, flow.source, flow.destination,
                )  # fmt: skip
                place = f"in {source}" if source == destination else f"{source} and {destination}"
                yield finding(
                    "OT311", line.location,
                    f"the line {_way(model, line)} keeps members of {name} apart, but between two "
                    f"of them {place} no point judges",
                    "let a point judge there (inside: true), or part them by segments",
                    _example(
                        model, (group, group), model.atoms.packet(common, family), (number,), -1
                    ),
                )  # fmt: skip
            if not pending:
                break


def _unjudged(model: Model, group: int) -> Iterator[Flow]:
    """Rows inside a group that no point judges, and that leak."""
    members = model.hosts.take(np.flatnonzero(model.hosts.group == group))
    held = model.state.classes(members)
    for flow in Reach(model.state, held, held).flows():
        blind = {r.why for r in flow.reasons} <= {"no-point", "inside", "direction"}
        if flow.effect == "leak" and flow.result == "unenforced" and blind:
            yield flow


def _expiring(model: Model) -> Iterator[Finding]:
    for line in model.lines:
        if line.expires is None or line.mode == "off":
            continue
        day = date.fromordinal(line.expires)
        if line.expires < model.today:
            yield finding(
                "OT309", line.location,
                f"the line {_way(model, line)} has expired on {day}, and no longer counts",
                "take it out, or give it a later day",
            )  # fmt: skip
        elif line.expires <= model.today + SOON:
            yield finding(
                "OT310", line.location, f"the line {_way(model, line)} expires on {day}",
                "give it a later day if it is still needed",
            )  # fmt: skip


def _way(model: Model, line: Line) -> str:
    name = model.files.policy.permissions[line.permission].name
    return f"{line.source} → {line.destination} ({name})"


def _names(model: Model, cell: tuple[int, int]) -> str:
    return " ".join(model.groups.all[g].id for g in cell)


def _allowed(model: Model, cell: tuple[int, int]) -> int:
    return model.matrix.forms[model.matrix.form(*cell)]


def _example(
    model: Model, cell: tuple[int, int], packet: Packet, by: tuple[int, ...], but: int
) -> Document:
    source, destination = (model.groups.all[g].id for g in cell)
    places = [model.lines[n].location for n in by if n != but]
    return {
        "source": source,
        "destination": destination,
        "packet": packet_json(packet),
        "text": packet_text(*packet),
        "by": [{"file": p.file, "line": p.line} for p in places],
    }
