"""``prove``: lists in a folder, read back, and shown equal to the matrix."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from oaktag.errors import UnreadableList
from oaktag.operations.json_parts import Document
from oaktag.operations.lists import dialect_of, endings, file_of, points_of, refute, refuted
from oaktag.operations.model import Model
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


def prove(model: Model, folder: Path, progress: Progress | None = None) -> Proved:
    """Read the lists in a folder back and hold each against the matrix."""
    rows: list[Document] = []
    for point in points_of(model):
        if progress is not None:
            progress(point.id)
        path = folder / file_of(model, point)
        row: Document = {"point": point.id, "file": path.as_posix(), "equal": False}
        row |= {"counterexample": None, "error": None}
        if not dialect_of(model, point).reads:
            told = "does not say how its lines are read back: not proved"
            rows.append({**row, "equal": None, "error": f"{point.template} {told}"})
            continue
        try:
            against = refute(model, point, exact_text(path))
            row["equal"] = against is None
            row["counterexample"] = None if against is None else refuted(model, against)
        except OSError:
            row["error"] = f"{path} is missing or cannot be read; oaktag compile writes it"
        except UnicodeDecodeError:
            row["error"] = f"{path} is not UTF-8"
        except UnreadableList as error:
            row["error"] = f"{path}:{error.line}: {error.message}"
        rows.append(row)
    return Proved(points=rows + list(_strangers(model, folder)))


def _strangers(model: Model, folder: Path) -> Iterator[Document]:
    """Lists in the folder of which no point is meant to hold any."""
    meant = {file_of(model, p) for p in points_of(model)}
    with contextlib.suppress(OSError):
        for path in sorted(folder.iterdir()):
            ending = next((e for e in endings(model) if path.name.endswith(e)), None)
            if ending is not None and path.name not in meant:
                name = path.name.removesuffix(ending)
                point = model.network.points.get(name)
                told = "there is no such point" if point is None else "the point is off"
                error = f"{told} in network.yaml; take {path} away, or bring the point back"
                if point is not None and point.mode != "off":
                    error = f"the point's dialect is {point.dialect} by now; take {path} away"
                yield {
                    "point": name, "file": path.as_posix(), "equal": False, "counterexample": None,
                    "error": error,
                }  # fmt: skip
