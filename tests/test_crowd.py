"""Many equal paths as what they come to, against walking each of them."""

from __future__ import annotations

import random
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import pytest

from networks import SEEDS, grid, random_net, write_net
from oaktag.core import paths, pathtree, reach
from oaktag.core.failures import losses
from oaktag.core.reach import Flow
from oaktag.core.survey import survey
from oaktag.operations.model import Model

Told = dict[tuple[Any, ...], tuple[int, dict[int, int], dict[int, int], bool, frozenset[Any]]]


def grouped(flows: Iterable[Flow]) -> Told:
    """Rows by ends, result, place, last cause and effect: how many paths, and all packets."""
    found: Told = {}
    for flow in flows:
        key = (
            flow.source, flow.destination, flow.result, flow.at, flow.causes[-1:], flow.effect,
        )  # fmt: skip
        ways, leaks, breaks, answers, lost = found.get(key, (0, {}, {}, False, frozenset()))
        found[key] = (
            ways + flow.ways, _both(leaks, flow.leaks), _both(breaks, flow.breaks),
            answers or flow.open_for_answers, lost | set(flow.unanswered),
        )  # fmt: skip
    return found


def _both(a: dict[int, int], b: Any) -> dict[int, int]:
    return {f: m for f in (4, 6) if (m := a.get(f, 0) | b.get(f, 0))}


def few(monkeypatch: pytest.MonkeyPatch, most: int) -> None:
    """Paths are many from fewer on than in earnest."""
    for module in (paths, pathtree, reach):
        monkeypatch.setattr(module, "MOST_PATHS", most)


def networks(seed: int, folder: Path) -> Model:
    net = random_net(seed)
    if seed % 4 == 3:
        net = grid(4, random.Random(seed))
    else:
        for link in net.links:  # many equal paths
            link["cost"] = 1
    return write_net(net, folder).model


@pytest.mark.parametrize("seed", SEEDS)
def test_many_paths_come_to_what_each_of_them_does(
    seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Grouped by result, with the number of paths and all packets; and counted the same."""
    model = networks(seed, tmp_path)
    every = model.state.classes(model.hosts)
    plain = list(model.state.rows(every, every))
    assert any(f.ways == 1 for f in plain)
    counts: dict[tuple[Any, Any], int] = {}
    for flow in plain:
        counts[flow.source, flow.destination] = counts.get((flow.source, flow.destination), 0) + 1
    for most in (1, 2):
        few(monkeypatch, most)
        fresh = Model(model.files, model.today)
        held = fresh.state.classes(fresh.hosts)
        found = list(fresh.state.rows(held, held))
        assert grouped(found) == grouped(plain)
        # Of those with few paths each is a row of its own; of the others rows are those of results.
        for flow in found:
            if counts[flow.source, flow.destination] <= most:
                assert flow.ways == 1
        counted = survey(fresh.state, held, held)
        assert sum(counted.effects.values()) + counted.results["unconnected"] == len(found)
        by_effect = {e: n for e, n in counted.effects.items() if n}
        told: dict[str, int] = {}
        for flow in found:
            if not flow.cut_off:
                told[flow.effect] = told.get(flow.effect, 0) + 1
        assert by_effect == told


@pytest.mark.parametrize("seed", range(3))
def test_a_failure_on_many_paths_is_the_network_without(
    seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What is lost with each link and point is the same, whether paths are walked or grouped."""
    model = networks(seed, tmp_path)
    plain = [loss[:5] for loss in losses(model.state, model.hosts)]
    few(monkeypatch, 1)
    fresh = Model(model.files, model.today)
    assert [loss[:5] for loss in losses(fresh.state, fresh.hosts)] == plain
