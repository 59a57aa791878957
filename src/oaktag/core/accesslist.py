"""The access list as one tree, which every dialect writes and reads, and the proof evaluates.

Rules kept here (semantics, section 5): a list is a head, rules and tables of bindings. The head
says what is judged and how tags are seen, as steps that are taken one after the other; then the
destination's tag chooses a block, the source's tag in it a chain, and the first entry of the
chain that matches decides. An entry has an ``action`` and a ``would``; each cites line keys;
cells share chains, each with its own count; a cell of which something is recorded has its own.
Packets to and from the node's own addresses are judged alike, where the list names these.
Names of groups and permissions are there to be read; nothing goes by them.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, NamedTuple

from oaktag.core.addresses import UNJUDGED, Range, Span
from oaktag.core.lines import Action
from oaktag.core.packets import Region

DEFAULT_KEY = "default"
#: What stands for the keys of lines where no line speaks: what nobody judges, and what is outside.
UNJUDGED_KEY, OUTSIDE_KEY = "unjudged", "outside"
#: The key of a line that an entry serves and has no room for.
UNSAID_KEY = "f" * 16
EVERYWHERE = (Span(4, 0, (1 << 32) - 1), Span(6, 0, (1 << 128) - 1))
Frames = Literal["frame", "bindings", "ignored"]
WhichEnd = Literal["source", "destination"]
#: Of what it is true that an entry cites just the lines that decide: the packets that meet it; all
#: of the cells that it serves; or all cells of its list.
CitesFor = Literal["packets", "cells", "list"]


# -- the steps of a head -------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class PassKnown:
    """Packets of a flow that is known pass."""


@dataclass(frozen=True, slots=True)
class Reassemble:
    """Fragments are put together before anything is matched."""


@dataclass(frozen=True, slots=True)
class PassWithin:
    """Packets pass whose address at one end is in some spans, all of one family."""

    end: WhichEnd
    family: int
    spans: tuple[Span, ...]


@dataclass(frozen=True, slots=True)
class PassUnless:
    """Packets of a family pass, unless their address at one end is in some spans."""

    end: WhichEnd
    family: int
    spans: tuple[Span, ...]


@dataclass(frozen=True, slots=True)
class PassNeighbours:
    """Packets of neighbour discovery pass: ICMPv6 types 133 to 137 with hop limit 255, which no
    router forwards (RFC 4861, sections 4.1 to 4.5)."""


@dataclass(frozen=True, slots=True)
class PassBetween:
    """Packets pass whose two addresses are in a pair of spans."""

    family: int
    pairs: tuple[tuple[Span, Span], ...]


@dataclass(frozen=True, slots=True)
class Forget:
    """A tag that was found by address before is taken out of the register."""


@dataclass(frozen=True, slots=True)
class Keep:
    """The frame's tag is kept aside, to be put back behind the point."""


@dataclass(frozen=True, slots=True)
class Blank:
    """The register holds no tag, whatever the frame said."""


@dataclass(frozen=True, slots=True)
class Look:
    """The register gets the tag that the source's address of a family is bound to, if it is bound;
    ``unless_known``: only if the register holds none."""

    family: int
    unless_known: bool


Step = (
    PassKnown
    | Reassemble
    | PassNeighbours
    | PassWithin
    | PassUnless
    | PassBetween
    | Forget
    | Keep
    | Blank
    | Look
)


# -- the tree ------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class ListEntry:
    """One ordered entry of a chain; ``region`` None matches every packet.

    ``readable``: of packets with ports (or ICMP type and code) only those where they can be read;
    a region that does not name all of them matches no others anyway. ``keys`` name the lines that
    it serves, or ``default``, ``words`` their permissions. ``cell``: the tags of source and
    destination of an entry that is recorded, whose chain is that cell's alone.
    """

    region: Region | None
    action: Action
    would: Action
    log: str | None = None
    answer: bool = False
    keys: tuple[str, ...] = ()
    readable: bool = False
    cell: tuple[int, int] | None = None
    words: tuple[str, ...] = ()

    @property
    def recorded(self) -> bool:
        """Whether packets that match it are recorded: it asks for a log, or its answers differ."""
        return self.log is not None or self.action != self.would


class End(NamedTuple):
    """One end of a cell: the tag, and the addresses that the point knows by it."""

    tag: int
    spans: tuple[Span, ...] = ()


class Standing(NamedTuple):
    """Where an entry of a list stands in its text: the line; and whether it is one of those that
    are tried for a cell, by its two ends."""

    line: int
    entry: ListEntry
    holds: Callable[[End, End], bool]


class Block(dict[int, str]):
    """One destination's cells, source tag → chain, that many lists may hold: nobody changes it.

    Attributes:
        chains: these chains, with the keys of this block's cells.
        cited: of cells that share a chain with others, and cite other lines: their entries.
        used: of how many of its cells each chain is.
        known: what others have worked out from it, each under its own name.
    """

    __slots__ = ("chains", "cited", "known", "used")

    def __init__(
        self,
        row: Iterable[tuple[int, str]],
        chains: Mapping[str, tuple[ListEntry, ...]],
        cited: Mapping[int, tuple[ListEntry, ...]],
    ) -> None:
        super().__init__(row)
        self.chains, self.cited = chains, cited
        self.used: dict[str, int] = dict(Counter(self.values()))
        self.known: dict[Any, Any] = {}


def entries_in(
    held: AccessList, row: Mapping[int, str]
) -> tuple[Mapping[str, tuple[ListEntry, ...]], Mapping[int, tuple[ListEntry, ...]]]:
    """The chains of a block of a list, with what its cells cite; and the entries of those cells
    that cite other lines than the rest of their chain."""
    return (row.chains, row.cited) if isinstance(row, Block) else (held.chains, {})


def narrowed(row: Mapping[int, str], sources: Collection[int]) -> Mapping[int, str]:
    """The cells of a block with some sources alone."""
    kept = {s: chain for s, chain in row.items() if s in sources}
    return Block(kept.items(), row.chains, row.cited) if isinstance(row, Block) else kept


@dataclass(frozen=True, slots=True)
class AccessList:
    """What one point holds.

    Attributes:
        point: the point's id.
        head: what is done with a packet first; what no step lets pass is judged.
        restores: whether the tag that was kept is put back into the frame behind the point.
        source_bindings, destination_bindings: disjoint ranges, sorted, tag 0 left out.
        blocks: destination tag → source tag → chain; cells that it holds. Those of a ``Block``
            are worked out once for all lists that hold it.
        chains: name → entries, of which the last matches everything.
        outside: what meets packets of other cells: (action, would).
        own: the node's own addresses, to and from which packets are judged too; () where none are.
        turn: of lists of one node that keep the frame's tag: which it is, from 1, in the order in
            which packets meet them; 0 of others, and where no list can disturb another.
        names: tag → group, of tags that stand in the list.
        cites_for: how exactly its entries name the lines that decide.
    """

    point: str
    head: tuple[Step, ...]
    restores: bool
    source_bindings: tuple[Range, ...]
    destination_bindings: tuple[Range, ...]
    blocks: Mapping[int, Mapping[int, str]]
    chains: Mapping[str, tuple[ListEntry, ...]]
    outside: tuple[Action, Action]
    own: tuple[Span, ...] = ()
    names: Mapping[int, str] = field(default_factory=dict)
    turn: int = 0
    cites_for: CitesFor = "packets"

    @property
    def plain_entries(self) -> int:
        """Entries it would hold if every cell had its own."""
        return sum(
            len(self.chains[chain]) * times
            for row in self.blocks.values()
            for chain, times in self.used(row).items()
        )

    def used(self, row: Mapping[int, str]) -> dict[str, int]:
        """Of how many of a block's cells each chain is."""
        if isinstance(row, Block):
            return row.used
        return dict(Counter(row.values()))

    @property
    def stateful(self) -> bool:
        """Whether the rest of a flow passes once its first packet did."""
        return PassKnown() in self.head

    @property
    def frames(self) -> Frames:
        """How the source tag is seen: ``frame`` first, ``bindings`` first, or ``ignored``."""
        if Blank() in self.head:
            return "ignored"
        looks = [s for s in self.head if isinstance(s, Look)]
        return "frame" if all(s.unless_known for s in looks) else "bindings"


def head_of(
    *,
    frames: Frames,
    stateful: bool,
    origins: tuple[Span, ...] | None,
    targets: tuple[Span, ...] | None,
    inside: tuple[tuple[Span, Span], ...],
    families: Collection[int] = (4, 6),
) -> tuple[Step, ...]:
    """The head of a point that judges between some addresses (None: all) and, of pairs, not
    ``inside``; nothing of other families."""
    steps: list[Step] = [PassKnown() if stateful else Reassemble(), PassNeighbours()]
    if set(families) != {4, 6}:
        origins = tuple(s for s in origins or EVERYWHERE if s.family in families)
    ends: tuple[WhichEnd, WhichEnd] = ("source", "destination")
    for family in (4, 6):
        spans = tuple(s for s in UNJUDGED if s.family == family)
        steps += [PassWithin(end, family, spans) for end in ends]
    for end, held in zip(ends, (origins, targets), strict=True):
        if held is not None:
            for family in (4, 6):
                steps.append(PassUnless(end, family, tuple(s for s in held if s.family == family)))
    for family in (4, 6):
        if pairs := tuple(p for p in inside if p[0].family == family):
            steps.append(PassBetween(family, pairs))
    steps.append(Forget())
    if frames != "frame":
        steps.append(Keep())
    if frames == "ignored":
        steps.append(Blank())
    steps += [Look(family, frames == "frame") for family in (4, 6)]
    return tuple(steps)
