"""What becomes of a row whatever some changes of the network do: made, not made, or either.

Rules kept here are those of ``judging`` and ``knowledge``, for sets of networks at once: which
tags a point may see, whether it may judge, and so what it lets pass at the least and at the
most. What is said to be sure is sure; of the rest nothing is said.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Literal

from oaktag.core.bindings import Binding
from oaktag.core.judging import Judge, Sight, seen_source
from oaktag.core.knowledge import Knowledge
from oaktag.core.matrix import Matrix
from oaktag.core.network import REGISTRY, Network, Point
from oaktag.core.paths import MOST_PATHS, Path, Paths
from oaktag.core.placement import Host
from oaktag.core.population import Class
from oaktag.core.reach import inside

if TYPE_CHECKING:
    from oaktag.core.mending import Change

Changes = set[int] | frozenset[int]
Wrong = Literal["leak", "break", "worse"]


class Prospects:
    """Rows of one network and its possible changes.

    Args:
        matrix: the decisions.
        network: as it is.
        paths: its least-cost paths.
        knowledge: what its nodes know.
        judges: its points' lists.
        choices: the possible changes.
    """

    def __init__(
        self,
        matrix: Matrix,
        network: Network,
        paths: Paths,
        knowledge: Knowledge,
        judges: dict[str, Judge],
        choices: Sequence[Change],
    ) -> None:
        self.matrix = matrix
        self.network = network
        self.paths = paths
        self.knowledge = knowledge
        self.judges = judges
        self.choices = choices
        self._held: dict[tuple[int, int], list[Binding]] = {}
        self.into: dict[str, list[tuple[str, int]]] = {}
        for number, change in enumerate(choices):
            if change.kind == "feed":
                self.into.setdefault(change.to, []).append((change.what, number))
        self.feeds = frozenset(n for n, c in enumerate(choices) if c.kind == "feed")
        self._rows: dict[tuple[object, ...], Prospect] = {}
        self.by: dict[tuple[str, str], int] = {
            (c.kind, c.to if c.kind == "link carries" else c.what): n
            for n, c in enumerate(choices)
            if c.kind != "feed"
        }
        self.link_numbers = {(k.name, k.location): str(n) for n, k in enumerate(network.links)}

    def of(self, a: Class, b: Class, path: Path) -> Prospect:
        """One row."""
        key = a.host, b.host, path.nodes, tuple(k.name for k in path.links)
        if key not in self._rows:
            self._rows[key] = Prospect(self, a.host, b.host, path)
        return self._rows[key]

    def ways(self, a: Host, b: Host) -> list[Path]:
        """All least-cost paths between two hosts; none where there are very many."""
        if inside(a, b):
            return [Path((a.node,))]
        if self.paths.count(a.node, b.node) > MOST_PATHS:
            return []
        return list(self.paths.between(a.node, b.node))

    def bindings(self, host: Host) -> list[Binding]:
        """All bindings that hold an address, wherever they were learned, the strongest first."""
        key = host.family, host.address
        if key not in self._held:
            order = self.knowledge.order
            every = self.knowledge.every
            found = [every[n] for n in every.prefixes.holding(*key)]
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
        self.opposite = forms[int(of[b.group, a.group])]
        self._came: dict[tuple[object, ...], bool] = {}
        self._seen: dict[tuple[object, ...], set[int]] = {}
        self._related: dict[str, frozenset[int]] = {}

    def related(self, kind: Wrong) -> frozenset[int]:
        """The changes that the row can depend on: on its way, and for answers on all ways back."""
        if kind not in self._related:
            ways = [self.path, *(self.all.ways(self.b, self.a) if kind == "worse" else ())]
            self._related[kind] = frozenset().union(*(self._on(way) for way in ways))
        return self._related[kind]

    def _on(self, path: Path) -> set[int]:
        by, nodes = self.all.by, path.nodes
        found = {by.get(("node marks", nodes[0])), *(by.get(("point", n)) for n in nodes)}
        found |= {by.get(("node carries", n)) for n in nodes[1:-1]}
        found |= {
            by.get(("link carries", self.all.link_numbers[k.name, k.location])) for k in path.links
        }
        for name in nodes:
            for point in self.all.network.nodes[name].points:
                found |= {by.get((kind, point.id)) for kind in ("scope", "direction", "inside")}
        # Feeds that can tell somebody on the path, by others that relay.
        telling, waiting = set(nodes), list(nodes)
        while waiting:
            name = waiting.pop()
            senders = [f.sender for f in self.all.network.feeds if f.receiver == name]
            for sender, number in self.all.into.get(name, ()):
                found.add(number)
                senders.append(sender)
            for sender in senders:
                if sender != REGISTRY and sender not in telling:
                    telling.add(sender)
                    waiting.append(sender)
        return {n for n in found if n is not None}

    def surely(self, kind: Wrong, on: Changes, maybe: Changes) -> bool:
        """Whether the row is wrong with some changes made, whatever others do; all the rest are
        not made. What is ``worse`` leaks, breaks, or loses the answers to what arrives."""
        if kind == "worse":
            return any(self.surely(k, on, maybe) for k in ("leak", "break")) or self._lost(
                on, maybe
            )
        out = self._points(self.path, (self.a, self.b), on, maybe)
        if kind == "leak":
            # What every point lets pass, whatever it sees. What some lets pass as an answer only is
            # no leak where it answers what the opposite cell allows.
            passes = opens = self.mine & ~self.should
            for masks, _, _ in out:
                for mask, opening in masks:
                    passes &= mask
                    opens &= opening
                if not passes:
                    return False
            only = passes & ~opens
            return bool(passes & ~(only and self.all.matrix.atoms.exchanged(self.opposite)) | opens)
        return any(sure and all(self.should & ~m for m, _ in masks) for masks, sure, _ in out)

    def _lost(self, on: Changes, maybe: Changes) -> bool:
        """Whether answers are surely dropped on some way back."""
        arrives = self.should
        for masks, _, _ in self._points(self.path, (self.a, self.b), on, maybe):
            for mask, _ in masks:
                arrives &= mask
            if not arrives:
                return False
        judges, network = self.all.judges, self.all.network
        crossed = {
            judges[p.id].state
            for n in self.path.nodes
            for p in network.nodes[n].points
            if p.id in judges
        } | set(self.path.nodes)
        crossed.discard(None)
        for back in self.all.ways(self.b, self.a):
            for masks, sure, state in self._points(back, (self.b, self.a), on, maybe):
                most = 0
                for mask, _ in masks:
                    most |= mask
                if (
                    sure
                    and state not in crossed
                    and self.all.matrix.atoms.unanswered(arrives, most)
                ):
                    return True
        return False

    def _points(
        self, path: Path, ends: tuple[Host, Host], on: Changes, maybe: Changes
    ) -> Iterator[tuple[set[tuple[int, int]], bool, str | None]]:
        """Of each point on a path that may enforce what it may let pass (and what of it by the
        cell itself), whether it surely is there and judges, and the flows that it knows."""
        for hop, name in enumerate(path.nodes):
            points = [
                p for p in self.all.network.nodes[name].points
                if p.id in self.all.judges and p.mode == "enforce"
            ]  # fmt: skip
            for point in points:
                yield self._point(point, path, hop, ends, on, maybe, there=True)
            number = self.all.by.get(("point", name))
            if number is not None and (number in on or number in maybe):
                made = Point(name, inside=True)
                yield self._point(made, path, hop, ends, on, maybe, there=number in on)

    def _point(
        self, point: Point, path: Path, hop: int, ends: tuple[Host, Host], on: Changes,
        maybe: Changes, *, there: bool,
    ) -> tuple[set[tuple[int, int]], bool, str | None]:  # fmt: skip
        judge = self.all.judges.get(point.id)
        every = range(len(self.all.matrix.groups))
        if judge is None or judge.point != point:
            judge = Judge(point, self.all.matrix, (every, every))
        masks: set[tuple[int, int]] = set() if there else {(self.mine, self.mine)}
        sure = there
        for one in self._widened(judge, on, maybe):
            if one.idle(*ends):
                sure = False
                masks.add((self.mine, self.mine))
                continue
            for source in self._sources(one, path, hop, ends[0], on, maybe):
                for target in self._tags(path.nodes[hop], ends[1], on, maybe):
                    sight = Sight(source, target)
                    masks.add((one.allowed(sight), one.opening(sight)))
        return masks, sure, judge.state

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

    def _sources(
        self, judge: Judge, path: Path, hop: int, host: Host, on: Changes, maybe: Changes
    ) -> set[int]:
        """The source tags that a point may see."""
        bound = self._tags(path.nodes[hop], host, on, maybe)
        frames = self._frames(path, hop, host, on, maybe)
        ways = judge.frames == "ignored", judge.frames == "frame"
        return {int(seen_source(f, b, *ways)) for f in frames for b in bound}

    def _frames(self, path: Path, hop: int, host: Host, on: Changes, maybe: Changes) -> set[int]:
        """The tags that may arrive in the frame."""
        if hop == 0:
            return {0}
        nodes, by, network = path.nodes, self.all.by, self.all.network
        parts = [(network.nodes[nodes[0]].marks, by.get(("node marks", nodes[0])))]
        parts += [
            (k.carries, by.get(("link carries", self.all.link_numbers[k.name, k.location])))
            for k in path.links[:hop]
        ]
        parts += [(network.nodes[n].carries, by.get(("node carries", n))) for n in nodes[1:hop]]
        if not all(held or n in on or n in maybe for held, n in parts):
            return {0}
        found = self._tags(nodes[0], host, on, maybe)
        return found if all(held or n in on for held, n in parts) else found | {0}

    def _tags(self, node: str, host: Host, on: Changes, maybe: Changes) -> set[int]:
        """The tags by which a node may know an address."""
        feeds = self.all.feeds
        key = node, host, frozenset(on & feeds), frozenset(maybe & feeds)
        if key not in self._seen:
            self._seen[key] = self._tags_of(node, host, on, maybe)
        return self._seen[key]

    def _tags_of(self, node: str, host: Host, on: Changes, maybe: Changes) -> set[int]:
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
