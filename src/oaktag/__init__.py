"""Oak Tag: group tags for network access.

Assign endpoints to numbered groups, decide in one matrix what each may do, compile the matrix
into an access list for every enforcement point, prove the lists, and check that tags reach
every point on every path. ``Workspace.load`` is the way in::

    import oaktag

    quillmere = oaktag.Workspace.load("quillmere")
    quillmere.decide("librarians", "loans-db", "https")["action"]

The same without files is in ``oaktag.core``.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from oaktag.errors import (
    NotPossibleHere,
    OakTagError,
    Problem,
    UnreadableList,
    UnwritableEntry,
    UsageError,
    WorkspaceError,
)
from oaktag.located import Location

if TYPE_CHECKING:
    from pathlib import Path

    from oaktag.findings import CODES, Finding
    from oaktag.operations.workspace import Workspace

__version__ = "0.1.0"
__all__ = [
    "CODES",
    "Finding",
    "Location",
    "NotPossibleHere",
    "OakTagError",
    "Problem",
    "UnreadableList",
    "UnwritableEntry",
    "UsageError",
    "Workspace",
    "WorkspaceError",
    "__version__",
    "sample",
]


def sample(folder: str | Path | None = None, *, mended: bool = False) -> Path:
    """The sample, the county libraries of Quillmere, written into a folder.

    Args:
        folder: where to; by default a new one, which goes when the program ends.
        mended: without its honest mistakes.

    Returns:
        The folder.

    Raises:
        UsageError: the folder holds something already.

    Example:
        >>> import oaktag
        >>> quillmere = oaktag.Workspace.load(oaktag.sample())
        >>> quillmere.decide("patrons", "loans-db", "https").action
        'deny'
    """
    import atexit
    import shutil
    import tempfile
    from pathlib import Path

    from oaktag.demo.sample import write_sample

    if folder is None:
        made = tempfile.mkdtemp(prefix="quillmere-")
        atexit.register(shutil.rmtree, made, ignore_errors=True)
        folder = Path(made) / "quillmere"
    write_sample(Path(folder), mended=mended)
    return Path(folder)


def __getattr__(name: str) -> Any:
    if name == "Workspace":  # imported when asked for: it brings NumPy and the YAML reader
        from oaktag.operations.workspace import Workspace

        return Workspace
    if name in ("CODES", "Finding"):
        from oaktag import findings

        return getattr(findings, name)
    raise AttributeError(f"module 'oaktag' has no attribute {name!r}")
