"""Which packets a list treats alike, and of which the same is meant, by addresses and frames.

The head of a list is run step by step, as its point would, and addresses are cut along the ends of
both sides. A *ground* holds all addresses of one end for which the head does the same and the same
is meant, but for tags; a *field* is a product of grounds: for all of its packets the head stops at
the same step, or at none, and all of them are to be judged, or none. Within a segment, where one
end depends on the other, fields are products of what is inside. Of many points with the same tables
all of this is worked out once.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import product
from typing import Any, Literal, NamedTuple

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
    inside: tuple[tuple[Span, Span], ...]
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


class Stretch(NamedTuple):
    """Addresses that nothing tells apart, by the first of them; the pairs of segments' addresses
    that hold it, as meant and as listed."""

    address: int
    inside: frozenset[int]
    listed: frozenset[tuple[int, int]]


class Class(NamedTuple):
    """Stretches of one ground with the same tags: by the list's table, and as meant."""

    listed: int
    meant: int
    stretches: tuple[Stretch, ...]


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

    def example(self, source: Class, target: Class) -> tuple[int, int] | None:
        """Two addresses of a field, of some classes; None if all are inside of one segment."""
        if not self.apart:
            return source.stretches[0].address, target.stretches[0].address
        return next(
            (
                (a.address, b.address)
                for a, b in product(source.stretches, target.stretches)
                if not a.inside & b.inside and not a.listed & b.listed
            ),
            None,
        )


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

    def alike(self) -> tuple[object, ...]:
        """What it has in common with others in which other addresses do the same."""
        return self.ground, tuple((one.listed, one.meant) for one in self.classes)


@lru_cache(maxsize=256)
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
        self.sources = _End("source", seen.head, seen.sources, seen.own, places, sight)
        self.targets = _End("destination", seen.head, seen.targets, seen.own, places, sight)
        self._arrivals: dict[tuple[int, bool], Arrivals] = {}

    def all(self) -> Iterator[Field]:
        """Every field of every way of packets."""
        known: set[tuple[object, ...]] = set()
        ways: tuple[Way, ...] = (CROSSING, ARRIVING, LEAVING) if self.homes else (CROSSING,)
        for way in ways:
            for apart, source, target, between, inside in self._pairs():
                one, two = source.ground, target.ground
                # What a node sends to its very own address stays in it.
                alone = way != CROSSING and one.address == two.address is not None
                key = way, apart, source.alike(), target.alike(), between, inside
                if one.family == two.family and not alone and key not in known:
                    known.add(key)
                    yield self._field(way, apart, source, target, between, inside=inside)

    def _pairs(self) -> Iterator[tuple[bool, _Part, _Part, int | None, bool]]:
        """Pairs of parts, with the step that lets pass what is between their pairs of addresses,
        and whether that is inside of a segment."""
        for source, target in product(self.sources.parts, self.targets.parts):
            yield True, source, target, None, False
        for number in self.sources.inside.keys() & self.targets.inside.keys():
            for source, target in product(self.sources.inside[number], self.targets.inside[number]):
                yield False, source, target, _first_between(source, target), True
        for place in self.sources.between.keys() & self.targets.between.keys():
            for source, target in product(self.sources.between[place], self.targets.between[place]):
                ones, twos = source.classes[0].stretches[0], target.classes[0].stretches[0]
                if not ones.inside & twos.inside:
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
        # Of what arrives nothing goes on, in no frame.
        marked = None if way == ARRIVING else self._marked(one.family, source.classes, stop, way)
        return Field(way, one.family, stop, judged, apart, arrivals, target.classes, marked)

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
        # Parts live as long as their end does.
        key = id(source), leaving
        if key not in self._arrivals:
            # What a node sends itself comes in no frame.
            frames = self.frames[:1] if leaving else self.frames
            self._arrivals[key] = self._arrived(source.ground.family, source.classes, frames)
        return self._arrivals[key]

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

    def _marked(
        self, family: int, classes: Sequence[Class], stop: int | None, way: Way
    ) -> Marked | None:
        """A source whose frame has another tag behind the point than before it."""
        if stop == UNSEEN:
            return None
        for one in classes:
            for framed in (False,) if way == LEAVING else (False, True):
                before, seen, behind = self._runs(family, one.listed > 0, framed)
                code = behind if stop is None else before[stop]
                some = self.frames[1:] if framed else self.frames[:1]
                for frame in some.tolist() if code != "f" else ():
                    of = {"0": 0, "b": one.listed, "m": one.meant, "f": frame}
                    if of[code] != frame:
                        meant = of[self._meant(one.meant > 0, framed)]
                        return Marked(one, frame, of[seen], meant)
        return None


class _End:
    """The addresses of one end of packets, as grounds and classes.

    Attributes:
        parts: the classes of each ground.
        inside: the parts of each pair of addresses that is meant to be inside of a segment.
        between: the same of the pairs of each step that lets packets pass between addresses.
    """

    def __init__(
        self, end: str, head: Sequence[Step], bindings: Sequence[Range], own: Sequence[Span],
        places: Addresses, sight: Sight,
    ) -> None:  # fmt: skip
        first = end == "source"
        judged = places.origins if first else places.targets
        inside = [pair[0 if first else 1] for pair in places.inside]
        steps = [s for s in head if isinstance(s, (PassWithin, PassUnless)) and s.end == end]
        pairs = {
            place: [pair[0 if first else 1] for pair in step.pairs]
            for place, step in enumerate(head)
            if isinstance(step, PassBetween)
        }
        ground = _Stretches(
            [bindings, places.bindings, judged or (), inside, own, places.own, _ODD,
             *(step.spans for step in steps), *pairs.values()]
        )  # fmt: skip
        within = [ground.within(step.spans) for step in steps]
        never = ground.within(_NOT_JUDGED)
        asked = [True] * ground.count if judged is None else ground.within(judged)
        homes = ground.within(own), ground.within(places.own)
        tags = ground.tags(bindings), ground.tags(places.bindings)
        meant_inside = ground.numbers(enumerate(inside))
        between = ground.numbers(
            ((place, n), span)
            for place, spans in pairs.items()
            for n, span in enumerate(spans)
            if span.family == head[place].family  # type: ignore[union-attr]
        )
        odd = ground.within(_ODD)
        found: dict[_Ground, dict[tuple[int, int], list[Stretch]]] = {}
        for n in sorted(range(ground.count), key=odd.__getitem__):
            family, address = ground.starts[n]
            home = homes[0][n], homes[1][n]
            key = _Ground(
                family,
                tuple(column[n] for column in within),
                asked[n] and not never[n] and family in sight.families,
                home,
                address if any(home) else None,
            )
            found.setdefault(key, {}).setdefault((tags[0][n], tags[1][n]), []).append(
                Stretch(address, meant_inside[n], between[n])
            )
        self.parts = [
            _Part(key, tuple(Class(*tags, tuple(some)) for tags, some in classes.items()))
            for key, classes in found.items()
        ]
        self.inside = self._grouped(lambda stretch: stretch.inside)
        self.between = self._grouped(lambda stretch: stretch.listed)

    def _grouped(self, numbers: Callable[[Stretch], frozenset[Any]]) -> dict[Any, list[_Part]]:
        """The parts of each number, each of one ground and the same pairs."""
        found: dict[Any, dict[tuple[Any, ...], dict[tuple[int, int], Stretch]]] = {}
        for part in self.parts:
            for one in part.classes:
                for stretch in one.stretches:
                    for number in numbers(stretch):
                        key = part.ground, stretch.inside, stretch.listed
                        some = found.setdefault(number, {}).setdefault(key, {})
                        some.setdefault((one.listed, one.meant), stretch)
        return {
            number: [
                _Part(key[0], tuple(Class(*tags, (s,)) for tags, s in some.items()))
                for key, some in held.items()
            ]
            for number, held in found.items()
        }


def _first_between(source: _Part, target: _Part) -> int | None:
    """The place of the first step that lets pass what is between two parts."""
    ones, twos = source.classes[0].stretches[0], target.classes[0].stretches[0]
    return min((place for place, _ in ones.listed & twos.listed), default=None)


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


class _Stretches:
    """All addresses of both families, cut along the ends of some spans.

    Attributes:
        starts: the family and the first address of each stretch, sorted.
    """

    def __init__(self, every: Sequence[Sequence[Span] | Sequence[Range]]) -> None:
        tops = {(4, 1 << 32), (6, 1 << 128)}
        cuts = {(4, 0), (6, 0)}
        for spans in every:
            cuts.update((s.family, s.start) for s in spans)
            cuts.update((s.family, s.end + 1) for s in spans)
        self.starts = sorted(cuts - tops)
        self.count = len(self.starts)
        self._place = {start: n for n, start in enumerate(self.starts)}
        self._place |= {(4, 1 << 32): self._place[6, 0], (6, 1 << 128): self.count}

    def _slice(self, span: Span | Range) -> slice:
        return slice(self._place[span.family, span.start], self._place[span.family, span.end + 1])

    def within(self, spans: Sequence[Span]) -> list[bool]:
        """Whether each stretch is in one of some spans."""
        found = np.zeros(self.count, dtype=np.bool_)
        for span in spans:
            found[self._slice(span)] = True
        return found.tolist()

    def tags(self, bindings: Sequence[Range]) -> list[int]:
        """The tag to which each stretch is bound, 0 for none, by disjoint ranges."""
        found = np.zeros(self.count, dtype=np.int32)
        for one in bindings:
            found[self._slice(one)] = one.tag
        return found.tolist()

    def numbers(self, spans: Iterable[tuple[Any, Span]]) -> list[frozenset[Any]]:
        """The numbers of all spans that hold each stretch."""
        of_span: dict[Span, set[Any]] = {}
        for number, span in spans:
            of_span.setdefault(span, set()).add(number)
        found: list[frozenset[Any]] = [frozenset()] * self.count
        for span, some in of_span.items():
            held = frozenset(some)
            for n in range(*self._slice(span).indices(self.count)):
                found[n] = found[n] | held if found[n] else held
        return found
