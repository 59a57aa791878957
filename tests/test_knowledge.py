"""How bindings travel, each by itself: by which feeds, to whom, what each feed brings, and what is
left when some are gone."""

from __future__ import annotations

import random
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pytest

from networks import SEEDS, random_net, write_net
from oaktag.core.bindings import Binding
from oaktag.core.knowledge import Knowledge
from oaktag.core.network import REGISTRY, Feed, Network
from oaktag.core.registry import learned_bindings
from oaktag.operations.model import Model


def passes(feed: Feed, binding: Binding) -> bool:
    """Whether ``only`` lets a binding through: both of what it names must."""
    if feed.tags is not None and binding.tag not in feed.tags:
        return False
    if feed.prefixes is None:
        return True
    return any(
        wide.family == binding.prefix.family
        and wide.length <= binding.prefix.length
        and wide.start <= binding.prefix.start <= binding.prefix.end <= wide.end
        for wide in feed.prefixes
    )


def carried(network: Network, binding: Binding, sender: str) -> bool:
    """Whether a sender passes on a binding that it has: its own, or all where it relays."""
    origin = binding.node or REGISTRY
    return sender in (origin, REGISTRY) or network.nodes[sender].relays


def hops(network: Network, binding: Binding) -> dict[str, int]:
    """Where a binding comes to, and over how many feeds at the least: feeds are gone over again and
    again until nothing is new."""
    found = {binding.node or REGISTRY: 0}
    for _ in range(len(network.nodes) + 1):
        for feed in network.feeds:
            if not feed.up or feed.sender not in found or not passes(feed, binding):
                continue
            if carried(network, binding, feed.sender):
                near = found[feed.sender] + 1
                found[feed.receiver] = min(found.get(feed.receiver, near), near)
    return found


def everything(model: Model) -> tuple[dict[str, Sequence[Binding]], list[Binding]]:
    """What nodes learn themselves, and all bindings that there are."""
    learned: Any = learned_bindings(
        model.groups, model.assignment, model.prefix_pins, model.network, model.places
    )
    return learned, [*model.registry_bindings, *(b for held in learned.values() for b in held)]


@pytest.mark.parametrize("seed", SEEDS)
def test_where_each_binding_comes_and_how(seed: int, tmp_path: Path) -> None:
    model = write_net(random_net(seed), tmp_path).model
    network, knowledge = model.network, model.knowledge
    learned, every = everything(model)
    assert list(knowledge.every) == every
    known: dict[str, set[Binding]] = {name: set() for name in network.nodes}
    for binding in every:
        came = hops(network, binding)
        names = [n for n in (REGISTRY, *network.nodes) if n in came]
        assert knowledge.holders(binding) == names
        for name in network.nodes:
            chain = knowledge.chain(binding, name)
            if name not in came:
                assert chain is None
                continue
            known[name].add(binding)
            assert chain is not None and len(chain) == came[name]
            at = binding.node or REGISTRY
            for feed in chain:
                assert feed.sender == at and feed.up and passes(feed, binding)
                assert carried(network, binding, at)
                at = feed.receiver
            assert at == name
    for name in network.nodes:
        assert knowledge.known(name) == known[name]
        winners = {b.prefix: b for b in knowledge.at(name).in_force}
        assert winners.keys() == {b.prefix for b in known[name]}
    for feed in network.feeds:
        sent = model.registry_bindings if feed.sender == REGISTRY else known[feed.sender]
        brought = [
            b for b in sent if feed.up and passes(feed, b) and carried(network, b, feed.sender)
        ]
        assert sorted(knowledge.brought_by(feed), key=str) == sorted(brought, key=str)
    for sender in (REGISTRY, *network.nodes):
        assert list(knowledge.feeds_from(sender)) == [
            f for f in network.feeds if f.sender == sender
        ]
    assert list(knowledge.nothing.bindings) == []
    assert {n for n, held in learned.items() if len(held)} <= set(network.nodes)


@pytest.mark.parametrize("seed", SEEDS)
def test_what_is_known_when_feeds_are_gone(seed: int, tmp_path: Path) -> None:
    """Asked again only behind them, or built from nothing: the same; and in any order of losses."""
    rng = random.Random(seed)
    model = write_net(random_net(seed), tmp_path).model
    network = model.network
    learned, _ = everything(model)
    order = model.files.config.binding_order
    feeds = list(network.feeds)
    rng.shuffle(feeds)
    left, now = list(network.feeds), model.knowledge
    for gone in feeds[:4]:
        left = [f for f in left if f is not gone]
        less = network.less(network.links, left)
        now = now.less(less, [gone])
        plain = Knowledge(less, model.registry_bindings, learned, order)
        for name in network.nodes:
            assert now.known(name) == plain.known(name)
            assert list(now.at(name).in_force) == list(plain.at(name).in_force)
        for binding in rng.sample(list(now.every), min(20, len(now.every))):
            assert now.holders(binding) == plain.holders(binding)
    lost = feeds[:3]
    rest = network.less(network.links, [f for f in network.feeds if f not in lost])
    together = model.knowledge.less(rest, lost)
    plain = Knowledge(rest, model.registry_bindings, learned, order)
    assert all(together.known(n) == plain.known(n) for n in network.nodes)
    # The network that is left has the same nodes and segments, and the whole is as it was.
    assert rest.nodes is network.nodes and len(network.feeds) == len(feeds)
    assert (
        Network([*rest.nodes.values()], [*rest.segments.values()], rest.links, rest.feeds).feeds
        == rest.feeds
    )
