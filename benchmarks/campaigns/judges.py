"""The kernel as judge: lists of random networks, and packets at the edges of all that they tell apart.

    python -m campaigns.judges --packets 100000 --seed 1      (in benchmarks/)

Each network has points of every kind: several on a node, going by frames or by bindings, from some
segments toward some, inside them or not, with what is outside allowed or denied, stateful or not,
enforcing or observing. Each list is loaded into the real kernel, alone and together with the others
of its node, and packets of both families are sent through: with ports at the edges of regions, cut
off before their ports can be read, in fragments, first or later ones alone, with options or
extension headers, with the tag of a group, of none, or a forged one in their frames. For each the
kernel, the list as its reader has it, the judgement by which ``trace`` and ``reach`` go, and the
decision of the matrix by a slow, obvious reference must agree.
"""

from __future__ import annotations

import argparse
import random
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterable
from pathlib import Path

from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import seed as seeded

ROOT = Path(__file__).resolve().parents[2]
sys.path.insert(0, str(ROOT / "tests"))

from kernel_oracle import FORMS, Question, ask  # noqa: E402
from networks import random_net, write_net  # noqa: E402
from oaktag.core.accesslist import AccessList, ListEntry, PassKnown, Reassemble  # noqa: E402
from oaktag.core.acting import act  # noqa: E402
from oaktag.core.addresses import address_text, parse_address  # noqa: E402
from oaktag.core.judging import Sight, seen_source  # noqa: E402
from oaktag.core.network import Point  # noqa: E402
from oaktag.core.packets import ICMP_OF, PORTED, Packet  # noqa: E402
from oaktag.core.placement import Host  # noqa: E402
from oaktag.dialects import nftables, nftables_reader  # noqa: E402
from oaktag.errors import OakTagError  # noqa: E402
from oaktag.operations.lists import list_text, points_of  # noqa: E402
from oaktag.operations.model import Model  # noqa: E402
from oaktag.testing.slow import Stack  # noqa: E402
from oaktag.testing.slow_reach import Net, exchanged  # noqa: E402
from oaktag.testing.strategies import stacks  # noqa: E402

#: A packet that is cut off before its ports, or its ICMP code.
CUT = (-1, -1)
#: A fragment that no other completes.
ALONE = ("first", "later")
#: So many packets are sent through one list, and so many lists loaded by one process.
EACH, TOGETHER = 150, 12


def policies(count: int, seed: int) -> list[Stack]:
    """Random matrices with every feature."""
    made: list[Stack] = []

    @seeded(seed)
    @settings(
        max_examples=count, database=None, phases=[Phase.generate], deadline=None,
        suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    @given(stacks())
    def make(stack: Stack) -> None:
        made.append(stack)

    make()
    return made


def addresses(model: Model, held: AccessList, rng: random.Random) -> dict[int, list[int]]:
    """Addresses at the edges of what a list tells apart, and of segments."""
    found: dict[int, set[int]] = {4: set(), 6: set()}
    spans = [*held.source_bindings, *held.destination_bindings]
    for span in spans:
        found[span.family] |= {span.start, span.end}
        if rng.random() < 0.2:
            found[span.family] |= {span.start - 1, span.end + 1}
    for segment in rng.sample(list(model.network.segments.values()), 3):
        for prefix in segment.prefixes:
            found[prefix.family] |= {prefix.start + 1, prefix.end, prefix.end + 1}
    kept: dict[int, list[int]] = {}
    for family, every in found.items():
        top = (1 << (32 if family == 4 else 128)) - 1
        some = [a for a in sorted(every) if 0 < a < top and _routed(family, a)]
        kept[family] = rng.sample(some, min(40, len(some)))
    return kept


def _routed(family: int, address: int) -> bool:
    """Whether a packet of the address would be forwarded at all."""
    if family == 4:
        return 10 << 24 <= address < 11 << 24
    return address >> 96 == 0x20010DB8


def slow(model: Model, stack: Stack, held: AccessList, question: Question) -> bool | None:
    """Whether a packet passes, by the slow reference; None where it does not say."""
    packet, source, destination, frame, form = question
    if form in ALONE:
        return False
    point = model.network.points[held.point]
    ends = parse_address(source)[1], parse_address(destination)[1]
    acted = act(held, packet._replace(source_port=0, destination_port=0), *ends, frame)
    if not acted.judged:
        return True
    names = {tag: name for name, (tag, _) in stack.groups.items()} | {0: "untagged"}
    if acted.source not in held.blocks.get(acted.destination, {}):
        return point.mode == "observe" or point.outside == "allow"
    if point.mode == "observe":
        return True
    cell = names[acted.source], names[acted.destination]
    if packet.source_port < 0:
        return None
    if stack.decide(*cell, packet, "action")[0] == "allow":
        return True
    back = stack.decide(*cell[::-1], exchanged(packet), "action")[0]
    return not point.stateful and back == "allow"


def judged(model: Model, point: Point, question: Question) -> bool | None:
    """Whether a packet passes a point, as trace and reach have it; None where they do not say."""
    packet, source, destination, frame, form = question
    if packet.source_port < 0 or form in ALONE:
        return None
    judge, known = model.state.judges[point.id], model.knowledge.at(point.node)
    numbers = parse_address(source)[1], parse_address(destination)[1]
    ends = [
        Host(-1, packet.family, n, model.network.segment_at(packet.family, n), "", 0)
        for n in numbers
    ]
    if judge.idle(*ends) or not judge.enforces:
        return True
    bound = [known.tag(packet.family, n) for n in numbers]
    by = judge.frames == "ignored", judge.frames == "frame"
    sight = Sight(int(seen_source(frame, bound[0], *by)), bound[1])
    return bool(judge.allowed(sight) >> model.atoms.atom(packet) & 1)


def read_entry(chain: tuple[ListEntry, ...], packet: Packet) -> ListEntry:
    """The first entry that matches a packet whose ports cannot be read: one for all of them."""
    top = 255 if packet.protocol == ICMP_OF[packet.family] else 65535
    every = ((0, top),)
    for entry in chain:
        region = entry.region
        if region is None:
            return entry
        whole = region.sources == every == region.destinations and not entry.readable
        named = any(low <= packet.protocol <= high for low, high in region.protocols)
        if packet.family in region.families and named and whole:
            return entry
    raise AssertionError("a chain ends in an entry for everything")


def reader(held: AccessList, question: Question) -> bool:
    """Whether a packet passes, by the list as it is read back."""
    packet, source, destination, frame, form = question
    if form in ALONE:
        return not any(isinstance(step, (PassKnown, Reassemble)) for step in held.head)
    ends = parse_address(source)[1], parse_address(destination)[1]
    if packet.source_port >= 0:
        return act(held, packet, *ends, frame).action == "allow"
    acted = act(held, packet._replace(source_port=0, destination_port=0), *ends, frame)
    if not acted.judged or acted.entry is None:
        return acted.action == "allow"
    chain = held.chains[held.blocks[acted.destination][acted.source]]
    return read_entry(chain, packet).action == "allow"


def questions(model: Model, stack: Stack, held: AccessList, rng: random.Random) -> list[Question]:
    """Packets for one list, or for all of its node."""
    places = addresses(model, held, rng)
    corners = [Packet(*p) for p in stack.packets()]
    tags = [0, 0, *(tag for tag, _ in stack.groups.values()), 9999, 65535]
    found: list[Question] = []
    flows: set[tuple[int, ...]] = set()
    for _ in range(20 * EACH):
        if len(found) == EACH:
            break
        family = rng.choice((4, 6))
        if len(places[family]) < 2:
            family = 10 - family
        ends = rng.sample(places[family], 2)
        packet = rng.choice(corners)
        if packet.family != family:
            continue
        if rng.random() < 0.1 and packet.protocol in (*PORTED, ICMP_OF[family]):
            packet = packet._replace(source_port=CUT[0], destination_port=CUT[1])
        texts = [address_text(family, a) for a in ends]
        # A second packet of a flow, or an answer, would pass as one that is known.
        ports = sorted((packet.source_port, packet.destination_port))
        if packet.protocol == ICMP_OF[family]:
            ports = []
        flow = (*sorted(ends), family, packet.protocol, *ports)
        if flow in flows:
            continue
        flows.add(flow)
        # What is no packet but a header of one, the kernel throws away when it is put together.
        header = family == 6 and packet.protocol in nftables.HEADERS
        whole = header or packet.source_port < 0 or rng.random() < 0.6
        form = "whole" if whole else rng.choice(FORMS)
        found.append(Question(packet, texts[0], texts[1], rng.choice(tags), form))
    return found


def main() -> int:
    """Run the campaign; exit status 1 where something did not hold."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").split("\n")[0])
    parser.add_argument("--packets", type=int, default=2000)
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    rng, begun = random.Random(asked.seed), time.monotonic()
    told, bad, sent, number = Counter[str](), 0, 0, 0
    while sent < asked.packets:
        batch: list[tuple[Model, Stack, list[AccessList], list[Question]]] = []
        lists: list[tuple[str, list[Question]]] = []
        with tempfile.TemporaryDirectory() as place:
            while len(lists) < TOGETHER:
                number += 1
                seed = asked.seed * 1_000_003 + number
                net = random_net(seed)
                (net.stack,) = policies(1, seed)[:1]
                fitted(net, rng)
                folder = Path(place) / str(number)
                folder.mkdir()
                model = write_net(net, folder).model
                texts: dict[str, dict[str, str]] = {}
                for point in points_of(model):
                    try:
                        text = list_text(model, point)
                    except OakTagError:
                        told["refused by the compiler"] += 1
                        continue
                    texts.setdefault(point.node, {})[point.id] = text
                for of in texts.values():
                    alone = [[text] for text in of.values()]
                    for some in [*alone, *([list(of.values())] if len(of) > 1 else [])]:
                        held = [nftables_reader.read(text) for text in some]
                        sending = questions(model, net.stack, rng.choice(held), rng)
                        batch.append((model, net.stack, held, sending))
                        lists.append(("".join(some), sending))
            for (model, stack, held, sending), said in zip(batch, ask(lists), strict=True):
                sent += len(sending)
                told["through several points"] += len(sending) * (len(held) > 1)
                for question, passed in zip(sending, said, strict=True):
                    meant = each(slow(model, stack, one, question) for one in held)
                    read = all(reader(one, question) for one in held)
                    points = [model.network.points[one.point] for one in held]
                    said_so = each(judged(model, point, question) for point in points)
                    told["passes" if passed else "is dropped"] += 1
                    told["cut off"] += question.packet.source_port < 0
                    told[question.form] += 1
                    if passed != read or {meant, said_so} - {None, passed}:
                        bad += 1
                        print(f"network {number}, {points}: {question}: the kernel {passed}, "
                              f"the reader {read}, trace {said_so}, the matrix {meant}", flush=True)  # fmt: skip
    took = time.monotonic() - begun
    print(", ".join(f"{what}: {n:,}" for what, n in sorted(told.items())))
    print(f"{sent:,} packets through {number} networks in {took:.0f} s; {bad} did not hold")
    return int(bool(bad))


def each(said: Iterable[bool | None]) -> bool | None:
    """Whether a packet passes all of several points; None where that is not said."""
    every = list(said)
    return False if False in every else None if None in every else True


def fitted(net: Net, rng: random.Random) -> None:
    """Let what names groups name those of this matrix."""
    names = list(net.stack.groups)
    for being in net.beings:
        being.group = rng.choice([*names, None])
    for node in net.nodes:
        for point in node["points"]:
            if isinstance(point.get("scope"), dict):
                point["scope"] = {k: rng.sample(names, 2) for k in point["scope"]}
            if rng.random() < 0.7:  # most packets are to be judged by a cell
                for key in ("scope", "from", "toward"):
                    point.pop(key, None)
                point["inside"] = True
            point["outside"] = rng.choice(("allow", "deny"))
            point["mode"] = rng.choice(("enforce", "enforce", "enforce", "observe"))
        if len(node["points"]) > 1 and rng.random() < 0.5:
            for point in node["points"]:
                point["if_differ"] = "frame"
                point.pop("match", None)
    net.feeds += [
        {"from": "registry", "to": n["node"], "name": f"all-{n['node']}"}
        for n in net.nodes
        if n["points"] and rng.random() < 0.8
    ]
    for feed in net.feeds:
        if "groups" in feed.get("only", {}):
            feed["only"] = {"groups": rng.sample(names, 2)}
    for segment in net.segments:
        if "tag" in segment:
            segment["tag"] = rng.choice(names)
    for pin in net.pins:
        pin["group"] = rng.choice(names)


if __name__ == "__main__":
    sys.exit(main())
