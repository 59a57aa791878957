"""Lists made in parts, by others: the same bytes, whoever works, and whoever is lost meanwhile."""

from __future__ import annotations

import json
import multiprocessing
import os
import signal
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, ProcessPoolExecutor, ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path

import pytest
from distributed import Client, LocalCluster

import oaktag as package
from conftest import Ran
from networks import random_net, write_net
from oaktag.operations import compiling, lists, parts, proving

Run = Callable[..., Ran]
SPAWN = multiprocessing.get_context("spawn")


@pytest.fixture
def net(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> package.Workspace:
    """A network with points of all kinds; a part of the work is one list."""
    for module in (compiling, proving, lists):
        monkeypatch.setattr(module, "MOST_IN_PART", 1, raising=False)
    held = random_net(3)
    for number, node in enumerate(held.nodes):
        node["points"] = node["points"][:1]
        for point in node["points"]:
            point["dialect"] = ("nftables", "json")[number % 2]
    return write_net(held, tmp_path / "net")


def bytes_in(folder: Path) -> dict[str, bytes]:
    return {path.name: path.read_bytes() for path in folder.iterdir()}


@contextmanager
def cluster() -> Iterator[str]:
    with LocalCluster(
        n_workers=2, processes=True, threads_per_worker=1, dashboard_address=None, silence_logs=50
    ) as held:  # type: ignore[no-untyped-call]
        yield held.scheduler_address


@contextmanager
def executor(kind: Callable[[], Executor]) -> Iterator[Executor]:
    with kind() as held:
        yield held


@contextmanager
def processes() -> Iterator[int]:
    yield 2


OTHERS: dict[str, Callable[[], AbstractContextManager[parts.On]]] = {
    "processes of ours": processes,
    "threads": lambda: executor(lambda: ThreadPoolExecutor(2)),
    "processes of somebody's": lambda: executor(lambda: ProcessPoolExecutor(2, SPAWN)),
    "a cluster": cluster,
}


@pytest.mark.parametrize("who", OTHERS)
def test_the_same_bytes_whoever_works(net: package.Workspace, tmp_path: Path, who: str) -> None:
    alone = net.compile(tmp_path / "alone", on=1)
    names = [point["point"] for point in alone.points]
    assert len(names) > 4
    told: list[str] = []
    with OTHERS[who]() as on:
        made = net.compile(tmp_path / "others", on=on, progress=told.append)
        proved = net.prove(tmp_path / "others", on=on)
    assert bytes_in(tmp_path / "alone") == bytes_in(tmp_path / "others")
    assert [{**p, "file": ""} for p in made.points] == [{**p, "file": ""} for p in alone.points]
    assert sorted(told) == sorted(names)
    assert [p["point"] for p in proved.points] == names
    assert proved.points == net.prove(tmp_path / "others", on=1).points and proved.equal


def test_a_worker_that_is_killed_costs_a_retry(net: package.Workspace, tmp_path: Path) -> None:
    net.compile(tmp_path / "alone", on=1)
    killed: list[int] = []

    def kill(_: str) -> None:
        if not killed:
            child = multiprocessing.active_children()[0]
            killed.append(child.pid or 0)
            os.kill(killed[0], signal.SIGKILL)

    net.compile(tmp_path / "processes", on=2, progress=kill)
    with cluster() as address, Client(address) as client:  # type: ignore[no-untyped-call]

        def kill_worker(_: str) -> None:
            if len(killed) == 1:
                pids = client.run(os.getpid)
                killed.append(next(iter(pids.values())))
                os.kill(killed[1], signal.SIGKILL)

        net.compile(tmp_path / "cluster", on=address, progress=kill_worker)
    assert len(killed) == 2
    for name in ("processes", "cluster"):
        assert bytes_in(tmp_path / "alone") == bytes_in(tmp_path / name)


def test_workers_that_are_lost_again_and_again(
    net: package.Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Here for want of memory, say: one sentence, and nothing is written."""
    monkeypatch.setattr(compiling, "_made", _dies)
    with pytest.raises(parts.WorkLostError, match=r"lost 3 times.*--jobs 1"):
        net.compile(tmp_path / "lists", on=2)
    assert not (tmp_path / "lists").exists()


def _dies(*_: object) -> None:
    os.kill(os.getpid(), signal.SIGKILL)


def test_all_that_is_wrong_is_told_at_once(oaktag: Run, net: package.Workspace) -> None:
    folder = net.model.files.root
    points = [p["point"] for p in net.compile(folder / "before", on=1).points]
    network = json.loads((folder / "network.yaml").read_text())
    for node in network["nodes"]:
        for point in node["points"]:
            point["capacity"] = 1
    (folder / "network.yaml").write_text(json.dumps(network))
    said = set()
    for words in ((), ("--jobs", 2)):
        ran = oaktag("-C", folder, "compile", *words)
        assert ran.status == 1 and not (folder / "lists").exists(), ran
        # How far it is stands there too, where that takes a second.
        said.add(tuple(line for line in ran.err.splitlines() if not line.endswith("…")))
        assert sum("holds 1 entries" in line for line in ran.err.splitlines()) > len(points) / 2
    assert len(said) == 1


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("--on", "192.0.2.10"), "is no address of a scheduler; it is written like tcp://"),
        (("--on", "tcp://127.0.0.1:1"), "no scheduler answers at tcp://127.0.0.1:1"),
        (("--on", "tcp://127.0.0.1:1", "--jobs", 2), "--jobs and --on exclude each other"),
    ],
)
def test_who_cannot_work(
    oaktag: Run, sample: Path, monkeypatch: pytest.MonkeyPatch, words: tuple[str, ...], told: str
) -> None:
    monkeypatch.setattr(parts, "PATIENCE", 1)
    ran = oaktag("-C", sample, "compile", *words)
    assert ran.status == 2 and told in ran.err and ran.err.count("\n") == 1, ran
    assert not (sample / "lists").exists()
