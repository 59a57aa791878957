"""Reading the bytes of a workspace's files: encoding, NUL bytes, emptiness; and writing them."""

from __future__ import annotations

import errno
import os
import stat
import tempfile
from pathlib import Path

from oaktag.errors import Problem, UsageError
from oaktag.letters import line_end, named
from oaktag.located import Location


class Problems:
    """The faults of a run, collected; reading goes on as far as it makes sense."""

    def __init__(self) -> None:
        self.all: list[Problem] = []

    def form(self, location: Location, message: str, expected: str = "") -> None:
        """A file that cannot be read as what it should be."""
        self.all.append(Problem(location, message, expected, "form"))

    def clash(self, location: Location, message: str, expected: str = "") -> None:
        """Files that can be read, and contradict each other."""
        self.all.append(Problem(location, message, expected, "clash"))


def read_text(root: Path, name: str, problems: Problems, encoding: str = "utf-8") -> str | None:
    """The text of a file of the workspace; None, and a problem, where there is none."""
    try:
        strange = _strange(root, name)
        if strange:
            problems.form(Location(name), strange, "a plain file in the workspace's folder")
            return None
        data = (root / name).read_bytes()
    except FileNotFoundError:
        problems.form(Location(name), "there is no such file", "every file named must exist")
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
        return _lines(name, data.decode("utf-8-sig" if encoding == "utf-8" else encoding), problems)
    except UnicodeDecodeError as error:
        byte = data[error.start]
        known = encoding == "utf-8"
        problems.form(
            _place(name, data, error.start),
            f"the byte 0x{byte:02x} is not {'UTF-8' if known else encoding}",
            "save the file as UTF-8, or say encoding: in its source" if known else "see encoding:",
        )
        return None


def _strange(root: Path, name: str) -> str:
    """What a file is that is no plain file inside the workspace, after links are followed."""
    try:
        real = (root / name).resolve(strict=True)
    except RuntimeError:  # a loop
        return "it is a link that leads nowhere"
    if not real.is_relative_to(root.resolve()):
        return f"it is a link to {real}, outside the workspace"
    mode = real.stat().st_mode
    if stat.S_ISREG(mode):
        return ""
    return "it is a folder" if stat.S_ISDIR(mode) else "it is a pipe or a device"


def _lines(name: str, text: str, problems: Problems) -> str | None:
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


def exact_text(path: Path) -> str:
    """A file's text as its bytes say it: no line end is taken for another, no mark left out.

    Raises:
        OSError: it cannot be read, or is no plain file.
        UnicodeDecodeError: it is not UTF-8.
    """
    if not stat.S_ISREG(path.stat().st_mode):
        raise OSError(errno.EINVAL, "it is no plain file", str(path))
    return path.read_bytes().decode("utf-8")


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
    for place in (path, path.parent):
        if place.is_symlink():
            raise UsageError(f"{place} is a link; nothing is written through one")
    path.parent.mkdir(parents=True, exist_ok=True)
    handle, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
        Path(temporary).chmod(path.stat().st_mode & 0o777 if path.exists() else 0o644)
        Path(temporary).replace(path)
    except BaseException:
        Path(temporary).unlink(missing_ok=True)
        raise
