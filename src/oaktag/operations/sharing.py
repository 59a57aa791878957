"""``share``: our groups, as other domains are told of them."""

from __future__ import annotations

import time
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from oaktag.core.domains import Receipt, Shared, origin_of, shared_groups
from oaktag.errors import UsageError
from oaktag.near import perhaps
from oaktag.operations.model import Model
from oaktag.operations.result import Result, Row
from oaktag.workspace.adopted_files import held
from oaktag.workspace.domain_file import (
    HIGHEST_SERIAL,
    UnreadableDocument,
    digest_of,
    read_document,
    text_of,
)
from oaktag.workspace.folder import MOST, read_plain
from oaktag.workspace.textfile import write_text
from oaktag.workspace.times import SECOND, instant_text


@dataclass(frozen=True, eq=False, repr=False)
class SharedGroups(Result):
    """What is told of our groups."""

    origin: str
    serial: int
    made: str
    file: str
    written: list[str]
    left: list[str]
    groups: list[Row]
    command: ClassVar[str] = "share"
    table: ClassVar[str] = "groups"


def share(model: Model, out: Path | None = None, lists: Path | None = None) -> SharedGroups:
    """Our groups that ``share:`` names, with their stable bindings, as a signed document.

    Args:
        model: the workspace.
        out: the file of the document; one that tells of the same groups keeps its serial and its
            time, and where nothing else changed its bytes.
        lists: a folder for the prefixes of each group as plain text, one a line.

    Raises:
        UsageError: nothing is shared, a group has no number, the key cannot be read, or the file
            holds something else.
    """
    ours = told(model)
    if out is not None:
        ours = _continued(ours, out)
    groups: list[Row] = [
        {"group": g.id, "tag": g.tag, "prefixes": [str(p) for p in g.prefixes]} for g in ours.groups
    ]
    texts: dict[Path, str] = {}
    if out is not None:
        from oaktag.sources.domain import signer

        share = model.files.config.share
        assert share is not None and share.sign is not None, "something is shared"
        texts[out] = text_of(ours, signer(share.sign))
    if lists is not None:
        texts |= {
            lists / f"{g['group']}.txt": "".join(f"{p}\n" for p in g["prefixes"]) for g in groups
        }
    written = [path for path, text in texts.items() if _text_of(path) != text]
    for path in written:
        write_text(path, texts[path])
    return SharedGroups(
        ours.origin, ours.serial, instant_text(ours.made), "" if out is None else str(out),
        [str(path) for path in written],
        [] if lists is None else sorted(str(p) for p in lists.glob("*.txt") if p not in texts),
        groups,
    )  # fmt: skip


def told(model: Model) -> Shared:
    """What our groups are now, as a document of this moment.

    Raises:
        UsageError: nothing is shared, or a group has no number.
    """
    config, groups = model.files.config, model.groups
    share = config.share
    if share is None:
        raise UsageError("oaktag.yaml shares nothing: share: {groups: [librarians], sign: …}")
    wanted: set[int] = set()
    for word, node in share.groups:
        place = config.file.place(node)
        if word not in groups.index and word not in groups.sets:
            hint = perhaps(word, {*groups.index, *groups.sets}, "oaktag groups lists them")
            raise UsageError(f"{place}: {word!r} is no group or set; {hint}")
        found = groups.members(word)
        for index in found:
            name = groups.all[index].id
            if not index or origin_of(name):
                whose = f"of {origin_of(name)}" if index else "nobody's"
                raise UsageError(f"{place}: {name} is {whose}; only groups of our own are shared")
            if groups.all[index].tag is None:
                raise UsageError(
                    f"{place}: {name} has no number in the files; oaktag groups --number --write"
                )
        wanted.update(found)
    now = time.time_ns() // 1000 // SECOND
    return Shared(
        share.origin, now, now * SECOND,
        shared_groups(groups, wanted, model.registry_bindings, config.binding_order),
        _receipts(model),
    )  # fmt: skip


def _receipts(model: Model) -> tuple[Receipt, ...]:
    """What we hold of others."""
    config = model.files.config
    every = [held(model.files.folder, adopt) for adopt in config.adopt]
    return tuple(
        Receipt(s.origin, s.serial, digest_of(s))
        for s in sorted((s for s in every if s is not None), key=lambda s: s.origin)
    )


def _continued(ours: Shared, out: Path) -> Shared:
    """The document, as one that follows what a file holds: the same where it says the same."""
    before = _text_of(out)
    if before is None:
        return ours
    try:
        was = read_document(before.encode()).shared
    except UnreadableDocument as error:
        raise UsageError(
            f"{out} is no document of ours, and is left as it is: {error}; name another file"
        ) from None
    if was.origin != ours.origin:
        raise UsageError(f"{out} is a document of {was.origin}, and is left as it is")
    if was.groups == ours.groups:
        return ours._replace(serial=was.serial, made=was.made)
    if was.serial >= HIGHEST_SERIAL:
        raise UsageError(f"{out} has the last serial that there is; take it away to begin anew")
    return ours._replace(serial=max(ours.serial, was.serial + 1))


def _text_of(path: Path) -> str | None:
    try:
        return read_plain(path, MOST)[0].decode()
    except FileNotFoundError:
        return None
    except UnicodeDecodeError:
        return "\0"
    except OSError as error:
        raise UsageError(f"{path}: {error.strerror}") from None
