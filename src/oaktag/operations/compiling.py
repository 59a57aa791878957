"""``compile``: the lists of all points, none of them written if one fails."""

from __future__ import annotations

import csv
import errno
import io
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from hashlib import sha256
from itertools import chain
from pathlib import Path
from typing import ClassVar

from oaktag.core.model import Model as CoreModel
from oaktag.core.network import Point
from oaktag.errors import OakTagError, UnwritableEntry, UsageError
from oaktag.operations.json_parts import Document
from oaktag.operations.lists import MOST_IN_PART, Made, file_of, make, points_of, shared_out
from oaktag.operations.model import Model
from oaktag.operations.parts import On, in_parts
from oaktag.operations.result import Result, Row
from oaktag.workspace.folder import MOST, changed_meanwhile, read_plain
from oaktag.workspace.journal import settle, write_files
from oaktag.workspace.lock import one_writer, own_folder

Progress = Callable[[str], None]


@dataclass(frozen=True, eq=False, repr=False)
class Compiled(Result):
    """The lists that were written, and the file of keys beside them."""

    points: list[Row]
    key_file: str = field(metadata={"name": "keys"})
    command: ClassVar[str] = "compile"
    shown_by: ClassVar[str] = "lists"
    table: ClassVar[str] = "points"


KEYS_FILE = "keys.csv"


def compile_lists(
    model: Model,
    out: Path,
    only: str | None = None,
    *,
    proved: bool = True,
    patience: float | None = 10.0,
    progress: Progress | None = None,
    on: On = None,
) -> Compiled:
    """Write the list of every point, and the side file of keys; none is written if one fails.

    Args:
        model: the workspace.
        out: the folder to write into.
        only: one point alone.
        proved: read each list back and prove it before anything is written.
        patience: how long another change of the workspace is waited for, in seconds.
        progress: called with the name of each point that is done.
        on: who makes the lists: so many processes, an executor, or the address of a cluster; None
            for as many processes as it is worth.

    Raises:
        UsageError: a group has no number in the files, there is no such point, or the files have
            changed meanwhile.
        UnwritableEntry: lists are over their points' capacity, cannot be expressed, or are not
            equal to the matrix; with each of them.
    """
    unnumbered = [g.id for g in model.groups.all if g.tag is None]
    if unnumbered:
        raise UsageError(
            f"no number in the files for {', '.join(unnumbered)}: oaktag groups --number --write "
            "writes one"
        )
    _stop_on_errors(model)
    points = points_of(model, only)
    rows: dict[str, Document] = {}
    with _writing(model, out, patience) as write:
        write(_lists(model, points, out, rows, proved=proved, progress=progress, on=on))
    return Compiled(
        points=[rows[point.id] for point in points], key_file=(out / KEYS_FILE).as_posix()
    )


def _lists(
    model: Model, points: list[Point], out: Path, rows: dict[str, Document], *, proved: bool,
    progress: Progress | None, on: On,
) -> Iterator[tuple[Path, bytes]]:  # fmt: skip
    """The lists as they are made, each with where it goes; and what there is to say of them."""
    errors: dict[str, str] = {}
    shared, names, on = shared_out(model, points, on)
    parts = (names[n : n + MOST_IN_PART] for n in range(0, len(names), MOST_IN_PART))
    work = _made if proved else _written
    for made in chain.from_iterable(in_parts(work, shared, parts, on)):
        if progress is not None:
            progress(made.point)
        if made.error:
            errors[made.point] = made.error
            continue
        point = model.network.points[made.point]
        path = out / file_of(model, point)
        rows[point.id] = {
            "point": point.id,
            "dialect": point.dialect,
            "mode": point.mode,
            "file": path.as_posix(),
            "entries": made.entries,
            "plain_entries": made.plain_entries,
            "capacity": point.capacity,
            "known_entries": made.known_entries,
            "bindings": made.bindings,
            "proved": made.proved,
            "sha256": sha256(made.text).hexdigest(),
        }
        yield path, made.text
    if errors:
        raise UnwritableEntry("\n".join(errors[p.id] for p in points if p.id in errors))
    yield out / KEYS_FILE, _keys(model).encode()


def _made(model: CoreModel, part: list[str]) -> list[Made]:
    return [make(model, model.network.points[name], proved=True) for name in part]


def _written(model: CoreModel, part: list[str]) -> list[Made]:
    return [make(model, model.network.points[name], proved=False) for name in part]


@contextmanager
def _writing(
    model: Model, out: Path, patience: float | None
) -> Iterator[Callable[[Iterator[tuple[Path, bytes]]], None]]:
    """How lists are written that are not there yet as they shall be: all of a version or none."""
    files = model.files
    root = files.root
    try:
        own_folder(root)
    except OSError as error:
        if error.errno not in (errno.EROFS, errno.EACCES, errno.EPERM):
            raise
        # A workspace that may only be read; its lists go elsewhere.
        out.mkdir(parents=True, exist_ok=True)
        root = out

    def changed(texts: Iterator[tuple[Path, bytes]]) -> Iterator[tuple[Path, bytes]]:
        for path, text in texts:
            if not _holds(path, text):
                yield path, text
        if stale := files.folder.stale():
            raise changed_meanwhile(stale)

    with one_writer(root, "oaktag compile", patience=patience):
        settle(root)
        yield lambda texts: write_files(root, "oaktag compile", changed(texts))


def _holds(path: Path, text: bytes) -> bool:
    """Whether a list is there as it shall be."""
    try:
        return read_plain(path, MOST)[0] == text and not path.is_symlink()
    except OSError:
        return False


def _stop_on_errors(model: Model) -> None:
    """A finding that the workspace counts as an error stops compiling."""
    if "error" not in model.files.config.severities.values():
        return
    from oaktag.operations.check import check
    from oaktag.operations.review import review

    found = [f for d in (check(model), review(model)) for f in d["findings"]]
    errors = [f for f in found if f["severity"] == "error"]
    if errors:
        told = "\n".join(f"{f['file']}:{f['line']}: {f['code']} {f['message']}" for f in errors)
        raise OakTagError(f"these findings are errors in this workspace:\n{told}")


def _keys(model: Model) -> str:
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["key", "file", "line"])
    places = {k: line.location for k, line in zip(model.keys, model.lines, strict=True)}
    for key in sorted(places):
        writer.writerow([key, places[key].file, places[key].line])
    return text.getvalue()
