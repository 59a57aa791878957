"""``groups``: tags, members and bindings of every group; numbers given and written."""

from __future__ import annotations

from collections import Counter

from oaktag.errors import UsageError
from oaktag.operations.documents import Document, document
from oaktag.operations.model import Model
from oaktag.workspace.groups_file import FILE, number_groups
from oaktag.workspace.textfile import write_text


def groups(model: Model) -> Document:
    """Every group in file order; one without a number is shown with the one it would be issued."""
    members = Counter(model.assignment.group.tolist())
    winners = (model.registry.bindings[n] for n in model.registry.winners)
    bindings = Counter(b.tag for b in winners)
    return document(
        "groups",
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
        sets=[
            {"set": name, "groups": [model.groups.all[g].id for g in model.groups.members(name)]}
            for name in model.groups.sets
        ],
    )


def write_numbers(model: Model) -> dict[str, int]:
    """Write issued numbers into ``groups.yaml``, all else kept to the byte.

    Returns:
        group → the number written.

    Raises:
        UsageError: the range has too few free numbers; nothing is written then.
    """
    wanting = [i for i, g in enumerate(model.groups.all) if g.tag is None]
    without = [model.groups.all[i].id for i in wanting if i not in model.groups.would_issue]
    if without:
        numbering = model.groups.numbering
        raise UsageError(
            f"the range {numbering.low}-{numbering.high} has no free number for "
            f"{', '.join(without)}; widen tags: issue in oaktag.yaml"
        )
    if wanting:
        path = model.files.root / FILE
        with path.open(encoding="utf-8", newline="") as file:
            text = file.read()
        issue = {index - 1: model.groups.would_issue[index] for index in wanting}
        write_text(path, number_groups(text, issue))
    return {model.groups.all[i].id: model.groups.would_issue[i] for i in wanting}
