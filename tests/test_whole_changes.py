"""Changes of files: one writer at a time, all files or none, nothing else of a file changed."""

from __future__ import annotations

import fcntl
import json
import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

import oaktag as package
from conftest import Ran
from oaktag.workspace import folder as folder_module
from oaktag.workspace import journal
from oaktag.workspace.folder import Folder
from oaktag.workspace.lock import Busy, one_writer

Run = Callable[..., Ran]
PINS = "assignments.yaml"


def files(folder: Path) -> dict[str, bytes]:
    return {str(p.relative_to(folder)): p.read_bytes() for p in folder.rglob("*") if p.is_file()}


@contextmanager
def somebody_writes(folder: Path) -> Iterator[None]:
    """Another process that has the lock."""
    code = (
        "import sys; from pathlib import Path; from oaktag.workspace.lock import one_writer\n"
        f"with one_writer(Path({str(folder)!r}), 'the other\\x1b[2J'):\n"
        "    print('in', flush=True); sys.stdin.read()\n"
    )
    one = subprocess.Popen([sys.executable, "-c", code], stdin=-1, stdout=-1, text=True)
    assert one.stdin is not None and one.stdout is not None
    assert one.stdout.readline() == "in\n"
    try:
        yield
    finally:
        one.stdin.close()
        one.wait()
        one.stdout.close()


def test_one_writer_at_a_time(oaktag: Run, sample: Path) -> None:
    before = files(sample)
    with somebody_writes(sample):
        ran = oaktag("-C", sample, "pin", "--write", "ada", "--to", "kiosks")
        assert ran.status == 2 and "the other\\x1b[2J, process" in ran.err, ran
        assert "--wait" in ran.err and len(ran.err.splitlines()) == 1
        assert oaktag("-C", sample, "pin", "ada", "--to", "kiosks").status == 0
        assert oaktag("-C", sample, "check").status == 0, "reading goes on"
        waiting = subprocess.Popen(
            [sys.executable, "-m", "oaktag", "-C", str(sample), "pin", "--write", "ada", "--to", "kiosks", "--wait"],
            stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        assert waiting.stderr is not None
        assert "waiting for another change" in waiting.stderr.readline()
        assert {k: v for k, v in files(sample).items() if ".oaktag" not in k} == before
    waiting.communicate()
    assert waiting.returncode == 0 and b"endpoint: ada" in files(sample)[PINS]
    assert not (sample / ".oaktag").exists()
    with one_writer(sample, "this"), one_writer(sample, "once more"):
        pass
    (sample / ".oaktag").mkdir()
    (sample / ".oaktag/lock").write_text("somebody who was killed\n")
    assert oaktag("-C", sample, "unpin", "--write", "ada").status == 0, "the dead hold nothing"
    assert files(sample) == before


def test_what_has_changed_since_it_was_read_is_refused(sample: Path) -> None:
    """Two readers, two changes: the second is told, and the first is there; also where a third file
    changed, or one came, or went."""
    first, second = package.Workspace.load(sample), package.Workspace.load(sample)
    first.pin("ada", "kiosks", write=True)
    now = files(sample)
    changes: list[Callable[[], object]] = [
        lambda: second.pin("bram", "kiosks", write=True),
        lambda: second.unpin("ivo", write=True),
    ]
    for change in changes:
        with pytest.raises(
            package.UsageError, match=r"assignments.yaml has changed since it was read"
        ):
            change()
    with pytest.raises(package.UsageError, match="changed since"):
        second.rename("kiosks", "desks", write=True)
    assert files(sample) == now
    for way in ("other", "gone", "come"):
        held = package.Workspace.load(sample)
        if way == "other":
            path = sample / "permissions.yaml"
            path.write_text(path.read_text() + "# seen\n")
        elif way == "gone":
            (sample / "expectations.yaml").rename(sample / "away")
        else:
            (sample / "away").rename(sample / "expectations.yaml")
        with pytest.raises(package.UsageError, match="changed since"):
            held.pin("bram", "kiosks", write=True)
    held = package.Workspace.load(sample)
    os.utime(sample / "groups.yaml")  # touched, and the same
    held.pin("bram", "kiosks", write=True)


def test_files_that_are_written_while_they_are_read_are_read_again(
    sample: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Between two files of a change: nobody sees the one without the other."""
    read, seen = Folder.read, list[str]()

    def slow(self: Folder, name: str, most: int) -> bytes:
        held = read(self, name, most)
        if name == "groups.yaml" and len(seen) < 2:
            seen.append(name)
            for other in ("groups.yaml", PINS):
                path = sample / other
                path.write_text(path.read_text().replace("kiosks", "desks" + "-" * len(seen)))
                path.write_text(path.read_text().replace("desks-", "desks"))
        return held

    for name in ("matrix/20-reading.csv", "expectations.yaml"):
        path = sample / name
        path.write_text(path.read_text().replace("kiosks", "desks"))
    monkeypatch.setattr(Folder, "read", slow)
    assert "desks" in package.Workspace.load(sample).model.groups.index
    assert seen


def test_the_rest_of_a_file_stays(oaktag: Run, sample: Path) -> None:
    """Mode, second names, links inside the folder, byte order marks, line ends; and who owns it."""
    path = sample / PINS
    text = "\ufeff" + path.read_text().replace("\n", "\r\n") + "# the end"
    path.write_bytes(text.encode())
    path.chmod(0o640)
    os.link(path, sample / "second-name")
    (sample / "matrix/real.csv").write_bytes((sample / "matrix/20-reading.csv").read_bytes())
    (sample / "matrix/20-reading.csv").unlink()
    (sample / "matrix/20-reading.csv").symlink_to("real.csv")
    (sample / "expectations.yaml").chmod(0o604)
    if os.geteuid() == 0:
        os.chown(sample / "groups.yaml", 12345, 12345)
    before = files(sample)
    assert oaktag("-C", sample, "pin", "--write", "ada", "--to", "kiosks").status == 0
    assert path.stat().st_mode & 0o777 == 0o640 and path.stat().st_nlink == 2
    now = path.read_bytes()
    assert now == (sample / "second-name").read_bytes() != before[PINS]
    assert now.startswith(b"\xef\xbb\xbf") and now.endswith(b"# the end")
    assert now.count(b"\n") == now.count(b"\r\n") == text.count("\n") + 1, "as all lines end"
    assert oaktag("-C", sample, "rename", "--write", "kiosks", "desks").status == 0
    assert (sample / "matrix/20-reading.csv").is_symlink()
    assert (sample / "expectations.yaml").stat().st_mode & 0o777 == 0o604
    assert b"desks" in (sample / "matrix/real.csv").read_bytes()
    if os.geteuid() == 0:
        assert (sample / "groups.yaml").stat().st_uid == 12345
    assert oaktag("-C", sample, "rename", "--write", "desks", "kiosks").status == 0
    assert oaktag("-C", sample, "unpin", "--write", "ada").status == 0
    assert files(sample) == before


def test_a_file_that_is_not_there_yet(oaktag: Run, sample: Path) -> None:
    (sample / PINS).unlink()
    ran = oaktag("-C", sample, "pin", "--write", "ada", "--to", "kiosks")
    assert (
        ran.status == 0
        and (sample / PINS).read_text() == "pins:\n  - {endpoint: ada, group: kiosks}\n"
    )


def test_nothing_is_copied_to_try_a_change(oaktag: Run, sample: Path) -> None:
    """A pipe, a folder that nobody may read and a link to elsewhere do not stand in its way."""
    os.mkfifo(sample / "pipe")
    (sample / "elsewhere").symlink_to("/proc")
    (sample / "closed").mkdir(mode=0)
    assert oaktag("-C", sample, "pin", "--write", "ada", "--to", "kiosks").status == 0
    (sample / "closed").chmod(0o700)


def stopped(sample: Path, monkeypatch: pytest.MonkeyPatch, after: int) -> None:
    """A rename that is cut short when some of its files are in place."""
    put, count = journal._put, iter(range(100))

    def cut(prepared: Path, step: journal._Step) -> None:
        if next(count) >= after:
            raise KeyboardInterrupt
        put(prepared, step)

    monkeypatch.setattr(journal, "_put", cut)
    with pytest.raises(KeyboardInterrupt):
        package.Workspace.load(sample).rename("kiosks", "desks", write=True)
    monkeypatch.undo()


def test_what_was_interrupted_is_finished_and_said(
    oaktag: Run, sample: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    shutil.copytree(sample, tmp_path / "whole")
    oaktag("-C", tmp_path / "whole", "rename", "--write", "kiosks", "desks")
    stopped(sample, monkeypatch, 2)
    assert (sample / ".oaktag/journal.json").exists()
    ran = oaktag("-C", sample, "decide", "desks", "catalogue", "https")
    assert ran.status == 0 and "the interrupted change 'rename' is finished: groups.yaml" in ran.err
    assert files(sample) == files(tmp_path / "whole")
    assert oaktag("-C", sample, "check").err == ""


@pytest.mark.parametrize("already", [0, 1])
def test_a_disk_that_fills_up_in_the_middle(
    oaktag: Run, sample: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, already: int
) -> None:
    """While a file with a second name is written into, which is half done then: the first of a change,
    or one behind another that is in place. It is said, and finished when there is room."""
    shutil.copytree(sample, tmp_path / "whole")
    oaktag("-C", tmp_path / "whole", "rename", "--write", "kiosks", "desks")
    name = ["groups.yaml", PINS][already]
    os.link(sample / name, tmp_path / "second-name")
    put = journal._put

    def full(prepared: Path, step: journal._Step) -> None:
        if step.into:
            with Path(step.target).open("r+b") as file:
                file.write(prepared.read_bytes()[: prepared.stat().st_size // 2])
            raise OSError(28, "No space left on device", step.target)
        put(prepared, step)

    monkeypatch.setattr(journal, "_put", full)
    ran = oaktag("-C", sample, "rename", "--write", "kiosks", "desks")
    assert (
        ran.status == 2
        and "No space left" in ran.err
        and "when the workspace is read next" in ran.err
    )
    monkeypatch.undo()
    assert "is finished" in oaktag("-C", sample, "check").err
    assert files(sample) == files(tmp_path / "whole")
    assert (tmp_path / "second-name").read_bytes() == (sample / name).read_bytes()


def test_what_was_edited_is_not_taken_for_half_written(
    oaktag: Run, sample: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A file with a second name, edited after the kill: not what a writing into it leaves."""
    os.link(sample / PINS, tmp_path / "second-name")
    stopped(sample, monkeypatch, 1)
    path = sample / PINS
    path.write_text("# mine\n" + path.read_text())
    mine = path.read_bytes()
    ran = oaktag("-C", sample, "check")
    assert (
        ran.status == 2
        and "assignments.yaml was edited after" in ran.err
        and path.read_bytes() == mine
    )


def test_no_new_file_goes_out_through_a_folder(sample: Path, tmp_path: Path) -> None:
    """Asked for in Python, where no command line was looked at before."""
    (tmp_path / "elsewhere").mkdir()
    (sample / "lists").symlink_to(tmp_path / "elsewhere")
    workspace = package.Workspace.load(sample)
    for out in (sample / "lists", sample / "lists/deeper"):
        with pytest.raises(
            package.UsageError, match=r"^lists: it is a link to .*nothing is written"
        ):
            workspace.compile(out)
    assert list((tmp_path / "elsewhere").iterdir()) == []
    (sample / "lists").unlink()
    (sample / "real").mkdir()
    (sample / "lists").symlink_to("real")
    workspace.compile(sample / "lists/deeper")
    assert (sample / "real/deeper/keys.csv").is_file()


def test_nothing_is_half_done_where_the_first_file_cannot_be_put(
    oaktag: Run, sample: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = files(sample)
    stopped(sample, monkeypatch, 0)
    assert files(sample) == before and not (sample / ".oaktag/journal.json").exists()
    assert oaktag("-C", sample, "check").err == "" and files(sample) == before


def test_a_file_that_is_written_all_the_time_is_read(
    sample: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As a list of sessions that a collector appends to: each time another, once half written."""
    plain, reads = folder_module.read_plain, list[str]()

    def growing(path: Path, most: int) -> tuple[bytes, tuple[int, ...]]:
        if path.name == "people.csv":
            reads.append(path.name)
            if len(reads) == 1:
                raise folder_module.BeingWritten("it is being written")
            grow()
        return plain(path, most)

    def grow() -> None:
        path = sample / "inventory/people.csv"
        with path.open("a") as file:
            file.write(
                f"more{len(reads)},x" + "," * (path.read_text().split("\n")[0].count(",") - 1)
            )
            file.write("\n")

    monkeypatch.setattr(folder_module, "read_plain", growing)
    held = package.Workspace.load(sample)
    assert "more2" in held.model.files.endpoints.index and len(reads) >= 3
    grow()
    with pytest.raises(package.UsageError, match="changed since"):
        held.pin("ada", "kiosks", write=True)


def test_what_was_edited_since_is_not_written_over(
    oaktag: Run, sample: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    stopped(sample, monkeypatch, 1)
    path = sample / "matrix/20-reading.csv"
    path.write_text(path.read_text() + "patrons,catalogue,nothing,off,to,,,mine\n")
    mine = path.read_bytes()
    for command in (["check"], ["pin", "--write", "ada", "--to", "desks"], ["compile"]):
        ran = oaktag("-C", sample, *command)
        assert ran.status == 2 and "20-reading.csv was edited after" in ran.err, ran
        assert path.read_bytes() == mine
    shutil.rmtree(sample / ".oaktag")
    assert oaktag("-C", sample, "check").status in (1, 2), "half of it: and it says so"


def test_a_journal_from_elsewhere_is_not_followed(
    oaktag: Run, sample: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Committed by somebody, copied, or made up: nothing of it is done."""
    stopped(sample, monkeypatch, 1)
    copy = tmp_path / "copy"
    shutil.copytree(sample, copy)
    before = files(copy)
    ran = oaktag("-C", copy, "check")
    assert (
        ran.status == 2 and "no journal that was written here" in ran.err and files(copy) == before
    )
    real = json.loads((sample / ".oaktag/journal.json").read_text())
    for odd in (
        "{",
        "[]",
        "1" * 5000,
        json.dumps({**real, "steps": 3}),
        json.dumps({**real, "time": 0}),
    ):
        (copy / ".oaktag/journal.json").write_text(odd)
        ran = oaktag("-C", copy, "check")
        assert ran.status == 2 and "no journal that was written here" in ran.err, ran
    there = sample / ".oaktag/journal.json"
    there.write_text(
        json.dumps({**real, "time": real["time"] - 100})
    )  # the same file, of another time
    assert "no journal that was written here" in oaktag("-C", sample, "check").err
    shutil.rmtree(copy / ".oaktag")
    for lay in (
        lambda: (copy / ".oaktag").symlink_to(tmp_path),
        lambda: (copy / ".oaktag").write_text(""),
    ):
        lay()
        ran = oaktag("-C", copy, "pin", "--write", "ada", "--to", "kiosks")
        assert ran.status == 2 and "take it away" in ran.err, ran
        (copy / ".oaktag").unlink()
    (copy / ".oaktag").mkdir()
    (copy / ".oaktag/lock").symlink_to(tmp_path / "elsewhere")
    assert oaktag("-C", copy, "pin", "--write", "ada", "--to", "kiosks").status == 2
    assert not (tmp_path / "elsewhere").exists()


def test_a_lock_outlives_who_takes_its_file_away(sample: Path) -> None:
    """Whoever waited on a file that is gone by then asks for the new one."""
    with one_writer(sample, "first"):
        held = os.open(sample / ".oaktag/lock", os.O_RDWR)
    os.close(held)
    with one_writer(sample, "second"):
        (sample / ".oaktag/lock").unlink()
        (sample / ".oaktag/lock").write_text("")
        with (sample / ".oaktag/lock").open() as other:
            fcntl.flock(other, fcntl.LOCK_EX | fcntl.LOCK_NB)
    with somebody_writes(sample), pytest.raises(Busy), one_writer(sample, "x", patience=0.1):
        pass


def test_the_lock_is_held_by_one_of_many(tmp_path: Path) -> None:
    """Four processes, each adding one a few hundred times: each goes in alone, though the folder of the
    lock comes and goes under their hands."""
    code = (
        "from pathlib import Path; from oaktag.workspace.lock import one_writer\n"
        f"root, count = Path({str(tmp_path)!r}) / 'w', Path({str(tmp_path)!r}) / 'count'\n"
        "for _ in range(400):\n"
        "    with one_writer(root, 'x', patience=60):\n"
        "        count.write_text(str(int(count.read_text()) + 1))\n"
    )
    (tmp_path / "w").mkdir()
    (tmp_path / "count").write_text("0")
    many = [
        subprocess.Popen([sys.executable, "-c", code], stderr=subprocess.PIPE) for _ in range(4)
    ]
    said = [one.communicate()[1] for one in many]
    assert [one.returncode for one in many] == [0] * 4, said
    assert (tmp_path / "count").read_text() == "1600" and list((tmp_path / "w").iterdir()) == []


def test_a_workspace_that_may_only_be_read_is_compiled_elsewhere(
    sample: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from oaktag.operations import compiling

    def refused(_: Path) -> Path:
        raise PermissionError(13, "Permission denied")

    monkeypatch.setattr(compiling, "own_folder", refused)
    model = package.Workspace.load(sample).model
    said = compiling.compile_lists(model, tmp_path / "out")
    assert [p["point"] for p in said["points"]] == ["hall-edge"]
    assert sorted(p.name for p in (tmp_path / "out").iterdir()) == ["hall-edge.nft", "keys.csv"]
    assert not (sample / ".oaktag").exists()


def test_no_change_claims_what_it_did_not_do(oaktag: Run, sample: Path) -> None:
    """Empty lines before the header of a layer; a change that changes nothing."""
    path = sample / "matrix/20-reading.csv"
    path.write_text("\n\n" + path.read_text())
    ran = oaktag(
        "-C", sample, "set", "--write", "wall-displays", "loans-db", "nothing", "--anyway", "--json"
    )
    assert ran.status == 0 and ran.json["written"], ran
    assert any(
        "wall-displays,loans-db,nothing" in t for t in map(Path.read_text, path.parent.iterdir())
    )
    before = files(sample)
    ran = oaktag("-C", sample, "set", "--write", "wall-displays", "loans-db", "nothing", "--json")
    assert (ran.json["written"], ran.json["files"]) == (False, []) and files(sample) == before
    path.write_text('source,destination,permission,"no\nte"\n')
    assert oaktag("-C", sample, "check").status == 2


def test_lists_of_one_version_or_none(
    oaktag: Run, sample: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Files that change while lists are made: none is written."""
    from oaktag.operations import compiling

    def meanwhile(*args: object) -> str:
        path = sample / PINS
        path.write_text(path.read_text() + "# meanwhile\n")
        return kept(*args)  # type: ignore[arg-type]

    kept = compiling._keys
    monkeypatch.setattr(compiling, "_keys", meanwhile)
    ran = oaktag("-C", sample, "compile")
    assert ran.status == 2 and "has changed since it was read" in ran.err
    assert not (sample / "lists").exists()


def test_a_file_system_that_may_only_be_read(sample: Path) -> None:
    """Questions are answered; changes say in one line that there can be none."""
    here = sample.resolve()
    asked = (
        ("decide", "patrons", "loans-db", "https"),
        ("pin", "ada", "--to", "kiosks", "--write"),
    )
    for words in asked:
        told = f'mount --bind {here} {here} && mount -o remount,ro,bind {here} && exec "$@"'
        command = ["unshare", "-Urm", "sh", "-c", told, "sh", sys.executable, "-m", "oaktag"]
        ran = subprocess.run([*command, "-C", here, *words], capture_output=True, text=True)
        if "remount" in ran.stderr or "unshare" in ran.stderr:
            pytest.skip(f"no mounts of one's own here: {ran.stderr}")
        if words[0] == "decide":
            assert (ran.returncode, ran.stderr) == (0, ""), ran
        else:
            said = f"oaktag: {here}: its files cannot be changed: Read-only file system;"
            assert ran.returncode == 2 and ran.stderr.startswith(said), ran
            assert len(ran.stderr.splitlines()) == 1
