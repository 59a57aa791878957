"""``groups``: tags, members and bindings of every group; numbers given and written."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import ClassVar

from oaktag.errors import UsageError
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row
from oaktag.workspace.config_file import FILE as CONFIG
from oaktag.workspace.groups_file import FILE, number_groups
from oaktag.workspace.yaml_edits import with_issued_to


@dataclass(frozen=True, eq=False, repr=False)
class GroupList(Result):
    """Groups with tags, members, bindings; numbers that would be issued."""

    groups: list[Row]
    unassigned: int
    offered: list[Row]
    sets: list[Row]
    command: ClassVar[str] = "groups"
    table: ClassVar[str] = "groups"


def groups(model: Model) -> GroupList:
    """Every group in file order; one without a number is shown with the one it would be issued."""
    members = Counter(model.assignment.group.tolist())
    bindings = Counter(model.registry.in_force.tags.tolist())
    return GroupList(
        groups=[
            {
                "group": group.id,
                "tag": model.groups.tag(index),
                "hexadecimal": f"{model.groups.tag(index):#x}",
                "number": "issued" if group.issued else "by hand" if group.tag else "not written",
                "members": members[index],
                "bindings": bindings[model.groups.tag(index)],
                "origin": None,
                "title": group.title,
                "owner": group.owner,
            }
            for index, group in enumerate(model.groups.all)
            if index
        ],
        unassigned=members[-1],
        offered=offered(model),
        sets=[
            {"set": name, "groups": [model.groups.all[g].id for g in model.groups.members(name)]}
            for name in model.groups.sets
        ],
    )


def offered(model: Model) -> list[Document]:
    """Groups that rules come to and that do not exist, with the number each would be issued."""
    names = sorted({name for _, name in model.assignment.lost.values()})
    taken = [model.groups.tag(i) for i in range(len(model.groups))]
    numbers = model.groups.numbering.issue(taken, len(names))
    return [
        {"group": name, "tag": numbers[n] if n < len(numbers) else None}
        for n, name in enumerate(names)
    ]


def numbered(model: Model) -> tuple[dict[str, int], dict[str, str]]:
    """Numbers for the groups that have none, written into ``groups.yaml``, and the highest that
    ever was issued, into ``oaktag.yaml``.

    Returns:
        group → number; file → its text, all else kept to the byte (empty where nothing changes).

    Raises:
        UsageError: the range has too few free numbers.
    """
    numbering = model.groups.numbering
    wanting = [i for i, g in enumerate(model.groups.all) if g.tag is None]
    without = [model.groups.all[i].id for i in wanting if i not in model.groups.would_issue]
    if without:
        raise UsageError(
            f"the range {numbering.low}-{numbering.high} has no free number for "
            f"{', '.join(without)}; widen tags: issue in oaktag.yaml"
            if numbering.low else f"oaktag.yaml names no range to number {', '.join(without)} from;"
            " write tags: {issue: 2000-2999} there"
        )  # fmt: skip
    changed: dict[str, str] = {}
    if wanting:
        issue = {index - 1: model.groups.would_issue[index] for index in wanting}
        changed[FILE] = number_groups(model.files.folder.text(FILE), issue)
    top = numbering.highest(int(t) for t in model.groups.tags)
    if top >= numbering.low > 0 and top != numbering.issued_to:
        changed[CONFIG] = with_issued_to(model.files.folder.text(CONFIG), top)
    return {model.groups.all[i].id: model.groups.would_issue[i] for i in wanting}, changed
