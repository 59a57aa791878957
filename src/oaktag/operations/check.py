"""``check``: the files agree; findings about endpoints, groups, bindings and segments."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import date

import numpy as np

from oaktag.core.addresses import may_be_a_host
from oaktag.core.bindings import differing
from oaktag.core.domains import name_of, origin_of
from oaktag.core.placement import hosted_places
from oaktag.errors import WorkspaceError
from oaktag.findings import Finding, finding
from oaktag.located import Location
from oaktag.operations.adopting import contested_by, not_its_own
from oaktag.operations.json_parts import Document
from oaktag.operations.members import endpoint_json
from oaktag.operations.model import Model
from oaktag.operations.network import network_findings
from oaktag.operations.severities import Checked, borne

#: Within so many days a pin ends soon.
SOON = 30


Progress = Callable[[str], None]


def check(model: Model, progress: Progress | None = None) -> Checked:
    """All findings, in the order of files and lines."""
    return borne(model, "check", findings(model, progress))


def findings(model: Model, progress: Progress | None = None) -> list[Finding]:
    """All findings, as they are before the workspace weighs them."""
    return [
        *_groups(model), *_unassigned(model), *_rules(model), *_pins(model), *_endpoints(model),
        *_segments(model), *_bindings(model), *_sessions(model), *_domains(model),
        *network_findings(model, progress),
    ]  # fmt: skip


def clashes(error: WorkspaceError) -> Checked:
    """Files that contradict each other, as findings of ``check``."""
    found = [
        finding("OT100", p.location, p.message, p.expected or "make the files agree")
        for p in error.problems
    ]
    if error.count > len(found):
        told = f"{error.count - len(found):,} more faults were found, and are not listed"
        found.append(finding("OT100", found[-1].location, told, "mend the first ones"))
    return Checked("check", findings=[f.as_json() for f in found], accepted=[])


def _domains(model: Model) -> Iterator[Finding]:
    """Of what other domains share: what is not theirs, and what has no name here."""
    config, index = model.files.config, model.groups.index
    documents = {shared.origin: shared for shared in model.files.adopted}
    for adopt in config.adopt:
        place = config.file.place(adopt.node)
        shared = documents.get(adopt.origin)
        if shared is None:
            continue
        for told in contested_by(model, adopt, shared):
            yield not_its_own(place, adopt.origin, told)
        for group in shared.groups:
            name = name_of(adopt.origin, group.id)
            if name not in index:
                yield finding(
                    "OT502", place,
                    f"{adopt.origin} shares {group.id}, and there is no group {name}: its "
                    f"{len(group.prefixes)} prefixes count for nobody",
                    "oaktag pull --write gives it a tag; groups: names those that are adopted",
                )  # fmt: skip
    told_of = {name_of(s.origin, g.id) for s in documents.values() for g in s.groups}
    for one in model.groups.all:
        if origin_of(one.id) and one.id not in told_of:
            yield finding(
                "OT503", one.location, f"no document that is adopted has the group {one.id}",
                "oaktag domains tells more; retire it if it is over",
            )  # fmt: skip


def _groups(model: Model) -> Iterator[Finding]:
    given = model.assignment.group
    bound = set(model.registry.in_force.tags.tolist())
    nodes = {n.group for n in model.network.nodes.values() if n.addresses}
    addressed = nodes | {p.group for p in model.prefix_pins}
    for index, group in enumerate(model.groups.all):
        if not index:
            continue
        rows = np.flatnonzero(given == index)
        if group.tag is None:
            yield finding(
                "OT213", group.location, f"the group {group.id} has no number in the files",
                "oaktag groups --number --write writes the next one",
            )  # fmt: skip
        if not len(rows) and group.split_from:
            who = next((p.endpoint for p in model.files.assignments.pins if p.group == index), "")
            yield finding(
                "OT217", group.location,
                f"the group {group.id} was split off from {group.split_from} for a while, and "
                "nobody is in it any more",
                f"oaktag unpin {who or group.id} --write takes it out, with its pin and its lines",
            )  # fmt: skip
        elif not len(rows) and index not in addressed and not origin_of(group.id):
            yield finding(
                "OT201", group.location, f"nobody is in the group {group.id}",
                "oaktag members --unassigned shows who nearly is",
            )  # fmt: skip
        elif len(rows) and model.groups.tag(index) not in bound:
            stable = model.files.endpoints.stable[rows].any()
            yield finding(
                "OT202", group.location,
                f"the group {group.id} has {len(rows)} members and no binding",
                "give its stable members an address in the inventory" if stable
                else "no address of theirs is stable: their bindings come from sessions alone",
            )  # fmt: skip


def _unassigned(model: Model) -> Iterator[Finding]:
    for row in np.flatnonzero(model.assignment.group < 0).tolist():
        said = endpoint_json(model, row)
        yield finding(
            "OT203", model.files.endpoints.location(row),
            f"nothing assigns {said['kind']} {said['endpoint']} to a group",
            _near_text(said["near"]), {"endpoint": said["endpoint"], "near": said["near"]},
        )  # fmt: skip


def _near_text(near: list[Document]) -> str:
    if not near:
        return "a rule or a pin in assignments.yaml would"
    miss = min(near, key=lambda n: not (n["unsure"] or n["attribute"] == "unless"))
    rule = f"the rule for {miss['group']} ({miss['file']}:{miss['line']})"
    if miss["attribute"] == "unless":
        return f"{rule} would, but its unless keeps it out"
    if miss["unsure"]:
        return f"{rule} would, were its {miss['attribute']} known more surely"
    return f"{rule} nearly does: only {miss['attribute']} does not fit"


def _rules(model: Model) -> Iterator[Finding]:
    assignment = model.assignment
    attributes = set(model.files.endpoints.columns)
    lost: dict[int, set[str]] = {}
    for number, name in assignment.lost.values():
        lost.setdefault(number, set()).add(name)
    for number, names in sorted(lost.items()):
        rule = assignment.rules[number]
        yield finding(
            "OT212", rule.location,
            f"the rule for {rule.template} comes to {', '.join(sorted(names))}, and there is no "
            "such group",
            "oaktag groups --number offers it; until then nobody else takes these endpoints",
        )  # fmt: skip
    for number, rule in enumerate(assignment.rules):
        group = rule.template or model.groups.all[rule.give].id
        matched = assignment.rows_of(number)
        asked = (c.attribute for c in (*rule.when, *rule.unless))
        for attribute in dict.fromkeys([*rule.named, *asked]):
            if attribute not in attributes:
                yield finding(
                    "OT209", rule.location,
                    f"no source gives the attribute {attribute!r} that the rule for "
                    f"{group} asks for",
                    "see the header of the inventory files",
                )  # fmt: skip
        if not len(matched):
            yield finding(
                "OT205", rule.location, f"the rule for {group} matches nobody",
                "mend its conditions, or take it out",
            )  # fmt: skip
        elif not (assignment.rule == number).any() and number not in lost:
            row = int(matched[0])
            first = int(assignment.lost[row][0] if row in assignment.lost else assignment.rule[row])
            by = assignment.rules[first].location if first >= 0 else "pins"
            yield finding(
                "OT206", rule.location,
                f"everybody whom the rule for {group} matches is taken before it, by {by}",
                "move it up, or take it out",
            )  # fmt: skip


def _pins(model: Model) -> Iterator[Finding]:
    """Pins that are over, or nearly."""
    given = model.files.assignments
    told = [(p.endpoint, p.group, p.until, p.location) for p in given.pins]
    told += [(str(p.prefix), p.group, until, p.location) for p, until in given.prefix_pins]
    for who, group, until, place in told:
        if until is None or until > model.today + SOON:
            continue
        if until < model.today and model.groups.all[group].split_from:
            continue  # OT217 speaks of it
        day, name = date.fromordinal(until), model.groups.all[group].id
        if until < model.today:
            yield finding(
                "OT215", place,
                f"the pin of {who} to {name} has expired on {day}, and no longer counts",
                f"oaktag unpin {who} --write takes it out, or give it a later day",
            )  # fmt: skip
        else:
            yield finding(
                "OT216", place, f"the pin of {who} to {name} counts through {day} and then no more",
                "give it a later day if it is still needed",
            )  # fmt: skip


def _endpoints(model: Model) -> Iterator[Finding]:
    endpoints = model.files.endpoints
    owners, addresses = endpoints.addresses_of(np.arange(len(endpoints)))
    order = addresses.order(owners)
    firsts = np.maximum.accumulate(np.where(addresses.fresh(order), np.arange(len(order)), 0))
    holder = np.empty_like(order)
    holder[order] = owners[order[firsts]]
    for at in np.flatnonzero(holder != owners).tolist():
        row, other = int(owners[at]), int(holder[at])
        yield finding(
            "OT207", endpoints.location(row),
            f"{endpoints.ids[row]} has the address {addresses[at]}, and so has "
            f"{endpoints.ids[other]} ({endpoints.location(other)})",
            "correct one of the two",
        )  # fmt: skip
    for row in endpoints.kinds_differ:
        yield finding(
            "OT208", endpoints.location(row),
            f"{endpoints.ids[row]} is of two kinds in two sources; {endpoints.kind(row)} counts",
            "give the two different ids, or list it once",
        )  # fmt: skip
    hosted = hosted_places(model.places)
    for place in model.places.take(~hosted):
        yield finding(
            "OT218", place.location,
            f"{endpoints.ids[place.endpoint]} has the address {place.address}, which no host has: "
            "it is loopback, link-local, multicast, or means no address at all",
            "correct the address",
        )  # fmt: skip
    for node in model.network.nodes.values():
        for address in node.addresses:
            if not may_be_a_host(address.family, address.start):
                yield finding(
                    "OT218", node.location,
                    f"the node {node.name} has the address {address}, which no host has: it is "
                    "loopback, link-local, multicast, or means no address at all",
                    "correct the address",
                )  # fmt: skip
    if model.network.segments:
        for place in model.nowhere:
            yield finding(
                "OT210", place.location,
                f"{endpoints.ids[place.endpoint]} has the address {place.address}, which is on no "
                "segment",
                "add the segment to network.yaml, or correct the address",
            )  # fmt: skip


def _segments(model: Model) -> Iterator[Finding]:
    held = {model.hosts.segments[n] for n in np.unique(model.hosts.segment).tolist() if n >= 0}
    for segment in model.network.segments.values():
        if segment.name not in held and segment.group is None:
            yield finding(
                "OT204", segment.location,
                f"nobody we know is on the segment {segment.name}",
                "list who is there, give the segment a tag, or take it out",
            )  # fmt: skip


def _bindings(model: Model) -> Iterator[Finding]:
    pinned = dict.fromkeys(p.node for p in model.prefix_pins if p.node is not None)
    tables = [model.registry_bindings, *(model.knowledge.at(n).bindings for n in pinned)]
    pairs = {(a.location, b.location, b.prefix): (a, b) for t in tables for a, b in differing(t)}
    for a, b in pairs.values():
        tags = f"{model.groups.name(a.tag)} and {model.groups.name(b.tag)}"
        place: Location = b.location
        yield finding(
            "OT211", place, f"{b.source} bindings of {b.prefix} say {tags} ({a.location})",
            "one of them should go",
        )  # fmt: skip


def _sessions(model: Model) -> Iterator[Finding]:
    for name, place in model.files.inventory.strangers:
        yield finding(
            "OT214", place, f"no source has the endpoint {name!r} of this session; it is ignored",
            "add it to the inventory, or correct the id",
        )  # fmt: skip
