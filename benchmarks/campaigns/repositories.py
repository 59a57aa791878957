"""Hostile repositories: whatever a tree of git holds, a comparison reads plain files and nothing else.

Trees are made object by object, as no git command would: links (relative, absolute, to devices),
names with ``..``, absolute names, ``.git``, submodules, names of control characters, attributes that
hide and filter, replaced objects, huge blobs; a work tree full of links, pipes and folders where
files should be; and a journal or a lock committed by somebody.

    python -m campaigns.repositories --tries 200 --seed 1      (in benchmarks/)
"""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from campaigns.workspaces import BASE, campaign, ended, forked, held, run

SECRET = "nobody-may-read-this"
NAMES = (
    b"../escaped.csv", b"/escaped.csv", b"..", b".git", b"a\x1b[2Jb", b"a\nb", b"inventory/../../x",
    b"-rf", b"--output=x", b"::error::", b"oaktag.yaml/", b"\xff\xfe", b".gitattributes", b".oaktag",
)  # fmt: skip
MODES = ("100644", "100755", "120000", "160000", "040000")


def git(top: Path, *words: str, given: bytes = b"") -> str:
    """What git says; it may refuse."""
    names = {"GIT_AUTHOR_NAME": "a", "GIT_AUTHOR_EMAIL": "a@b.c"}
    names |= {k.replace("AUTHOR", "COMMITTER"): v for k, v in names.items()}
    done = subprocess.run(
        ["git", "-C", str(top), *words], input=given, capture_output=True, check=False,
        env={**os.environ, **names},
    )  # fmt: skip
    return done.stdout.decode("utf-8", "replace").strip()


def hostile_tree(top: Path, rng: random.Random) -> None:
    """A commit, as ``main``, of the workspace and of what nobody should put there."""
    git(top, "add", "-A", "--force")
    rows = [row for row in git(top, "ls-tree", "-z", git(top, "write-tree")).split("\0") if row]
    blobs = [
        git(top, "hash-object", "-w", "--stdin", given=text)
        for text in (
            b"/proc/self/environ", b"../outside/secret", b"/dev/zero", b"uid,name\nx,y\n",
            b"* export-ignore filter=x diff=x\n", b"x" * rng.choice((1, 1 << 22)),
        )
    ]  # fmt: skip
    entries = [row.encode() for row in rows]
    for _ in range(rng.randrange(1, 5)):
        mode, name, blob = rng.choice(MODES), rng.choice(NAMES), rng.choice(blobs)
        kind = {"160000": "commit", "040000": "tree"}.get(mode, "blob")
        entries.append(f"{mode} {kind} {blob}\t".encode() + name)
    if rng.random() < 0.5:  # a file of the workspace as a link
        entries = [e for e in entries if not e.endswith(b"groups.yaml")]
        entries.append(f"120000 blob {rng.choice(blobs[:3])}\tgroups.yaml".encode())
    tree = git(top, "mktree", "-z", "--missing", given=b"".join(e + b"\0" for e in entries))
    if tree:
        commit = git(top, "commit-tree", tree, "-m", "x")
        git(top, "update-ref", "refs/heads/main", commit)
        if rng.random() < 0.3:
            git(top, "replace", "-f", commit, git(top, "commit-tree", tree, "-m", "another"))


def hostile_folder(folder: Path, outside: Path, rng: random.Random) -> None:
    """Things in the work tree that are no plain files."""
    for _ in range(rng.randrange(1, 4)):
        path = rng.choice([p for p in sorted(folder.rglob("*")) if ".git" not in p.parts])
        if not path.is_relative_to(folder) or path.is_symlink():
            continue
        shutil.rmtree(path) if path.is_dir() else path.unlink(missing_ok=True)
        match rng.randrange(5):
            case 0:
                path.symlink_to(
                    rng.choice((outside / "secret", "/proc/self/environ", "/dev/zero", path))
                )
            case 1:
                os.mkfifo(path)
            case 2:
                path.mkdir()
            case 3:
                path.symlink_to(outside)
            case _:
                path.write_bytes(b"")
    if rng.random() < 0.4:
        own = folder / ".oaktag"
        if rng.random() < 0.3:
            own.symlink_to(outside)
            return
        own.mkdir(exist_ok=True)
        (own / "change").mkdir(exist_ok=True)
        (own / "change/0").write_text("default: allow\n")
        found = own.stat()
        step = {
            "prepared": "0",
            "target": str(outside / "secret"),
            "before": None,
            "after": "0" * 64,
            "into": True,
        }
        journal = {
            "form": 1, "what": "x", "device": found.st_dev, "inode": found.st_ino + 1,
            "time": time.time(), "steps": [step],
        }  # fmt: skip
        (own / rng.choice(("journal.json", "lock"))).write_text(json.dumps(journal))


def tries(seed: int, count: int) -> Iterator[tuple[str, str]]:
    """So many repositories; of each the exit statuses, and what does not hold."""
    for number in range(seed, seed + count):
        rng = random.Random(number)
        with tempfile.TemporaryDirectory(prefix="campaign-") as place:
            outside, top = Path(place) / "outside", Path(place) / "top"
            outside.mkdir()
            (outside / "secret").write_text(f"uid,name\n{SECRET},x\n")
            folder = top / rng.choice((".", "sites/quillmere"))
            shutil.copytree(BASE, folder, dirs_exist_ok=True)
            git(top, "init", "-q", "-b", "main")
            git(top, "add", "-A")
            git(top, "commit", "-qm", "first")
            if rng.random() < 0.6:
                hostile_tree(folder, rng)
            if rng.random() < 0.6:
                hostile_folder(folder, outside, rng)
            before, ends, wrong = held(outside), [], []
            for command in (
                "compare main",
                "verify --junit told.xml",
                "compile",
                "pin ada --to kiosks",
            ):
                said = Path(place) / "said"

                def work(folder: Path = folder, command: str = command, said: Path = said) -> int:
                    signal.alarm(20)
                    status, told = run(folder, command)
                    said.write_text(told)
                    return status

                ends.append(ended(forked(work)))
                told = said.read_text() if said.exists() else ""
                if ends[-1] not in (0, 1, 2) or "should not happen" in told or SECRET in told:
                    wrong.append(f"{command} ended with {ends[-1]}: {told[-300:]}")
            if held(outside) != before or (Path(place) / "escaped.csv").exists():
                wrong.append("something outside was written")
            yield " ".join(map(str, ends)), f"seed {number}: {'; '.join(wrong)}" if wrong else ""


if __name__ == "__main__":
    sys.exit(campaign(__doc__, "repositories", tries, 100))
