"""Changed lists of every dialect: each is refused, refuted with a packet, or proved equal.

    python -m campaigns.dialects --tries 60000 --seed 1      (in benchmarks/)

Random matrices and points of every kind are compiled, and their lists changed: single characters,
lines taken out, doubled, exchanged, verdicts turned, numbers moved by one, words of the packet filter
replaced by others that may stand there. A packet that refutes a list must be one on which its point
acts otherwise; a list that is said to be equal must act alike on packets at the edges of all that
either list tells apart. Each changed list of the kernel that can be read, equal or refuted, is loaded
into the real kernel, and packets are sent through, to and from the router itself, and answers in flows
that are known by then: what passes is what the list as it was read lets pass.
"""

from __future__ import annotations

import argparse
import contextlib
import random
import re
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from functools import partial
from pathlib import Path

from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import seed as seeded

ROOT = Path(__file__).resolve().parents[2]
sys.path.insert(0, str(ROOT / "tests"))

from kernel_oracle import Question, answer_to, as_read, ask, passing  # noqa: E402
from list_kinds import KINDS, changed, of_kind  # noqa: E402
from oaktag.core.accesslist import AccessList  # noqa: E402
from oaktag.core.acting import act  # noqa: E402
from oaktag.core.addresses import Range, Span, address_text  # noqa: E402
from oaktag.core.packets import Packet  # noqa: E402
from oaktag.dialects import nftables_reader  # noqa: E402
from oaktag.errors import UnreadableList, UnwritableEntry  # noqa: E402
from oaktag.operations.lists import dialect_of, list_of, refute, written  # noqa: E402
from oaktag.testing.slow import Stack  # noqa: E402
from oaktag.testing.strategies import stacks  # noqa: E402
from one_gate import OWN, points  # noqa: E402

#: Protocols that are put on the wire: others a host would not forward, or IPv6 takes for headers.
SENT = {4: {1, 6, 17, 47, 132}, 6: {6, 17, 47, 58, 132}}
#: So many changes are made of one list, and so many packets sent through one.
EACH, PACKETS = 60, 30
#: Longer lists the kernel takes of who is not root in parts only.
MOST_LOADED = 40_000


def edges(
    held: AccessList, other: AccessList, rng: random.Random
) -> Iterator[tuple[int, int, int, int]]:
    """Family, two addresses and a tag in the frame, at the edges of what two lists tell apart."""
    places: dict[int, set[int]] = {
        4: {0x0A090001, 0x0A090002},
        6: {0x20010DB8 << 96 | n for n in (1, 2)},
    }
    for one in (held, other):
        spans: list[Range | Span] = [*one.source_bindings, *one.destination_bindings, *one.own]
        for span in spans:
            places[span.family] |= {span.start, span.end, span.end + 1, max(span.start - 1, 1)}
    tags = [0, 0, 9, *held.blocks]
    while True:
        family = rng.choice((4, 6))
        a, b = rng.sample(sorted(places[family]), 2)
        yield family, a, b, rng.choice(tags)


def alike(held: AccessList, sound: AccessList, stack: Stack, rng: random.Random) -> bool:
    """Whether two lists act alike on packets at their edges."""
    packets = [Packet(*p) for p in stack.packets()]
    for _, (family, a, b, frame) in zip(range(PACKETS), edges(held, sound, rng), strict=False):
        packet = rng.choice([p for p in packets if p.family == family])
        if act(held, packet, a, b, frame).action != act(sound, packet, a, b, frame).action:
            return False
    return True


def questions(held: AccessList, stack: Stack, rng: random.Random) -> list[Question]:
    """Packets for the kernel, each of a flow of its own, and answers to some."""
    packets = [Packet(*p) for p in stack.packets() if p[1] in SENT[p[0]]]
    found: list[Question] = []
    flows: set[tuple[object, ...]] = set()
    for _, (family, a, b, frame) in zip(range(4 * PACKETS), edges(held, held, rng), strict=False):
        packet = rng.choice([p for p in packets if p.family == family])
        flow = frozenset((a, b)), packet.protocol
        routed = (
            (a >> 24 == 10 and b >> 24 == 10) if family == 4 else a >> 96 == b >> 96 == 0x20010DB8
        )
        source, destination = (address_text(family, x) for x in (a, b))
        heard = destination not in OWN or packet.protocol != 58
        if not routed or flow in flows or not heard or {source, destination} <= set(OWN):
            continue
        flows.add(flow)
        tag = 0 if source in OWN else frame
        found.append(Question(packet, source, destination, tag))
        answer = answer_to(found[-1], OWN)
        if answer is not None and rng.random() < 0.5:
            found.append(answer)
    return found


def main() -> int:
    """Change lists; say what came of it."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--tries", type=int, default=60_000)
    parser.add_argument("--seed", type=int, default=1)
    given_args = parser.parse_args()
    began, rng = time.monotonic(), random.Random(given_args.seed)
    told: dict[str, Counter[str]] = {kind: Counter() for kind in KINDS}
    readable: list[tuple[str, Stack]] = []
    wrong: list[str] = []
    folder = Path(tempfile.mkdtemp())
    # A third for the kernel's lists, of which some are put to it.
    share = {kind: given_args.tries * 2 // 3 // (len(KINDS) - 1) for kind in KINDS}
    share["nftables"] = given_args.tries // 3

    def attacked(number: int, kind: str) -> None:
        @seeded(given_args.seed + number)
        @settings(
            max_examples=1_000_000, database=None, phases=[Phase.generate], deadline=None,
            suppress_health_check=list(HealthCheck),
        )  # fmt: skip
        @given(stack=stacks(), point=points)
        def attack(stack: Stack, point: dict[str, object]) -> None:
            if told[kind].total() >= share[kind]:
                raise KeyboardInterrupt
            model, made = of_kind(stack, point, kind, folder)
            try:
                text = written(model, made, list_of(model, made)).text
            except UnwritableEntry:
                return
            if len(text) > 60_000:
                return
            read = dialect_of(model, made).read
            sound = read(text)
            for _ in range(EACH):
                other = changed(text, rng)
                if other == text:
                    continue
                try:
                    against = refute(model, made, other)
                except UnreadableList as error:
                    told[kind]["refused"] += 1
                    if not 1 <= error.line <= other.count("\n") + 2:
                        wrong.append(f"{kind}: line {error.line} of {other.count(chr(10)) + 1}")
                    continue
                held = read(other)
                if kind == "nftables" and len(other) < MOST_LOADED:
                    readable.append((other, stack))
                if against is None:
                    told[kind]["equal"] += 1
                    if not alike(held, sound, stack, rng):
                        wrong.append(f"{kind}: said to be equal, and acts otherwise\n{other}")
                    continue
                told[kind]["refuted"] += 1
                if not against.what:
                    met = against.source, against.destination, against.frame
                    acted = act(held, against.packet, *met).action
                    if (acted, act(sound, against.packet, *met).action) != (
                        against.listed[0], against.meant[0],
                    ):  # fmt: skip
                        wrong.append(f"{kind}: {against} is no packet that differs\n{other}")

        with contextlib.suppress(KeyboardInterrupt):
            attack()

    for number, kind in enumerate(KINDS):
        attacked(number, kind)
        print(f"{kind}: {dict(told[kind])}", flush=True)
    sent, met = 0, Counter[tuple[str, bool]]()
    read = nftables_reader.read
    some = [(text, questions(read(text), stack, rng), stack) for text, stack in readable]
    for start in range(0, len(some), 40):
        part = some[start : start + 40]
        answers = ask([(text, asked) for text, asked, _ in part], OWN)
        for (text, asked, _), said in zip(part, answers, strict=True):
            if isinstance(said, str):
                met["refused", False] += 1
                wrong.append(f"the kernel refuses what can be read: {said}\n{text}")
                continue
            held = read(text)
            sent += len(asked)
            alone = partial(as_read, held, own=OWN)
            every = passing(asked, alone, stateful=held.stateful)
            for question, passed, meant in zip(asked, said, every, strict=True):
                own = {question.source, question.destination} & set(OWN)
                met["own" if own else "through", passed] += 1
                if question.form == "answer":
                    met["as an answer", passed and not alone(question)] += 1
                if meant != passed:
                    wrong.append(f"the kernel says {passed}: {question}\n{text}")
    total: Counter[str] = sum((told[kind] for kind in KINDS), Counter())
    print(
        f"{total.total():,} changed lists of {len(KINDS)} kinds: {total['refused']:,} refused, "
        f"{total['refuted']:,} refuted, {total['equal']:,} equal; {len(some):,} of the kernel's put to "
        f"it with {sent:,} packets ({dict(met)}); {len(wrong)} did not hold; {time.monotonic() - began:.0f} s"
    )
    for one in wrong[:3]:
        print(re.sub(r"\n", "\n  ", one)[:3000])
    return int(bool(wrong))


if __name__ == "__main__":
    sys.exit(main())
