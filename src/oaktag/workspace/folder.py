"""What a workspace is read from: its folder, its folder with some texts laid over it, or a version
that is nowhere written out.

Rules kept here: only plain files are read, and only inside the folder, after links are followed; no
file beyond its limit; and of each file it is remembered how it was, so that a change that was made
from it is refused when it is another by then.
"""

from __future__ import annotations

import errno
import json
import os
import stat
from codecs import BOM_UTF8
from collections.abc import Callable, Mapping, Sequence
from hashlib import sha256
from pathlib import Path
from typing import NamedTuple

from oaktag.core.addresses import Prefix, parse_prefix
from oaktag.errors import UsageError

#: Files up to so many bytes are remembered by what they hold, larger ones by size and times.
REMEMBERED = 1 << 24
MIB = 1 << 20
#: What is read where no kind of file has a limit of its own.
MOST = 1 << 31


class NotPlain(OSError):
    """No plain file inside the folder, or one that is larger than it may be: what it is, and what
    would be right."""

    def __init__(self, told: str, expected: str = "a plain file in the workspace's folder") -> None:
        super().__init__(errno.EINVAL, told)
        self.expected = expected


class BeingWritten(NotPlain):
    """A file that another process writes while it is read."""


class _Seen(NamedTuple):
    """How a file was when it was read; a digest where it is not large."""

    stamp: tuple[int, ...]
    digest: bytes | None

    @classmethod
    def of(cls, held: bytes, found: tuple[int, ...]) -> _Seen:
        return cls(found, sha256(held).digest() if len(held) <= REMEMBERED else None)

    def same(self, other: _Seen) -> bool:
        """Whether both are of one content, as far as that was remembered."""
        if self.digest is None or other.digest is None:
            return self.stamp == other.stamp
        return self.digest == other.digest


#: Where a copy of a workspace keeps what was known of sessions besides its files.
LIVE = ".oaktag/live.json"


class LiveSession(NamedTuple):
    """A session that the store tells of: who is said to have which address, since when, by which
    node; whether it is over; and what else was told of it."""

    endpoint: str
    address: Prefix
    since: int
    node: str
    over: bool
    told: Mapping[str, str]


#: Sessions as of a moment, of the store that ``oaktag.yaml`` names ("": the workspace's own), where
#: one lasts so long unconfirmed (in microseconds).
Live = Callable[[str, int, int | None], Sequence[LiveSession]]


class Folder:
    """A workspace's files, by name.

    Args:
        path: the folder.
        laid: texts that stand for those of the files.
        alone: whether these are all there are, and the folder's own are not read.
    """

    def __init__(
        self, path: Path, laid: Mapping[str, bytes] | None = None, *, alone: bool = False
    ) -> None:
        self.path = path
        self.alone = alone
        self._laid = dict(laid or {})
        self._seen: dict[str, _Seen | None] = {}
        self._marked: set[str] = set()
        #: What tells of sessions besides the files; and what it told, once it was asked.
        self.live: Live | None = None
        self.told: Sequence[LiveSession] = ()
        #: What an interrupted change was that was finished before these files were read.
        self.settled: str | None = None

    def over(self, texts: Mapping[str, str]) -> Folder:
        """The folder as it would be with some texts changed."""
        laid = self._laid | {name: self.encoded(name, text) for name, text in texts.items()}
        other = Folder(self.path, laid, alone=self.alone)
        other.live = self.live
        return other

    def sessions(self, store: str, timeout: int, moment: int | None) -> Sequence[LiveSession]:
        """Sessions besides those of the files: as a copy of a workspace keeps them, or else as they
        are.

        Raises:
            OSError: the copy cannot be read.
        """
        if self.has(LIVE):
            rows = json.loads(self.read(LIVE, MOST))
            self.told = [LiveSession(r[0], parse_prefix(r[1]), *r[2:]) for r in rows]
        elif self.live is not None:
            self.told = self.live(store, timeout, moment)
        return self.told

    def has(self, name: str) -> bool:
        """Whether there is a file (or anything else) of the name."""
        if name in self._laid or self.alone:
            return name in self._laid
        found = os.path.lexists(self.path / name)
        if not found:
            self._seen[name] = None
        return found

    def read(self, name: str, most: int) -> bytes:
        """A file's bytes.

        Raises:
            FileNotFoundError: there is no such file.
            NotPlain: it is none to be read, or holds more than ``most`` bytes.
            OSError: it cannot be read.
        """
        if name in self._laid:
            held = self._laid[name]
            if len(held) > most:
                raise _too_large(len(held), most)
            return held
        if self.alone:
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT))
        try:
            held, found = read_plain(inside(self.path, name), most)
        except BeingWritten:
            self._seen[name] = None  # another one by now, whatever it was
            raise
        self._seen[name] = _Seen.of(held, found)
        return held

    def text(self, name: str) -> str:
        """A file's text for a change of it, line ends as they are, less a mark of byte order, which
        :meth:`encoded` puts back; empty where there is none.

        Raises:
            UsageError: the file is not the one that was read.
        """
        if name in self._laid or self.alone:
            return self._unmarked(name, self._laid.get(name, b""))
        try:
            held, found = read_plain(inside(self.path, name), MOST)
        except FileNotFoundError:
            now, held = None, b""
        except OSError as error:
            raise UsageError(f"{name}: {error.strerror}") from None
        else:
            now = _Seen.of(held, found)
        if name in self._seen and not _same(self._seen[name], now):
            raise changed_meanwhile([name])
        self._seen.setdefault(name, now)
        return self._unmarked(name, held)

    def _unmarked(self, name: str, held: bytes) -> str:
        if held.startswith(BOM_UTF8):
            self._marked.add(name)
        return held.decode("utf-8-sig")

    def encoded(self, name: str, text: str) -> bytes:
        """A changed text as the bytes of its file."""
        return (BOM_UTF8 if name in self._marked else b"") + text.encode()

    def same(self, name: str, other: Folder) -> bool:
        """Whether another folder holds the very bytes of a file that were read here, or none where
        none was found; False where the file was not looked for, or is too large to be remembered.
        """
        seen = self._seen.get(name)
        digest = None if seen is None else seen.digest
        if name in self._laid:
            digest = sha256(self._laid[name]).digest()
        elif digest is None and not self.alone and (seen is not None or name not in self._seen):
            return False
        try:
            return digest == (sha256(other.read(name, MOST)).digest() if other.has(name) else None)
        except OSError:  # which reading it complains of
            return False

    def copies(self) -> dict[str, bytes]:
        """All files that were read, as they were.

        Raises:
            UsageError: one of them is another by now.
        """
        found = dict(self._laid)
        if not self.alone:
            for name in [n for n, seen in self._seen.items() if seen is not None]:
                found.setdefault(name, read_plain(inside(self.path, name), MOST)[0])
            if late := self.stale():
                raise changed_meanwhile(late)
        if self.told:
            rows = [(s.endpoint, str(s.address), *s[2:]) for s in self.told]
            found[LIVE] = json.dumps(rows, ensure_ascii=False).encode()
        return found

    def stale(self) -> list[str]:
        """The files that are not as they were when they were read."""
        return [name for name, before in self._seen.items() if not self._is(name, before)]

    def _is(self, name: str, before: _Seen | None) -> bool:
        """Whether a file still is as it was."""
        try:
            place = inside(self.path, name)
            if before is not None and stamp(place.stat()) == before.stamp:
                return True
            return _same(before, _Seen.of(*read_plain(place, MOST)))
        except FileNotFoundError:
            return before is None
        except OSError:
            return False


def _same(one: _Seen | None, other: _Seen | None) -> bool:
    return one is other if one is None or other is None else one.same(other)


def changed_meanwhile(names: list[str]) -> UsageError:
    """The refusal to build on what is not there any more."""
    verb = "have changed since they were" if len(names) > 1 else "has changed since it was"
    return UsageError(f"{', '.join(names)} {verb} read; nothing is written; run it again")


def inside(root: Path, name: str) -> Path:
    """Where a file of a folder really lies.

    Raises:
        FileNotFoundError: there is none.
        NotPlain: it lies outside, or is a link that leads nowhere.
    """
    path = root / name
    try:
        real = path.resolve(strict=True)
    except RuntimeError:  # a loop
        raise NotPlain("it is a link that leads nowhere") from None
    except FileNotFoundError:
        if path.is_symlink():
            raise NotPlain("it is a link that leads nowhere") from None
        raise
    except OSError as error:
        if error.errno == errno.ELOOP:
            raise NotPlain("it is a link that leads nowhere") from None
        raise
    if not real.is_relative_to(root.resolve()):
        raise NotPlain(f"it is a link to {real}, outside {root}")
    return real


def read_plain(path: Path, most: int) -> tuple[bytes, tuple[int, ...]]:
    """The bytes of a plain file, and its stamp. A pipe or device hangs nobody.

    Raises:
        NotPlain: it is none, or holds more than ``most`` bytes.
        OSError: it cannot be read.
    """
    handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    try:
        found = os.fstat(handle)
        if not stat.S_ISREG(found.st_mode):
            kind = "a folder" if stat.S_ISDIR(found.st_mode) else "a pipe or a device"
            raise NotPlain(f"it is {kind}")
        if found.st_size > most:
            raise _too_large(found.st_size, most)
        with os.fdopen(handle, "rb", closefd=False) as file:
            held = file.read(found.st_size + 1)
    finally:
        os.close(handle)
    if len(held) != found.st_size:
        raise BeingWritten("it is being written", "a file that is done; run it again")
    return held, stamp(found)


def _too_large(size: int, most: int) -> NotPlain:
    told = f"it holds {size / MIB:,.0f} MiB, and at most {most // MIB:,} MiB are read"
    return NotPlain(told, "what is long belongs into several files, or into CSV")


def stamp(found: os.stat_result) -> tuple[int, ...]:
    """What changes when a file is written, or is another."""
    return found.st_dev, found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns
