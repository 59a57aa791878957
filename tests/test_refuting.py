"""A list changed at one place: it is refuted where it acts otherwise than before, packet by packet, and
the packet that refutes it is one that it takes otherwise."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from list_kinds import of_kind
from networks import SEEDS, random_net, write_net
from oaktag.core.accesslist import (
    AccessList,
    Blank,
    Keep,
    Look,
    PassBetween,
    PassUnless,
    PassWithin,
    Step,
)
from oaktag.core.acting import act
from oaktag.core.addresses import Range
from oaktag.core.lines import Action
from oaktag.core.packets import Packet
from oaktag.operations.lists import list_of, points_of
from oaktag.operations.model import Model
from oaktag.testing.slow import Stack
from oaktag.testing.strategies import GROUPS
from sizes import scaled

#: A change, and the addresses at which it may show: sources and destinations, by family.
Change = tuple[str, AccessList, list[tuple[int, int]], list[tuple[int, int]]]
ENOUGH = 1500


def _places(ranges: tuple[Range, ...], held: AccessList, model: Model) -> list[tuple[int, int]]:
    """An address of each range, of each segment, and of what is on none."""
    found = [(r.family, r.start) for r in ranges]
    found += [(p.family, p.end - 1) for s in model.network.segments.values() for p in s.prefixes]
    return [*found, (4, 10 << 24 | 0xC80001), (6, 0x20010DB8 << 96 | 0xFFFF)]


def _fewer(held: AccessList, at: int, step: Step) -> AccessList:
    return replace(held, head=(*held.head[:at], step, *held.head[at + 1 :]))


def changes(held: AccessList, rng: random.Random, tags: list[int]) -> Iterator[Change]:
    """Changes of one kind each, of those that the list has room for."""
    for side in ("source_bindings", "destination_bindings"):
        ranges = getattr(held, side)
        if ranges:
            at = rng.randrange(len(ranges))
            r, tag = ranges[at], rng.choice([t for t in tags if t != ranges[at].tag])
            other = (*ranges[:at], r._replace(tag=tag), *ranges[at + 1 :])
            spot = [(r.family, r.start)]
            if side == "source_bindings":
                yield side, replace(held, source_bindings=other), spot, []
            else:
                yield side, replace(held, destination_bindings=other), [], spot
    for at, step in enumerate(held.head):
        match step:
            case PassBetween(family, pairs) if len(pairs) > 1:
                a, b = gone = rng.choice(pairs)
                less = PassBetween(family, tuple(p for p in pairs if p != gone))
                yield (
                    "inside", _fewer(held, at, less),
                    [(family, n) for n in (a.start + 5, a.end)],
                    [(family, n) for n in (b.start + 6, b.end - 1)],
                )  # fmt: skip
            case PassUnless(end, family, spans) if len(spans) > 1:
                lost = rng.choice(spans)
                less_of = PassUnless(end, family, tuple(s for s in spans if s != lost))
                spot = [(family, lost.start + 5)]
                yield (
                    end, _fewer(held, at, less_of), *((spot, []) if end == "source" else ([], spot)),
                )  # fmt: skip
            case PassWithin(end, family, spans):
                lost = rng.choice(spans)
                wide = PassWithin(end, family, tuple(s for s in spans if s != lost))
                yield "never", _fewer(held, at, wide), [], []
            case Look(family, unless_known):
                yield "look", _fewer(held, at, Look(family, not unless_known)), [], []
            case Blank():
                yield "blank", replace(held, head=tuple(s for s in held.head if s != step)), [], []
    cells = [(d, s) for d, row in held.blocks.items() for s in row]
    d, s = rng.choice(cells)
    chain = rng.choice([c for c in held.chains if c != held.blocks[d][s]])
    yield (
        "cell",
        replace(held, blocks={**held.blocks, d: {**held.blocks[d], s: chain}}),
        [(r.family, r.start) for r in held.source_bindings if r.tag == s],
        [(r.family, r.start) for r in held.destination_bindings if r.tag == d],
    )
    turned: Action = "deny" if held.outside[0] == "allow" else "allow"
    yield "outside", replace(held, outside=(turned, turned)), [], []


@pytest.mark.parametrize("seed", SEEDS[: scaled(4)])
def test_a_list_is_refuted_where_it_acts_otherwise(seed: int, tmp_path: Path) -> None:
    net = random_net(seed)
    model, rng = write_net(net, tmp_path).model, random.Random(seed)
    packets = [Packet(*p) for p in net.stack.packets()]
    tags = [tag for tag, _ in net.stack.groups.values()]
    told: Counter[str] = Counter()
    for point in points_of(model):
        held = model.list_of(point)
        assert model.refute(point, held) is None
        sources, destinations = (
            _places(r, held, model) for r in (held.source_bindings, held.destination_bindings)
        )
        for what, other, ones, twos in changes(held, rng, tags):
            against = model.refute(point, other)
            if against is not None and not against.what:
                frame = against.frame
                ends = against.source, against.destination
                was, now = (act(x, against.packet, *ends, frame) for x in (held, other))
                assert (now.action, was.action) == (against.listed[0], against.meant[0]), what
                assert against.listed != against.meant
            told[f"{what}: {'refuted' if against else 'equal'}"] += 1
            for _ in range(ENOUGH if against is None else 0):
                family, source = rng.choice(ones if ones and rng.random() < 0.9 else sources)
                to = twos if twos and rng.random() < 0.9 else destinations
                mine = [n for f, n in to if f == family]
                ends = source, rng.choice(mine) if mine else source + 7
                packet = rng.choice(packets)._replace(family=family)
                frame = rng.choice((0, 0, *tags, 65_000))
                assert (
                    act(held, packet, *ends, frame)[:1] == act(other, packet, *ends, frame)[:1]
                ), (what, point, packet, ends, frame)
        judged = not any(isinstance(step, PassUnless) for step in held.head)
        if Keep() in held.head and judged and (Blank() in held.head or held.source_bindings):
            other = replace(held, restores=False)
            against = model.refute(point, other)
            assert against is not None and "another tag" in against.what
            told["restores: refuted"] += 1
    refuted = {what.split(":")[0] for what in told if what.endswith("refuted")}
    assert {"source_bindings", "destination_bindings"} <= refuted, told


@pytest.mark.parametrize("seed", SEEDS[: scaled(2)])
def test_a_list_that_answers_or_records_otherwise_is_refuted(seed: int, tmp_path: Path) -> None:
    """Whom it lets through is the same; what the sender hears, or the log, is not."""
    model = write_net(random_net(seed), tmp_path).model
    told: Counter[str] = Counter()
    for point in points_of(model):
        held = model.list_of(point)
        # An entry of each chain that no packet meets may say what it likes: the last one is met.
        for name, chain in held.chains.items():
            last = chain[-1]
            level = "warning" if last.log is None else None
            others = {
                "which the two record otherwise": replace(last, log=level),
                "of which only one of the two answers the sender": replace(
                    last, answer=not last.answer
                ),
            }
            for what, entry in others.items():
                if last.action == "allow" and entry.answer != last.answer:
                    continue
                chains = {**held.chains, name: (*chain[:-1], entry)}
                against = model.refute(point, replace(held, chains=chains))
                if against is not None:
                    assert against.listed == against.meant
                    assert against.what.startswith(what), (against, what)
                    told[what] += 1
    assert len(told) == 2, told


def test_what_passes_as_an_answer_is_not_answered(tmp_path: Path) -> None:
    """A point that is stateless: what its own cell denies, and answers, the opposite one lets pass."""
    row = {"mode": "", "way": ""}
    stack = Stack(
        dict(GROUPS), {},
        {"no": {"entries": [{"deny": ["443/tcp"], "answer": True, "log": "notice"}]},
         "yes": {"entries": [{"allow": ["any"]}]}},
        [[{"source": "ada", "destination": "bo", "permission": "no", **row},
          {"source": "bo", "destination": "ada", "permission": "yes", **row}]],
        "deny",
    )  # fmt: skip
    point = {
        "stateful": False,
        "from": "*",
        "toward": "*",
        "inside": True,
        "match": {"source": "tag"},
    }
    model, made = of_kind(stack, point, "json", tmp_path)
    assert model.refute(made, list_of(model, made)) is None
