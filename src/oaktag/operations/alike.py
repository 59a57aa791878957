"""``groups --alike``: groups that fare alike, and could be one."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import ClassVar

from oaktag.core.alike_groups import alike_groups
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Alike(Result):
    """Groups that fare alike in both answers, toward everybody, from everybody, and together."""

    alike: list[Row]
    command: ClassVar[str] = "groups alike"
    shown_by: ClassVar[str] = "alike"
    table: ClassVar[str] = "alike"


def alike(model: Model) -> Alike:
    """Groups that could be one, and nobody's access would change."""
    members = Counter(model.assignment.group.clip(0).tolist())
    return Alike(
        alike=[
            {
                "groups": [model.groups.all[g].id for g in some],
                "members": [members[g] for g in some],
            }
            for some in alike_groups(model.matrix)
        ]
    )
