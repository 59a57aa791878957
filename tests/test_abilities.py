"""What a point can do, and what that makes of entries: against packets, one by one."""

from __future__ import annotations

import random
from dataclasses import replace
from itertools import pairwise, product
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from oaktag.core.abilities import EVERYTHING, NEVER, Abilities
from oaktag.core.accesslist import AccessList, ListEntry, head_of
from oaktag.core.acting import act
from oaktag.core.addressed import addressed, apart_from, joined, named_by
from oaktag.core.addresses import Range, Span, prefixes_of
from oaktag.core.flatlist import FlatEntry, FlatList, plain
from oaktag.core.flatten import count, flattened, plain_count
from oaktag.core.lines import Action
from oaktag.core.minimize import Fitted, bits, minimized
from oaktag.core.packets import ICMP_OF, PORTED, Packet, Region, regions_of, span_of
from test_lists_and_points import regions

NUMBERS = ("lists", "ranges", "blocks", "single")
abilities = st.builds(
    Abilities,
    ports=st.sampled_from(NUMBERS), icmp_types=st.sampled_from(("lists", "ranges", "blocks")),
    apart=st.booleans(), range_costs=st.sampled_from((1, 3)),
)  # fmt: skip


def _corners(region: Region) -> list[Packet]:
    """Packets at the edges of a region, inside and out."""
    found = []
    numbers = {n for low, high in region.protocols for n in (low - 1, low, high, high + 1)}
    for family, number in product((4, 6), sorted(n for n in numbers if 0 <= n <= 255)):
        top = span_of(family, number)
        axes = [
            sorted(
                {n for low, high in axis for n in (low - 1, low, high, high + 1) if 0 <= n <= top}
                or {0}
            )
            for axis in (region.sources, region.destinations)
        ]
        found += [Packet(family, number, a, b) for a, b in product(axes[0][:6], axes[1][:6])]
    return found


@given(region=regions(), able=abilities)
def test_the_parts_of_a_region_are_the_region(region: Region, able: Abilities) -> None:
    """Each packet of it is in just one part, no other is in any; and each part is what the point can
    name. Single ports come from ranges short enough to be written out."""
    wide = sum(high - low for axis in region[2:] for low, high in axis) > 300
    icmp = region.protocols[0][0] in ICMP_OF.values()
    if able.ports == "single" and (wide or not icmp):
        region = region._replace(
            sources=tuple((low, min(high, low + 3)) for low, high in region.sources[:2]),
            destinations=tuple((low, min(high, low + 3)) for low, high in region.destinations[:2]),
        )
    parts = list(able.parts(region))
    for packet in _corners(region):
        assert sum(part.holds(packet) for part in parts) == region.holds(packet), (packet, parts)
    for part in parts:
        if able.apart:
            assert len(part.families) == 1 and part.protocols[0][0] == part.protocols[-1][1]
        form = able.icmp_types if icmp else able.ports
        for axis, was in zip(part[2:], region[2:], strict=True):
            whole = axis == was
            if form != "lists" and not whole:
                ((low, high),) = axis
                size = high - low + 1
                assert form != "single" or size == 1
                assert form != "blocks" or (size & (size - 1) == 0 and low % size == 0)
    if able.unseen(region):
        assert able.price(region) == NEVER
    elif able.range_costs == 1:
        assert able.price(region) == len(parts)
    else:
        assert able.price(region) >= len(parts)
    assert able.price(None) == (2 if able.apart else 1)


@given(region=regions())
def test_what_cannot_be_seen_has_no_price(region: Region) -> None:
    """Types where none are told apart, and ports of SCTP; nothing else."""
    kinds = {n for low, high in region.protocols for n in range(low, high + 1)}
    top = span_of(region.families[0], min(kinds))
    named = top and any(axis != ((0, top),) for axis in region[2:])
    for able, odd in (
        (EVERYTHING._replace(icmp_types="none"), {1, 58}),
        (EVERYTHING._replace(sctp_ports=False), {132}),
    ):
        lost = bool(named and kinds & odd and (top == 255 or odd == {132}))
        assert bool(able.unseen(region)) == lost == (able.price(region) >= NEVER), (region, able)
    blind = EVERYTHING._replace(readable="none")
    if not named and top:
        assert blind.unseen(region, readable=True) and not blind.unseen(region)
        ports = EVERYTHING._replace(readable="ports")
        assert bool(ports.unseen(region, readable=True)) == (top == 255)


def test_regions_of_are_all_packets_of_a_family() -> None:
    for family in (4, 6):
        found = regions_of([family], ((0, 255),), None, None)
        for number in range(256):
            top = span_of(family, number)
            for a, b in product({0, top // 2, top}, {0, top}):
                packet = Packet(family, number, a, b)
                assert sum(r.holds(packet) for r in found) == 1, packet
    some = regions_of([4, 6], ((1, 1), (6, 6), (47, 47)), ((80, 300),), None)
    assert {r.protocols[0][0] for r in some} == {1, 6}
    assert {r.sources for r in some} == {((80, 255),), ((80, 300),)}
    assert all(r.protocols[0][0] in (*PORTED, ICMP_OF[r.families[0]]) for r in some)


# -- addresses in entries ------------------------------------------------------------------------


@given(data=st.data())
def test_spans_joined_and_apart_are_all_addresses(data: st.DataObject) -> None:
    ends = st.integers(0, 300)
    spans = [
        Span(4, min(a, b), max(a, b))
        for a, b in data.draw(st.lists(st.tuples(ends, ends), max_size=5))
    ]
    held = joined(spans)
    rest = apart_from(held, [4])
    for address in (*range(303), (1 << 32) - 1):
        inside = any(s.start <= address <= s.end for s in spans)
        assert inside == any(s.start <= address <= s.end for s in held)
        assert inside != any(s.start <= address <= s.end for s in rest)
    for span in held:
        pieces = prefixes_of(*span)
        assert [p.start for p in pieces] == [span.start, *(p.end + 1 for p in pieces[:-1])]
        assert pieces[-1].end == span.end


@st.composite
def flats(draw: st.DrawFn) -> FlatList:
    """Short rows for a point that goes by addresses."""
    cuts = sorted(draw(st.sets(st.integers(0, 60), min_size=2, max_size=7)))
    base = {4: 0x0A000000, 6: 0x20010DB8 << 96}
    bound = tuple(
        Range(
            family, base[family] + a, base[family] + b - 1, draw(st.sampled_from((310, 320, 330)))
        )
        for family in (4, 6)
        for a, b in pairwise(cuts)
        if draw(st.booleans())
    )
    sources, destinations = (
        tuple(sorted(draw(st.sets(st.sampled_from((0, 310, 320, 330, 340)), min_size=1))))
        for _ in "sd"
    )
    actions: st.SearchStrategy[Action] = st.sampled_from(("allow", "deny"))
    blocks: dict[int, dict[int, str]] = {}
    chains: dict[str, tuple[ListEntry, ...]] = {}
    for d, s in product(destinations, sources):
        name = f"p{d}{s}"
        body = [
            ListEntry(draw(regions()), draw(actions), draw(actions), keys=("default",))
            for _ in range(draw(st.integers(0, 1)))
        ]
        chains[name] = (*body, ListEntry(None, draw(actions), draw(actions), keys=("default",)))
        blocks.setdefault(d, {})[s] = name
    within = tuple((Span(r.family, r.start, r.end),) * 2 for r in bound[:1])
    held = AccessList(
        "gate",
        head_of(
            frames="ignored", stateful=draw(st.booleans()), inside=within, targets=None,
            origins=draw(st.sampled_from((None, (Span(4, base[4], base[4] + 40),)))),
        ),
        True, bound, bound, blocks, chains, (draw(actions), draw(actions)),
    )  # fmt: skip
    return plain(held)


def _asked(flat: FlatList, rng: random.Random) -> list[tuple[Packet, int, int, int]]:
    places = {4: {0x0A000000, 0x0B000000, 0xA9FE0001}, 6: {0x20010DB8 << 96, 1 << 127}}
    for r in flat.source_bindings:
        places[r.family] |= {r.start - 1, r.start, r.end, r.end + 1}
    packets = [p for e in flat.entries if e.entry.region for p in _corners(e.entry.region)]
    packets += [Packet(f, n, 0, 0) for f in (4, 6) for n in (6, 47)]
    found = []
    for _ in range(60):
        packet = rng.choice(packets)
        a, b = (rng.choice(sorted(places[packet.family])) for _ in range(2))
        found.append((packet, a, b, rng.choice((0, 310, 999))))
    return found


@given(flat=flats(), seed=st.integers(0, 1 << 30))
def test_a_list_of_addresses_acts_as_the_list_of_tags(flat: FlatList, seed: int) -> None:
    """Also when its classes have got the tags that they should have; and a list that lacks an entry
    acts as it stands, whatever it should be."""
    rng = random.Random(seed)
    held = addressed(flat)
    tree, right = held.tree(), flat.tree()
    named = named_by(tree, flat.source_bindings)
    less = replace(
        held, entries=(*held.entries[: rng.randrange(len(held.entries))], held.entries[-1])
    )
    short, shown = less.tree(), named_by(less.tree(), flat.source_bindings)
    for packet, a, b, frame in _asked(flat, rng):
        meant = act(right, packet, a, b, frame).action
        assert act(tree, packet, a, b, frame).action == meant, (packet, a, b)
        assert act(named, packet, a, b, frame).action == meant, (packet, a, b)
        assert act(short, packet, a, b, frame).action == act(shown, packet, a, b, frame).action


@given(flat=flats())
def test_entries_are_counted_as_they_are_written(flat: FlatList) -> None:
    """Without writing them; and what is made of a list is no longer than one by one."""
    able = EVERYTHING._replace(tables=False, ports="ranges")
    held = flat.tree()
    parted = plain(held, able.parts)
    assert count(parted, able) == len(addressed(parted).entries)
    made = flattened(held, able)
    assert count(made, able) == len(addressed(made).entries) <= plain_count(held, able)
    tags = flattened(held)
    assert count(tags, EVERYTHING) == len(tags.entries) <= len(plain(held).entries)
    every: list[FlatEntry] = list(tags.entries)
    assert not every or every[-1][:2] == (None, None)


# -- rows of boxes that match parts of kinds -----------------------------------------------------


@given(data=st.data())
def test_boxes_that_touch_a_part_of_a_kind_say_what_the_table_says(data: st.DataObject) -> None:
    """Each kind is three packets, and only some sets of packets can be matched."""
    sources, destinations, kinds = (data.draw(st.integers(1, 3)) for _ in range(3))
    table = [
        [[data.draw(st.integers(0, 2)) for _ in range(kinds)] for _ in range(destinations)]
        for _ in range(sources)
    ]
    packets = 3 * kinds
    kind_masks = [0b111 << 3 * k for k in range(kinds)]
    some = data.draw(st.lists(st.integers(1, (1 << packets) - 1), max_size=12))
    masks = [*some, *kind_masks, (1 << packets) - 1]

    def fit(needed: int, may: int) -> Fitted:
        wanted, most = (sum(kind_masks[k] for k in bits(some)) for some in (needed, may))
        fine = [m for m in masks if not wanted & ~m and not m & ~most]
        mask = min(fine, key=lambda m: (-m.bit_count(), m)) if fine else wanted
        whole = sum(1 << k for k, held in enumerate(kind_masks) if not held & ~mask)
        touched = sum(1 << k for k, held in enumerate(kind_masks) if held & mask)
        return Fitted(1 if fine else needed.bit_count(), whole, mask, touched & ~whole)

    boxes: list[Any] = minimized(table, fit)
    assert boxes
    for s, d, packet in product(range(sources), range(destinations), range(packets)):
        said = next(
            box.outcome for box in boxes
            if s in box.sources and d in box.destinations
            and (box is boxes[-1] or box.fitted.by >> packet & 1)
        )  # fmt: skip
        assert said == table[s][d][packet // 3], (table, boxes)
