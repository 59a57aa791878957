"""Many equal paths as what they come to, against walking each of them."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from networks import SEEDS, grid, random_net, share_states, write_net
from oaktag.core import paths, pathtree, reach
from oaktag.core.answers import Trouble, one_of_each, troubles
from oaktag.core.failures import losses
from oaktag.core.paths import Paths
from oaktag.core.reach import Flow, State
from oaktag.core.reach_counts import count_rows
from oaktag.operations.model import Model
from sizes import scaled

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
        counted = count_rows(fresh.state, held, held)
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


@pytest.mark.parametrize("seed", SEEDS[: scaled(8)])
def test_answers_over_many_paths_have_the_same_troubles(
    seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Who is gone round and who drops answers, whether paths are walked or grouped."""
    net, rng = random_net(seed), random.Random(seed)
    for link in net.links:
        link["cost"] = rng.choice((1, 2)) if seed % 4 else 1
    share_states(net, rng, 0.3 if seed % 3 else 0)
    model = write_net(net, tmp_path).model
    plain = {_trouble(t) for t in troubles(model.state, model.hosts)}
    for most in (1, 2):
        few(monkeypatch, most)
        fresh = Model(model.files, model.today)
        assert {_trouble(t) for t in troubles(fresh.state, fresh.hosts)} == plain
        some = [_trouble(t) for t in one_of_each(fresh.state, fresh.hosts)]
        assert set(some) <= plain
        assert sorted(t[:2] for t in some) == sorted({t[:2] for t in plain})


def _trouble(found: Trouble) -> tuple[object, ...]:
    ends = [(h.segment, h.group) for h in (found.a, found.b)]
    return found.kind, found.point, *ends


@pytest.mark.parametrize("seed", SEEDS[: scaled(8)])
def test_what_is_borne_is_counted_over_many_paths_too(
    seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Of rows that are counted, those which the workspace bears are made, asked and left out."""
    model = networks(seed, tmp_path)
    rng = random.Random(seed)
    count = len(model.groups)

    class Some:
        """Bears rows by chance, always the same."""

        def __init__(self) -> None:
            self.cell = {e: np.random.default_rng(seed).random((count, count)) < 0.4 for e in WRONG}

        def cells(self, effect: str, sources: Any, destinations: Any) -> Any:
            return self.cell[effect][np.ix_(sources, destinations)]

        def of(self, flow: Flow) -> bool:
            wrong = "cut-off" if flow.cut_off else flow.effect
            if wrong == "exact" or not self.cell[wrong][flow.source[1], flow.destination[1]]:
                return False
            return sum(map(ord, flow.source[0] + flow.destination[0])) % 3 > 0

    lost = set(rng.sample(range(len(model.network.links)), 3))
    network = without_links(model, lost)
    for most in (1, 64):
        few(monkeypatch, most)
        state = network()
        held = state.classes(model.hosts)
        bearing = Some()
        flows = list(state.rows(held, held))
        counted = count_rows(state, held, held, None, bearing)
        borne = [f for f in flows if bearing.of(f)]
        left = [f for f in flows if not bearing.of(f)]
        told = Counter("cut-off" if f.cut_off else f.effect for f in borne)
        assert (told or seed % 4 == 3) and counted.accepted == told
        assert counted.effects == Counter(f.effect for f in left)
        assert counted.results == Counter(f.result for f in left)
        causes = Counter((f.effect, f.causes[-1:]) for f in left if f.effect != "exact")
        assert {key: cause.rows for key, cause in counted.causes.items()} == causes
        off = sum(f.cut_off for f in left)
        assert (counted.cut_off.rows if counted.cut_off else 0) == off


WRONG = ("leak", "break", "one-way", "cut-off")


def without_links(model: Model, lost: set[int]) -> Callable[[], State]:
    """Makes the network without some links, so that some ends are cut off."""
    links = [k for n, k in enumerate(model.network.links) if n not in lost]
    network = model.network.less(links, model.network.feeds)

    def made() -> State:
        return State(model.matrix, network, Paths(network), model.knowledge, model.state.judges)

    return made


@pytest.mark.parametrize(("seed", "by_family"), [(113, False), (84, True)])
def test_one_trouble_of_each_point_without_following_all(
    seed: int, by_family: bool, tmp_path: Path
) -> None:
    """Also where it is the tag in the frame of the answer by which a point drops it, and where
    only the family drops it that fares better on the way out."""
    net, rng = random_net(seed), random.Random(seed)
    share_states(net, rng, 0 if by_family else 0.3)
    for feed in net.feeds if by_family else ():
        if rng.random() < 0.5:
            one = rng.choice(("10.{}.0.0/16", "2001:db8:{}::/48"))
            feed["only"] = {"prefixes": [one.format(n) for n in range(10)]}
    model = write_net(net, tmp_path).model
    every = {(t.kind, t.point) for t in troubles(model.state, model.hosts)}
    some = [(t.kind, t.point) for t in one_of_each(model.state, model.hosts)]
    assert every and sorted(some) == sorted(every)
