"""A group's life in all files, and what changes for whom: ``merge``, ``retire``, ``split``,
``renumber``, and a rule made of conditions."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from decimal import Decimal
from itertools import product

import numpy as np
from numpy.typing import NDArray

from oaktag.core.assignment import AnyOf, Assignment, Compare, Equals, Rule, Test, Within
from oaktag.core.comparison import renamed
from oaktag.core.domains import origin_of
from oaktag.core.groups import UNTAGGED
from oaktag.core.service_text import set_words
from oaktag.errors import UsageError
from oaktag.located import Location
from oaktag.operations.alone import apart, proved_alike
from oaktag.operations.change import Change, free_name, made, stop_on
from oaktag.operations.gains import together
from oaktag.operations.members import parse_conditions
from oaktag.operations.model import Model
from oaktag.operations.result import Row
from oaktag.workspace import edits
from oaktag.workspace.assignments_file import FILE as ASSIGNMENTS
from oaktag.workspace.config_file import FILE as CONFIG
from oaktag.workspace.expectations_file import FILE as EXPECTATIONS
from oaktag.workspace.groups_file import FILE as GROUPS
from oaktag.workspace.leaving import without
from oaktag.workspace.renaming import with_tag_named
from oaktag.workspace.yaml_edits import (
    quoted,
    with_issued_to,
    with_retired,
    with_rule,
    with_rules_parted,
    with_tag,
)


def merge(
    model: Model, old: str, heir: str, *, lines: bool = False, write: bool, anyway: bool = False
) -> Change:
    """Join a group to another: its members are in that one then, and fare as it does.

    Args:
        model: the workspace.
        old: the group that goes, its number retired.
        heir: the group that stays.
        lines: what lines say of the group that goes is said of the other one then.
        write: write it; else it is only shown.
        anyway: also where an expectation fails then.

    Raises:
        UsageError: no such groups, or somebody would come to be elsewhere.
    """
    _group(model, old)
    _group(model, heir)
    for origin in filter(None, map(origin_of, (old, heir))):
        raise UsageError(f"who is in a group of {origin} is for {origin} to say")
    if old == heir:
        raise UsageError(f"{old} cannot be joined to itself")
    changed = without(model.files, old, heir, lines=lines)
    return _told(model, "merge", changed, old, heir, write=write, anyway=anyway)


def retire(model: Model, old: str, *, write: bool, anyway: bool = False) -> Change:
    """Take a group out, with all that names it; its members are where later rules put them.

    Raises:
        UsageError: no such group, or something else hangs on it.
    """
    _group(model, old)
    changed = without(model.files, old, None)
    return _told(model, "retire", changed, old, None, write=write, anyway=anyway)


def split(
    model: Model, old: str, new: str, when: str, *, write: bool, anyway: bool = False
) -> Change:
    """Part a group: those of its members whom conditions take are in a new one then, which fares
    exactly as the old one does, proved; what tells the two apart is written after that.

    Args:
        model: the workspace.
        old: the group that stays.
        new: the id of the new one.
        when: conditions, as ``site=ashgrove, model=SC-*``.
        write: write it; else it is only shown.
        anyway: also where an expectation fails then.

    Raises:
        UsageError: no such group, the name is taken, nobody or everybody is meant, some are in the
            group by a pin, or it cannot be parted so.
    """
    _group(model, old)
    free_name(model, new)
    conditions = parse_conditions(when)
    index, endpoints = model.groups.index[old], model.files.endpoints
    mine = np.flatnonzero(model.assignment.group == index)
    asked = Assignment(endpoints, (Rule(0, conditions, (), Location("--when")),), (), {})
    meant = mine[asked.rule[mine] == 0].tolist()
    if len(meant) in (0, len(mine)):
        some = "nobody" if not meant else "everybody"
        raise UsageError(f"{when!r} takes {some} of {old}; members --when says whom it takes")
    title = quoted(model.groups.all[index].title or old)
    changed = apart(model, index, new, {"title": title})
    parted = Model(edits.try_out(model.files, changed), model.today, model)
    proved_alike(model, parted, old, new)
    text = changed.get(ASSIGNMENTS, model.files.folder.text(ASSIGNMENTS))
    held = {c.attribute: _written(c.test, c.text) for c in conditions}
    changed[ASSIGNMENTS] = with_rules_parted(text, old, new, held)
    then = Model(edits.try_out(model.files, changed), model.today, model)
    there = np.flatnonzero(then.assignment.group == then.groups.index[new]).tolist()
    if odd := sorted(set(meant) ^ set(there)):
        who = endpoints.ids[odd[0]]
        told = "is pinned into" if model.assignment.pin[odd[0]] >= 0 else "is by a template in"
        raise UsageError(f"nothing was changed, for {who} {told} {old}; correct that first")
    shown = made(model, "split", changed, write=write, anyway=anyway, since=parted)
    # What the new group meets where the old one met it is nothing new.
    met = [_met(of, name) for of, name in ((model, old), (then, new))]
    rows = [r for r in shown.network if not _told_before(r, met, old, new)]
    return replace(shown, network=rows)


def save_rule(
    model: Model,
    when: str,
    group: str,
    before: int | None,
    confidence: float = 0.0,
    *,
    write: bool,
    anyway: bool = False,
) -> Change:
    """Make a rule of conditions, and tell of those whom they take which pins and rules take them
    then; attributes known with less than a confidence count as missing.

    Raises:
        UsageError: the conditions cannot be read or take nobody, or there is no such group or rule.
    """
    if group not in model.groups.index:
        model.end(group)
        raise UsageError(f"{group!r} is no group; a rule gives one group")
    conditions = parse_conditions(when)
    asked = Assignment(
        model.files.endpoints,
        (Rule(0, conditions, (), Location("--when"), min_confidence=confidence),), (), {},
    )  # fmt: skip
    meant = np.flatnonzero(asked.rule == 0)
    if not len(meant):
        raise UsageError(f"{when!r} takes nobody; oaktag attributes shows what there is")
    rules = model.files.assignments.rules
    number = next((n for n, r in enumerate(rules) if r.location.line == before), None)
    if before is not None and number is None:
        lines = ", ".join(str(r.location.line) for r in rules[:12])
        raise UsageError(f"no rule of {ASSIGNMENTS} stands in line {before}; they stand in {lines}")
    held = {c.attribute: _written(c.test, c.text) for c in conditions}
    least = f"{confidence:g}" if confidence else None
    text = with_rule(model.files.folder.text(ASSIGNMENTS), group, held, number, least)
    then = Model(edits.try_out(model.files, {ASSIGNMENTS: text}), model.today, model)
    at = len(rules) if number is None else number
    shown = made(model, "members save", {ASSIGNMENTS: text}, write=write, anyway=anyway)
    return replace(shown, rules=list(_who_takes(model, then, meant, at)))


def _who_takes(model: Model, then: Model, meant: NDArray[np.int64], at: int) -> Iterator[Row]:
    """Of some endpoints how many are taken by pins and by each rule, before and then; the rule at a
    place is new. Rules that take none of them are left out."""
    was, now = model.assignment, then.assignment
    counts = [int((a.pin[meant] >= 0).sum()) for a in (was, now)]
    if any(counts):
        yield {
            "kind": "pin", "file": ASSIGNMENTS, "line": None, "group": None,
            "took": counts[0], "takes": counts[1], "new": False,
        }  # fmt: skip
    for number, rule in enumerate(then.files.assignments.rules):
        before = None if number == at else number - (number > at)
        took = 0 if before is None else int((was.rule[meant] == before).sum())
        takes = int((now.rule[meant] == number).sum())
        if took or takes or before is None:
            given = rule.template or then.groups.all[rule.give].id
            yield {
                "kind": "rule", "file": rule.location.file, "line": rule.location.line,
                "group": given, "took": took, "takes": takes, "new": before is None,
            }  # fmt: skip


def renumber(
    model: Model, name: str, tag: int | None, *, write: bool, anyway: bool = False
) -> Change:
    """Give a group another number in all files; one that was issued is retired.

    Raises:
        UsageError: there is no such group, or the number is not free.
    """
    _group(model, name)
    group, root = model.groups.all[model.groups.index[name]], model.files.folder
    numbering = model.groups.numbering
    if group.tag is None:
        raise UsageError(f"{name} has no number yet; oaktag groups --number --write gives it one")
    changed = {CONFIG: root.text(CONFIG)}
    new = tag
    if new is None:
        issued = numbering.issue((int(t) for t in model.groups.tags), 1)
        if not issued:
            raise UsageError(
                f"{CONFIG} has no number left to issue; name one: oaktag renumber {name} NUMBER"
            )
        (new,) = issued
        top = numbering.highest([*(int(t) for t in model.groups.tags), new])
        changed[CONFIG] = with_issued_to(changed[CONFIG], top)
    if group.issued:
        changed[CONFIG] = with_retired(changed[CONFIG], group.tag)
    written = f"issued {new}" if tag is None else str(new)
    changed[GROUPS] = with_tag(root.text(GROUPS), name, written)
    names = {*model.groups.index, *model.groups.sets}
    for file in (EXPECTATIONS, CONFIG):
        text = changed.get(file, root.text(file))
        changed[file] = with_tag_named(text, file, group.tag, new, names)
    shown = made(model, "renumber", changed, write=write, anyway=anyway)
    return replace(shown, renumbered={"group": name, "was": group.tag, "is": new})


Met = tuple[str, str, str, str, str]


def _met(model: Model, group: str) -> set[Met]:
    """What the network does otherwise than meant with a group's packets: effect and ends."""
    index, ids = model.groups.index[group], [g.id for g in model.groups.all]
    mine = [h for h in model.ends if h.group == index]
    both = (
        *model.state.flows(mine, model.ends),
        *model.state.flows(model.ends, mine),
    )
    found: set[Met] = set()
    for flow in both:
        ends = flow.source[0], ids[flow.source[1]], flow.destination[0], ids[flow.destination[1]]
        wrong = {"leak": flow.leaks, "break": flow.breaks}
        found |= {(effect, *ends) for effect, packets in wrong.items() if any(packets.values())}
        if flow.unanswered:
            found.add(("one-way", *ends))
    return found


def _told_before(row: Row, met: list[set[Met]], old: str, new: str) -> bool:
    """Whether a row says of one of two groups what was, or is, so of the other."""
    this, other = (new, old) if row["new"] else (old, new)
    known = met[0 if row["new"] else 1]
    one, two = row["source"], row["destination"]
    words = [
        {end["group"], other} if end["group"] == this else {end["group"]} for end in (one, two)
    ]
    return any(
        (row["effect"], one["segment"], source, two["segment"], destination) in known
        for source, destination in product(*words)
        if other in (source, destination)
    )


def _written(test: Test, text: str) -> str:
    """A condition of a command, as it stands in a rule."""
    match test:
        case AnyOf(tests):
            parts = zip(tests, text.split("|"), strict=True)
            return f"[{', '.join(_written(one, word) for one, word in parts)}]"
        case Compare(((sign, _),)):
            return f'{{"{sign}": {text.strip()}}}'
        case Within():
            return f"{{within: {quoted(text.strip())}}}"
        case Equals(Decimal()):
            return text.strip()
    return quoted(text.strip())


def _group(model: Model, name: str) -> None:
    if model.groups.index.get(name, 0) == 0:
        model.end(name)
        raise UsageError(f"{name!r} is no group of groups.yaml")


def _told(
    model: Model, command: str, changed: dict[str, str], old: str, heir: str | None, *,
    write: bool, anyway: bool,
) -> Change:  # fmt: skip
    """The change, with what it changes for whom; refused where members get lost on the way."""
    shown = made(model, command, changed, write=False)
    if heir is not None:
        lost = [r for r in shown.endpoints if r["was"] == old and r["is"] != heir]
        if lost:
            names = ", ".join(r["endpoint"] for r in lost[:3])
            other = lost[0]["is"] or UNTAGGED
            raise UsageError(
                f"nothing was changed, for {names} would not be in {heir} but in {other}: a rule "
                f"makes the name {old!r} of attributes; correct those, or give the group by a rule "
                "of its own first"
            )
    then = Model(edits.try_out(model.files, changed), model.today, model)
    if write and not anyway:
        # What was asked of the group that goes is asked of its heir, and counts like what was.
        stop_on([r for r in shown.expectations if r["is"] is False])
    if write:
        shown = made(model, command, changed, write=True, anyway=anyway)
    return replace(shown, fares=list(fares(model, then, shown.endpoints)))


def fares(was: Model, now: Model, moved: list[Row]) -> Iterator[Row]:
    """What those who are in another group then may do more and less, and who may do what with
    them; for each two groups, with how many move."""
    counts = Counter((r["was"] or UNTAGGED, r["is"] or UNTAGGED) for r in moved)
    yield from differences(*together(was, now), counts)


def differences(was: Model, now: Model, counts: Counter[tuple[str, str]]) -> Iterator[Row]:
    """What groups may do more and less than others, in models over one cut of the packets.

    Args:
        was, now: the group that is left is looked at in the one, the other in the other.
        counts: pairs of groups, with how many move.
    """
    new = renamed(was.groups, now.groups)
    others = [
        (n, now.groups.index[new.get(g.id, g.id)])
        for n, g in enumerate(was.groups.all)
        if new.get(g.id, g.id) in now.groups.index
    ]
    for (old, here), many in counts.most_common():
        if old not in was.groups.index or here not in now.groups.index:
            continue
        one, two = was.groups.index[old], now.groups.index[here]
        for direction in ("to", "from"):
            for before, after in others:
                ends = ((one, before), (two, after))
                held, holds = (
                    m.matrix.forms[int(m.matrix.action_form[a if direction == "to" else a[::-1]])]
                    for m, a in zip((was, now), ends, strict=True)
                )
                if held != holds:
                    opened, closed = holds & ~held, held & ~holds
                    yield {
                        "was": old, "is": here, "endpoints": many, "direction": direction,
                        "other": now.groups.all[after].id,
                        "opened": set_words(now.atoms, opened),
                        "closed": set_words(now.atoms, closed),
                        "opened_text": now.text(opened) if opened else "",
                        "closed_text": now.text(closed) if closed else "",
                    }  # fmt: skip
