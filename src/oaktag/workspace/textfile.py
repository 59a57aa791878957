"""Reading the bytes of a workspace's files: encoding, NUL bytes, emptiness; and writing them."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from secrets import token_hex
from typing import Literal

from oaktag.errors import Problem, UsageError, WorkspaceError
from oaktag.letters import clipped, line_end, named
from oaktag.located import Location
from oaktag.workspace.folder import MOST, Folder, NotPlain, inside, read_plain

#: So many faults of a run are kept, and for so many the nearest names are looked for.
MOST_FAULTS, HINTED = 10_000, 200
#: The largest access list that is read back, in bytes.
LIST_MOST = 1 << 28


#: What is expected instead; a callable is asked where it will be shown.
Expected = str | Callable[[], str]


class Problems:
    """The faults of a run, collected; reading goes on as far as it makes sense.

    ``all`` are the first of them, ``count`` is how many there are.
    """

    def __init__(self) -> None:
        self.all: list[Problem] = []
        self.count = 0
        self._unreadable = False

    def form(self, location: Location, message: str, expected: Expected = "") -> None:
        """A file that cannot be read as what it should be."""
        self._add(location, message, expected, "form")

    def clash(self, location: Location, message: str, expected: Expected = "") -> None:
        """Files that can be read, and contradict each other."""
        self._add(location, message, expected, "clash")

    def _add(
        self, location: Location, message: str, expected: Expected, kind: Literal["form", "clash"]
    ) -> None:
        self.count += 1
        # The first that makes a file unreadable is kept in any case: the exit status tells of it.
        if self.count > MOST_FAULTS and (kind == "clash" or self._unreadable):
            return
        self._unreadable = self._unreadable or kind == "form"
        if not isinstance(expected, str):
            expected = expected() if self.count <= HINTED else ""
        self.all.append(Problem(location, clipped(message), clipped(expected), kind))

    def error(self) -> WorkspaceError:
        """All of them, to be raised."""
        return WorkspaceError(tuple(self.all), self.count)


def read_text(
    root: Folder, name: str, problems: Problems, encoding: str = "utf-8", most: int = MOST
) -> str | None:
    """The text of a file of the workspace; None, and a problem, where there is none."""
    try:
        data = root.read(name, most)
    except FileNotFoundError:
        problems.form(Location(name), "there is no such file", "every file named must exist")
        return None
    except NotPlain as error:
        problems.form(Location(name), str(error.strerror), error.expected)
        return None
    except OSError as error:
        problems.form(Location(name), f"it cannot be read: {error.strerror}")
        return None
    if not data:
        problems.form(Location(name), "the file is empty", "a file of zero bytes says nothing")
        return None
    bad = data.find(b"\0") if encoding != "utf-16" else -1
    if bad >= 0:
        problems.form(_place(name, data, bad), "there is a NUL byte here", "plain UTF-8 text")
        return None
    try:
        return checked_lines(
            name, data.decode("utf-8-sig" if encoding == "utf-8" else encoding), problems
        )
    except UnicodeDecodeError as error:
        byte = data[error.start]
        known = encoding == "utf-8"
        problems.form(
            _place(name, data, error.start),
            f"the byte 0x{byte:02x} is not {'UTF-8' if known else encoding}",
            "save the file as UTF-8, or say encoding: in its source" if known else "see encoding:",
        )
        return None


def checked_lines(name: str, text: str, problems: Problems) -> str | None:
    """The text, if its lines end with LF or CRLF and nothing else: what one reader takes for a line
    of its own and another for the end of a comment, no reviewer sees."""
    odd = line_end(text)
    if odd is None:
        return text
    at = odd.start()
    place = Location(name, text.count("\n", 0, at) + 1, at - text.rfind("\n", 0, at))
    problems.form(
        place, f"the character {named(odd[0])} ends a line for some programs and not for others",
        "lines end with LF or CRLF; take it out, or write it as an escape",
    )  # fmt: skip
    return None


def _place(name: str, data: bytes, at: int) -> Location:
    line = data.count(b"\n", 0, at) + 1
    return Location(name, line, at - data.rfind(b"\n", 0, at))


def exact_text(path: Path, most: int = LIST_MOST) -> str:
    """A file's text as its bytes say it: no line end is taken for another, no mark left out.

    Raises:
        OSError: it cannot be read, is no plain file of its folder, or holds more than ``most``.
        UnicodeDecodeError: it is not UTF-8.
    """
    return read_plain(inside(path.parent, path.name), most)[0].decode("utf-8")


def write_text(path: Path, text: str) -> None:
    """Write a file whole or not at all."""
    write_bytes(path, text.encode())


def write_bytes(path: Path, data: bytes) -> None:
    """Write a file whole or not at all: to a temporary one beside it, whose name nobody can guess,
    then renamed. Nothing is written through a link.

    Raises:
        OSError: it cannot be written.
        UsageError: the file, or its folder, is a link.
    """
    unlinked(path)
    path.parent.mkdir(parents=True, exist_ok=True)
    temporary = path.parent / f".{path.name[:100]}.{token_hex(8)}"
    # The mode is what the process gives new files, or what the file has.
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
    handle = os.open(temporary, flags, 0o666)
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            if path.exists():
                os.fchmod(handle, path.stat().st_mode & 0o777)
        temporary.replace(path)
    except BaseException:
        temporary.unlink(missing_ok=True)
        raise


def unlinked(path: Path, below: Path | None = None) -> Path:
    """A path of a command line, where neither it nor its folder is a link, nor a folder on the way
    to it from ``below``.

    Raises:
        UsageError: one is.
    """
    parts = {path, path.parent}
    if below is not None:
        parts |= {p for p in path.absolute().parents if below.absolute() in p.parents}
    for place in sorted(parts):
        if place.is_symlink():
            raise UsageError(f"{place} is a link; nothing is read or written through one")
    return path
