"""All files of a change or none, whenever it is killed.

A change is prepared in ``.oaktag/change``, synced, written down in the journal, put in place file
by file, and the journal taken away. What is killed before the journal stands has changed nothing;
what is killed after it is finished by whoever reads the workspace next. A journal counts only where
it was written (it names its own file, which no copy and no checkout can be), and only over the
files that it was made from: what was edited since is not written over.
"""

from __future__ import annotations

import contextlib
import errno
import json
import os
import shutil
import stat
import tempfile
import time
from collections.abc import Iterable, Sequence
from pathlib import Path, PurePosixPath
from typing import Any, NamedTuple

from oaktag.english import listed
from oaktag.errors import UsageError
from oaktag.workspace import known_lists
from oaktag.workspace.folder import LIVE, MOST, NotPlain, inside, read_plain, stamp
from oaktag.workspace.lock import OWN, one_writer, own_folder
from oaktag.workspace.textfile import unlinked
from oaktag.workspace.whereabouts import FILE as STORE

JOURNAL = "journal.json"
CHANGE = "change"
_FORM = 2
#: So much of a stamp stays when a file is renamed.
_KEEPS = 4
#: What stays in the tool's own folder.
KEPT = frozenset(
    {
        ".gitignore",
        PurePosixPath(LIVE).name,
        known_lists.NAME,
        *(f"{STORE}{end}" for end in ("", "-wal", "-shm", "-journal", "-turn")),
    }
)
#: Above so many files everything is synced at once, not one by one.
MANY = 64
#: A journal's file was written in so many seconds before it says it was.
_ABOUT = 60.0


class _Step(NamedTuple):
    """One file of a change: what is prepared, where it goes, the stamps of what lies there before
    (nothing where there is none) and of what is prepared, and whether it is written into what is
    there, so that hard links and owner stay."""

    prepared: str
    target: str
    before: tuple[int, ...]
    after: tuple[int, ...]
    into: bool


def write_files(root: Path, what: str, texts: Iterable[tuple[Path, bytes]]) -> None:
    """Write files, all of them or none; the workspace's lock must be held.

    Args:
        root: the workspace's folder, where the journal is kept.
        what: the change in a few words, for who finds it interrupted.
        texts: where to write what, each prepared as it comes; links of a target are followed
            inside the workspace only.

    Raises:
        UsageError: a target is a link that leads out, or no plain file.
        OSError: a file cannot be written; then none is.
    """
    place = own_folder(root)
    change = place / CHANGE
    _emptied(change)
    made: list[Path] = []
    try:
        change.mkdir()
        steps: list[_Step] = []
        folders: dict[str, str] = {}
        for number, (path, text) in enumerate(texts):
            above, name = os.path.split(path)
            link = os.path.islink(path)
            if link or above not in folders:
                found = _target(root, path)
                made += _folders(found.parent)
                target = str(found)
                if not link:
                    folders[above] = str(found.parent)
            else:
                target = os.path.join(folders[above], name)
            before = _stamp(target)
            prepared = os.path.join(change, str(number))
            with open(prepared, "wb") as file:
                file.write(text)
            into = bool(before) and _like(Path(target), Path(prepared))
            if into:
                (change / f"{number}.before").write_bytes(_held(Path(target)) or b"")
            after = _stamp(prepared)[:_KEEPS]
            steps.append(_Step(str(number), target, before, after, into))
        if steps:
            _synced(sorted(change.iterdir()))
            _synced([change])
            _write_journal(place, what, steps)
    except BaseException:
        _emptied(change)
        for folder in reversed(made):
            with contextlib.suppress(OSError):
                folder.rmdir()
        raise
    if not steps:
        _emptied(change)
        return
    _finish(place, steps)


def interrupted(root: Path) -> bool:
    """Whether a change of a workspace goes on, or was interrupted."""
    return os.path.lexists(root / OWN / JOURNAL)


def settle(root: Path) -> str | None:
    """Finish what was interrupted in a workspace, if anything was.

    Returns:
        What was finished, in one sentence; None where all is well.

    Raises:
        UsageError: it cannot be finished, with why and what to do.
    """
    with contextlib.suppress(OSError):
        if not os.path.lexists(root / OWN) or {p.name for p in (root / OWN).iterdir()} <= KEPT:
            return None
    if not interrupted(root):
        with contextlib.suppress(OSError, UsageError), one_writer(root, "tidying up", patience=0.0):
            _tidied(root / OWN)
        return None
    journal = root / OWN / JOURNAL
    try:
        with one_writer(root, "finishing an interrupted change", patience=10.0):
            if not interrupted(root):
                return None  # its writer has come to the end meanwhile
            what, steps = _read_journal(journal)
            names = listed([_name(root, s.target) for s in steps], 6)
            _finish(journal.parent, steps)
    except OSError as error:
        told = error if error.filename else error.strerror
        raise UsageError(
            f"a change of this workspace was interrupted, and cannot be finished: {told}"
        ) from None
    return f"the interrupted change {what!r} is finished: {names}"


def _name(root: Path, target: str) -> str:
    try:
        return Path(target).relative_to(root.resolve()).as_posix()
    except ValueError:
        return target


# -- preparing -----------------------------------------------------------------------------------


def _target(root: Path, path: Path) -> Path:
    """Where a file is really to be written."""
    if not path.is_relative_to(root):
        return unlinked(path).absolute()
    there = path  # or as much of it as there is: no folder on the way leads out either
    while not os.path.lexists(there) and there != root:
        there = there.parent
    name = there.relative_to(root)
    try:
        return inside(root, str(name)) / path.relative_to(there)
    except NotPlain as error:
        raise UsageError(f"{name}: {error.strerror}; nothing is written through it") from None


def _folders(folder: Path) -> list[Path]:
    """Make a folder with all above it; those that were not there, the highest first."""
    missing = [f for f in (folder, *folder.parents) if not f.exists()]
    folder.mkdir(parents=True, exist_ok=True)
    return missing[::-1]


def _held(target: Path) -> bytes | None:
    try:
        return read_plain(target, MOST)[0]
    except FileNotFoundError:
        return None
    except NotPlain as error:
        raise UsageError(f"{target}: {error.strerror}; it is not written over") from None


def _like(target: Path, prepared: Path) -> bool:
    """Give what is prepared the mode, attributes and owner of what it will replace.

    Returns:
        Whether it must be written into what is there instead of replacing it.

    Raises:
        PermissionError: neither can be done.
    """
    try:
        was = target.stat()
    except FileNotFoundError:
        return False
    shutil.copystat(target, prepared)  # extended attributes too
    os.utime(prepared)
    mine = prepared.stat()
    if (mine.st_uid, mine.st_gid) != (was.st_uid, was.st_gid):
        with contextlib.suppress(PermissionError):
            os.chown(prepared, was.st_uid, was.st_gid)
            prepared.chmod(stat.S_IMODE(was.st_mode))
    mine = prepared.stat()
    into = was.st_nlink > 1 or (mine.st_uid, mine.st_gid) != (was.st_uid, was.st_gid)
    into = into or not os.access(target.parent, os.W_OK)
    if into and not os.access(target, os.W_OK):
        raise PermissionError(errno.EACCES, os.strerror(errno.EACCES), str(target))
    return into


def _stamp(path: str) -> tuple[int, ...]:
    """What changes when a file is written, or is another; nothing where there is none.

    Raises:
        UsageError: it is no plain file.
    """
    try:
        found = os.stat(path)
    except FileNotFoundError:
        return ()
    if not stat.S_ISREG(found.st_mode):
        _held(Path(path))
    return stamp(found)


def _is_done(change: Path, step: _Step, now: tuple[int, ...]) -> bool:
    """Whether a file is what it shall be: what was prepared itself, or as it is."""
    if now[:_KEEPS] == step.after:
        return True
    prepared = change / step.prepared
    return prepared.exists() and _held(Path(step.target)) == prepared.read_bytes()


def _synced(paths: Sequence[Path]) -> None:
    """Wait until files (or folders) are on the disk."""
    if len(paths) > MANY:
        os.sync()
        return
    for path in paths:
        handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def _tidied(place: Path) -> None:
    """Take away what a change that was killed before its journal stood has left."""
    if not os.path.lexists(place / JOURNAL):
        _emptied(place / CHANGE)
        for pattern in ("journal.*", f"{known_lists.NAME}.*"):
            for made in place.glob(pattern):
                made.unlink()


def _emptied(change: Path) -> None:
    if change.is_symlink():
        change.unlink()
    elif change.exists():
        shutil.rmtree(change)


# -- the journal ---------------------------------------------------------------------------------


def _write_journal(place: Path, what: str, steps: Sequence[_Step]) -> None:
    handle, temporary = tempfile.mkstemp(dir=place, prefix="journal.")
    with os.fdopen(handle, "w", encoding="utf-8") as file:
        found = os.fstat(handle)
        here = {"device": found.st_dev, "inode": found.st_ino, "time": time.time()}
        told = {"form": _FORM, "what": what, **here, "steps": [s._asdict() for s in steps]}
        file.write(json.dumps(told))
        file.flush()
        os.fsync(handle)
    Path(temporary).rename(place / JOURNAL)
    _synced([place])


def _read_journal(path: Path) -> tuple[str, list[_Step]]:
    """What a journal says, if it was written here.

    Raises:
        UsageError: it was not, or cannot be read.
    """
    strange = UsageError(
        f"{path} is no journal that was written here; nothing in it is followed; if the files of "
        f"the workspace are as they should be, take {path.parent} away"
    )
    try:
        if path.is_symlink() or path.parent.is_symlink():
            raise strange
        found = path.stat()
        held: dict[str, Any] = json.loads(read_plain(path, MOST)[0])
        here = held["device"], held["inode"]
        about = abs(found.st_ctime - float(held["time"])) < _ABOUT
        steps = [_Step(**{k: _fixed(step[k]) for k in _Step._fields}) for step in held["steps"]]
        what = str(held["what"])
        if held["form"] != _FORM:
            raise strange
    except (ValueError, KeyError, TypeError, RecursionError, NotPlain):
        raise strange from None
    if here != (found.st_dev, found.st_ino) or not about:
        raise strange
    return what, steps


def _fixed(value: Any) -> Any:
    return tuple(value) if isinstance(value, list) else value


def _finish(place: Path, steps: Sequence[_Step]) -> None:
    """Put in place what is not there yet, and take the journal away.

    Raises:
        UsageError: a file is neither what it was nor what it shall be.
        OSError: a file cannot be written.
    """
    change = place / CHANGE
    left: list[_Step] = []
    for step in steps:
        now = _stamp(step.target)
        if now == step.before:
            left.append(step)
        elif _is_done(change, step, now):
            continue
        elif _half(change, step):
            left.append(step)
        else:
            raise UsageError(
                f"{step.target} was edited after a change of several files was interrupted; "
                f"what it was to become is {change / step.prepared}; bring the files in order, "
                f"then remove {place}"
            )
    try:
        for step in left:
            _put(change / step.prepared, step)
    except BaseException as error:
        if all(_stamp(step.target) == step.before for step in steps):
            _ended(place, steps)  # nothing was done yet, and nothing will be
        elif isinstance(error, OSError):
            raise UsageError(
                f"{error}; some files of the change are written, and the others will be when the "
                "workspace is read next and there is room"
            ) from None
        raise
    _ended(place, steps)


def _ended(place: Path, steps: Sequence[_Step]) -> None:
    """Wait until all is on the disk, and take the journal away, with what was prepared."""
    folders = [Path(f) for f in dict.fromkeys(os.path.dirname(step.target) for step in steps)]
    _synced([folder for folder in folders if folder.is_dir()])
    (place / JOURNAL).unlink(missing_ok=True)
    _synced([place])
    _emptied(place / CHANGE)


def _half(change: Path, step: _Step) -> bool:
    """Whether a file is what a writing into it leaves that was interrupted."""
    now = _held(Path(step.target))
    if not step.into or now is None:
        return False
    before = (change / f"{step.prepared}.before").read_bytes()
    after = (change / step.prepared).read_bytes()
    both = zip(now, after, strict=False)
    same = next(
        (n for n, (one, other) in enumerate(both) if one != other), min(len(now), len(after))
    )
    return now[same:] == before[same:]


def _put(prepared: Path, step: _Step) -> None:
    """Put one file in place."""
    if step.into:
        handle = os.open(step.target, os.O_WRONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
        with os.fdopen(handle, "wb") as file:
            file.write(prepared.read_bytes())
            file.truncate()
            file.flush()
            os.fsync(handle)
        return
    try:
        os.rename(prepared, step.target)
    except OSError as error:
        if error.errno != errno.EXDEV:
            raise
        target = Path(step.target)
        handle, beside = tempfile.mkstemp(dir=target.parent, prefix=f".{target.name}.")
        os.close(handle)
        shutil.copy2(prepared, beside)
        Path(beside).rename(target)
