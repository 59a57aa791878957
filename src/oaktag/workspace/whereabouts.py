"""Where the store of a workspace is."""

from __future__ import annotations

import os
from pathlib import Path

from oaktag.workspace.lock import OWN

#: The store of a workspace, where nothing else is named.
FILE = "store.db"


def url_of(root: Path, named: str = "") -> str:
    """Where the store of a workspace is: what the environment names, or ``oaktag.yaml``, or a file
    of its own."""
    return os.environ.get("OAKTAG_STORE") or named or f"sqlite:///{root.resolve() / OWN / FILE}"


def is_there(root: Path, named: str = "") -> bool:
    """Whether there may be a store; one that is named is taken to be there."""
    if os.environ.get("OAKTAG_STORE") or named:
        return True
    return (root / OWN / FILE).exists()
