"""Which packets a list treats alike, and of which the same is meant, by addresses and frames.

The head of a list is run step by step, as its point would, and addresses are cut along the ends of
both sides. A *ground* holds all addresses of one end for which the head does the same and the same
is meant, but for tags; a *field* is a product of grounds: for all of its packets the head stops at
the same step, or at none, and all of them are to be judged, or none. Within a segment, where one
end depends on the other, fields are products of what is inside. Of many points with the same tables
all of this is worked out once.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import product
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.accesslist import (
    Blank,
    Forget,
    Keep,
    Look,
    PassBetween,
    PassUnless,
    PassWithin,
    Step,
)
from oaktag.core.addresses import Range, Span
from oaktag.core.proof_stretches import (
    NOT_JUDGED,
    ODD,
    Inside,
    Stretches,
    coded,
    gathered,
)

#: The ways of packets: across the node, to the node itself, and from it.
Way = Literal["", "as it arrives at the node itself", "as the node sends it"]
CROSSING: Way = ""
ARRIVING: Way = "as it arrives at the node itself"
LEAVING: Way = "as the node sends it"
#: A packet that the head lets pass before its first step: the list does not see it.
UNSEEN = -1


@dataclass(frozen=True, slots=True, eq=False)
class Addresses:
    """What is meant of addresses: what the point knows, the addresses from and to which it judges
    (None: all), pairs between which it does not, and those of its node that it guards."""

    bindings: Sequence[Range]
    origins: tuple[Span, ...] | None
    targets: tuple[Span, ...] | None
    inside: Inside
    own: tuple[Span, ...] = ()


class Sight(NamedTuple):
    """How a point is meant to see: the families that it judges, whether it matches sources by
    address alone, and which tag counts where both are known."""

    families: frozenset[int]
    by_address: bool
    frame_first: bool


class Seen(NamedTuple):
    """What a list says of addresses: its head, its tables, whether the tag that was kept is put
    back, and the addresses of the node itself."""

    head: tuple[Step, ...]
    restores: bool
    sources: tuple[Range, ...]
    targets: tuple[Range, ...]
    own: tuple[Span, ...]


class Arrivals(NamedTuple):
    """Sources of packets of a field: the tags that the list sees, those that are meant to be seen;
    and an example of each, as a class and the tag in the frame."""

    listed: NDArray[np.int32]
    meant: NDArray[np.int32]
    classes: tuple[Class, ...]
    example: NDArray[np.int32]
    frames: NDArray[np.int32]


class Class(NamedTuple):
    """Addresses of one ground with the same tags, by the list's table and as meant: stretches of
    those that nothing tells apart, by their places."""

    listed: int
    meant: int
    stretches: NDArray[np.int64]


class Marked(NamedTuple):
    """A source, with the tag in its frame, whose frame has another tag behind the point; the tags
    by which it is judged, by the list and as meant."""

    source: Class
    frame: int
    listed: int
    meant: int


class Field(NamedTuple):
    """Packets with which the head does the same, and of which the same is meant.

    Attributes:
        stop: the step that lets them pass; None where they are judged.
        judged: whether they are to be judged.
        apart: whether they are those that are not inside of one segment: its classes hold more.
        marked: a source whose frame the list changes.
    """

    way: Way
    family: int
    stop: int | None
    judged: bool
    apart: bool
    sources: Arrivals
    targets: tuple[Class, ...]
    marked: Marked | None
    ends: tuple[_End, _End]

    def example(self, source: Class, target: Class) -> tuple[int, int] | None:
        """Two addresses of a field, of some classes; None if all are inside of one segment."""
        one, two = self.ends
        starts = one.ground.starts
        for a, b in product(source.stretches.tolist(), target.stretches.tolist()):
            if not self.apart or not (one.inside[a] & two.inside[b] or one.pairs[a] & two.pairs[b]):
                return starts[a][1], starts[b][1]
        return None


class _Ground(NamedTuple):
    """What a head asks of an address, and what is meant of it; ``home``: whether the list takes it
    for the node's own, and whether it is to be guarded as such; each of these has a ground."""

    family: int
    within: tuple[bool, ...]
    judged: bool
    home: tuple[bool, bool]
    address: int | None


class _Part(NamedTuple):
    """Classes of one ground."""

    ground: _Ground
    classes: tuple[Class, ...]

    #: The pairs of segments' addresses that hold all of them, as meant and as listed.
    inside: frozenset[int] = frozenset()
    pairs: frozenset[tuple[int, int]] = frozenset()

    def alike(self) -> tuple[object, ...]:
        """What it has in common with others in which other addresses do the same."""
        return self.ground, tuple((one.listed, one.meant) for one in self.classes)


@lru_cache(maxsize=512)
def fields(
    seen: Seen, places: Addresses, sight: Sight, frames: tuple[int, ...]
) -> tuple[Field, ...]:
    """All packets, as fields.

    Args:
        seen: what the list says of addresses.
        places: what is meant of them.
        sight: how the point is meant to see.
        frames: the tags that may arrive in frames, the first of them 0.
    """
    return tuple(_Fields(seen, places, sight, frames).all())


class _Fields:
    def __init__(
        self, seen: Seen, places: Addresses, sight: Sight, frames: tuple[int, ...]
    ) -> None:
        self.head, self.restores = seen.head, seen.restores
        self.sight = sight
        self.frames = np.array(frames, dtype=np.int32)
        self.homes = bool(seen.own or places.own)
        self.ground = Stretches(places.inside, _spans(seen, places))
        self.sources = _End(self.ground, "source", seen, places, sight)
        self.targets = _End(self.ground, "destination", seen, places, sight)
        self.ends = self.sources, self.targets
        self._arrivals: dict[tuple[int, bool], tuple[_Part, Arrivals]] = {}

    def all(self) -> Iterator[Field]:
        """Every field of every way of packets."""
        known: set[tuple[object, ...]] = set()
        ways: tuple[Way, ...] = (CROSSING, ARRIVING, LEAVING) if self.homes else (CROSSING,)
        for way in ways:
            for apart, source, target, between, inside in self._pairs():
                one, two = source.ground, target.ground
                # What a node sends to its very own address stays in it, and crosses it never.
                alone = one.address == two.address is not None
                alone = alone and (way != CROSSING or all(one.home))
                key = way, apart, source.alike(), target.alike(), between, inside
                if one.family == two.family and not alone and key not in known:
                    known.add(key)
                    yield self._field(way, apart, source, target, between, inside=inside)

    def _pairs(self) -> Iterator[tuple[bool, _Part, _Part, int | None, bool]]:
        """Pairs of parts, with the step that lets pass what is between their pairs of addresses,
        and whether that is inside of a segment."""
        for source, target in product(self.sources.parts, self.targets.parts):
            yield True, source, target, None, False
        # Of most segments nothing is known: these are alike, and one speaks for all of them.
        told = [end.inside.alike(end.codes) for end in self.ends]
        for n in np.sort(np.unique(coded(told), return_index=True)[1]).tolist():
            for source, target in product(self.sources.in_segment(n), self.targets.in_segment(n)):
                yield False, source, target, _first_between(source, target), True
        for pair in self.sources.pairs.every:
            for source, target in product(self.sources.in_pair(pair), self.targets.in_pair(pair)):
                if not source.inside & target.inside:
                    yield False, source, target, _first_between(source, target), False

    def _field(
        self, way: Way, apart: bool, source: _Part, target: _Part, between: int | None, *,
        inside: bool,
    ) -> Field:  # fmt: skip
        one, two = source.ground, target.ground
        judged = one.judged and two.judged and not inside
        stops = [place for place in (between, self._stop(one, two)) if place is not None]
        stop = min(stops, default=None)
        if way != CROSSING:
            listed, meant = (two if way == ARRIVING else one).home
            judged = judged and meant
            stop = stop if listed else UNSEEN
        arrivals = self._arriving(source, leaving=way == LEAVING)
        # What arrives does not go on; what the node sends takes the steps of what crosses it.
        marked = self._marked(one.family, source.classes, stop) if way == CROSSING else None
        return Field(
            way, one.family, stop, judged, apart, arrivals, target.classes, marked, self.ends
        )

    def _stop(self, source: _Ground, target: _Ground) -> int | None:
        """The place of the first step that lets packets pass by the address at one end."""
        at = {"source": iter(source.within), "destination": iter(target.within)}
        for place, step in enumerate(self.head):
            if isinstance(step, (PassWithin, PassUnless)):
                within = next(at[step.end])
                if step.family == source.family and within == isinstance(step, PassWithin):
                    return place
        return None

    # -- tags ------------------------------------------------------------------------------------

    def _runs(self, family: int, bound: bool, framed: bool) -> tuple[list[str], str, str]:
        """The tag before each step, the one that is judged by, and the one in the frame behind:
        "0", "b" for that of the table, "f" for that of the frame."""
        tag, flagged, kept, before = "f" if framed else "0", False, "0", list[str]()
        for step in self.head:
            before.append(tag)
            match step:
                case Forget():
                    if flagged:
                        tag, flagged = "0", False
                case Keep():
                    kept = tag
                case Blank():
                    tag, flagged = "0", True
                case Look():
                    wanted = step.family == family and (not step.unless_known or tag == "0")
                    if wanted and bound:
                        tag, flagged = "b", True
        behind = (kept if self.restores else "0") if flagged else tag
        return before, tag, behind

    def _meant(self, bound: bool, framed: bool) -> str:
        """The source tag that the point is meant to see: "0", "m" for the one bound, or "f"."""
        tags = ("m" if bound else "0"), ("f" if framed else "0")
        if self.sight.by_address:
            return tags[0]
        first, second = tags[::-1] if self.sight.frame_first else tags
        return first if first != "0" else second

    def _arriving(self, source: _Part, *, leaving: bool) -> Arrivals:
        """One of each two tags, that of the list and the one meant, by which sources are judged."""
        # What a node sends itself comes in no frame.
        frames = self.frames[:1] if leaving else self.frames
        key = id(source), leaving
        if key not in self._arrivals:
            found = self._arrived(source.ground.family, source.classes, frames)
            # With the part itself, so that no other one has its place meanwhile.
            self._arrivals[key] = source, found
        return self._arrivals[key][1]

    def _arrived(
        self, family: int, classes: tuple[Class, ...], frames: NDArray[np.int32]
    ) -> Arrivals:
        bounds = np.array([c[:2] for c in classes], dtype=np.int32).reshape(-1, 2)
        rows: list[NDArray[np.int32]] = []
        for bound, meant, framed in product((False, True), (False, True), (False, True)):
            here = np.flatnonzero(
                ((bounds[:, 0] > 0) == bound) & ((bounds[:, 1] > 0) == meant)
            ).astype(np.int32)
            some = frames[1:] if framed else frames[:1]
            if not here.size or not some.size:
                continue
            codes = self._runs(family, bound, framed)[1], self._meant(meant, framed)
            if "f" not in codes:
                some = some[:1]
            elif not {"b", "m"} & set(codes):
                here = here[:1]
            one, frame = np.repeat(here, len(some)), np.tile(some, len(here))
            of = {"0": np.zeros_like(one), "b": bounds[one, 0], "m": bounds[one, 1], "f": frame}
            rows.append(np.stack([of[codes[0]], of[codes[1]], one, frame]))
        listed, meant_tags, example, frame = np.concatenate(rows, axis=1)
        _, first = np.unique(listed.astype(np.int64) << 16 | meant_tags, return_index=True)
        first.sort()
        return Arrivals(listed[first], meant_tags[first], classes, example[first], frame[first])

    def _marked(self, family: int, classes: Sequence[Class], stop: int | None) -> Marked | None:
        """A source whose frame has another tag behind the point than before it."""
        if stop == UNSEEN:
            return None
        for one in classes:
            for framed in (False, True):
                before, seen, behind = self._runs(family, one.listed > 0, framed)
                code = behind if stop is None else before[stop]
                some = self.frames[1:] if framed else self.frames[:1]
                for frame in some.tolist() if code != "f" else ():
                    of = {"0": 0, "b": one.listed, "m": one.meant, "f": frame}
                    if of[code] != frame:
                        meant = of[self._meant(one.meant > 0, framed)]
                        return Marked(one, frame, of[seen], meant)
        return None


def _spans(seen: Seen, places: Addresses) -> Iterator[Span | Range]:
    """All that a list speaks of, and what is meant of it, but what is inside of segments."""
    yield from seen.sources
    yield from seen.targets
    yield from places.bindings
    for spans in (seen.own, places.own, places.origins or (), places.targets or ()):
        yield from spans
    for step in seen.head:
        if isinstance(step, (PassWithin, PassUnless)):
            yield from step.spans
        elif isinstance(step, PassBetween):
            yield from (span for pair in step.pairs for span in pair)


class _End:
    """The addresses of one end of packets, as grounds and classes.

    Attributes:
        ground: the stretches into which they are cut.
        inside, pairs: which pairs of segments' addresses hold each stretch, as meant and as listed.
        parts: the classes of each ground.
    """

    def __init__(
        self, ground: Stretches, end: str, seen: Seen, places: Addresses, sight: Sight
    ) -> None:
        first = end == "source"
        judged = places.origins if first else places.targets
        steps = [s for s in seen.head if isinstance(s, (PassWithin, PassUnless)) and s.end == end]
        self.ground = ground
        self.inside = ground.inside[0 if first else 1]
        self.pairs = ground.numbers(
            ((place, n), pair[0 if first else 1])
            for place, step in enumerate(seen.head)
            if isinstance(step, PassBetween)
            for n, pair in enumerate(step.pairs)
            if pair[0].family == step.family
        )
        asked = np.ones(ground.count, np.bool_) if judged is None else ground.within(judged)
        asked &= ~ground.within(NOT_JUDGED)
        asked &= np.isin(ground.families, list(sight.families))
        homes = ground.within(seen.own), ground.within(places.own)
        # Addresses of the node itself are a ground each.
        alone = np.where(homes[0] | homes[1], np.arange(ground.count) + 1, 0)
        within = [ground.within(step.spans) for step in steps]
        self._kind = coded([ground.families, asked, *homes, alone, *within])
        bindings = seen.sources if first else seen.targets
        self._tags = np.stack([ground.tags(bindings), ground.tags(places.bindings)])
        # As examples, addresses that no host has come last.
        self._order = np.argsort(ground.within(ODD), kind="stable")
        self._grounds: dict[int, _Ground] = {}
        self._facts = asked, homes, within
        self._classes = coded([self._kind, *self._tags])
        self.codes = coded([self._classes, self.pairs.sets])
        self._sets = coded([self.inside.sets, self.pairs.sets])
        self.parts = list(self._grouped(self._order, np.zeros(ground.count, np.int64)))

    def _ground(self, n: int) -> _Ground:
        """The ground of a stretch."""
        kind = int(self._kind[n])
        if kind not in self._grounds:
            family, address = self.ground.starts[n]
            asked, homes, within = self._facts
            home = bool(homes[0][n]), bool(homes[1][n])
            self._grounds[kind] = _Ground(
                family, tuple(bool(column[n]) for column in within), bool(asked[n]), home,
                address if any(home) else None,
            )  # fmt: skip
        return self._grounds[kind]

    def _grouped(self, order: NDArray[np.int64], sets: NDArray[np.int64]) -> Iterator[_Part]:
        """Parts of some stretches, each of one ground and one of some sets."""
        found: dict[tuple[int, int], list[Class]] = {}
        for places in gathered(coded([sets[order], self._classes[order]])):
            some = order[places]
            n = int(some[0])
            one = Class(int(self._tags[0][n]), int(self._tags[1][n]), some)
            found.setdefault((int(sets[n]), int(self._kind[n])), []).append(one)
        for alike in found.values():
            n = int(alike[0].stretches[0])
            yield _Part(self._ground(n), tuple(alike), self.inside[n], self.pairs[n])

    def in_segment(self, number: int) -> Iterator[_Part]:
        """The parts of a pair of addresses that is meant to be inside of a segment."""
        return self._within(self.inside.holding(number))

    def in_pair(self, number: tuple[int, int]) -> Iterator[_Part]:
        """The same of a pair of a step that lets packets pass between addresses."""
        return self._within(self.pairs.holding(number))

    def _within(self, here: NDArray[np.bool_]) -> Iterator[_Part]:
        return self._grouped(self._order[here[self._order]], self._sets)


def _first_between(source: _Part, target: _Part) -> int | None:
    """The place of the first step that lets pass what is between two parts."""
    return min((place for place, _ in source.pairs & target.pairs), default=None)
