"""What is said of a row whatever some changes do: against making every one of the networks."""

from __future__ import annotations

import itertools
import json
import random
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal

import pytest

import oaktag
from networks import random_net, write_net
from oaktag.core.judging import Judge
from oaktag.core.knowledge import Knowledge
from oaktag.core.mending import Change, changed, possible, solve
from oaktag.core.paths import Paths
from oaktag.core.prospects import Prospects
from oaktag.core.reach import Between, Reach, State
from oaktag.core.registry import learned_bindings
from oaktag.operations.model import Model
from sizes import scaled

Kind = Literal["leak", "break", "worse"]
#: So many sets of three changes are looked at in each network.
TRIES = 2
KINDS: tuple[Kind, ...] = ("leak", "break", "worse")
Key = tuple[Any, ...]


class Tried:
    """A network, some of its possible changes, and what becomes of its rows with any of them."""

    def __init__(self, model: Model, most: int, rng: random.Random) -> None:
        self.model = model
        self.learned: Any = learned_bindings(
            model.groups, model.assignment, model.prefix_pins, model.network, model.places
        )
        every = possible(model.network, self.learned)
        self.choices: Sequence[Change] = rng.sample(every, min(most, len(every)))
        self.prospects = Prospects(
            model.matrix, model.network, model.paths, model.knowledge, dict(model.state.judges),
            self.choices,
        )  # fmt: skip
        self.made: dict[frozenset[int], dict[Key, Between]] = {}
        self.holder = {h: c for c in model.state.classes(model.hosts) for h in c.hosts}

    def rows(self, chosen: frozenset[int]) -> dict[Key, Between]:
        """All rows of the network with some changes made, by both hosts and the path."""
        if chosen not in self.made:
            network = changed(self.model.network, [self.choices[n] for n in sorted(chosen)])
            order = self.model.files.config.binding_order
            knowledge = Knowledge(network, self.model.registry_bindings, self.learned, order)
            every = tuple(range(len(self.model.groups)))
            judges = {
                name: Judge(
                    p, self.model.matrix,
                    (every, every) if p.scope.kind == "all" else self.model.scope(p),
                )
                for name, p in network.points.items()
            }  # fmt: skip
            state = State(self.model.matrix, network, Paths(network), knowledge, judges)
            found = {}
            classes = state.classes(self.model.hosts)
            for between in Reach(state, classes, classes).by_class():
                links = tuple(k.name for k in between.path.links)
                for a in between.a.hosts:
                    for b in between.b.hosts:
                        found[a, b, between.path.nodes, links] = between
            self.made[chosen] = found
        return self.made[chosen]

    def is_wrong(self, key: Key, kind: Kind, chosen: frozenset[int]) -> bool:
        """Whether a row leaks, breaks, or is anything but exact, with just some changes made."""
        outcome = self.rows(chosen)[key].outcome
        if kind == "worse":
            return outcome.code > 0
        return bool(outcome.leaks if kind == "leak" else outcome.breaks)


def _sets(some: Sequence[int]) -> list[frozenset[int]]:
    return [
        frozenset(c) for size in range(len(some) + 1) for c in itertools.combinations(some, size)
    ]


def load_mendable(seed: int, folder: Path) -> tuple[Model, random.Random]:
    """A random network of twelve nodes in which much can be switched on."""
    rng = random.Random(seed)
    net = random_net(seed)
    for node in net.nodes:
        if rng.random() < 0.5:
            kinds = [("carry", "carries"), ("mark", "marks"), ("point", "points")]
            node["can"] = {word: rng.randint(1, 4) for word, held in kinds if not node.get(held)}
            if not node["can"]:
                del node["can"]
    for link in net.links:
        if not link["carries"]:
            link["can"] = {"carry": rng.randint(1, 4)}
    write_net(net, folder)
    path = folder / "network.yaml"
    prices = {"scope": 1, "direction": 2, "inside": 3, "feed": 2}
    path.write_text(json.dumps({**json.loads(path.read_text()), "mending": prices}))
    return oaktag.Workspace.load(folder).model, rng


@pytest.mark.parametrize("seed", range(scaled(5)))
def test_what_is_sure_is_so_in_every_network(seed: int, tmp_path: Path) -> None:
    """Of a row and some changes that may be made or not: where it is said to be wrong for sure, it
    is wrong with each set of them; where none is left open, what is wrong is sure to be."""
    model, rng = load_mendable(seed, tmp_path)
    for _ in range(TRIES):
        tried = Tried(model, 3, rng)
        rows = tried.rows(frozenset())
        some = rng.sample(sorted(rows, key=str), min(25, len(rows)))
        for key in some:
            between = rows[key]
            a, b = (tried.holder[h] for h in key[:2])
            prospect = tried.prospects.of(a, b, between.path)
            order = rng.sample(range(len(tried.choices)), len(tried.choices))
            cut = rng.randint(0, len(order))
            maybe, rest = order[:cut], order[cut:]
            on = frozenset(n for n in rest if rng.random() < 0.5)
            for kind in KINDS:
                wrong = [tried.is_wrong(key, kind, on | more) for more in _sets(maybe)]
                said = prospect.surely(kind, on, frozenset(maybe))
                assert not said or all(wrong), (key, kind, on, maybe)
                if not maybe and kind != "worse":
                    assert said == wrong[0], (key, kind, on)


@pytest.mark.parametrize("seed", range(8, 8 + scaled(8)))
def test_what_a_row_cannot_depend_on_changes_nothing(seed: int, tmp_path: Path) -> None:
    """Sets of changes that agree on what a row can depend on leave it the same."""
    model, rng = load_mendable(seed, tmp_path)
    told = 0
    for _ in range(TRIES):
        tried = Tried(model, 3, rng)
        rows = tried.rows(frozenset())
        for key in rng.sample(sorted(rows, key=str), min(25, len(rows))):
            a, b = (tried.holder[h] for h in key[:2])
            prospect = tried.prospects.of(a, b, rows[key].path)
            for kind in KINDS:
                related = prospect.related(kind)
                fares: dict[frozenset[int], bool] = {}
                for chosen in _sets(range(len(tried.choices))):
                    now = tried.is_wrong(key, kind, chosen)
                    assert fares.setdefault(chosen & related, now) == now, (key, kind, chosen)
                told += len(related) < len(tried.choices)
    assert told  # else nothing was shown


def test_the_cheapest_choice_that_meets_every_cut() -> None:
    """Against trying all choices."""
    rng = random.Random(3)
    for _ in range(150):
        size = rng.randint(1, 6)
        prices = [rng.randint(1, 5) for _ in range(size)]
        cuts = []
        for _ in range(rng.randint(0, 6)):
            of = rng.sample(range(size), rng.randint(0, size))
            half = rng.randint(0, len(of))
            cuts.append((frozenset(of[:half]), frozenset(of[half:])))
        good = [
            sum(prices[n] for n in chosen)
            for chosen in _sets(range(size))
            if all(inside - chosen or out & chosen for inside, out in cuts)
        ]
        found = solve(prices, cuts)
        if not good:
            assert found is None
            continue
        assert found is not None
        chosen, cost = frozenset(found[0]), found[1]
        assert round(cost) == min(good) == sum(prices[n] for n in chosen)
        assert all(inside - chosen or out & chosen for inside, out in cuts)
