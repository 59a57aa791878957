"""What becomes of a row whatever some changes of the network do: made, not made, or either.

Rules kept here are those of ``judging`` and ``knowledge``, for sets of networks at once: which tags a
point may see, whether it may judge, and so what it lets pass at the least and at the most. What is
said to be sure is sure; of the rest nothing is said.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Literal

from oaktag.core.bindings import Binding
from oaktag.core.judging import Judge, Sight, seen_source
from oaktag.core.knowledge import Knowledge
from oaktag.core.matrix import Matrix
from oaktag.core.network import REGISTRY, Network, Point
from oaktag.core.paths import Path
from oaktag.core.placement import Host
from oaktag.core.population import Class

if TYPE_CHECKING:
    from oaktag.core.mending import Change

Changes = set[int] | frozenset[int]


class Prospects:
    """Rows of one network and its possible changes.

    Args:
        matrix: the decisions.
        network: as it is.
        knowledge: what its nodes know.
        judges: its points' lists.
        choices: the possible changes.
    """

    def __init__(
        self,
        matrix: Matrix,
        network: Network,
        knowledge: Knowledge,
        judges: dict[str, Judge],
        choices: Sequence[Change],
    ) -> None:
        self.matrix = matrix
        self.network = network
        self.knowledge = knowledge
        self.judges = judges
        self.choices = choices
        self._held: dict[tuple[int, int], list[Binding]] = {}
        self.into: dict[str, list[tuple[str, int]]] = {}
        for number, change in enumerate(choices):
            if change.kind == "feed":
                self.into.setdefault(change.to, []).append((change.what, number))
        self.by: dict[tuple[str, str], int] = {
            (c.kind, c.to if c.kind == "link carries" else c.what): n
            for n, c in enumerate(choices)
            if c.kind != "feed"
        }
        self.link_numbers = {(k.name, k.location): str(n) for n, k in enumerate(network.links)}

    def of(self, a: Class, b: Class, path: Path) -> Prospect:
        """One row."""
        return Prospect(self, a.host, b.host, path)

    def bindings(self, host: Host) -> list[Binding]:
        """All bindings that hold an address, wherever they were learned, the strongest first."""
        key = host.family, host.address
        if key not in self._held:
            order = self.knowledge.order
            found = [
                b for b in self.knowledge.every
                if b.prefix.family == host.family and b.prefix.start <= host.address <= b.prefix.end
            ]  # fmt: skip
            rank = {source: n for n, source in enumerate(order)}
            self._held[key] = sorted(
                found,
                key=lambda b: (
                    -b.prefix.length, rank[b.source],
                    -(float("-inf") if b.since is None else b.since), b.tag,
                ),
            )  # fmt: skip
        return self._held[key]


class Prospect:
    """One row: two hosts and a path."""

    def __init__(self, all_: Prospects, a: Host, b: Host, path: Path) -> None:
        self.all = all_
        self.a, self.b, self.path = a, b, path
        forms, of = all_.matrix.forms, all_.matrix.action_form
        mine = all_.matrix.atoms.of_family(a.family)
        self.mine = mine
        self.should = forms[int(of[a.group, b.group])] & mine
        self._came: dict[tuple[object, ...], bool] = {}

    @cached_property
    def related(self) -> frozenset[int]:
        """The changes that the row can depend on."""
        by, nodes = self.all.by, self.path.nodes
        found = {by.get(("node marks", nodes[0])), *(by.get(("point", n)) for n in nodes)}
        found |= {by.get(("node carries", n)) for n in nodes[1:-1]}
        found |= {by.get(("link carries", self.all.link_numbers[k.name, k.location])) for k in self.path.links}
        for name in nodes:
            for point in self.all.network.nodes[name].points:
                found |= {by.get((kind, point.id)) for kind in ("scope", "direction", "inside")}
        # Feeds of all kinds that can tell somebody on the path, by others that relay.
        telling, waiting = set(nodes), list(nodes)
        while waiting:
            for sender, number in self.all.into.get(waiting.pop(), ()):
                found.add(number)
                if sender != REGISTRY and sender not in telling:
                    telling.add(sender)
                    waiting.append(sender)
        for feed in self.all.network.feeds:
            if feed.receiver in telling and feed.sender not in telling:
                telling.add(feed.sender)
                waiting = [feed.sender]
                while waiting:
                    for sender, number in self.all.into.get(waiting.pop(), ()):
                        found.add(number)
                        if sender != REGISTRY and sender not in telling:
                            telling.add(sender)
                            waiting.append(sender)
        return frozenset(n for n in found if n is not None)

    def surely(self, kind: Literal["leak", "break", "worse"], on: Changes, maybe: Changes) -> bool:
        """Whether the row leaks (or breaks) with some changes made, whatever others do; all the
        rest are not made."""
        if kind == "leak":
            passes = self.mine & ~self.should
            for masks, _ in self._points(on, maybe):
                for mask in masks:
                    passes &= mask
                if not passes:
                    return False
            return not any(not j.stateful for j in self.all.judges.values())
        return any(
            sure and all(self.should & ~mask for mask in masks)
            for masks, sure in self._points(on, maybe)
        )

    def _points(self, on: Changes, maybe: Changes) -> Iterator[tuple[set[int], bool]]:
        """Of each point on the path that may enforce what it may let pass, and whether it surely
        is there and judges."""
        for hop, name in enumerate(self.path.nodes):
            points = [
                p for p in self.all.network.nodes[name].points
                if p.id in self.all.judges and p.mode == "enforce"
            ]  # fmt: skip
            for point in points:
                yield self._point(point, hop, name, on, maybe, there=True)
            number = self.all.by.get(("point", name))
            if number is not None and (number in on or number in maybe):
                made = Point(name, inside=True)
                yield self._point(made, hop, name, on, maybe, there=number in on)

    def _point(
        self, point: Point, hop: int, name: str, on: Changes, maybe: Changes, *, there: bool
    ) -> tuple[set[int], bool]:
        judge = self.all.judges.get(point.id)
        every = range(len(self.all.matrix.groups))
        if judge is None or judge.point != point:
            judge = Judge(point, self.all.matrix, (every, every))
        kinds = self._widened(judge, on, maybe)
        masks: set[int] = set()
        sure = there
        for one in kinds:
            if one.idle(self.a, self.b):
                sure = False
                masks.add(self.mine)
                continue
            for source in self._sources(one, hop, name, on, maybe):
                for target in self._tags(name, self.b, on, maybe):
                    masks.add(one.allowed(Sight(source, target)))
        if not there:
            masks.add(self.mine)
        return masks, sure

    def _widened(self, judge: Judge, on: Changes, maybe: Changes) -> list[Judge]:
        """The lists that a point may have."""
        found = [judge]
        every = range(len(self.all.matrix.groups))
        for kind in ("scope", "direction", "inside"):
            number = self.all.by.get((kind, judge.point.id))
            if number is None or not (number in on or number in maybe):
                continue
            wider = []
            for one in found:
                held = (every, every) if kind == "scope" else (one.sources, one.destinations)
                wider.append(Judge(one.point.widened(kind), self.all.matrix, held))
            found = wider if number in on else [*found, *wider]
        return found

    def _sources(self, judge: Judge, hop: int, name: str, on: Changes, maybe: Changes) -> set[int]:
        """The source tags that a point may see."""
        bound = self._tags(name, self.a, on, maybe)
        frames = self._frames(hop, on, maybe)
        ways = judge.frames == "ignored", judge.frames == "frame"
        return {int(seen_source(f, b, *ways)) for f in frames for b in bound}

    def _frames(self, hop: int, on: Changes, maybe: Changes) -> set[int]:
        """The tags that may arrive in the frame."""
        if hop == 0:
            return {0}
        nodes, by, network = self.path.nodes, self.all.by, self.all.network
        parts = [(network.nodes[nodes[0]].marks, by.get(("node marks", nodes[0])))]
        parts += [
            (k.carries, by.get(("link carries", self.all.link_numbers[k.name, k.location])))
            for k in self.path.links[:hop]
        ]
        parts += [(network.nodes[n].carries, by.get(("node carries", n))) for n in nodes[1:hop]]
        if not all(held or n in on or n in maybe for held, n in parts):
            return {0}
        found = self._tags(nodes[0], self.a, on, maybe)
        return found if all(held or n in on for held, n in parts) else found | {0}

    def _tags(self, node: str, host: Host, on: Changes, maybe: Changes) -> set[int]:
        """The tags by which a node may know an address."""
        found: set[int] = set()
        for binding in self.all.bindings(host):
            if self._comes(binding, node, on):
                return found | {binding.tag}
            if self._comes(binding, node, {*on, *maybe}):
                found.add(binding.tag)
        return found | {0}

    def _comes(self, binding: Binding, node: str, made: Changes) -> bool:
        """Whether a binding comes to a node with some changes made."""
        feeds = frozenset(n for n in made if self.all.choices[n].kind == "feed")
        key = binding.prefix, binding.source, binding.tag, binding.node, node, feeds
        if key not in self._came:
            self._came[key] = self._reaches(binding, node, feeds)
        return self._came[key]

    def _reaches(self, binding: Binding, node: str, made: frozenset[int]) -> bool:
        network = self.all.network
        origin = binding.node or REGISTRY
        came, waiting = {origin}, [origin]
        while waiting and node not in came:
            sender = waiting.pop()
            if sender not in (origin, REGISTRY) and not network.nodes[sender].relays:
                continue
            for feed in self.all.knowledge.feeds_from(sender):
                if feed.up and feed.receiver not in came and feed.passes(binding):
                    came.add(feed.receiver)
                    waiting.append(feed.receiver)
            for number in made:
                change = self.all.choices[number]
                if change.what == sender and change.to not in came:
                    came.add(change.to)
                    waiting.append(change.to)
        return node in came
