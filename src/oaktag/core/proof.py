"""An access list, as read back from its text, is equal to the matrix; or here is a packet.

This file shares with the compiler only the plain tables and the tree: it ranks lines, resolves
cells and evaluates entries itself, and cuts packets and addresses along the ends of both sides,
so that one packet of each class speaks for all of it. Nothing is sampled.

What is proved (semantics, section 5): for every packet that the point judges, and every packet
that it does not, the list's ``action`` and ``would`` are those of the matrix for the tags that
the point should see.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from oaktag.core.accesslist import AccessList, ListEntry
from oaktag.core.addresses import Range, Span
from oaktag.core.groups import ITSELF, STAR, UNTAGGED, Groups
from oaktag.core.lines import Action, EntryAction, Line, Policy
from oaktag.core.network import Point
from oaktag.core.packets import Atoms, Packet, boxes_of, exchanged


@dataclass(frozen=True, slots=True)
class Meant:
    """What the list of a point must come to: plain tables, no decision among them."""

    point: Point
    groups: Groups
    policy: Policy
    today: int
    bindings: Sequence[Range]
    origins: tuple[Span, ...] | None
    targets: tuple[Span, ...] | None
    inside: tuple[tuple[Span, Span], ...]
    sources: frozenset[int]
    destinations: frozenset[int]


@dataclass(frozen=True, slots=True)
class Refuted:
    """A packet on which the list and the matrix differ, with both decisions (action, would).

    ``frame`` is the tag that arrives in its frame, 0 for none; addresses are numbers of the
    packet's family.
    """

    packet: Packet
    source: int
    destination: int
    frame: int
    listed: tuple[Action, Action]
    meant: tuple[Action, Action]


class _Side(NamedTuple):
    """A class of addresses: what list and matrix make of them."""

    listed: int
    meant: int
    family: int
    address: int
    frame: int
    judged: tuple[bool, bool]
    inside: tuple[frozenset[int], frozenset[int]]


Both = tuple[int, int]  # the packets allowed by action, and by would


def prove(held: AccessList, meant: Meant) -> Refuted | None:
    """None if the list decides every packet as the matrix does, else one that it does not."""
    proof = _Proof(held, meant)
    targets = _classes(proof.targets())
    checked: set[tuple[object, ...]] = set()
    for source in _classes(proof.sources()):
        for target in targets:
            if source.family != target.family:
                continue
            key = (
                source.family, source.listed, source.meant, target.listed, target.meant,
                proof.judged(source, target),
            )  # fmt: skip
            if key in checked:
                continue
            checked.add(key)
            found = proof.compare(source, target)
            if found is not None:
                return found
    return None


def _classes(sides: Iterator[_Side]) -> list[_Side]:
    """One side of each class: those that differ in nothing but address and frame."""
    first: dict[tuple[object, ...], _Side] = {}
    for side in sides:
        first.setdefault((side.family, side.listed, side.meant, side.judged, side.inside), side)
    return list(first.values())


class _Proof:
    def __init__(self, held: AccessList, meant: Meant) -> None:
        self.held = held
        self.meant = meant
        entries = [e for p in meant.policy.permissions for e in p.steps]
        boxes = [b for e in entries for b in e.boxes]
        regions = [e.region for c in held.chains.values() for e in c if e.region is not None]
        cut = [*boxes, *(b for r in regions for b in boxes_of(r))]
        if not meant.point.stateful:
            cut += exchanged(cut)
        self.atoms = Atoms(cut)
        self._chains = {name: self._evaluate(chain) for name, chain in held.chains.items()}
        self._cells: dict[tuple[int, int], Both] = {}
        self._lines = sorted(
            self._applied(), key=lambda pair: _rank(pair[0], pair[1], meant.groups, meant.policy)
        )

    # -- addresses ---------------------------------------------------------------------------

    def sources(self) -> Iterator[_Side]:
        """Classes of sources: of address, and of the tag in the frame."""
        frames = [0]
        if (self.held.frames, self._frames_meant) != ("ignored", "ignored"):
            frames += [t for t in self.meant.groups.by_tag if t]
        seen = _Seen(self.held.source_bindings, self.meant.bindings)
        origins = _Within(self.held.origins), _Within(self.meant.origins)
        inside = (
            _Held([pair[0] for pair in self.held.inside]),
            _Held([pair[0] for pair in self.meant.inside]),
        )
        for family, address in _stretches(
            [seen.cuts, origins[0].cuts, origins[1].cuts, inside[0].cuts, inside[1].cuts]
        ):
            bound = seen.tags(family, address)
            for frame in frames:
                yield _Side(
                    _count(self.held.frames, frame, bound[0]),
                    _count(self._frames_meant, frame, bound[1]),
                    family,
                    address,
                    frame,
                    (origins[0].has(family, address), origins[1].has(family, address)),
                    (inside[0].of(family, address), inside[1].of(family, address)),
                )

    def targets(self) -> Iterator[_Side]:
        """Classes of destinations."""
        seen = _Seen(self.held.destination_bindings, self.meant.bindings)
        targets = _Within(self.held.targets), _Within(self.meant.targets)
        inside = (
            _Held([pair[1] for pair in self.held.inside]),
            _Held([pair[1] for pair in self.meant.inside]),
        )
        for family, address in _stretches(
            [seen.cuts, targets[0].cuts, targets[1].cuts, inside[0].cuts, inside[1].cuts]
        ):
            yield _Side(
                *seen.tags(family, address),
                family,
                address,
                0,
                (targets[0].has(family, address), targets[1].has(family, address)),
                (inside[0].of(family, address), inside[1].of(family, address)),
            )

    @property
    def _frames_meant(self) -> str:
        point = self.meant.point
        return "ignored" if point.source_by == "address" else point.if_differ

    @staticmethod
    def judged(source: _Side, target: _Side) -> tuple[bool, bool]:
        """Whether the list, and whether the point as meant, judges packets between the two."""
        return (
            source.judged[0] and target.judged[0] and not source.inside[0] & target.inside[0],
            source.judged[1] and target.judged[1] and not source.inside[1] & target.inside[1],
        )

    # -- decisions ---------------------------------------------------------------------------

    def compare(self, source: _Side, target: _Side) -> Refuted | None:
        """The first packet between two classes that the two sides do not decide alike."""
        by_list, by_matrix = self.judged(source, target)
        everything = (self.atoms.full, self.atoms.full)
        listed = self._listed(source.listed, target.listed) if by_list else everything
        meant = self._meant(source.meant, target.meant) if by_matrix else everything
        wrong = ((listed[0] ^ meant[0]) | (listed[1] ^ meant[1])) & self.atoms.of_family(
            source.family
        )
        if not wrong:
            return None
        packet = self.atoms.packet(wrong, source.family)
        atom = self.atoms.atom(packet)
        return Refuted(
            packet,
            source.address,
            target.address,
            source.frame,
            (_word(listed[0] >> atom), _word(listed[1] >> atom)),
            (_word(meant[0] >> atom), _word(meant[1] >> atom)),
        )

    def _listed(self, source: int, target: int) -> Both:
        chain = self.held.blocks.get(target, {}).get(source)
        if chain is not None:
            return self._chains[chain]
        action, would = self.held.outside
        return self.atoms.full * (action == "allow"), self.atoms.full * (would == "allow")

    def _evaluate(self, chain: Sequence[ListEntry]) -> Both:
        action = would = 0
        for entry in reversed(chain):
            mask = (
                self.atoms.full if entry.region is None else self.atoms.mask(boxes_of(entry.region))
            )
            action = action | mask if entry.action == "allow" else action & ~mask
            would = would | mask if entry.would == "allow" else would & ~mask
        return action, would

    def _meant(self, source: int, target: int) -> Both:
        groups = self.meant.groups
        s, d = groups.by_tag.get(source, -1), groups.by_tag.get(target, -1)
        observed = self.meant.point.mode == "observe"
        if s not in self.meant.sources or d not in self.meant.destinations:
            full = self.atoms.full * (self.meant.point.outside == "allow")
            return (self.atoms.full, full) if observed else (full, full)
        action, would = self._resolved(s, d)
        if not self.meant.point.stateful:  # and the answers to what the opposite cell allows
            back = self._resolved(d, s)
            action |= self.atoms.exchanged(back[0])
            would |= self.atoms.exchanged(back[1])
        return (self.atoms.full, action) if observed else (action, would)

    def _resolved(self, source: int, target: int) -> Both:
        if (source, target) not in self._cells:
            self._cells[source, target] = self._cell(source, target)
        return self._cells[source, target]

    def _cell(self, source: int, target: int) -> Both:
        policy = self.meant.policy
        lines = [
            line for line, mirrored in self._lines if self._applies(line, mirrored, source, target)
        ]
        watched = policy.observed_default or policy.default
        return (
            self._decide([x for x in lines if x.mode == "enforce"], policy.default),
            self._decide(lines, watched),
        )

    def _decide(self, lines: Sequence[Line], default: Action) -> int:
        """Layer by layer; what a layer passes on is undecided in the next one again."""
        allowed, undecided = 0, self.atoms.full
        for layer in range(len(self.meant.policy.layers)):
            here, passed = undecided, 0
            for line in lines:
                if line.layer != layer:
                    continue
                permission = self.meant.policy.permissions[line.permission]
                steps: list[tuple[EntryAction, int]] = [
                    (e.action, self.atoms.mask(e.boxes)) for e in permission.entries
                ]
                if permission.otherwise is not None:
                    steps.append((permission.otherwise, self.atoms.full))
                for action, mask in steps:
                    if action == "allow":
                        allowed |= here & mask
                    elif action == "pass":
                        passed |= here & mask
                    here &= ~mask
            undecided = here | passed
        return allowed | undecided if default == "allow" else allowed

    def _applied(self) -> Iterator[tuple[Line, bool]]:
        for line in self.meant.policy.lines:
            if line.mode == "off" or (line.expires is not None and line.expires < self.meant.today):
                continue
            yield line, False
            if line.way == "both" and line.destination not in (ITSELF, line.source):
                yield line, True

    def _applies(self, line: Line, mirrored: bool, source: int, target: int) -> bool:
        if mirrored:
            source, target = target, source
        if source not in self.meant.groups.members(line.source):
            return False
        if line.destination == ITSELF:
            return source == target
        return target in self.meant.groups.members(line.destination)


def _rank(line: Line, mirrored: bool, groups: Groups, policy: Policy) -> tuple[int, ...]:
    source, target = line.source, line.destination
    if target == ITSELF:
        target = source
    if mirrored:
        source, target = target, source

    def width(word: str) -> int:
        if word == STAR:
            return 2
        return int(word != UNTAGGED and word not in groups.index)

    ranks = (width(target), width(source))
    if policy.order == "as-listed":
        ranks = (0, 0)
    elif policy.order == "broad-first":
        ranks = (-ranks[0], -ranks[1])
    return (line.layer, *ranks)  # sorting is stable: file order stays


def _word(bits: int) -> Action:
    return "allow" if bits & 1 else "deny"


def _count(frames: str, frame: int, bound: int) -> int:
    if frames == "ignored":
        return bound
    return (frame or bound) if frames == "frame" else (bound or frame)


def _cuts_of(spans: Sequence[Span] | Sequence[Range]) -> set[tuple[int, int]]:
    return {(s.family, s.start) for s in spans} | {(s.family, s.end + 1) for s in spans}


#: Link-local and multicast addresses are not judged (semantics, section 5).
_NOT_JUDGED = (
    Span(4, 0xA9FE0000, 0xA9FEFFFF),
    Span(4, 0xE0000000, 0xEFFFFFFF),
    Span(6, 0xFE80 << 112, (0xFEC0 << 112) - 1),
    Span(6, 0xFF00 << 112, (1 << 128) - 1),
)
#: Addresses that no host has on a wire; as witnesses they come last.
_ODD = (
    Span(4, 0, 0x00FFFFFF),
    Span(4, 0x7F000000, 0x7FFFFFFF),
    Span(4, 0xF0000000, 0xFFFFFFFF),
    Span(6, 0, (0x2000 << 112) - 1),
    Span(6, 0x4000 << 112, (0xFC00 << 112) - 1),
)


def _stretches(cuts: Sequence[set[tuple[int, int]]]) -> Iterator[tuple[int, int]]:
    """The first address of every stretch between neighbouring cuts, in both families."""
    top = {4: 1 << 32, 6: 1 << 128}
    not_judged, odd = _Finder(_NOT_JUDGED), _Finder(_ODD)
    starts = {(4, 0), (6, 0)}.union(*cuts, not_judged.cuts, odd.cuts)
    judged = [
        (family, address)
        for family, address in sorted(starts)
        if address < top[family] and not_judged.find(family, address) is None
    ]
    yield from sorted(judged, key=lambda place: odd.find(*place) is not None)


class _Finder:
    """Which of some disjoint spans holds an address."""

    def __init__(self, spans: Sequence[Span] | Sequence[Range]) -> None:
        self.cuts = _cuts_of(spans)
        self.spans: list[Span | Range] = sorted(spans)
        self._starts = [(s.family, s.start) for s in self.spans]

    def find(self, family: int, address: int) -> Span | Range | None:
        at = bisect_right(self._starts, (family, address)) - 1
        if at < 0 or self.spans[at].family != family or address > self.spans[at].end:
            return None
        return self.spans[at]


class _Seen:
    """The tags of an address by the list's table and by the table meant."""

    def __init__(self, listed: Sequence[Range], meant: Sequence[Range]) -> None:
        self._finders = _Finder(listed), _Finder(meant)
        self.cuts = self._finders[0].cuts | self._finders[1].cuts

    def tags(self, family: int, address: int) -> tuple[int, int]:
        found = [finder.find(family, address) for finder in self._finders]
        listed, meant = (f.tag if isinstance(f, Range) else 0 for f in found)
        return listed, meant


class _Within:
    """Whether an address is in some spans; None stands for everywhere."""

    def __init__(self, spans: Sequence[Span] | None) -> None:
        self._finder = None if spans is None else _Finder(spans)
        self.cuts = set() if self._finder is None else self._finder.cuts

    def has(self, family: int, address: int) -> bool:
        return self._finder is None or self._finder.find(family, address) is not None


class _Held:
    """Which of some numbered spans, perhaps many times the same, hold an address."""

    def __init__(self, spans: Sequence[Span]) -> None:
        self.numbers: dict[Span, set[int]] = {}
        for number, span in enumerate(spans):
            self.numbers.setdefault(span, set()).add(number)
        self.cuts = _cuts_of(list(self.numbers))
        self._finder = _Finder(list(self.numbers))

    def of(self, family: int, address: int) -> frozenset[int]:
        span = self._finder.find(family, address)
        return frozenset() if span is None else frozenset(self.numbers[span])  # type: ignore[index]
