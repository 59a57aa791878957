"""Which lists were made from what: kept in the tool's own folder, so that what is as it was is not
made again.

It says of a list from what it was made, the hash of what came of it, and how that lies on the disk.
A list counts as made only where it still lies so, or with that hash; and the file counts only where
it was written (it names itself, which no copy and no checkout can be).
"""

from __future__ import annotations

import contextlib
import json
import os
import stat
import tempfile
import time
from collections.abc import Mapping
from hashlib import sha256
from pathlib import Path
from typing import Any

from oaktag.workspace.folder import MOST, NotPlain, read_plain

NAME = "lists.json"
_FORM = 1
#: So many nanoseconds in which two changes may have one time.
_JUST_NOW = 100_000_000


def read(place: Path) -> dict[str, dict[str, Any]]:
    """By fingerprint what is known of lists; nothing where that is not to be had."""
    path = place / NAME
    try:
        found = path.lstat()
        held = json.loads(read_plain(path, MOST)[0])
        here = {"form": _FORM, "device": found.st_dev, "inode": found.st_ino}
        if {key: held.get(key) for key in here} != here:
            return {}
        lists: dict[str, dict[str, Any]] = held["lists"]
        return lists if all(isinstance(row, dict) for row in lists.values()) else {}
    except (OSError, ValueError, KeyError, TypeError, AttributeError, NotPlain, RecursionError):
        return {}


def as_it_lies(path: Path) -> list[int]:
    """What tells a file from any other, and from itself after a change; nothing of one that has
    just been written, for it could be written again at the same time."""
    try:
        found = path.lstat()
    except OSError:
        return []
    if not stat.S_ISREG(found.st_mode) or time.time_ns() - found.st_ctime_ns < _JUST_NOW:
        return []
    return [found.st_dev, found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns]


def lies(path: Path, told: object, hashed: object) -> bool:
    """Whether a list lies there as it did, or at least with the same hash."""
    if told and as_it_lies(path) == told:
        return True
    try:
        return not path.is_symlink() and sha256(read_plain(path, MOST)[0]).hexdigest() == hashed
    except (OSError, NotPlain):
        return False


def write(place: Path, lists: Mapping[str, Mapping[str, Any]]) -> None:
    """Keep what is known of lists; where there is no room for it, it is not kept."""
    with contextlib.suppress(OSError):
        handle, temporary = tempfile.mkstemp(dir=place, prefix=f"{NAME}.")
        try:
            with os.fdopen(handle, "w", encoding="utf-8") as file:
                found = os.fstat(handle)
                here = {"form": _FORM, "device": found.st_dev, "inode": found.st_ino}
                json.dump({**here, "lists": lists}, file)
            Path(temporary).rename(place / NAME)
        except OSError:
            Path(temporary).unlink(missing_ok=True)
            raise
