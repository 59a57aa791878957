"""Sets of packets, one by one: every packet of a small sample of the whole space is asked."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oaktag.core.packets import (
    ECHO,
    ICMP_OF,
    PORTED,
    Atoms,
    Box,
    Packet,
    Region,
    boxes_of,
    exchanged,
    runs,
    span_of,
)
from oaktag.core.service_text import parse_asked, set_text, set_words
from oaktag.core.services import parse_service
from words import words_hold

PORTS = (0, 1, 7, 8, 22, 80, 127, 128, 129, 255, 256, 443, 50_000, 65_535)
PROTOCOLS = (0, 1, 2, 6, 17, 47, 58, 132, 255)
#: Packets that boxes with these ends can tell apart.
SAMPLE = [
    Packet(family, protocol, source, destination)
    for family in (4, 6)
    for protocol in PROTOCOLS
    for source, destination in itertools.product(PORTS, PORTS)
    if max(source, destination) <= span_of(family, protocol)
]
ends = st.sampled_from(PORTS)
spans = st.one_of(st.just((0, 65_535)), st.tuples(ends, ends).map(lambda p: (min(p), max(p))))
boxes = st.builds(
    Box,
    st.sampled_from((0, 0, 4, 6)),
    st.one_of(
        st.sampled_from(PROTOCOLS).map(lambda n: (n, n)),
        st.tuples(st.sampled_from(PROTOCOLS), st.sampled_from(PROTOCOLS)).map(
            lambda p: (min(p), max(p))
        ),
    ),
    spans,
    spans,
)


def holds(some: list[Box], packet: Packet) -> bool:
    return any(box.holds(packet) for box in some)


def within(region: Region, packet: Packet) -> bool:
    return packet.family in region.families and all(
        any(low <= number <= high for low, high in ranges)
        for number, ranges in zip(packet[1:], region[1:], strict=True)
    )


def kept(atoms: Atoms, mask: int) -> set[Packet]:
    """The packets of the sample that are in a set."""
    return {p for p in SAMPLE if mask >> atoms.atom(p) & 1}


@given(cut=st.lists(boxes, max_size=5), data=st.data())
def test_a_set_is_its_packets(cut: list[Box], data: st.DataObject) -> None:
    """The mask of boxes, both families, what is shown of it, and a packet of it."""
    atoms = Atoms(cut)
    some = data.draw(st.lists(st.sampled_from(cut), unique=True)) if cut else []
    mask = atoms.mask(some)
    mine = kept(atoms, mask)
    assert mine == {p for p in SAMPLE if holds(some, p)}
    columns = [np.array(c, dtype=np.int64) for c in zip(*SAMPLE, strict=True)]
    assert atoms.atoms(*columns).tolist() == [atoms.atom(p) for p in SAMPLE]
    assert kept(atoms, atoms.full) == set(SAMPLE)
    for family in (4, 6):
        # An atom may hold packets of both families: those of one are what is asked of it.
        found = {p for p in kept(atoms, mask & atoms.of_family(family)) if p.family == family}
        assert found == {p for p in mine if p.family == family}
        assert not kept(atoms, atoms.of_family(family) & ~atoms.of_family(10 - family)) & {
            p for p in SAMPLE if p.family != family
        }
    shown = atoms.regions(mask)
    for packet in SAMPLE:
        assert sum(within(r, packet) for r in shown) == (packet in mine)
    again = Atoms([*cut, *(b for r in shown for b in boxes_of(r))])
    assert kept(again, again.mask([b for r in shown for b in boxes_of(r)])) == mine
    for region in shown:
        assert within(region, region.first())
        for family in region.families:
            usual = region.usual(family)
            assert within(region, usual) and usual.family == family
            # As people meet them: from a high port where there is one, to no port 0 if others are.
            high = any(low <= 50_000 <= top for low, top in region.sources)
            assert (usual.source_port == 50_000) == high
            many = region.destinations[0][1] > 255
            assert usual.destination_port > 0 or not many
    for wanted in (None, 4, 6):
        if mask & (atoms.full if wanted is None else atoms.of_family(wanted)):
            one = atoms.packet(mask, wanted)
            assert mask >> atoms.atom(one) & 1 and wanted in (None, one.family)
            assert one.source_port <= span_of(one.family, one.protocol)


@given(cut=st.lists(boxes, max_size=4))
def test_what_is_printed_of_a_set_is_the_set(cut: list[Box]) -> None:
    """Every word, read plainly; and one packet, as findings show it."""
    atoms = Atoms(cut)
    mask = atoms.mask(cut)
    words = set_words(atoms, mask)
    assert words == list(dict.fromkeys(words))
    for packet in SAMPLE:
        assert words_hold(words, packet) == holds(cut, packet), (words, packet)
    said = set_text(atoms, mask)
    if said.startswith("any but "):
        rest = set_words(atoms, atoms.full & ~mask)
        assert said == f"any but {', '.join(rest)}"
        assert all(words_hold(rest, p) != holds(cut, p) for p in SAMPLE)
    else:
        assert said == (", ".join(words) or "none")
    if mask:
        again = parse_asked(said)
        fine = Atoms([*cut, *again])
        assert fine.mask(again) == fine.mask(cut), said


@given(
    cut=st.lists(boxes, max_size=4),
    own=st.lists(st.lists(boxes, min_size=1, max_size=2), max_size=3),
)
def test_what_is_printed_by_names_is_the_set(cut: list[Box], own: list[list[Box]]) -> None:
    """Typed back in it is the same packets; a name is said if all of it is meant, and only then."""
    named = {f"own-{n}": tuple(held) for n, held in enumerate(own)}
    atoms = Atoms([*cut, *(box for held in own for box in held)])
    mask = atoms.mask(cut)
    said = set_text(atoms, mask, named)
    if mask:
        again = parse_asked(said, named)
        fine = Atoms([*cut, *again])
        assert fine.mask(again) == fine.mask(cut), said
    if not said.startswith("any but "):
        words = set(said.split(", "))
        for name, held in named.items():
            whole = atoms.mask(held)
            if name in words:
                assert whole & mask == whole
        meant = [whole for held in own if (whole := atoms.mask(held)) and not whole & ~mask]
        if meant and mask != atoms.full:
            assert words & set(named), "one whose packets are all meant is called by its name"


@pytest.mark.parametrize(
    ("meant", "said"),
    [
        ("80-90/tcp", "many"), ("80/tcp", "one"), ("80-81/tcp", "one, 81/tcp"),
        ("80-95/tcp", "many, 91-95/tcp"), ("90-95/tcp", "late"), ("81-89/tcp", "81-89/tcp"),
        ("any", "any"),
    ],
)  # fmt: skip
def test_names_are_said_once_the_largest_first(meant: str, said: str) -> None:
    named = {n: parse_service(s) for n, s in
             (("one", "80/tcp"), ("many", "80-90/tcp"), ("late", "90-95/tcp"))}  # fmt: skip
    atoms = Atoms([*parse_service(meant), *(b for held in named.values() for b in held)])
    assert set_text(atoms, atoms.mask(parse_service(meant)), named) == said


@pytest.mark.parametrize(
    ("said", "words"),
    [
        ("icmp4/8/0", ["icmp4/8/0"]),
        ("icmp4/0/0, proto/47", ["icmp4/0/0", "proto/47"]),
        ("80,443,8000-8010/tcp", ["80,443,8000-8010/tcp"]),
        ("22/tcp on IPv6 from ports 1024-65535", ["22/tcp on IPv6 from ports 1024-65535"]),
        ("proto/1-5", ["icmp4", "proto/2-5 on IPv4", "proto/1-5 on IPv6"]),
        ("any but 0-65535/tcp", ["0-65535/sctp", "0-65535/udp", "icmp", "proto/0,2-5,7-16"]),
    ],
)
def test_what_is_typed_is_printed_again(said: str, words: list[str]) -> None:
    boxes = parse_asked(said)
    atoms = Atoms(boxes)
    shown = set_words(atoms, atoms.mask(boxes))
    assert all(any(word == s or s.startswith(word) for s in shown) for word in words), shown
    assert set_text(atoms, atoms.mask(boxes)) in (said, ", ".join(shown))


@given(cut=st.lists(boxes, max_size=4), data=st.data())
def test_a_set_turned_round_is_its_answers(cut: list[Box], data: st.DataObject) -> None:
    """Ports swapped, an echo reply for an echo request; what has no answer is its own."""
    atoms = Atoms([*cut, *exchanged(cut)])
    some = data.draw(st.lists(st.sampled_from(cut), unique=True)) if cut else []
    mask = atoms.mask(some)
    turned = kept(atoms, atoms.exchanged(mask))

    def answer(packet: Packet) -> Packet:
        family, protocol, source, destination = packet
        if protocol in PORTED:
            return Packet(family, protocol, destination, source)
        if protocol == ICMP_OF[family] and source in ECHO[family]:
            other = ECHO[family][1 - ECHO[family].index(source)]
            return Packet(family, protocol, other, destination)
        return packet

    assert all(p.exchanged() == answer(p) for p in SAMPLE)
    for packet in SAMPLE:
        if packet.protocol in PORTED or answer(packet) != packet:
            assert (packet in turned) == holds(some, answer(packet)), packet
    # The sample is closed under exchange, so turning twice is the set itself.
    assert kept(atoms, atoms.exchanged(atoms.exchanged(mask))) == kept(atoms, mask)


@given(cut=st.lists(boxes, max_size=4), data=st.data())
def test_what_is_not_answered(cut: list[Box], data: st.DataObject) -> None:
    """Of a set the packets that have an answer which another set lacks; atoms cut along the boxes
    alone."""
    atoms = Atoms(cut)
    out, back = (
        data.draw(st.lists(st.sampled_from(cut), unique=True)) if cut else [] for _ in range(2)
    )
    lost = atoms.unanswered(atoms.mask(out), atoms.mask(back))
    for packet in SAMPLE:
        echo = packet.protocol == ICMP_OF[packet.family] and packet[2] == ECHO[packet.family][0]
        assert packet.answered() == (packet.protocol in PORTED or echo)
        expected = packet.answered() and holds(out, packet) and not holds(back, packet.exchanged())
        assert sum(within(r, packet) for r in lost) == expected, (packet, lost)


@given(cut=st.lists(boxes, max_size=4), data=st.data())
def test_whoever_sends_it(cut: list[Box], data: st.DataObject) -> None:
    """Of a set what it holds from every source port."""
    atoms = Atoms(cut)
    some = data.draw(st.lists(st.sampled_from(cut), unique=True)) if cut else []
    whole = kept(atoms, atoms.any_sender(atoms.mask(some)))
    senders = sorted({*PORTS, *(p + 1 for p in PORTS if p < 65_535)})
    for family, protocol, port in itertools.product((4, 6), PORTED, PORTS):
        every = all(holds(some, Packet(family, protocol, sender, port)) for sender in senders)
        mine = {p[2] for p in whole if (p[0], p[1], p[3]) == (family, protocol, port)}
        assert mine == (set(PORTS) if every else set())


@given(st.sets(st.integers(0, 30)))
def test_runs_of_numbers(numbers: set[int]) -> None:
    found = runs(sorted(numbers))
    assert {n for low, high in found for n in range(low, high + 1)} == numbers
    assert all(b[0] > a[1] + 1 for a, b in itertools.pairwise(found))
