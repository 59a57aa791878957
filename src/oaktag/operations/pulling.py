"""``pull``: read directories and other domains into the files that stand for them, diff first."""

from __future__ import annotations

import base64
import gc
import json
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

from oaktag.errors import UsageError, WorkspaceError
from oaktag.operations.adopting import Adopted, adopted
from oaktag.operations.change import NOTHING, Change, made
from oaktag.operations.model import Model
from oaktag.workspace import edits
from oaktag.workspace.config_file import Config, Source, read_config
from oaktag.workspace.folder import Folder
from oaktag.workspace.ldiffile import list_entries, list_ldif
from oaktag.workspace.listing import Listing
from oaktag.workspace.sharing_part import Adopt
from oaktag.workspace.textfile import Problems


def pull(
    model: Model,
    files: Sequence[str] = (),
    *,
    write: bool,
    anyway: bool = False,
    progress: Callable[[int], None] | None = None,
) -> Change:
    """What directories and other domains say now, as a change of the files that stand for them.

    Args:
        model: the workspace.
        files: which of these files; all where none is named.
        write: write them; else it is only shown.
        anyway: also where a directory lost more than its guard, or an expectation fails then.
        progress: called with how many entries have come.

    Raises:
        UsageError: no source has such a file, or a directory lost more than its guard.
        NoAnswer: a directory does not answer.
        OakTagError: one refuses, or does not give all.
    """
    folder, config = model.files.folder, model.files.config
    _named(config, files)
    with _all_kept():
        changed = pulled(folder, config, files, anyway=anyway, progress=progress)
    then, asked = model, _asked(config, files)
    if changed and asked:
        try:
            then = Model(edits.try_out(model.files, changed), model.today, model)
        except WorkspaceError as error:
            raise edits.checked(error) from None
    more = adopted(then, asked)
    shown = made(model, "pull", changed | more.changed, write=write, anyway=anyway)
    return replace(shown, **_besides(more))


def pull_first(
    root: Path, files: Sequence[str] = (), *, write: bool, anyway: bool = False,
    progress: Callable[[int], None] | None = None,
) -> Change:  # fmt: skip
    """The same for a workspace that cannot be read without what is pulled: others of its files name
    who is in a directory.

    Raises:
        WorkspaceError: with it, it cannot be read either.
    """
    folder, problems = Folder(root), Problems()
    config = read_config(folder, problems)
    if config is None or problems.count:
        raise problems.error()
    _named(config, files)
    with _all_kept():
        changed = pulled(folder, config, files, anyway=anyway, progress=progress)
    then = Model.read(folder.over(changed))
    more = adopted(then, _asked(config, files))
    changed |= more.changed
    shown = edits.difference(folder, changed)
    if changed and write:
        edits.write_all(then.files._replace(folder=folder), "pull", changed)
    told = Change(
        "pull",
        files=list(changed),
        diff=shown,
        written=bool(changed) and write,
        hidden_by=[],
        overruled=[],
        **NOTHING,
    )
    return replace(told, **_besides(more))


@contextmanager
def _all_kept() -> Iterator[None]:
    """While many small objects are made that all stay, nobody looks for some that do not: with
    20,000 people that was a third of the time."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


def _named(config: Config, files: Sequence[str]) -> None:
    """That all files that are named stand for something live.

    Raises:
        UsageError: one does not, or nothing is live.
    """
    live = {s.file for s in config.sources if s.directory is not None}
    live |= {adopt.file for adopt in config.adopt}
    if not live:
        raise UsageError(
            "nothing here is live: ldap: in a source of oaktag.yaml names a directory, adopt: "
            "another domain"
        )
    if odd := [name for name in files if name not in live]:
        raise UsageError(f"{odd[0]} stands for nothing live; these do: {', '.join(sorted(live))}")


def _asked(config: Config, files: Sequence[str]) -> list[Adopt]:
    return [adopt for adopt in config.adopt if not files or adopt.file in files]


def _besides(more: Adopted) -> dict[str, Any]:
    """What adopting adds to a change: what is to be said, and what is refused."""
    refused = [{"origin": r.origin, "why": r.why, "silent": r.silent} for r in more.refused]
    return {"notes": more.notes, "refused": refused}


def pulled(
    folder: Folder, config: Config, files: Sequence[str], *, anyway: bool,
    progress: Callable[[int], None] | None,
) -> dict[str, str]:  # fmt: skip
    """The texts of files that directories give, as of now."""
    live = [s for s in config.sources if s.directory is not None]
    if not live:
        return {}
    from oaktag.sources.directory import Entry, entries

    changed: dict[str, str] = {}
    for source in live:
        if files and source.file not in files:
            continue
        assert source.directory is not None
        found: Iterable[Entry] = entries(source.directory, progress)
        held = sorted((e.name, e.values) for e in found)
        now = _rows(source, list_entries(source.file, source.id, held))
        was = _listed(folder, source, folder.text(source.file), source.file)
        lost = was.keys() - now.keys()
        most = len(was) * source.directory.guard / 100
        if len(lost) > most and not anyway:
            some = ", ".join(sorted(lost)[:3])
            raise UsageError(
                f"{source.file}: {len(lost):,} of {len(was):,} are not in the directory any more "
                f"({some}{' …' if len(lost) > 3 else ''}), and its guard is "
                f"{source.directory.guard} %; nothing is written. --anyway believes it"
            )
        by_lines = source.file.endswith(".jsonl")
        changed[source.file] = _lines(now, source.id) if by_lines else ldif(held)
    return changed


#: RFC 2849, note 4: no control that parts lines, nothing beyond ASCII; and no space at either end.
_SAFE = re.compile(rb"(?:[^\x00\n\r :<\x80-\xff](?:[^\x00\n\r\x80-\xff]*[^\x00\n\r \x80-\xff])?)?")
Rows = dict[str, dict[str, list[str]]]


def _listed(folder: Folder, source: Source, text: str, name: str) -> Rows:
    """The endpoints of a text by their ids, each with its values."""
    if not text.strip():
        return {}
    if name.endswith(".jsonl"):
        rows = [json.loads(line) for line in text.splitlines() if line.strip()]
        return {str(row.get(source.id)): row for row in rows}
    problems = Problems()
    listing = list_ldif(folder.over({source.file: text}), source.file, source.id, problems, "utf-8")
    if listing is None:
        raise problems.error()
    return _rows(source, listing)


def _rows(source: Source, listing: Listing) -> Rows:
    """The endpoints of a listing by their ids."""
    found: Rows = {}
    ids = listing.columns[source.id.lower()] if listing.columns else None
    for row, code in enumerate([] if ids is None else ids.codes.tolist()):
        assert ids is not None
        found[ids.values[code][0]] = {
            attribute: list(column.values[n])
            for attribute, column in sorted(listing.columns.items())
            if (n := int(column.codes[row])) >= 0
        }
    return found


def _lines(rows: Rows, key: str) -> str:
    """Endpoints as JSON Lines, in the order of their ids: the same bytes for the same directory."""
    told: list[dict[str, str | list[str]]] = []
    for name, values in sorted(rows.items()):
        rest = {k: v[0] if len(v) == 1 else v for k, v in values.items() if k != key.lower()}
        told.append({key: name, **rest})
    return "".join(json.dumps(row, ensure_ascii=False) + "\n" for row in told)


def ldif(entries: Iterable[tuple[str, dict[str, list[bytes]]]]) -> str:
    """Entries as LDIF (RFC 2849), in the order of their names."""
    lines = ["version: 1", ""]
    for name, values in sorted(entries, key=lambda e: e[0].lower()):
        lines.append(_line("dn", name.encode()))
        for attribute in sorted(values, key=str.lower):
            lines += [_line(attribute, value) for value in sorted(values[attribute])]
        lines.append("")
    return "\n".join(lines)


def _line(attribute: str, value: bytes) -> str:
    """An attribute with its value; in base64 where it is no SAFE-STRING (RFC 2849, note 4)."""
    if _SAFE.fullmatch(value):
        return f"{attribute}: {value.decode()}"
    return f"{attribute}:: {base64.b64encode(value).decode()}"
