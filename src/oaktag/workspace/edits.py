"""Changes of a workspace's files: shown as a diff, tried in memory, written all or none.

The changed texts come of ``yaml_edits``, ``csv_edits`` and ``renaming``.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from difflib import unified_diff

from oaktag.errors import UsageError, WorkspaceError
from oaktag.workspace.folder import Folder, changed_meanwhile
from oaktag.workspace.journal import write_files
from oaktag.workspace.load import Files, kept, read_files
from oaktag.workspace.lock import one_writer

#: The end of a line of Unix.
_LONE = re.compile(r"(?<!\r)\n")


def with_ends_of(before: str, after: str) -> str:
    """A changed text whose lines end as all lines did before."""
    if "\r\n" not in before or _LONE.search(before):
        return after
    return _LONE.sub("\r\n", after)


def difference(root: Folder, changed: Mapping[str, str]) -> str:
    """The change as a diff of the files."""
    parts: list[str] = []
    for name, text in changed.items():
        before = root.text(name).splitlines(keepends=True)
        parts += unified_diff(before, text.splitlines(keepends=True), name, name, n=2)
    return "".join(part if part.endswith("\n") else part + "\n" for part in parts)


def try_out(files: Files, changed: Mapping[str, str]) -> Files:
    """Read the workspace as it would be; nothing is written.

    Raises:
        WorkspaceError: the change would make it unreadable or contradictory.
    """
    return read_files(files.folder.over(changed), files.moment, have=kept(files, changed))


def write_all(files: Files, what: str, changed: Mapping[str, str]) -> None:
    """Write changed files that were tried out: all or none, whatever happens.

    Args:
        files: what the change was made from.
        what: the change in a few words.
        changed: file → text.

    Raises:
        UsageError: a file of the workspace is not as it was read, this is a version of the past, or
            another change goes on.
        OSError: a file cannot be written.
    """
    root = files.root
    if files.folder.alone:
        raise UsageError(
            "what was cannot be changed: this is a version of the workspace that git has"
        )
    with one_writer(root, what):
        if stale := files.folder.stale():
            raise changed_meanwhile(stale)
        encoded = files.folder.encoded
        texts = [(root / name, encoded(name, text)) for name, text in changed.items()]
        write_files(root, what, texts)


def checked(error: WorkspaceError) -> UsageError:
    """A change that would break the workspace, as one error that says how."""
    told = "\n".join(str(p) for p in error.problems)
    return UsageError(f"nothing was changed, for then this would be wrong:\n{told}")
