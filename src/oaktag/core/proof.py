"""An access list, as read back from its text, is equal to the matrix; or here is a packet.

This file shares with the compiler only the plain tables and the tree: it runs the head step by step
as the point would, ranks lines, resolves cells and evaluates entries itself, and cuts packets and
addresses along the ends of both sides, so that one packet of each class speaks for all of it.
Nothing is sampled, and no constant is the writer's.

What is proved (semantics, sections 5 and 8): for every packet, judged or not, the list's ``action``
and ``would`` are those of the matrix for the tags that the point should see; packets whose ports
cannot be read, frames with tags of no group, fragments and packets of known flows included; and
behind the point the frame has the tag that it came with. Three ways of packets are looked at:
those that cross the node, and those that arrive at it or that it sends itself, which are judged
just where they are to and from addresses of its own that the point is to guard. What a node sends
to its very own address stays in it, and nobody judges it.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from oaktag.core.accesslist import (
    AccessList,
    Blank,
    Forget,
    Keep,
    ListEntry,
    Look,
    PassBetween,
    PassKnown,
    PassUnless,
    PassWithin,
    Reassemble,
)
from oaktag.core.addresses import Range, Span
from oaktag.core.groups import ITSELF, STAR, UNTAGGED, Groups
from oaktag.core.lines import Action, EntryAction, Line, Policy
from oaktag.core.network import Point
from oaktag.core.packets import Atoms, Box, Packet, Region, boxes_of, exchanged


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
    own: tuple[Span, ...] = ()


@dataclass(frozen=True, slots=True)
class Refuted:
    """A packet on which the list and the matrix differ, with both decisions (action, would).

    ``frame`` is the tag that arrives in its frame, 0 for none; addresses are numbers of the
    packet's family. ``what`` says what is odd about the packet, or what else the list does to it.
    """

    packet: Packet
    source: int
    destination: int
    frame: int
    listed: tuple[Action, Action]
    meant: tuple[Action, Action]
    what: str = ""


class _Side(NamedTuple):
    """A class of addresses: what the list makes of them, step by step, and what is meant; ``home``:
    whether the list takes them for the node's own, and whether they are to be guarded as such."""

    family: int
    address: int
    within: tuple[object, ...]
    bound: int
    tag: int
    judged: bool
    inside: frozenset[int]
    home: tuple[bool, bool]

    def alike(self) -> _Side:
        """What those of its class have in common: addresses of the node's own are each a class."""
        return self if any(self.home) else self._replace(address=0)


class _Run(NamedTuple):
    """What the head makes of a packet: the tags by which it is judged, or None, None where it
    passes; and the tag in its frame behind the point."""

    source: int | None
    destination: int | None
    frame: int


Both = tuple[int, int]  # the packets allowed by action, and by would
#: Protocols of which packets may come whose ports, or type and code, cannot be read.
_CUT_SHORT = tuple((f, p) for f in (4, 6) for p in (6, 17, 132, {4: 1, 6: 58}[f]))
_TOPS = {6: 65535, 17: 65535, 132: 65535, 1: 255, 58: 255}
_KNOWN = "a packet of a flow that is known"
_FRAGMENT = "a later fragment, whose payload would be taken for ports"
_MARKED = "behind the point its frame has another tag"
_SHORT = "a packet whose ports cannot be read"
#: The ways of packets: across the node, to the node itself, and from it.
_CROSSING, _ARRIVING, _LEAVING = "", "as it arrives at the node itself", "as the node sends it"


def prove(held: AccessList, meant: Meant) -> Refuted | None:
    """None if the list decides every packet as the matrix does, else one that it does not."""
    proof = _Proof(held, meant)
    if (found := proof.flows()) is not None:
        return found
    sources = proof.arrivals(_classes(proof.sides("source")))
    targets = _classes(proof.sides("destination"))
    ways = (_CROSSING, _ARRIVING, _LEAVING) if held.own or meant.own else (_CROSSING,)
    for way in ways:
        checked: set[tuple[object, ...]] = set()
        for source, frame in sources:
            if way == _LEAVING and frame:
                continue  # what a node sends itself comes in no frame
            for target in targets:
                if source.family != target.family or (way and source.address == target.address):
                    continue
                run, judged = proof.meeting(source, target, frame, way)
                seen = proof.seen(frame, source.tag), target.tag
                kept = frame == run.frame
                key = source.family, run.source, run.destination, kept, seen if judged else None
                if key in checked:
                    continue
                checked.add(key)
                found = proof.compare(source, target, frame, run, seen if judged else None)
                if found is not None:
                    what = ", ".join(filter(None, (found.what, way)))
                    return replace(found, what=what)
    return None


def _classes(sides: Iterator[_Side]) -> list[_Side]:
    """One side of each class: those that differ in nothing but their address."""
    first: dict[tuple[object, ...], _Side] = {}
    for side in sides:
        first.setdefault(side.alike(), side)
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
        # Behind the atoms a bit for each kind of packet whose ports cannot be read.
        self.short = {kind: 1 << self.atoms.count + n for n, kind in enumerate(_CUT_SHORT)}
        self.full = self.atoms.full | sum(self.short.values())
        self._regions: dict[Region, int] = {}
        self._chains = {name: self._evaluate(chain) for name, chain in held.chains.items()}
        self._cells: dict[tuple[int, int], Both] = {}
        self._masks: dict[tuple[Box, ...], int] = {}
        self._stops: dict[tuple[object, ...], int | None] = {}
        self._tags: dict[tuple[int, int, int], tuple[list[int], int, int]] = {}
        self._lines = sorted(
            self._applied(), key=lambda pair: _rank(pair[0], pair[1], meant.groups, meant.policy)
        )
        told = {tag for tag in meant.groups.by_tag if tag}
        if meant.point.source_by != "address" or not any(isinstance(s, Blank) for s in held.head):
            told |= {r.tag for r in (*held.source_bindings, *meant.bindings)}
            told |= {tag for block in held.blocks.values() for tag in block}
        strange = next(n for n in range(1, 0x10000) if n not in told)
        #: Tags that may arrive in a frame: none, every tag that either side tells from others, and
        #: one that neither knows. Where no frame is looked at, some will do.
        self.frames = [0, *sorted(told - {0}), strange]

    # -- addresses -------------------------------------------------------------------------------

    def sides(self, end: str) -> Iterator[_Side]:
        """Classes of addresses of one end of packets."""
        held, meant, first = self.held, self.meant, end == "source"
        listed = _Finder(held.source_bindings if first else held.destination_bindings)
        bindings = _Finder(meant.bindings)
        judged = _Within(meant.origins if first else meant.targets)
        inside = _Pairs([pair[0 if first else 1] for pair in meant.inside])
        never = _Within(_NOT_JUDGED)
        homes = _Within(held.own), _Within(meant.own)
        steps: list[_Within | _Pairs] = []
        families: list[int] = []
        for step in held.head:
            if isinstance(step, (PassWithin, PassUnless)) and step.end == end:
                steps.append(_Within(step.spans))
                families.append(step.family)
            elif isinstance(step, PassBetween):
                steps.append(_Pairs([pair[0 if first else 1] for pair in step.pairs]))
                families.append(step.family)
        cuts = [listed.cuts, bindings.cuts, judged.cuts, inside.cuts, never.cuts]
        cuts += [home.cuts for home in homes]
        for family, address in _stretches([*cuts, *(s.cuts for s in steps)]):
            yield _Side(
                family,
                address,
                tuple(
                    s.of(family, address) if isinstance(s, _Pairs) else s.has(family, address)
                    for s in steps
                ),
                listed.tag(family, address),
                bindings.tag(family, address),
                judged.has(family, address)
                and not never.has(family, address)
                and family in meant.point.families,
                inside.of(family, address),
                (homes[0].has(family, address), homes[1].has(family, address)),
            )

    def seen(self, frame: int, bound: int) -> int:
        """The source tag that the point should see."""
        point = self.meant.point
        if point.source_by == "address":
            return bound
        return (frame or bound) if point.if_differ == "frame" else (bound or frame)

    def arrivals(self, sources: Sequence[_Side]) -> list[tuple[_Side, int]]:
        """One of each kind of source and tag in the frame: those on which the list does the same
        step by step, by the same tag, and of which the same is meant."""
        first: dict[tuple[object, ...], tuple[_Side, int]] = {}
        for source in sources:
            at = source.address if any(source.home) else None
            ground = source.family, source.within, source.judged, source.inside, source.home, at
            for frame in self.frames:
                before, seen, behind = self.tagged(source.family, source.bound, frame)
                kept = tuple(tag == frame for tag in (*before, behind))
                key = ground, seen, kept, self.seen(frame, source.tag)
                first.setdefault(key, (source, frame))
        return list(first.values())

    # -- the list, as its point runs it ----------------------------------------------------------

    def meeting(self, source: _Side, target: _Side, frame: int, way: str) -> tuple[_Run, bool]:
        """What the list makes of a packet on some way, and whether it is to be judged."""
        judged = source.judged and target.judged and not source.inside & target.inside
        if way == _CROSSING:
            return self.run(source, target, frame), judged
        listed, meant = target.home if way == _ARRIVING else source.home
        run = self.run(source, target, frame) if listed else _Run(None, None, frame)
        # Of what arrives nothing goes on, in no frame.
        return run._replace(frame=frame) if way == _ARRIVING else run, judged and meant

    def run(self, source: _Side, target: _Side, frame: int) -> _Run:
        """The head, step by step, for a packet that opens a flow. Which step lets it pass does not
        depend on the frame, and what the steps do with tags not on the destination."""
        ends = source.family, source.within, target.within
        if ends not in self._stops:
            self._stops[ends] = self._stop(source, target)
        stop = self._stops[ends]
        before, seen, tag = self.tagged(source.family, source.bound, frame)
        return _Run(seen, target.bound, tag) if stop is None else _Run(None, None, before[stop])

    def _stop(self, source: _Side, target: _Side) -> int | None:
        """The place of the step that lets a packet pass unjudged."""
        at = {"source": iter(source.within), "destination": iter(target.within)}
        family = source.family
        for place, step in enumerate(self.held.head):
            passed = False
            match step:
                case PassWithin():
                    passed = bool(next(at[step.end])) and step.family == family
                case PassUnless():
                    passed = not next(at[step.end]) and step.family == family
                case PassBetween():
                    ones, twos = next(at["source"]), next(at["destination"])
                    both = isinstance(ones, frozenset) and isinstance(twos, frozenset)
                    passed = both and bool(ones & twos) and step.family == family  # type: ignore[operator]
            if passed:
                return place
        return None

    def tagged(self, family: int, bound: int, frame: int) -> tuple[list[int], int, int]:
        """The tag before each step, the one that is judged by, and the one in the frame behind."""
        known = family, bound, frame
        if known not in self._tags:
            self._tags[known] = self._tagged(*known)
        return self._tags[known]

    def _tagged(self, family: int, bound: int, frame: int) -> tuple[list[int], int, int]:
        tag, flagged, kept, before = frame, False, 0, list[int]()
        for step in self.held.head:
            before.append(tag)
            match step:
                case Forget():
                    if flagged:
                        tag, flagged = 0, False
                case Keep():
                    kept = tag
                case Blank():
                    tag, flagged = 0, True
                case Look():
                    wanted = step.family == family and (not step.unless_known or tag == 0)
                    if wanted and bound:
                        tag, flagged = bound, True
        behind = (kept if self.held.restores else 0) if flagged else tag
        return before, tag, behind

    def flows(self) -> Refuted | None:
        """What is odd about packets of known flows, and about fragments."""
        head, stateful = self.held.head, self.meant.point.stateful
        passes = bool(head) and isinstance(head[0], PassKnown)
        known: tuple[Action, Action] = ("allow", "allow") if passes else ("deny", "deny")
        wanted: tuple[Action, Action] = ("allow", "allow") if stateful else ("deny", "deny")
        packet = Packet(4, 6, 50000, 443)
        if known != wanted:
            return Refuted(packet, *_EXAMPLE, 0, known, wanted, _KNOWN)
        if not any(isinstance(s, (PassKnown, Reassemble)) for s in head[:1]):
            return Refuted(packet, *_EXAMPLE, 0, ("allow", "allow"), ("deny", "deny"), _FRAGMENT)
        return None

    # -- decisions -------------------------------------------------------------------------------

    def compare(
        self, source: _Side, target: _Side, frame: int, run: _Run, seen: tuple[int, int] | None
    ) -> Refuted | None:
        """The first packet between two classes that the two sides do not decide alike."""
        family = source.family
        everything = self.full, self.full
        listed = everything if run.source is None else self._listed(run.source, run.destination)
        meant = everything if seen is None else self._meant(*seen)
        mine = self.atoms.of_family(family)
        mine |= sum(bit for kind, bit in self.short.items() if kind[0] == family)
        wrong = ((listed[0] ^ meant[0]) | (listed[1] ^ meant[1])) & mine
        if not wrong and run.frame == frame:
            return None
        if wrong & self.atoms.full:
            packet, what = self.atoms.packet(wrong & self.atoms.full, family), ""
            bit = 1 << self.atoms.atom(packet)
        elif wrong:
            kind, bit = next((k, b) for k, b in self.short.items() if wrong & b)
            packet, what = Packet(*kind, 0, 0), _SHORT
        else:
            packet, what = self.atoms.packet(mine & self.atoms.full, family), _MARKED
            bit = 1 << self.atoms.atom(packet)
        return Refuted(
            packet, source.address, target.address, frame,
            (_word(listed[0] & bit), _word(listed[1] & bit)),
            (_word(meant[0] & bit), _word(meant[1] & bit)), what,
        )  # fmt: skip

    def _listed(self, source: int, target: int | None) -> Both:
        chain = self.held.blocks.get(target or 0, {}).get(source)
        if chain is not None:
            return self._chains[chain]
        action, would = self.held.outside
        return self.full * (action == "allow"), self.full * (would == "allow")

    def _evaluate(self, chain: Sequence[ListEntry]) -> Both:
        action = would = 0
        for entry in reversed(chain):
            mask = self.full if entry.region is None else self._region(entry.region)
            if entry.readable:
                mask &= self.atoms.full
            action = action | mask if entry.action == "allow" else action & ~mask
            would = would | mask if entry.would == "allow" else would & ~mask
        return action, would

    def _region(self, region: Region) -> int:
        if region not in self._regions:
            self._regions[region] = self.atoms.mask(boxes_of(region)) | self._short_of(region)
        return self._regions[region]

    def _short_of(self, region: Region) -> int:
        """The packets cut short that a region matches: where it asks for no port."""
        found = 0
        for (family, protocol), bit in self.short.items():
            every = ((0, _TOPS[protocol]),)
            if (
                family in region.families
                and any(low <= protocol <= high for low, high in region.protocols)
                and region.sources == region.destinations == every
            ):
                found |= bit
        return found

    def _meant(self, source: int, target: int) -> Both:
        groups = self.meant.groups
        s, d = groups.by_tag.get(source, -1), groups.by_tag.get(target, -1)
        observed = self.meant.point.mode == "observe"
        if s not in self.meant.sources or d not in self.meant.destinations:
            full = self.full * (self.meant.point.outside == "allow")
            return (self.full, full) if observed else (full, full)
        action, would = self._resolved(s, d)
        if not self.meant.point.stateful:  # and the answers to what the opposite cell allows
            back = self._resolved(d, s)
            action |= self._exchanged(back[0])
            would |= self._exchanged(back[1])
        return (self.full, action) if observed else (action, would)

    def _exchanged(self, mask: int) -> int:
        """What answers a set of packets; of those cut short nobody can say more than that."""
        return self.atoms.exchanged(mask & self.atoms.full) | (mask & ~self.atoms.full)

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
        allowed, undecided = 0, self.full
        for layer in range(len(self.meant.policy.layers)):
            here, passed = undecided, 0
            for line in lines:
                if line.layer != layer:
                    continue
                permission = self.meant.policy.permissions[line.permission]
                steps: list[tuple[EntryAction, int]] = [
                    (e.action, self._entry(e.boxes)) for e in permission.entries
                ]
                if permission.otherwise is not None:
                    steps.append((permission.otherwise, self.full))
                for action, mask in steps:
                    if action == "allow":
                        allowed |= here & mask
                    elif action == "pass":
                        passed |= here & mask
                    here &= ~mask
            undecided = here | passed
        return allowed | undecided if default == "allow" else allowed

    def _entry(self, boxes: tuple[Box, ...]) -> int:
        """The packets that an entry matches; those cut short only if it names all ports."""
        if boxes not in self._masks:
            mask = self.atoms.mask(boxes)
            for (family, protocol), bit in self.short.items():
                whole = self.atoms.touched([Box(family, (protocol, protocol))])
                if not whole & ~mask:
                    mask |= bit
            self._masks[boxes] = mask
        return self._masks[boxes]

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
    return "allow" if bits else "deny"


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
    *_NOT_JUDGED,
    Span(4, 0, 0x00FFFFFF),
    Span(4, 0x7F000000, 0x7FFFFFFF),
    Span(4, 0xF0000000, 0xFFFFFFFF),
    Span(6, 0, (0x2000 << 112) - 1),
    Span(6, 0x4000 << 112, (0xFC00 << 112) - 1),
)
#: 192.0.2.1 and 192.0.2.2, where a packet's addresses do not matter.
_EXAMPLE = (0xC0000201, 0xC0000202)


def _stretches(cuts: Sequence[set[tuple[int, int]]]) -> Iterator[tuple[int, int]]:
    """The first address of every stretch between neighbouring cuts, in both families."""
    top = {4: 1 << 32, 6: 1 << 128}
    odd = _Within(_ODD)
    starts = {(4, 0), (6, 0)}.union(*cuts, odd.cuts)
    held = [(family, address) for family, address in sorted(starts) if address < top[family]]
    yield from sorted(held, key=lambda place: odd.has(*place))


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

    def tag(self, family: int, address: int) -> int:
        found = self.find(family, address)
        return found.tag if isinstance(found, Range) else 0


class _Within:
    """Whether an address is in some spans, perhaps overlapping; None stands for everywhere."""

    def __init__(self, spans: Sequence[Span] | None) -> None:
        self._spans = None if spans is None else _merged(spans)
        self._finder = None if self._spans is None else _Finder(self._spans)
        self.cuts = set() if spans is None else _cuts_of(spans)

    def has(self, family: int, address: int) -> bool:
        return self._finder is None or self._finder.find(family, address) is not None


def _merged(spans: Sequence[Span]) -> list[Span]:
    found: list[Span] = []
    for span in sorted(spans):
        last = found[-1] if found else None
        if last is not None and last.family == span.family and span.start <= last.end + 1:
            found[-1] = Span(span.family, last.start, max(last.end, span.end))
        else:
            found.append(span)
    return found


class _Pairs:
    """Which of some numbered spans, perhaps many times the same, hold an address."""

    def __init__(self, spans: Sequence[Span]) -> None:
        self.numbers: dict[Span, set[int]] = {}
        for number, span in enumerate(spans):
            self.numbers.setdefault(span, set()).add(number)
        self.cuts = _cuts_of(list(self.numbers))
        self._finder = _Finder(list(self.numbers))

    def of(self, family: int, address: int) -> frozenset[int]:
        span = self._finder.find(family, address)
        return frozenset() if span is None else frozenset(self.numbers[Span(*span[:3])])
