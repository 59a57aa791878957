"""What must not matter: names, the order of what does not interact, how ground is written down; and
what must be the same twice: the answers of a row, a trace and a question."""

from __future__ import annotations

import copy
import random
from collections.abc import Callable, Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

import oaktag
from networks import SEEDS, random_net, write_net
from oaktag.testing.slow_reach import Net
from sizes import scaled

Rows = dict[tuple[Any, ...], tuple[Any, ...]]


def fares(rows: Rows) -> Rows:
    """Without reasons: of several hosts that fare alike it is the first whose reasons are told."""
    return {key: told[:4] for key, told in rows.items()}


def rows_of(workspace: oaktag.Workspace, name: Callable[[str], str] = str) -> Rows:
    """All rows of reach by ends and path, every name as another, in no order."""
    return keyed(workspace.reach()["flows"], name)


def keyed(flows: Iterable[Any], name: Callable[[str], str] = str) -> Rows:
    found: Rows = {}
    for row in flows:
        ends = tuple(
            (name(row[end]["segment"]), name(row[end]["group"]))
            for end in ("source", "destination")
        )
        key = (*ends, tuple(map(name, row["path"])), tuple(map(name, row["links"])))
        at = row["at"] and name(row["at"])
        told = [
            tuple((r["node"] and name(r["node"]), r["why"]) for r in row[key_])
            for key_ in ("reasons", "amiss")
        ]
        found[key] = (row["result"], at, row["effect"], row["packets_text"], *told)
    return found


def _folder(root: Path, name: str) -> Path:
    path = root / name
    path.mkdir()
    return path


def renamed(net: Net, name: Callable[[str], str]) -> Net:
    """The same network with nodes, segments, links and feeds named otherwise."""
    words = {n["node"] for n in net.nodes} | {s["segment"] for s in net.segments}
    words |= {k["name"] for k in [*net.links, *net.feeds]}

    def walk(held: Any, key: str = "") -> Any:
        if isinstance(held, dict):
            return {
                k: v if k in ("mode", "outside", "group", "tag", "only", "scope") else walk(v, k)
                for k, v in held.items()
            }
        if isinstance(held, list):
            return [walk(v, key) for v in held]
        return name(held) if isinstance(held, str) and held in words and key != "prefixes" else held

    return replace(
        net, nodes=walk(net.nodes), segments=walk(net.segments), links=walk(net.links),
        feeds=walk(net.feeds), pins=walk(net.pins),
    )  # fmt: skip


@pytest.mark.parametrize("seed", SEEDS[: scaled(6)])
def test_names_do_not_matter(seed: int, tmp_path: Path) -> None:
    net = random_net(seed)
    first = rows_of(write_net(net, _folder(tmp_path, "a")))
    back: dict[str, str] = {}

    def name(word: str) -> str:
        other = f"{word[::-1]}-x"
        other = other if other[0].isalpha() else f"q{other}"
        back[other] = word
        return other

    second = write_net(renamed(net, name), _folder(tmp_path, "b"))
    assert rows_of(second, lambda w: back.get(w, w)) == first


@pytest.mark.parametrize("seed", SEEDS[: scaled(6)])
def test_order_does_not_matter(seed: int, tmp_path: Path) -> None:
    """Of nodes, segments, links, feeds and endpoints. (Of lines it does, inside a layer.)"""
    rng, net = random.Random(seed), random_net(seed)
    first = rows_of(write_net(net, _folder(tmp_path, "a")))
    mixed = copy.deepcopy(net)
    for held in (mixed.nodes, mixed.segments, mixed.links, mixed.feeds, mixed.beings):
        rng.shuffle(held)
    second = rows_of(write_net(mixed, _folder(tmp_path, "b")))
    assert fares(second) == fares(first)


@pytest.mark.parametrize("seed", SEEDS[: scaled(6)])
def test_how_ground_is_written_down_does_not_matter(seed: int, tmp_path: Path) -> None:
    """A segment's prefix as its two halves; a filter's prefix as its halves; an endpoint's addresses
    in another order."""
    net = random_net(seed)
    first = rows_of(write_net(net, _folder(tmp_path, "a")))
    split = copy.deepcopy(net)
    for segment in split.segments:
        if "tag" in segment or segment["segment"] == "outside":
            continue  # a default binding is as wide as its prefix, and all the rest has no halves here
        number = segment["segment"][1:]
        segment["prefixes"] = [
            f"10.{number}.0.0/25", f"10.{number}.0.128/25",
            f"2001:db8:{number}::/65", f"2001:db8:{number}:0:8000::/65",
        ]  # fmt: skip
    for feed in split.feeds:
        wide = feed.get("only", {}).get("prefixes", [])
        halves = [p for w in wide if w.endswith("/16") for p in _halves(w)]
        if wide and not any("tag" in s for s in split.segments) and not split.pins:
            feed["only"]["prefixes"] = [*halves, *(w for w in wide if not w.endswith("/16"))]
    for number, being in enumerate(split.beings):
        split.beings[number] = replace(being, addresses=being.addresses[::-1])
    assert fares(rows_of(write_net(split, _folder(tmp_path, "b")))) == fares(first)


def _halves(prefix: str) -> list[str]:
    a, b, _, _ = prefix.split("/")[0].split(".")
    return [f"{a}.{b}.0.0/17", f"{a}.{b}.128.0/17"]


@pytest.mark.parametrize("seed", SEEDS[: scaled(6)])
def test_a_lost_link_is_the_network_without_it(seed: int, tmp_path: Path) -> None:
    """Deleted by hand: what was exact and is not any more is what failures counts."""
    net = random_net(seed, plain=True)
    workspace = write_net(net, tmp_path)
    told = {(r["kind"], r["name"]): r for r in workspace.failures()["failures"]}
    before = _by_ends(rows_of(workspace))
    rng = random.Random(seed)
    for link in rng.sample(net.links, 3):
        less = replace(net, links=[k for k in net.links if k is not link])
        after = _by_ends(rows_of(write_net(less, tmp_path)))
        turned = {
            ends: after[ends]
            for ends, was in before.items()
            if was == "exact" and after[ends] != "exact"
        }
        row = told.get(("link", link["name"]), {"leaks": 0, "breaks": 0, "one_way": 0})
        counts = {e: sum(now == e for now in turned.values()) for e in ("leak", "break", "one-way")}
        assert counts == {"leak": row["leaks"], "break": row["breaks"], "one-way": row["one_way"]}


def _by_ends(rows: Rows) -> dict[tuple[Any, ...], str]:
    """The worst effect of all paths between two ends."""
    order = ("cut-off", "leak", "break", "one-way", "exact")
    found: dict[tuple[Any, ...], str] = {}
    for key, (result, _, effect, *_) in rows.items():
        said = "cut-off" if result == "unconnected" else effect
        found[key[:2]] = min(found.get(key[:2], "exact"), said, key=order.index)
    return found


def test_the_same_files_give_the_same_bytes(tmp_path: Path) -> None:
    """Twice, and from another folder."""
    texts = []
    for folder in ("one", "two"):
        workspace = write_net(random_net(3), _folder(tmp_path, folder))
        for _ in range(2):
            asked = workspace.reach(), workspace.bindings(), workspace.groups()
            texts.append("".join(answer.json() for answer in asked))
    assert len(set(texts)) == 1
