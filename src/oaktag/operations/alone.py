"""Access for one endpoint alone, for a while: ``grant WHO DST SERVICE --only --until DAY``.

WHO is split off into a group of its own that fares exactly as the old one did, which is proved for
both answers of every cell, and has one line more. A pin puts WHO there and ends by itself; what is
then left over is a finding (OT217), and ``unpin`` takes all of it out again.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from oaktag.core.matrix import ANSWERS
from oaktag.core.ranges import distinct
from oaktag.errors import UsageError, WorkspaceError
from oaktag.operations.change import Change, made
from oaktag.operations.gains import together
from oaktag.operations.lines import granted
from oaktag.operations.model import Model
from oaktag.workspace import edits
from oaktag.workspace.assignments_file import FILE as ASSIGNMENTS
from oaktag.workspace.config_file import FILE as CONFIG
from oaktag.workspace.load import Files
from oaktag.workspace.splitting import split
from oaktag.workspace.yaml_edits import quoted, with_issued_to, with_pins


def grant_alone(
    model: Model,
    who: str,
    destination: str,
    service: str,
    fields: Mapping[str, str],
    *,
    write: bool,
    anyway: bool = False,
) -> Change:
    """The smallest change that allows one endpoint alone a service, through ``expires``.

    Raises:
        UsageError: WHO is no endpoint in a group, is pinned, or cannot be split off exactly; no
            day is said; or as ``grant``.
    """
    until = fields.get("expires")
    if not until:
        raise UsageError("--only is for a while: say the last day, as in --until 2027-01-31")
    row = model.files.endpoints.index.get(who)
    if row is None:
        model.end(f"endpoint:{who}")
        raise UsageError(f"{who!r} is no endpoint; --only opens to one endpoint alone")
    old = int(model.assignment.group[row])
    if old <= 0:
        raise UsageError(f"{who} is in no group; assign it first: oaktag pin {who} --to GROUP")
    pinned = next((p for p in model.files.assignments.pins if p.endpoint == who), None)
    if pinned is not None:
        raise UsageError(
            f"{who} is pinned already ({pinned.location}); oaktag unpin {who}, or grant to the "
            f"group {model.groups.all[old].id}"
        )
    if granted(model, who, destination, service, fields, "allow") is None:
        said = made(model, "grant", {}, write=False)
        told = f"{service} is allowed there already"
        return replace(said, already=told, others=[], alone=None)
    name, changed = _apart(model, old, who)
    parted = Model(_tried(model, changed), model.today, model)
    proved_alike(model, parted, model.groups.all[old].id, name)
    pin = {"endpoint": who, "group": name, "until": until}
    if note := fields.get("note"):
        pin["note"] = note
    changed[ASSIGNMENTS] = with_pins(parted.files.folder.text(ASSIGNMENTS), [pin])
    pinned_there = Model(_tried(model, changed), model.today, model)
    if pinned_there.assignment.group[row] != pinned_there.groups.index[name]:
        raise UsageError(f"{until} is over; --until is the last day on which it is allowed")
    line = granted(pinned_there, who, destination, service, fields, "allow")
    if line is not None:
        changed |= line.changed
    shown = made(model, "grant", changed, write=write, anyway=anyway, since=pinned_there)
    group = pinned_there.groups.index[name]
    alone = {
        "endpoint": who, **pinned_there.group_json(group), "fares_as": model.groups.all[old].id,
        "cells": 2 * len(pinned_there.groups) - 1, "until": until,
    }  # fmt: skip
    return replace(shown, already=None, others=[], alone=alone)


def _tried(model: Model, changed: dict[str, str]) -> Files:
    try:
        return edits.try_out(model.files, changed)
    except WorkspaceError as error:
        raise edits.checked(error) from None


def _apart(model: Model, old: int, who: str) -> tuple[str, dict[str, str]]:
    """A name for the group of one endpoint, and the files in which it fares as the old one."""
    groups = model.groups
    group = groups.all[old]
    slug = re.sub(r"[^a-z0-9]+", "-", who.lower()).strip("-")
    base = f"{group.id}-{slug}"
    taken = {*groups.index, *groups.sets, *model.files.endpoints.index}
    name = next(n for n in (base, *(f"{base}-{k}" for k in range(2, 999))) if n not in taken)
    title = quoted(f"{group.title or group.id}, for {who} alone")
    return name, apart(model, old, name, {"split_from": group.id, "title": title})


def apart(model: Model, old: int, name: str, fields: Mapping[str, str]) -> dict[str, str]:
    """The files in which a new group fares as an old one, with a number that is issued.

    Args:
        model: the workspace.
        old: the old group's index.
        name: the new one's id.
        fields: what else the new one's item says, as YAML.

    Raises:
        UsageError: there is no number for it.
    """
    groups = model.groups
    group = groups.all[old]
    numbers = groups.numbering.issue(
        [groups.tag(g) for g in range(len(groups)) if groups.tag(g) > 0], 1
    )
    if not numbers:
        told = "no number is left for a group of its own; widen tags: issue in oaktag.yaml"
        if not groups.numbering.low:
            told = (
                "a group of its own needs a number: write tags: {issue: 2000-2999} in oaktag.yaml"
            )
        raise UsageError(told)
    fields = {"tag": f"issued {numbers[0]}", **fields}
    if group.owner:
        fields["owner"] = quoted(group.owner)
    if group.traits:
        listed = {k: ", ".join(map(quoted, v)) for k, v in group.traits.items()}
        traits = (f"{k}: {v if len(group.traits[k]) == 1 else f'[{v}]'}" for k, v in listed.items())
        fields["traits"] = f"{{{', '.join(traits)}}}"
    sets = {s for s in groups.sets if old in groups.members(s)}
    changed = split(model.files, group.id, name, fields, sets)
    text = changed.get(CONFIG, model.files.folder.text(CONFIG))
    changed[CONFIG] = with_issued_to(text, numbers[0])
    return changed


def proved_alike(was: Model, now: Model, old: str, new: str) -> None:
    """That a group fares exactly as the one it was split from, in both directions and in both
    answers, and that all other cells stay.

    Raises:
        UsageError: with the first cell that would differ.
    """
    was, now = together(was, now)
    at = was.groups.index[old]
    like = np.array([*range(len(was.groups)), at])  # the new group stands behind all others
    for answer in ANSWERS:
        before = getattr(was.matrix, f"{answer}_form")[np.ix_(like, like)].astype(np.int64)
        pairs = (before << 32) | getattr(now.matrix, f"{answer}_form")
        other = [
            pair
            for pair in distinct(pairs.ravel()).tolist()
            if was.matrix.forms[pair >> 32] != now.matrix.forms[pair & 0xFFFFFFFF]
        ]
        for s, d in np.argwhere(np.isin(pairs, other)).tolist()[:1]:
            names = [now.groups.all[g].id for g in (s, d)]
            raise UsageError(
                f"{old} cannot be parted exactly: {' → '.join(names)} would not fare as "
                f"{was.groups.all[like[s]].id} → {was.groups.all[like[d]].id}, by the order of "
                "lines for itself and for sets; split it by hand"
            )
