"""Findings of ``review``: names that nobody uses, and named services that overlap."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import combinations

from oaktag.core.groups import GROUP_ID, STAR
from oaktag.core.service_text import packet_text
from oaktag.findings import Finding, finding
from oaktag.operations.model import Model

_WORD = re.compile(r"[a-z][a-z0-9-]*")


def unused(model: Model) -> Iterator[Finding]:
    """Permissions, services, sets and groups that nobody uses, and services that overlap."""
    yield from _permissions(model)
    yield from _services(model)
    yield from _groups(model)
    yield from _overlapping(model)


def _permissions(model: Model) -> Iterator[Finding]:
    used = {line.permission for line in model.lines}
    for number, permission in enumerate(model.files.policy.permissions):
        if number not in used:
            yield _idle(permission.location, f"no line uses the permission {permission.name}", "it")


def _services(model: Model) -> Iterator[Finding]:
    words = {
        w
        for permission in model.files.policy.permissions
        for entry in permission.entries
        for w in _WORD.findall(entry.text)
    }
    for expectation in (*model.files.expectations, *model.files.keep_open):
        words |= set(_WORD.findall(expectation.text))
    named = model.files.permissions.named
    words |= {part.split("/")[0] for service in named.values() for part in service.parts}
    for name, service in named.items():
        if name not in words:
            yield _idle(service.location, f"no permission uses the service {name}", "it")


def _groups(model: Model) -> Iterator[Finding]:
    said = {w for line in model.lines for w in (line.source, line.destination)} - {STAR}
    for expectation in (*model.files.expectations, *model.files.keep_open):
        said |= {expectation.source.word, expectation.destination.word}
    share = model.files.config.share
    said |= {word for word, _ in share.groups} if share is not None else set()
    network = model.files.folder.text("network.yaml")
    said |= {*_WORD.findall(network), *GROUP_ID.findall(network)}
    sets = model.groups.sets
    pending = [name for name in said if name in sets]
    while pending:  # a set that a used set names is used too
        for part in sets[pending.pop()].parts:
            if isinstance(part, str) and part not in said:
                said.add(part)
                pending += [part] if part in sets else []
    for name, held in sets.items():
        if name not in said:
            yield _idle(held.location, f"no line and no expectation uses the set {name}", "it")
    spoken = {g for word in said if word in sets for g in model.groups.members(word)}
    for number, group in enumerate(model.groups.all[1:], 1):
        if group.id not in said and number not in spoken:
            yield _idle(group.location, f"no line speaks of the group {group.id}", "the group")


def _idle(location: object, message: str, what: str) -> Finding:
    from oaktag.located import Location

    assert isinstance(location, Location)
    return finding("OT307", location, message, f"use {what}, or take {what} out")


def _overlapping(model: Model) -> Iterator[Finding]:
    """Named services that share packets, where neither is made of the other."""
    named = model.files.permissions.named
    held = model.files.permissions.services
    within = {name: _within(model, name) for name in named}
    fine = model.cut_along([b for boxes in held.values() for b in boxes])
    masks = {name: fine.atoms.mask(held[name]) for name in named if name in held}
    for first, second in combinations(masks, 2):
        common = masks[first] & masks[second]
        if not common or first in within[second] or second in within[first]:
            continue
        shared = within[first] & within[second]
        for part in shared:
            common &= ~masks.get(part, 0)
        if common:
            packet = packet_text(*fine.atoms.packet(common))
            yield finding(
                "OT308", named[second].location,
                f"the services {first} and {second} overlap: both hold {packet}",
                "let one be made of the other, or part them",
            )  # fmt: skip


def _within(model: Model, name: str) -> set[str]:
    """The services of which one is made, over all steps."""
    named, found, pending = model.files.permissions.named, set[str](), [name]
    while pending:
        for part in named[pending.pop()].parts:
            if part in named and part not in found:
                found.add(part)
                pending.append(part)
    return found
