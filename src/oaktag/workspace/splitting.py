"""A group parted in two in all files: a new group beside an old one, in every set, line, feed and
scope that names the old one; and the same undone.

Rules kept here (semantics, section 4): a copied line stands right behind its original and ranks as
it does, so the order in every cell stays. Where a line keeps members of the old group to
themselves (``itself``, or the group on both sides), the two must fare with each other as the old
one did with itself: by copies where the group is named, by a set of the two where a set is (or
``*``, before which a set ranks: whether all is as it was is proved, not assumed).
"""

from __future__ import annotations

from oaktag.core.groups import ITSELF, STAR
from oaktag.core.lines import Line
from oaktag.workspace.config_file import FILE as CONFIG
from oaktag.workspace.csv_edits import with_copies, without_line
from oaktag.workspace.groups_file import FILE as GROUPS
from oaktag.workspace.load import Files
from oaktag.workspace.yaml_edits import (
    with_group,
    with_retired,
    with_set,
    without_group,
    without_set,
)
from oaktag.workspace.yaml_words import with_beside, with_twins, without_twins, without_word

#: Lists of words in which a new group stands beside the old one, by file: keys from the top.
BESIDE = {
    GROUPS: ("sets/*",),
    CONFIG: ("share/groups",),
    "network.yaml": (
        "nodes/*/point/scope/sources",
        "nodes/*/point/scope/destinations",
        "nodes/*/points/*/scope/sources",
        "nodes/*/points/*/scope/destinations",
        "feeds/*/only/groups",
    ),
}


#: Lists of ``oaktag.yaml`` whose rows speak of groups by these keys: what is borne of the old one,
#: or kept open for it, is of the new one too.
BORNE, ENDS = ("accepted", "keep_open"), ("from", "to")


def both_of(new: str) -> str:
    """The name of the set of the old and the new group, where one is needed."""
    return f"{new}-too"


def split(
    files: Files, old: str, new: str, fields: dict[str, str], members: set[str]
) -> dict[str, str]:
    """The files in which a new group fares as the old one.

    Args:
        files: the workspace.
        old, new: the groups' ids.
        fields: what the new group's item says besides its id, as YAML.
        members: the names of the sets that hold the old group.
    """
    root, changed = files.folder, dict[str, str]()
    for name, paths in BESIDE.items():
        changed[name] = with_beside(root.text(name), paths, old, new)
    changed[CONFIG] = with_twins(changed[CONFIG], BORNE, ENDS, old, new)
    changed[GROUPS] = with_group(changed[GROUPS], {"id": new, **fields})
    pair = False
    for number in reversed(range(len(files.policy.lines))):
        line = files.policy.lines[number]
        ends = _copies(line, old, new, members)
        pair = pair or any(both_of(new) in end for end in ends)
        if ends:
            name = line.location.file
            text = changed.get(name, root.text(name))
            changed[name] = with_copies(text, line.location.line, ends)
    if pair:
        changed[GROUPS] = with_set(changed[GROUPS], both_of(new), [old, new])
    return {n: t for n, t in changed.items() if t != root.text(n)}


def _copies(line: Line, old: str, new: str, members: set[str]) -> list[tuple[str, str, bool]]:
    """Source and destination of the lines that stand behind a line for the new group, and whether
    they go one way only."""
    source, destination = line.source, line.destination
    if destination == ITSELF and source == old:
        return [(new, ITSELF, True), (old, new, True), (new, old, True)]
    if destination == ITSELF:
        return [(both_of(new), both_of(new), True)] if source in members | {STAR} else []
    if source == destination == old:
        return [(new, old, True), (old, new, True), (new, new, True)]
    if source == old:
        return [(new, destination, False)]
    return [(source, new, False)] if destination == old else []


def joined(files: Files, new: str) -> dict[str, str]:
    """The files without a group that was split off, its number retired."""
    root, changed = files.folder, dict[str, str]()
    gone = {new, both_of(new)}
    for name, paths in BESIDE.items():
        changed[name] = without_word(root.text(name), paths, new)
    changed[GROUPS] = without_set(without_group(changed[GROUPS], new), both_of(new))
    for line in sorted(files.policy.lines, key=lambda n: -n.location.line):
        if gone & {line.source, line.destination}:
            name = line.location.file
            changed[name] = without_line(changed.get(name, root.text(name)), line.location.line)
    changed[CONFIG] = without_twins(changed[CONFIG], BORNE, ENDS, new)
    group = files.groups.all[files.groups.index[new]]
    if group.tag is not None and group.issued:
        changed[CONFIG] = with_retired(changed[CONFIG], group.tag)
    return {n: t for n, t in changed.items() if t != root.text(n)}
