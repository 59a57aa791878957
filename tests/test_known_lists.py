"""What is as it was is not made again: the same bytes as made anew, whatever changed or lies there."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import oaktag as package
from conftest import Ran
from networks import random_net, write_net
from oaktag.core.accesslist import AccessList
from oaktag.core.model import Model
from oaktag.core.network import Point
from oaktag.operations import lists

Run = Callable[..., Ran]


@pytest.fixture
def made(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """The points whose lists are made."""
    names: list[str] = []
    kept = lists.list_of

    def counted(model: Model, point: Point) -> AccessList:
        names.append(point.id)
        return kept(model, point)

    monkeypatch.setattr(lists, "list_of", counted)
    return names


def bytes_in(folder: Path) -> dict[str, bytes]:
    paths = (path for path in folder.rglob("*") if path.is_file())
    return {str(path.relative_to(folder)): path.read_bytes() for path in paths}


def changed(folder: Path, number: int) -> None:
    """One change of a workspace, of many kinds."""
    name, change = CHANGES[number]
    path = folder / name
    path.write_text(change(path.read_text()))


def _in_points(text: str, **fields: object) -> str:
    network = json.loads(text)
    next(node for node in network["nodes"] if node["points"])["points"][0].update(fields)
    return json.dumps(network)


def _without(text: str, what: str) -> str:
    network = json.loads(text)
    network[what] = network[what][1:]
    return json.dumps(network)


def _swapped(text: str) -> str:
    head, *lines = text.splitlines()
    return "\n".join([head, *reversed(lines)]) + "\n"


#: A file, and what is changed in it: lines, permissions, sets, who is where, nodes, points, defaults.
CHANGES: list[tuple[str, Callable[[str], str]]] = [
    ("matrix/10.csv", lambda text: text + text.splitlines()[1] + "\n"),
    ("matrix/10.csv", lambda text: text.replace(text.splitlines()[2] + "\n", "", 1)),
    ("matrix/10.csv", _swapped),
    ("permissions.yaml", lambda text: text.replace("81/tcp", "82/tcp")),
    ("groups.yaml", lambda text: text.replace('"tag": 1', '"tag": 61')),
    ("all.csv", lambda text: text.replace(text.splitlines()[3] + "\n", "", 1)),
    ("network.yaml", lambda text: _in_points(text, inside=True)),
    ("network.yaml", lambda text: _in_points(text, mode="observe")),
    ("network.yaml", lambda text: _in_points(text, stateful=False)),
    ("network.yaml", lambda text: _in_points(text, outside="deny")),
    ("network.yaml", lambda text: _without(text, "feeds")),
    ("network.yaml", lambda text: _without(text, "links")),
    ("network.yaml", lambda text: text.replace('"10.1.0.0/24"', '"10.1.0.0/25"')),
    ("oaktag.yaml", lambda text: json.dumps(json.loads(text) | {"default": "allow"})),
    ("oaktag.yaml", lambda text: json.dumps(json.loads(text) | {"order": "as-listed"})),
    ("oaktag.yaml", lambda text: json.dumps(json.loads(text) | {"observed_default": "allow"})),
]


def test_what_is_not_made_again_is_as_if_it_were(tmp_path: Path, made: list[str]) -> None:
    """Changes one after the other, each compiled where the lists before lie, and anew elsewhere."""
    folder = tmp_path / "net"
    net = random_net(3)
    for node in net.nodes:
        node["points"] = node["points"][:1]
    write_net(net, folder).compile(folder / "lists")
    every = sorted(made)
    saved = tried = 0
    for number in range(len(CHANGES)):
        before = bytes_in(folder)
        changed(folder, number)
        if bytes_in(folder) == before:
            continue
        tried += 1
        made.clear()
        warm = package.Workspace.load(folder).compile(folder / "lists")
        saved += len(every) - len(made)
        shutil.rmtree(folder / ".oaktag")
        cold = package.Workspace.load(folder).compile(folder / "anew")
        assert bytes_in(folder / "lists") == bytes_in(folder / "anew"), CHANGES[number]
        assert [r["sha256"] for r in warm.points] == [r["sha256"] for r in cold.points]
        assert all(point["proved"] for point in warm.points)
        package.Workspace.load(folder).compile(folder / "lists")  # which .oaktag forgot
        shutil.rmtree(folder / "anew")
    assert saved > len(every) and tried >= 12, (saved, tried)


def test_what_lies_there_otherwise_is_made_again(
    oaktag: Run, sample: Path, made: list[str]
) -> None:
    def compiles(*words: str) -> int:
        made.clear()
        ran = oaktag("-C", sample, "compile", *words)
        assert ran.status == 0, ran
        return len(made)

    path, cache = sample / "lists/hall-edge.nft", sample / ".oaktag/lists.json"
    assert compiles("--no-prove") == 1 and compiles("--no-prove") == 0
    assert compiles() == 1 and compiles() == 0  # it was not proved
    text = path.read_bytes()
    at = path.stat().st_mtime_ns
    for lies in (text.replace(b"443", b"444", 1), text[:-1], b""):
        path.write_bytes(lies)
        os.utime(path, ns=(at, at))
        assert compiles() == 1 and path.read_bytes() == text
    path.unlink()
    path.symlink_to("elsewhere")
    assert oaktag("-C", sample, "compile").status == 2
    path.unlink()
    assert compiles() == 1 and compiles() == 0
    held = cache.read_text()
    for odd in (
        "",
        "[]",
        "{}",
        "[" * 99_999,
        held[:-2],
        held.replace('"proved": true', '"proved": 1'),
    ):
        cache.write_text(odd)
        assert compiles() == 1 and compiles() == 0, odd[:20]
    # A file that was copied says nothing of the lists beside it.
    shutil.copytree(sample, sample.parent / "copy")
    sample = sample.parent / "copy"
    assert compiles() == 1 and compiles() == 0
    assert not list((sample / ".oaktag").glob("lists.json.*"))


def test_only_what_differs_from_earlier_lists(tmp_path: Path, oaktag: Run) -> None:
    """A binding that moves and a line that goes: the lists of points to which that is something,
    with just the elements and entries that differ; lists that are new, gone, or cannot be read."""
    folder = tmp_path / "net"
    net = random_net(3)
    for node in net.nodes:
        node["points"] = node["points"][:1]
    write_net(net, folder)

    def since(where: str, *words: str) -> dict[str, dict[str, Any]]:
        shutil.rmtree(folder / "new", ignore_errors=True)
        ran = oaktag("-C", folder, "compile", "--since", where, "--out", "new", "--json", *words)
        assert ran.status == 0, ran
        written = {p.name.split(".nft")[0] for p in (folder / "new").glob("*.nft")}
        changes = {row["point"]: row for row in ran.json["changes"]}
        assert written == {name for name, row in changes.items() if row["is"]}
        assert all(Path(row["file"]).is_file() for row in ran.json["points"])
        return changes

    points = {p["point"] for p in oaktag("-C", folder, "compile", "--json").json["points"]}
    assert since("lists") == {}
    # Somebody goes from one address to another: tables alone differ, just by these two.
    rows = (folder / "all.csv").read_text().splitlines()
    moved: dict[str, dict[str, Any]] = {}
    for number, host in enumerate(rows):
        *_, stability, group = host.split(",")
        if moved or stability != "fixed" or not group:
            continue
        old = host.split(",")[1].split(";")[0]
        new = old.rpartition(".")[0] + ".199"
        now = [*rows[:number], host.replace(old, new), *rows[number + 1 :]]
        (folder / "all.csv").write_text("\n".join(now) + "\n")
        moved, who = since("lists"), group
    assert moved and all(row["entries"] == [] and not row["judges"] for row in moved.values())
    told = {(b["addresses"], b["was"], b["is"]) for r in moved.values() for b in r["bindings"]}
    assert told == {(old, who, None), (new, None, who)}
    # And what was told is what makes the earlier tables the new ones.
    shutil.copytree(folder / "lists", folder / "earlier")
    assert oaktag("-C", folder, "compile").status == 0 and since("lists") == {}
    assert since("earlier").keys() == moved.keys()
    # A line that goes changes the cells that it was for.
    lines = (folder / "matrix/10.csv").read_text().splitlines()
    (folder / "matrix/10.csv").write_text("\n".join(lines[:-1]) + "\n")
    cells = [c for row in since("lists").values() for e in row["entries"] for c in e["cells"]]
    compared = oaktag("-C", folder, "compare", folder / "lists", "--json")
    assert compared.status == 2  # lists are no version of the files
    ends = lines[-1].split(",")[:2]
    assert cells and all(end in ("*", *cell, "front", "itself") for cell in cells for end in ends)
    gone, odd, fresh, *_ = sorted(points)
    (folder / "lists/nobody.nft").write_text("x\n")
    (folder / f"lists/{odd}.nft").write_text("x\n")
    (folder / f"lists/{fresh}.nft").unlink()
    changes = since("lists")
    assert changes["nobody"]["is"] is None and changes[fresh]["was"] is None
    assert changes[odd]["error"] == "line 1: expected '# Oak Tag access list, form 6', found 'x'"
    assert since("lists", "--point", gone).keys() <= {gone}
    ran = oaktag("-C", folder, "compile", "--since", "nowhere")
    assert ran.status == 2 and "there is no folder" in ran.err and ran.err.count("\n") == 1
