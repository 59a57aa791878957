"""What the page of a report holds: the matrix in columns, groups with members, paths, lists.

Everything here is computed by the same code that commands print; the page only draws it.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from itertools import islice
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

import numpy as np

from oaktag.core.groups import ITSELF
from oaktag.core.matrix import ANSWERS
from oaktag.errors import OakTagError
from oaktag.operations.json_parts import Document
from oaktag.operations.matrix import codes, numbers, share
from oaktag.operations.members import reason_json
from oaktag.operations.model import Model

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import NDArray

#: So many endpoints, services and lines of text of lists a page holds; of what is more it says so.
MOST_MEMBERS, MOST_SERVICES, MOST_TEXT = 20_000, 60, 2_000_000
#: Between so many segments every pair's paths are on the page, and of each pair so many.
MOST_SEGMENTS, MOST_PATHS = 40, 4


def matrix_part(model: Model) -> tuple[Document, NDArray[np.uint16]]:
    """Groups, sets, contents of cells, lines and where each applies; and the cells: the number of
    each content as decided, and one more than that of what observed lines would make of it, or 0
    where that is the same; shape [2, G+1, G+1]."""
    # A named service that no line uses is asked about too.
    named = dict(islice(model.named.items(), MOST_SERVICES))
    model = model.cut_along([box for boxes in named.values() for box in boxes])
    every = tuple(range(len(model.groups)))
    painted = [model.matrix.block_of(every, every, answer) for answer in ANSWERS]
    masks = model.matrix.forms.masks
    number = numbers(masks, painted)
    code = codes(number, model.atoms.full)
    at = np.zeros(len(masks), dtype=np.uint16)
    for form, mask in enumerate(masks):
        at[form] = number.get(mask, 0)
    action, would = (at[p] for p in painted)
    cells = np.stack([action, np.where(action == would, 0, would + 1).astype(np.uint16)])
    document = {
        "forms": [
            {
                "code": code[n],
                "allows": _allows(model, m),
                "share": round(share(model.atoms, m, model.atoms.full), 3),
            }
            for m, n in number.items()
        ],
        "services": [
            {"name": name, "forms": held}
            for name, boxes in named.items()
            if (mask := model.atoms.mask(boxes))
            and (held := [n for m, n in number.items() if m & mask])
        ],
        "more_services": max(0, len(model.named) - MOST_SERVICES),
        **_lines(model),
    }  # fmt: skip
    return document, cells


def _allows(model: Model, mask: int) -> str:
    if mask == model.atoms.full:
        return "everything"
    return model.text(mask) if mask else "nothing"


def _lines(model: Model) -> Document:
    """Lines in columns (``line`` as what it is more than the one before), in which order they are
    tried and which of them the other way round, and the groups that each end stands for."""
    policy = model.files.policy
    words: dict[str, int] = {}

    def word(text: str) -> int:
        return words.setdefault(text, len(words))

    columns: dict[str, list[int]] = {
        name: []
        for name in ("file", "line", "from", "to", "permission", "mode", "expires", "owner", "note")
    }
    for line in model.lines:
        way = "both ways" if line.way == "both" else ""
        said = (
            word(line.location.file), line.location.line, word(line.source), word(line.destination),
            word(policy.permissions[line.permission].name),
            word(", ".join(filter(None, (line.mode, way)))),
            word("" if line.expires is None else _day(line.expires)),
            word(line.owner), word(line.note),
        )  # fmt: skip
        for name, value in zip(columns, said, strict=True):
            columns[name].append(value)
    rows = [row for row in model.matrix.rows if model.matrix.block(row) is not None]
    ends = {end for row in rows for end in (row.source, row.destination) if end != ITSELF}
    columns["line"] = np.diff(columns["line"], prepend=0).tolist()
    return {
        "lines": columns,
        "applies": [[row.line for row in rows], [int(row.mirrored) for row in rows]],
        "ends": [[words[end], list(model.groups.members(end))] for end in sorted(ends)],
        "words": list(words),
    }


def _day(ordinal: int) -> str:
    from datetime import date

    return date.fromordinal(ordinal).isoformat()


def groups_part(model: Model) -> list[Document]:
    """Every group, ``untagged`` first, with its sets and its members and why; of very many
    members the first of each group."""
    given = model.assignment.group
    held: dict[int, list[int]] = defaultdict(list)
    for row, group in enumerate(given.tolist()):
        held[max(group, 0)].append(row)
    most = len(given) if len(given) <= MOST_MEMBERS else max(3, MOST_MEMBERS // len(model.groups))
    bound = Counter(model.registry.in_force.tags.tolist())
    sets = defaultdict(list)
    for name in model.groups.sets:
        for group in model.groups.members(name):
            sets[group].append(name)
    return [
        {
            "group": group.id, "tag": model.groups.tag(index), "title": group.title,
            "owner": group.owner, "sets": sets[index], "count": len(held[index]),
            "bindings": bound[model.groups.tag(index)],
            "members": [_member(model, row) for row in held[index][:most]],
        }
        for index, group in enumerate(model.groups.all)
    ]  # fmt: skip


def _member(model: Model, row: int) -> list[str]:
    endpoints, by = model.files.endpoints, reason_json(model, row)
    why = "nothing assigns it"
    if by is not None:
        why = " · ".join(
            filter(None, (by["kind"], f"{by['file']}:{by['line']}", ", ".join(by["conditions"])))
        )
    addresses = ", ".join(endpoints.value(row, "address"))
    return [endpoints.ids[row], endpoints.kind(row), addresses, why]


def paths_part(model: Model, flows: Sequence[Mapping[str, Any]]) -> Document | None:
    """Between each two segments the least-cost paths, and how flows between them fare; None where
    there are too many to show."""
    names = list(model.network.segments)
    if not 0 < len(names) <= MOST_SEGMENTS:
        return None
    place = {name: n for n, name in enumerate(names)}
    fares: dict[tuple[int, int], Counter[str]] = defaultdict(Counter)
    for flow in flows:
        ends = place.get(flow["source"]["segment"]), place.get(flow["destination"]["segment"])
        if ends[0] is not None and ends[1] is not None:
            fares[ends[0], ends[1]][flow["effect"]] += 1
    pairs = []
    for a, one in model.network.segments.items():
        for b, other in model.network.segments.items():
            found = islice(model.paths.between(one.node, other.node), MOST_PATHS)
            pairs.append(
                {
                    "from": place[a], "to": place[b],
                    "paths": [[list(p.nodes), [link.name for link in p.links]] for p in found],
                    "count": model.paths.count(one.node, other.node),
                    "effects": dict(sorted(fares[place[a], place[b]].items())),
                }
            )  # fmt: skip
    return {"segments": names, "pairs": pairs}


def lists_part(model: Model, progress: Callable[[str], None] | None) -> Document:
    """Each point with what its list holds and whether it is proved, and its text where there is
    room; or why no list can be made."""
    from oaktag.operations.compiling import compile_lists

    if not model.network.points:
        return {"points": [], "error": None}
    with TemporaryDirectory(prefix="oaktag-") as folder:
        try:
            made = compile_lists(model, Path(folder), progress=progress)
        except OakTagError as error:
            return {"points": [], "error": str(error)}
        rows = [{**row, "file": Path(row["file"]).name} for row in made.points]
        sizes = sum((Path(folder) / row["file"]).stat().st_size for row in rows)
        for row in rows:
            text = ""
            if sizes <= MOST_TEXT:
                text = (Path(folder) / row["file"]).read_text(encoding="utf-8")
            row["text"] = text
            point = model.network.points[row["point"]]
            row["node"] = point.node
            row["why_not"] = "" if point.mode == "enforce" else f"in {point.mode}: it stops nothing"
    return {"points": rows, "error": None}
