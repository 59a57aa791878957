"""``compile``: the lists of all points, none of them written if one fails."""

from __future__ import annotations

import csv
import errno
import io
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from itertools import chain
from pathlib import Path
from typing import ClassVar

from oaktag.core.fingerprints import Fingerprints
from oaktag.core.model import Model as CoreModel
from oaktag.core.network import Point
from oaktag.errors import OakTagError, UnwritableEntry, UsageError
from oaktag.operations.list_change import change, gone
from oaktag.operations.lists import (
    MOST_IN_PART,
    Made,
    dialect_of,
    file_of,
    made_by,
    make,
    points_of,
    shared_out,
)
from oaktag.operations.model import Model
from oaktag.operations.parts import On, in_parts
from oaktag.operations.result import Result, Row
from oaktag.workspace import known_lists
from oaktag.workspace.folder import MOST, NotPlain, changed_meanwhile, read_plain
from oaktag.workspace.journal import settle, write_files
from oaktag.workspace.lock import OWN, one_writer, own_folder

Progress = Callable[[str], None]


@dataclass(frozen=True, eq=False, repr=False)
class Compiled(Result):
    """The lists that were written, and the file of keys beside them."""

    points: list[Row]
    key_file: str = field(metadata={"name": "keys"})
    changes: list[Row] | None = None
    command: ClassVar[str] = "compile"
    shown_by: ClassVar[str] = "lists"
    table: ClassVar[str] = "points"


KEYS_FILE = "keys.csv"
#: The fields of a row, and those that are kept of a list.
_FIELDS = (
    "point", "dialect", "mode", "file", "entries", "plain_entries", "capacity", "known_entries",
    "newcomer", "bindings", "proved", "unproved", "sha256",
)  # fmt: skip
_KEPT = {
    "entries", "plain_entries", "known_entries", "newcomer", "bindings", "proved", "unproved",
    "sha256", "lies",
}  # fmt: skip
#: Of so many lists is kept what they were made from, or of twice as many as there are points.
MOST_KEPT = 1_000


def compile_lists(
    model: Model,
    out: Path,
    only: str | None = None,
    *,
    proved: bool = True,
    patience: float | None = 10.0,
    progress: Progress | None = None,
    on: On = None,
    since: Path | None = None,
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
        since: a folder of earlier lists: those alone are written that differ from these, and it is
            told in what.

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
    if since is not None and not since.is_dir():
        raise UsageError(f"there is no folder {since} of earlier lists")
    _stop_on_errors(model)
    points = points_of(model, only)
    with _writing(model, out, patience) as (place, write):
        run = _Run(model, points, out, place, proved=proved, progress=progress, since=since)
        write(run.lists(on))
        run.keep()
    return Compiled(
        points=[run.rows[point.id] for point in points],
        key_file=(out / KEYS_FILE).as_posix(),
        changes=None if since is None else run.changes(whole=only is None),
    )


class _Run:
    """One run over some points.

    Attributes:
        rows: what there is to say of each list.
    """

    def __init__(
        self, model: Model, points: list[Point], out: Path, place: Path | None, *, proved: bool,
        progress: Progress | None, since: Path | None = None,
    ) -> None:  # fmt: skip
        self.model, self.points, self.out, self.proved = model, points, out, proved
        self._since = since
        self._changes: dict[str, Row] = {}
        self._place = place
        self._progress = progress or (lambda name: None)
        self.rows: dict[str, Row] = {}
        prints = Fingerprints(model, made_by())
        self._prints = {point.id: prints.of(point) for point in points}
        self._known = {} if place is None else known_lists.read(place)

    def lists(self, on: On) -> Iterator[tuple[Path, bytes]]:
        """The lists as they are made, each with where it goes; not those that lie there as they
        were made from the same."""
        model, errors = self.model, dict[str, str]()
        left = [point for point in self.points if not self._is_known(point)]
        shared, names, on = shared_out(model, left, on)
        parts = (names[n : n + MOST_IN_PART] for n in range(0, len(names), MOST_IN_PART))
        work = _made if self.proved else _written
        for made in chain.from_iterable(in_parts(work, shared, parts, on)):
            self._progress(made.point)
            if made.error:
                errors[made.point] = made.error
                continue
            point = model.network.points[made.point]
            earlier = self._earlier(point)
            if self._since is not None and earlier != made.text:
                self._changes[point.id] = change(model, point, earlier, made.text)
            row = {
                "entries": made.entries,
                "plain_entries": made.plain_entries,
                "known_entries": made.known_entries,
                "newcomer": None if made.newcomer is None else made.newcomer._asdict(),
                "bindings": made.bindings,
                "proved": made.proved,
                "unproved": list(made.unproved),
                "sha256": made.sha256,
            }
            self.rows[point.id] = self._row(point, row)
            if self._since is None or earlier != made.text:
                yield self.out / file_of(model, point), made.text
        if errors:
            raise UnwritableEntry("\n".join(errors[p.id] for p in self.points if p.id in errors))
        yield self.out / KEYS_FILE, _keys(model).encode()

    def _earlier(self, point: Point) -> bytes | None:
        """The list before, if there was one."""
        if self._since is None:
            return None
        try:
            return read_plain(self._since / file_of(self.model, point), MOST)[0]
        except FileNotFoundError:
            return None
        except NotPlain as error:
            told = f"{self._since / file_of(self.model, point)}: {error.strerror}"
            raise UsageError(f"{told}; nothing can be told against it") from None

    def _path(self, point: Point) -> Path:
        """Where a list lies."""
        same = self._since is not None and point.id not in self._changes
        return (self._since if same and self._since else self.out) / file_of(self.model, point)

    def changes(self, *, whole: bool) -> list[Row]:
        """In what the lists differ from the earlier ones; of the whole network also those that are
        gone."""
        rows = [self._changes[point.id] for point in self.points if point.id in self._changes]
        since = self._since
        return [*rows, *(gone(self.model, since) if whole and since is not None else ())]

    def _row(self, point: Point, told: Row) -> Row:
        row: Row = {
            "point": point.id,
            "dialect": point.dialect,
            "mode": point.mode,
            "file": self._path(point).as_posix(),
            "capacity": point.capacity,
        }
        return {key: {**row, **told}[key] for key in _FIELDS}

    def _is_known(self, point: Point) -> bool:
        """Whether a list lies there as it was made from the same, and was proved if it is to be."""
        told = self._known.get(self._prints[point.id])
        if told is None or told.keys() != _KEPT:
            return False
        if self.proved and dialect_of(self.model, point).reads and told["proved"] is not True:
            return False
        if not known_lists.lies(self._path(point), told["lies"], told["sha256"]):
            return False
        self._progress(point.id)
        self.rows[point.id] = self._row(point, told)
        return True

    def keep(self) -> None:
        """Keep what the lists were made from, beside what is known of others."""
        if self._place is None:
            return
        fresh = {
            self._prints[point.id]: {
                **{key: self.rows[point.id][key] for key in sorted(_KEPT - {"lies"})},
                "lies": known_lists.as_it_lies(self._path(point)),
            }
            for point in self.points
        }
        older = {key: row for key, row in self._known.items() if key not in fresh}
        room = max(2 * len(fresh), MOST_KEPT) - len(fresh)
        kept = dict(list(older.items())[-room:]) | fresh
        if kept != self._known:
            known_lists.write(self._place, kept)


def _made(model: CoreModel, part: list[str]) -> list[Made]:
    return [make(model, model.network.points[name], proved=True) for name in part]


def _written(model: CoreModel, part: list[str]) -> list[Made]:
    return [make(model, model.network.points[name], proved=False) for name in part]


@contextmanager
def _writing(
    model: Model, out: Path, patience: float | None
) -> Iterator[tuple[Path | None, Callable[[Iterator[tuple[Path, bytes]]], None]]]:
    """Where is kept what lists were made from; and how those are written that are not there yet as
    they shall be: all of a version or none."""
    files = model.files
    root = files.root
    place: Path | None = root / OWN
    try:
        own_folder(root)
    except OSError as error:
        if error.errno not in (errno.EROFS, errno.EACCES, errno.EPERM):
            raise
        # A workspace that may only be read; its lists go elsewhere.
        out.mkdir(parents=True, exist_ok=True)
        root, place = out, None

    def changed(texts: Iterator[tuple[Path, bytes]]) -> Iterator[tuple[Path, bytes]]:
        for path, text in texts:
            if not _holds(path, text):
                yield path, text
        if stale := files.folder.stale():
            raise changed_meanwhile(stale)

    with one_writer(root, "oaktag compile", patience=patience):
        settle(root)
        yield place, lambda texts: write_files(root, "oaktag compile", changed(texts))


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
