"""``compile`` and ``prove``: access lists written, read back, and shown equal to the matrix."""

from __future__ import annotations

import contextlib
import csv
import errno
import io
import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from hashlib import sha256
from pathlib import Path
from typing import ClassVar

import numpy as np

from oaktag.core.abilities import Abilities
from oaktag.core.accesslist import AccessList
from oaktag.core.addresses import address_text
from oaktag.core.fitting import unfit
from oaktag.core.network import Point, Scope
from oaktag.core.proof import Refuted
from oaktag.core.service_text import packet_text
from oaktag.dialects import DIALECTS, Dialect, Written, of_template
from oaktag.errors import OakTagError, UnreadableList, UnwritableEntry, UsageError
from oaktag.operations.json_parts import Document, packet_json
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row
from oaktag.workspace.folder import MOST, changed_meanwhile, read_plain
from oaktag.workspace.journal import settle, write_files
from oaktag.workspace.lock import one_writer, own_folder
from oaktag.workspace.textfile import exact_text

Progress = Callable[[str], None]


@dataclass(frozen=True, eq=False, repr=False)
class Compiled(Result):
    """The lists that were written, and the file of keys beside them."""

    points: list[Row]
    key_file: str = field(metadata={"name": "keys"})
    command: ClassVar[str] = "compile"
    shown_by: ClassVar[str] = "lists"
    table: ClassVar[str] = "points"


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


KEYS_FILE = "keys.csv"


def points_of(model: Model, only: str | None = None) -> list[Point]:
    """The points that get a list (those that are ``off`` get none).

    Raises:
        UsageError: no such point.
    """
    points = [p for p in model.network.points.values() if p.mode != "off"]
    if only is None:
        return points
    if only not in model.network.points:
        raise UsageError(f"there is no point {only!r}; there are {', '.join(model.network.points)}")
    return [p for p in points if p.id == only]


def list_of(model: Model, point: Point) -> AccessList:
    """The access list of one point, as a tree.

    Raises:
        UnwritableEntry: the point cannot do what its list says.
    """
    dialect, able = dialect_of(model, point), able_of(model, point)
    if odd := sorted({name for name, _ in point.limits} - dialect.limits):
        raise UnwritableEntry(
            f"{point.id}: for the dialect {point.dialect} nothing depends on {', '.join(odd)}; "
            "take it out of the point's limits"
        )
    if why := unfit(point, able):
        raise UnwritableEntry(f"{point.id}: {why}")
    _undisturbed(model, point)
    _told_apart(model, point)
    return model.list_of(point)


def _undisturbed(model: Model, point: Point) -> None:
    """That no other point of the node overwrites the tags that this one sees, or keeps."""
    others = [
        p for p in model.network.nodes[point.node].points if p.mode != "off" and p.id != point.id
    ]
    if others and any(p.source_by == "address" or p.if_differ != "frame" for p in (point, *others)):
        raise UnwritableEntry(
            f"{point.id}: the points of {point.node} would overwrite each other's tags, for one "
            "of them does not go by the frame first; let all of them match source: tag with "
            "if_differ: frame, or put them on nodes of their own"
        )


def _told_apart(model: Model, point: Point) -> None:
    """That no cell of the list has an entry for what the point cannot tell apart."""
    odd = model.entries_of(dialect_of(model, point).unseen)
    if not odd:
        return
    scope = [set(side) for side in model.scope(point)]
    for row in model.matrix.rows:
        line = model.lines[row.line]
        block = model.matrix.block(row) if line.permission in odd else None
        if block is None:
            continue
        cells = np.broadcast_arrays(*block)
        for s, d in zip(cells[0].ravel().tolist(), cells[1].ravel().tolist(), strict=True):
            if s in scope[0] and d in scope[1]:
                names = model.groups.all[s].id, model.groups.all[d].id
                raise UnwritableEntry(
                    f"{point.id}: the cell {names[0]} {names[1]} has the entry "
                    f"{odd[line.permission].text} ({line.location}), and on IPv6 that protocol "
                    "number is an extension header, which the point does not see as a protocol; "
                    "take it out of the permission"
                )


def list_text(model: Model, point: Point) -> str:
    """The access list of one point, in its dialect."""
    return written(model, point, list_of(model, point)).text


def dialect_of(model: Model, point: Point) -> Dialect:
    """The form in which a point's list is written.

    Raises:
        UsageError: its template is not there.
    """
    if point.dialect in DIALECTS:
        return DIALECTS[point.dialect]
    template = model.network.templates.get(point.template)
    if template is None:
        raise UsageError(f"{point.id}: there is no template {point.template!r}")
    return of_template(template)


def able_of(model: Model, point: Point) -> Abilities:
    """What a point can do: what its dialect can, less its limits."""
    dialect = dialect_of(model, point)
    by_address = point.source_by == point.destination_by == "address"
    return (dialect.by_address if by_address else dialect.able).narrowed(point.limits)


def written(model: Model, point: Point, held: AccessList) -> Written:
    """A list of a point, in its dialect.

    Raises:
        UnwritableEntry: the point cannot do what it says.
    """
    return dialect_of(model, point).write(held, able_of(model, point))


def file_of(model: Model, point: Point) -> str:
    """The name of the file of a point's list."""
    return f"{point.id}{dialect_of(model, point).suffix}"


def endings(model: Model) -> list[str]:
    """What files of lists end in."""
    own = {template.suffix for template in model.network.templates.values()}
    return sorted({dialect.suffix for dialect in DIALECTS.values()} | own)


def refute(model: Model, point: Point, text: str) -> Refuted | None:
    """Read a list back and hold it against the matrix.

    Raises:
        UnreadableList: the text is no such list.
    """
    held = dialect_of(model, point).read(text)
    if held.point != point.id:
        raise UnreadableList(2, f"this is the list of {held.point}, not of {point.id}")
    return model.refute(point, held)


def compile_lists(
    model: Model,
    out: Path,
    only: str | None = None,
    *,
    proved: bool = True,
    patience: float | None = 10.0,
    progress: Progress | None = None,
) -> Compiled:
    """Write the list of every point, and the side file of keys; none is written if one fails.

    Args:
        model: the workspace.
        out: the folder to write into.
        only: one point alone.
        proved: read each list back and prove it before anything is written.
        patience: how long another change of the workspace is waited for, in seconds.
        progress: called with the name of each point.

    Raises:
        UsageError: a group has no number in the files, there is no such point, or the files have
            changed meanwhile.
        UnwritableEntry: a list is over its point's capacity, or cannot be expressed.
        OakTagError: a list is not equal to the matrix.
    """
    unnumbered = [g.id for g in model.groups.all if g.tag is None]
    if unnumbered:
        raise UsageError(
            f"no number in the files for {', '.join(unnumbered)}: oaktag groups --number --write "
            "writes one"
        )
    _stop_on_errors(model)
    rows: list[Document] = []
    texts: dict[Path, str] = {}
    for point in points_of(model, only):
        if progress is not None:
            progress(point.id)
        held = list_of(model, point)
        reads = proved and dialect_of(model, point).reads
        text, entries, plain = written(model, point, held)
        known = _as_known(model, point)
        if point.capacity is not None and entries > point.capacity:
            raise UnwritableEntry(_too_many(model, point, held, entries, known))
        if reads and (against := refute(model, point, text)) is not None:
            raise OakTagError(
                f"{point.id}: the list is not the matrix: {_refuted(model, against)['text']}"
            )
        path = out / file_of(model, point)
        texts[path] = text
        rows.append(
            {
                "point": point.id,
                "dialect": point.dialect,
                "mode": point.mode,
                "file": path.as_posix(),
                "entries": entries,
                "plain_entries": plain,
                "capacity": point.capacity,
                "known_entries": known,
                "bindings": len(held.source_bindings),
                "proved": reads,
                "sha256": sha256(text.encode()).hexdigest(),
            }
        )
    texts[out / KEYS_FILE] = _keys(model)
    _write(model, out, texts, patience)
    return Compiled(points=rows, key_file=(out / KEYS_FILE).as_posix())


def _as_known(model: Model, point: Point) -> int | None:
    """The entries that a point with all cells would need of those that are known to it alone; None
    where it does not hold all."""
    if point.scope.kind != "all":
        return None
    narrow = point._replace(scope=Scope("known"))
    return written(model, narrow, model.list_of(narrow)).entries


def _too_many(model: Model, point: Point, held: AccessList, entries: int, known: int | None) -> str:
    """Why a list does not fit, what costs most in it, and what would cost less."""
    cells = [
        (len(held.chains[chain]), s, d)
        for d, row in held.blocks.items()
        for s, chain in row.items()
    ]
    most = sorted(cells, key=lambda c: (-c[0], c[2], c[1]))[:3]
    dear = ", ".join(
        f"{model.groups.name(s)} → {model.groups.name(d)} ({n})" for n, s, d in most if n > 1
    )
    told = [f"{point.id} holds {point.capacity} entries, its list has {entries}"]
    if dear:
        told.append(f"the cells with most are {dear}")
    if known is not None and known < entries:
        fits = "" if point.capacity is None or known <= point.capacity else ", still too many"
        told.append(f"scope: known would come to {known}{fits}")
    return f"{'; '.join(told)}; narrow its scope, or let lines share permissions"


def _write(model: Model, out: Path, texts: dict[Path, str], patience: float | None) -> None:
    """Write lists that are not there yet as they shall be: all of one version, or none."""
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
    with one_writer(root, "oaktag compile", patience=patience):
        settle(root)
        if stale := files.folder.stale():
            raise changed_meanwhile(stale)
        changed = {p: t.encode() for p, t in texts.items() if not _holds(p, t.encode())}
        if changed:
            write_files(root, "oaktag compile", changed)


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
            row["counterexample"] = None if against is None else _refuted(model, against)
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


def _refuted(model: Model, against: Refuted) -> Document:
    family = against.packet.family
    source, destination = (address_text(family, a) for a in (against.source, against.destination))
    frame, name = "", model.groups.name(against.frame)
    if against.frame:
        named = "" if name == str(against.frame) else f" ({name})"
        frame = f" with tag {against.frame}{named} in its frame"
    frame += f", {against.what}" if against.what else ""
    said = f"the list says {_answers(against.listed)}, the matrix {_answers(against.meant)}"
    return {
        "packet": packet_json(against.packet),
        "source": source,
        "destination": destination,
        "frame": against.frame,
        "what": against.what,
        "listed": {"action": against.listed[0], "would": against.listed[1]},
        "matrix": {"action": against.meant[0], "would": against.meant[1]},
        "text": f"{packet_text(*against.packet)}, {source} to {destination}{frame}: {said}",
    }


def _answers(answers: tuple[str, str]) -> str:
    action, would = answers
    return action if action == would else f"{action} (would {would})"


def dumps(value: Document) -> str:
    """A document as JSON text, the same bytes for the same content."""
    return json.dumps(value, indent=1, ensure_ascii=False) + "\n"
