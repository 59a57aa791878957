"""Another version of a workspace: a folder, or a git revision of this one, written out."""

from __future__ import annotations

import io
import subprocess
import tarfile
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from oaktag.errors import UsageError


@contextmanager
def version(root: Path, word: str) -> Iterator[Path]:
    """The folder of another version; one that is written out is gone afterwards.

    Raises:
        UsageError: the word is no folder and no revision.
    """
    folder = Path(word)
    if folder.is_dir():
        yield folder
        return
    if word.startswith("-"):
        raise UsageError(f"{word!r} is neither a folder nor a git revision")
    done = subprocess.run(
        ["git", "-C", str(root), "archive", "--format=tar", f"{word}:./"],
        capture_output=True, check=False,
    )  # fmt: skip
    if done.returncode:
        said = done.stderr.decode(errors="replace").strip().splitlines()[-1:] or [""]
        raise UsageError(f"{word!r} is neither a folder nor a git revision here ({said[0]})")
    with tempfile.TemporaryDirectory(prefix="oaktag-") as place:
        with tarfile.open(fileobj=io.BytesIO(done.stdout)) as held:
            held.extractall(place, filter="data")
        yield Path(place)
