"""Documents of other domains that were adopted: the last good one of each, as it came."""

from __future__ import annotations

from collections.abc import Sequence

from oaktag.core.domains import Shared
from oaktag.located import Location
from oaktag.workspace.domain_file import LARGEST, UnreadableDocument, read_document
from oaktag.workspace.folder import Folder
from oaktag.workspace.sharing_part import Adopt
from oaktag.workspace.textfile import Problems


def read_documents(
    root: Folder, domains: Sequence[Adopt], problems: Problems
) -> tuple[Shared, ...]:
    """What domains share, of the groups that are adopted; of those of which nothing was adopted
    yet, nothing."""
    found: list[Shared] = []
    for adopt in domains:
        try:
            shared = held(root, adopt)
        except UnreadableDocument as error:
            told = "the document as its domain wrote it; taken away, oaktag pull --write fetches it"
            problems.form(Location(adopt.file), str(error), told)
            continue
        if shared is not None:
            found.append(wanted(adopt, shared))
    return tuple(found)


def held(root: Folder, adopt: Adopt) -> Shared | None:
    """The document of a domain that was adopted last, whole; None where none was.

    Raises:
        UnreadableDocument: it is none.
    """
    if not root.has(adopt.file):
        return None
    try:
        shared = read_document(root.read(adopt.file, LARGEST)).shared
    except OSError as error:
        raise UnreadableDocument(f"it cannot be read: {error.strerror}") from None
    if shared.origin != adopt.origin:
        raise UnreadableDocument(f"it is of {shared.origin}, not of {adopt.origin}")
    return shared


def wanted(adopt: Adopt, shared: Shared) -> Shared:
    """A document with the groups alone that are adopted."""
    if not adopt.groups:
        return shared
    return shared._replace(groups=tuple(g for g in shared.groups if g.id in adopt.groups))
