"""``around``: what comes into a set, passes inside it and goes out."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from oaktag.core.lines import Action
from oaktag.errors import UsageError
from oaktag.operations.callers import allowing
from oaktag.operations.describe import deciding
from oaktag.operations.json_parts import Document
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row


@dataclass(frozen=True, eq=False, repr=False)
class Around(Result):
    """What comes into a set of groups, passes inside it, and goes out; and between which groups
    nothing but the default speaks."""

    set: str
    groups: list[str]
    comes_in: list[Row]
    passes_inside: list[Row]
    goes_out: list[Row]
    default: Action
    by_default: dict[str, list[str]]
    command: ClassVar[str] = "around"
    table: ClassVar[str] = "comes_in"


def around(model: Model, word: str) -> Around:
    """What comes into a set of groups, what passes inside it, and what goes out.

    Raises:
        UsageError: an unknown name.
    """
    inner = set(model.groups_of(model.end(word)))
    if not inner:
        raise UsageError(f"{word!r} holds no group")
    matrix = model.matrix
    blank = model.atoms.full if model.files.policy.default == "allow" else 0
    parts: dict[str, list[Document]] = {"comes_in": [], "passes_inside": [], "goes_out": []}
    by_default: dict[str, set[str]] = {part: set() for part in parts}
    every = range(len(model.groups))
    pairs = {(s, d) for g in inner for other in every for s, d in ((g, other), (other, g))}
    for s, d in sorted(pairs):
        form = matrix.forms[matrix.form(s, d)]
        part = "passes_inside" if {s, d} <= inner else "goes_out" if s in inner else "comes_in"
        if form == blank and not deciding(model, [(s, d)]):
            if form:
                by_default[part].add(model.groups.all[d if part == "goes_out" else s].id)
            continue
        if not form:
            continue
        parts[part].append(
            {
                "source": model.groups.all[s].id, "destination": model.groups.all[d].id,
                "allows": model.text(form), "lines": allowing(model, (s, d), form),
            }
        )  # fmt: skip
    names = [model.groups.all[g].id for g in sorted(inner)]
    rest = {part: sorted(cells) for part, cells in by_default.items()}
    default = model.files.policy.default
    return Around(set=word, groups=names, **parts, default=default, by_default=rest)
