"""Another version of a workspace: a folder, or a git revision of this one, read in memory.

A word is a revision; a folder is written as one (``./DIR``, ``DIR/``, ``../DIR``, ``/DIR``), lest a
folder that somebody adds stand for the branch of its name. A revision is read object by object:
no attributes, filters, links or replaced objects of the repository have a say.
"""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

from oaktag.errors import UsageError
from oaktag.workspace.folder import Folder
from oaktag.workspace.times import SECOND, instant_text

#: Modes of plain files in a git tree; links and submodules are none.
PLAIN = ("100644", "100755", "100664")


def version(root: Path, word: str | Path) -> Path | Folder:
    """Another version: a folder, or the files of a revision.

    Args:
        root: the workspace's folder, from which a folder's name is read too.
        word: a revision, or a folder written as one; a ``Path`` is a folder as it stands.

    Raises:
        UsageError: there is no such folder or revision, or it is none of this workspace.
    """
    if isinstance(word, Path) or word in (".", "..") or _is_folder(word):
        folder = word if isinstance(word, Path) else root / word
        if not folder.is_dir():
            raise UsageError(f"there is no folder {str(word)!r}")
        return folder
    commit = _git(
        root, "rev-parse", "--verify", "--quiet", "--end-of-options", f"{word}^{{commit}}"
    )
    if commit is None:
        hint = f"; the folder is written ./{word}" if (root / word).is_dir() else ""
        if _git(root, "rev-parse", "--git-dir") is None:
            hint = hint or "; a folder to compare with is written ./DIR"
            raise UsageError(f"{word!r} is no revision, for this is no git repository{hint}")
        raise UsageError(f"git knows no revision {word!r} here{hint}")
    return Folder(root, _files_of(root, commit.decode().strip()), alone=True)


def commit_at(root: Path, moment: int, branch: str = "HEAD") -> tuple[str, int]:
    """The newest commit of a branch's own line that is not after a moment: its hash, and when it
    was made. The line is of first parents: what was merged later was not in force before.

    Args:
        root: the workspace's folder.
        moment: in microseconds of the Unix epoch.
        branch: the branch, or any revision.

    Raises:
        UsageError: this is no git repository, there is no such branch, or no commit that old.
    """
    listed = _git(
        root, "log", "--first-parent", "--format=%H %ct", "--end-of-options", branch, "--"
    )
    if listed is None:
        if _git(root, "rev-parse", "--git-dir") is None:
            raise UsageError("what was at a time only git knows, and this is no git repository")
        raise UsageError(f"git knows no branch {branch!r} here")
    every = [
        (int(time), name)
        for name, _, time in (r.partition(" ") for r in listed.decode().splitlines())
    ]
    fit = [(time, name) for time, name in every if time * SECOND <= moment]
    if not fit:
        first = instant_text(min(time for time, _ in every) * SECOND)
        raise UsageError(f"git has nothing of that time: the first commit is of {first}")
    newest, name = fit[0]  # log names a commit before those that it follows
    return name, newest * SECOND


def _is_folder(word: str) -> bool:
    return (
        word.endswith(("/", os.sep)) or word.startswith(("./", "../")) or Path(word).is_absolute()
    )


def _git(root: Path, *words: str, given: bytes = b"") -> bytes | None:
    """What git says; None where it fails, or is not here."""
    try:
        done = subprocess.run(
            ["git", "-C", str(root), *words],
            input=given, capture_output=True, check=False, env=_surroundings(),
        )  # fmt: skip
    except FileNotFoundError:
        raise UsageError("git is not installed; name a folder, as ./DIR") from None
    return None if done.returncode else done.stdout


def _surroundings() -> dict[str, str]:
    """The environment for git: the repository is that of the folder, also inside a hook of another
    folder's, and no object stands for another."""
    held = {
        k: v for k, v in os.environ.items() if k not in ("GIT_DIR", "GIT_WORK_TREE", "GIT_PREFIX")
    }
    return held | {"GIT_NO_REPLACE_OBJECTS": "1", "GIT_OPTIONAL_LOCKS": "0"}


def _files_of(root: Path, commit: str) -> dict[str, bytes]:
    """The plain files of a revision below the workspace's folder."""
    listed = _git(root, "ls-tree", "-r", "-z", commit)
    names: list[tuple[str, str]] = []
    for row in (listed or b"").split(b"\0"):
        facts, _, path = row.partition(b"\t")
        mode, _, rest = facts.decode().partition(" ")
        if mode in PLAIN:
            names.append((os.fsdecode(path), rest.split()[1]))
    if not names:
        raise UsageError(f"the revision {commit[:12]} has no file of this workspace")
    wanted = "".join(f"{key}\n" for _, key in names).encode()
    held = _git(root, "cat-file", "--batch", given=wanted)
    if held is None:
        raise UsageError(f"git cannot read the files of {commit[:12]}")
    found: dict[str, bytes] = {}
    at = 0
    for name, _ in names:
        end = held.index(b"\n", at)
        size = int(held[at:end].split()[2])
        found[name] = held[end + 1 : end + 1 + size]
        at = end + 1 + size + 1
    return found
