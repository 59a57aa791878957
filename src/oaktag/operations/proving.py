"""``prove``: lists in a folder, read back, and shown equal to the matrix."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from oaktag.core.model import Model as CoreModel
from oaktag.errors import UnreadableList
from oaktag.operations.json_parts import Document
from oaktag.operations.lists import (
    MOST_IN_PART,
    dialect_of,
    file_of,
    points_of,
    read_back,
    refuted,
    shared_out,
    strangers,
    unproved,
)
from oaktag.operations.model import Model
from oaktag.operations.parts import On, in_parts
from oaktag.operations.result import Result, Row
from oaktag.workspace.textfile import exact_text

Progress = Callable[[str], None]


@dataclass(frozen=True, eq=False, repr=False)
class Proved(Result):
    """Whether each list that was read back is equal to the matrix."""

    points: list[Row]
    command: ClassVar[str] = "prove"
    shown_by: ClassVar[str] = "lists"
    table: ClassVar[str] = "points"

    @property
    def equal(self) -> bool:
        """Whether all of them are, of those that can be read back."""
        return all(point["equal"] is not False for point in self.points)


#: The rest of a list's row: whether it is equal, what the proof leaves out, a packet if it is not
#: equal, and why it could not be read.
Verdict = tuple[str, bool, list[str], Document | None, str]


def prove(model: Model, folder: Path, progress: Progress | None = None, on: On = None) -> Proved:
    """Read the lists in a folder back and hold each against the matrix.

    Args:
        model: the workspace.
        folder: where the lists are.
        progress: called with the name of each point that is done.
        on: who proves them, as of ``compile_lists``.
    """
    rows: dict[str, Document] = {}
    for point in points_of(model):
        path = folder / file_of(model, point)
        row: Document = {"point": point.id, "file": path.as_posix(), "equal": False}
        rows[point.id] = row | {"unproved": [], "counterexample": None, "error": None}
        if not dialect_of(model, point).reads:
            told = "does not say how its lines are read back: not proved"
            rows[point.id] |= {"equal": None, "error": f"{point.template} {told}"}
    readable = [p for p in points_of(model) if rows[p.id]["equal"] is not None]
    shared, names, on = shared_out(model, readable, on)
    for part in in_parts(_verdicts, shared, _texts(names, rows), on):
        for name, equal, silent, packet, error in part:
            row = rows[name]
            row |= {"equal": equal, "unproved": silent, "counterexample": packet}
            if error:
                row["error"] = f"{row['file']}:{error}"
            if progress is not None:
                progress(name)
    return Proved(points=[*rows.values(), *_strangers(model, folder)])


def _texts(names: list[str], rows: dict[str, Document]) -> Iterator[list[tuple[str, str]]]:
    """The texts of lists, a part at a time."""
    for n in range(0, len(names), MOST_IN_PART):
        part: list[tuple[str, str]] = []
        for name in names[n : n + MOST_IN_PART]:
            path = rows[name]["file"]
            try:
                part.append((name, exact_text(Path(path))))
            except OSError:
                told = f"{path} is missing or cannot be read; oaktag compile writes it"
                rows[name]["error"] = told
            except UnicodeDecodeError:
                rows[name]["error"] = f"{path} is not UTF-8"
        yield part


def _verdicts(model: CoreModel, part: list[tuple[str, str]]) -> list[Verdict]:
    return [_verdict(model, name, text) for name, text in part]


def _verdict(model: CoreModel, name: str, text: str) -> Verdict:
    try:
        point = model.network.points[name]
        held = read_back(model, point, text)
    except UnreadableList as error:
        return name, False, [], None, f"{error.line}: {error.message}"
    against = model.refute(point, held)
    packet = None if against is None else refuted(model, against)
    return name, against is None, unproved(held), packet, ""


def _strangers(model: Model, folder: Path) -> Iterator[Document]:
    """Lists in the folder of which no point is meant to hold any."""
    for name, path in strangers(model, folder):
        point = model.network.points.get(name)
        told = "there is no such point" if point is None else "the point is off"
        error = f"{told} in network.yaml; take {path} away, or bring the point back"
        if point is not None and point.mode != "off":
            error = f"the point's dialect is {point.dialect} by now; take {path} away"
        yield {
            "point": name, "file": path.as_posix(), "equal": False, "unproved": [],
            "counterexample": None, "error": error,
        }  # fmt: skip
