"""``lab state``: what the nodes of a lab report of themselves, for ``drift``."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path
from typing import ClassVar

from oaktag.core.abilities import EVERYTHING
from oaktag.core.network import Point
from oaktag.dialects import DIALECTS
from oaktag.errors import OakTagError
from oaktag.operations.lab import held_by, lab_of
from oaktag.operations.lab_plan import KERNEL
from oaktag.operations.lists import file_of, list_of, written
from oaktag.operations.model import Model
from oaktag.operations.result import Result
from oaktag.workspace.textfile import write_text


@dataclass(frozen=True, eq=False, repr=False)
class LabState(Result):
    """The reports of nodes that were written."""

    folder: str
    files: list[str]
    command: ClassVar[str] = "lab state"
    shown_by: ClassVar[str] = "lab"


def write_state(model: Model, folder: Path) -> LabState:
    """Write what the lab's nodes report of themselves, in the form that ``drift`` reads: what they
    know, and the lists that the kernel holds, from its own dump.

    Raises:
        OakTagError: no lab is up, or its lists are not loaded.
    """
    lab = lab_of(model)
    held, _, kept = held_by(lab, model.files.root)
    if not kept.lists:
        raise OakTagError("the lab's points hold no list yet; oaktag lab apply loads them")
    state, counted = lab.ask("state"), lab.ask("counters")["cells"]
    files: list[str] = []
    part = held.files.part
    for node in held.network.nodes.values():
        if part is not None and node.name in part.stands_for:
            continue
        points = [p for p in node.points if p.id in state["texts"]]
        texts = {p.id: _in_its_dialect(model, p, state["texts"][p.id]) for p in points}
        names = {p.id: file_of(held, p) for p in points}
        report = {
            "form": 1,
            "node": node.name,
            "at": datetime.now(UTC).isoformat(timespec="seconds"),
            "bindings": [
                {"prefix": p, "tag": tag, "source": s} for p, tag, s, _ in state["known"][node.name]
            ],
            "points": [
                {
                    "point": p.id, "mode": p.mode,
                    "sha256": sha256(texts[p.id].encode()).hexdigest(),
                    "list": names[p.id],
                }
                for p in points
            ],
            "feeds": [
                {"feed": f.name, "state": "up" if f.name in state["brought"] else "down"}
                for f in held.network.feeds if f.receiver == node.name
            ],
            "groups": {str(held.groups.tag(i)): g.id for i, g in enumerate(held.groups.all) if i},
            "counters": [
                {"point": p.id, "source": int(s), "destination": int(d), "packets": n}
                for p in points
                for d, row in counted.get(p.id, {}).items() for s, n in row.items()
            ],
        }  # fmt: skip
        written = {names[p.id]: texts[p.id] for p in points}
        written[f"{node.name}.json"] = json.dumps(report, indent=1) + "\n"
        for name, text in written.items():
            write_text(folder / name, text)
            files.append(name)
    return LabState(folder=str(folder), files=files)


def _in_its_dialect(model: Model, point: Point, text: str) -> str:
    """What a point holds, in its own dialect: the kernel, which stands for it, speaks one."""
    if point.dialect == KERNEL:
        return text
    meant = list_of(model, point)
    if text != DIALECTS[KERNEL].write(meant, EVERYTHING).text:
        meant = DIALECTS[KERNEL].read(text)
    return written(model, point, meant).text
