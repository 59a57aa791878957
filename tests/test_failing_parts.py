"""What failures are made of, each against doing it plainly: which pairs a loss touches, from which nodes
trees are grown, which paths are grown of them, and by which tables points go afterwards."""

from __future__ import annotations

import random
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from networks import SEEDS, grid, random_net, write_net
from oaktag.core.failures import _Failing, candidates, without
from oaktag.core.pathtree import PathTrees, Tree
from oaktag.core.reach import Reach
from oaktag.operations.model import Model


def networks(seed: int, folder: Path) -> Model:
    net = grid(4, random.Random(seed)) if seed % 4 == 3 else random_net(seed)
    return write_net(net, folder).model


def paths_in(trees: PathTrees, tree: Tree, wanted: Any) -> set[tuple[Any, ...]]:
    """The paths of a forest that end at wanted nodes: their root, nodes and links."""
    found = set()
    for entry in np.flatnonzero(wanted[tree.root, tree.node]).tolist():
        path = trees.path(tree, entry)
        found.add((int(tree.root[entry]), path.nodes, tuple(k.name for k in path.links)))
    return found


@pytest.mark.parametrize("seed", SEEDS)
def test_of_a_forest_just_the_ways_to_what_is_wanted(seed: int, tmp_path: Path) -> None:
    model = networks(seed, tmp_path)
    rng = np.random.default_rng(seed)
    whole = PathTrees(model.network, model.paths)
    lost = rng.choice(len(model.network.links), 2, replace=False).tolist()
    for trees in (whole, whole.less(lost)):
        names = [trees.names[n] for n in rng.choice(len(trees.names), 5, replace=False)]
        every = trees.forest(names)
        wanted = rng.random((5, len(trees.names))) < 0.2
        some = trees.forest(names, wanted)
        assert paths_in(trees, some, wanted) == paths_in(trees, every, wanted)
        everything = np.ones_like(wanted)
        assert paths_in(trees, some, everything) <= paths_in(trees, every, everything)
        # All else that is grown is on the way to something wanted.
        ends = {(root, nodes) for root, nodes, _ in paths_in(trees, some, wanted)}
        for root, nodes, _ in paths_in(trees, some, everything):
            on_way = any(r == root and n[: len(nodes)] == nodes for r, n in ends)
            assert on_way or len(nodes) == 1, nodes


@pytest.mark.parametrize("seed", SEEDS)
def test_pairs_that_a_loss_touches(seed: int, tmp_path: Path) -> None:
    """Of links and points just those with a path over them; roots and ends are these pairs again."""
    model = networks(seed, tmp_path)
    failing = _Failing(model.state, model.hosts)
    names, count = failing.trees.names, len(failing.pairs.nodes)
    ways: dict[tuple[int, int], list[Any]] = {}
    for i, a in enumerate(failing.pairs.nodes.tolist()):
        for j, b in enumerate(failing.pairs.nodes.tolist()):
            if i <= j:
                ways[i, j] = list(model.paths.between(names[a], names[b]))
    for lost in candidates(model.network):
        if lost.kind in ("feed", "node"):
            continue
        touched = failing._touched(lost, [], model.knowledge)
        if lost.kind == "link":
            link = model.network.links[lost.number]
            expected = {p for p, held in ways.items() if any(link in w.links for w in held)}
        else:
            node = model.network.points[lost.name].node
            expected = {p for p, held in ways.items() if any(node in w.nodes for w in held)}
        pairs = [divmod(p, count) for p in touched.tolist()]
        assert set(pairs) == expected and len(pairs) == len(expected) and pairs == sorted(pairs)
        roots, ends = failing.pairs.covering(touched)
        covered = [
            (min(r, e), max(r, e))
            for r, of in zip(roots.tolist(), ends, strict=True)
            for e in of.tolist()
        ]
        assert sorted(covered) == pairs


@pytest.mark.parametrize("seed", SEEDS)
def test_tables_after_a_loss_are_those_of_the_network_without(seed: int, tmp_path: Path) -> None:
    model = networks(seed, tmp_path)
    state = model.state
    classes = state.classes(model.hosts)
    for lost in candidates(model.network):
        if lost.kind != "feed":
            continue
        network = without(model.network, lost)
        after = state.moved(
            network, state.paths, state.knowledge.less(network, [model.network.feeds[lost.number]])
        )
        known = {id(t) for t in state.tables}
        if any(id(t) not in known for t in after.tables):
            continue  # then everything is made anew
        reach = Reach(state, classes, classes)
        view, fresh = reach.viewed(after), Reach(after, classes, classes)
        for mine, theirs in ((view.source_table, fresh.view.source_table),
                             (view.target_table, fresh.view.target_table)):  # fmt: skip
            assert [id(state.tables[n]) for n in mine] == [id(after.tables[n]) for n in theirs]
