"""An access list, as read back from its text, is equal to the matrix; or here is a packet.

The proof shares with the compiler only the plain tables and the tree: it runs the head step by
step as the point would (``proof_ways``), ranks lines, resolves cells and evaluates entries itself
(``proof_lines``), and cuts packets and addresses along the ends of both sides, so that one packet
of each class speaks for all of it. Nothing is sampled, and no constant is the writer's.

What is proved (semantics, sections 5 and 8): for every packet, judged or not, the list's ``action``
and ``would`` are those of the matrix for the tags that the point should see, its sender is answered
where the matrix says so, it is recorded at the severity that the matrix says, and the line that is
said to have decided did (``proof_citing``); packets whose
ports cannot be read, frames with tags of no group, fragments and packets of known flows included;
and behind the point the frame has the tag that it came with. Three ways of packets are looked at:
those that cross the node, and those that arrive at it or that it sends itself, which are judged
just where they are to and from addresses of its own that the point is to guard. What a node sends
to its very own address stays in it, and nobody judges it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from oaktag.core.accesslist import AccessList, Blank, PassKnown, PassNeighbours, Reassemble
from oaktag.core.lines import Action
from oaktag.core.network import Point
from oaktag.core.packets import Packet
from oaktag.core.proof_citing import Cell, Citations, Citing
from oaktag.core.proof_lines import Codes, Lines
from oaktag.core.proof_ways import Addresses, Class, Field, Marked, Seen, Sight, fields


@dataclass(frozen=True, slots=True)
class Meant:
    """What the list of a point must come to: plain tables, no decision among them.

    Attributes:
        lines: what the matrix is written as.
        addresses: what is meant of addresses.
        sources, destinations: the groups whose cells the list holds, by index.
        keys: the key of each line of the policy.
    """

    point: Point
    lines: Lines
    addresses: Addresses
    sources: frozenset[int]
    destinations: frozenset[int]
    keys: Sequence[str]


@dataclass(frozen=True, slots=True)
class Refuted:
    """A packet on which the list and the matrix differ, with both decisions (action, would).

    ``frame`` is the tag that arrives in its frame, 0 for none; addresses are numbers of the
    packet's family. ``what`` says what is odd about the packet, or what else the list does to it.
    Where the list says of another line that it decided, ``cited`` are the keys that it names, and
    ``deciding`` one that it should.
    """

    packet: Packet
    source: int
    destination: int
    frame: int
    listed: tuple[Action, Action]
    meant: tuple[Action, Action]
    what: str = ""
    cited: tuple[str, ...] = ()
    deciding: tuple[str, ...] = ()


_KNOWN = "a packet of a flow that is known"
_FRAGMENT = "a later fragment, whose payload would be taken for ports"
_NEIGHBOUR = "of neighbour discovery, with hop limit 255"
_MARKED = "behind the point its frame has another tag"
_ANSWERED = "of which only one of the two answers the sender"
_LOGGED = "which the two record otherwise"
_CITED = "decided by another line than the list names"
_SHORT = "a packet whose ports cannot be read"
#: 192.0.2.1 and 192.0.2.2, where a packet's addresses do not matter.
_EXAMPLE = (0xC0000201, 0xC0000202)


def prove(held: AccessList, meant: Meant) -> Refuted | None:
    """None if the list decides every packet as the matrix does, else one that it does not."""
    if (found := _flows(held, meant)) is not None:
        return found
    proof = _Proof(held, meant)
    return next((found for field in proof.fields() if (found := proof.wrong(field))), None)


def _flows(held: AccessList, meant: Meant) -> Refuted | None:
    """What is odd about packets of known flows, and about fragments."""
    head, stateful = held.head, meant.point.stateful
    passes = bool(head) and isinstance(head[0], PassKnown)
    known: tuple[Action, Action] = ("allow", "allow") if passes else ("deny", "deny")
    wanted: tuple[Action, Action] = ("allow", "allow") if stateful else ("deny", "deny")
    packet = Packet(4, 6, 50000, 443)
    if known != wanted:
        return Refuted(packet, *_EXAMPLE, 0, known, wanted, _KNOWN)
    if not any(isinstance(s, (PassKnown, Reassemble)) for s in head[:1]):
        return Refuted(packet, *_EXAMPLE, 0, ("allow", "allow"), ("deny", "deny"), _FRAGMENT)
    # Before any address is looked at, or some of them would be judged.
    if 6 in meant.point.families and not isinstance((*head, None)[1], PassNeighbours):
        advertised = Packet(6, 58, 136, 0)
        return Refuted(advertised, *_EXAMPLE, 0, ("deny", "deny"), ("allow", "allow"), _NEIGHBOUR)
    return None


class _Proof:
    def __init__(self, held: AccessList, meant: Meant) -> None:
        self.held, self.meant = held, meant
        chains = held.chains
        self.lines = meant.lines.along(
            {e.region for chain in chains.values() for e in chain if e.region is not None}
        )
        self.full = self.lines.always("allow", "allow")
        self._chains = {name: self.lines.chain(chain) for name, chain in chains.items()}
        self._rows: dict[int, Codes] = {}
        self._columns: dict[int, Codes] = {}
        size = len(self.lines.groups)
        self._in_scope = np.zeros(size + 1, dtype=np.bool_)  # the last for tags of no group
        self._in_scope[list(meant.sources)] = True
        self.citing = self._citing()
        #: Which sources toward which destination are known to be cited as they should be.
        self._cited: set[tuple[int, int, int]] = set()

    @cached_property
    def citations(self) -> Citations:
        """The lines that decide; the same for all points that act alike."""
        point, lines = self.meant.point, self.lines
        asked = {"answers": not point.stateful, "observes": point.mode == "observe"}
        key = point.families, *asked.values()
        if key not in lines.known:
            lines.known[key] = Citations(lines, self.meant.keys, point.families, **asked)
        known: Citations = lines.known[key]
        return known

    def _citing(self) -> Citing:
        """What the list cites, with the lines that decide; what decides nothing is looked for."""
        held = self.held
        citations = self.citations
        citing = Citing(held.chains, citations)
        cells: dict[str, set[Cell]] = {}
        if held.cites_for == "list":
            sources = np.array(sorted(self.meant.sources), dtype=np.int64)
            for target in sorted(self.meant.destinations):
                cells.setdefault("", set()).update(citations.cells(sources, target))
        else:
            for tag, block in held.blocks.items():
                for chain, cell in self._cells(block, np.array(list(block), dtype=np.int64), tag):
                    cells.setdefault(chain, set()).add(cell)
        citing.look_for_strangers(cells, held.cites_for)
        return citing

    def _cells(
        self, block: Mapping[int, str], listed: NDArray[np.integer[Any]], target: int,
        meant: NDArray[np.integer[Any]] | None = None,
    ) -> set[tuple[str, Cell]]:  # fmt: skip
        """The chains of some sources in a block, with the cells that they should be.

        Args:
            block: of the list.
            listed: the sources' tags as the list sees them.
            target: the destination's tag, as meant.
            meant: the sources' tags as meant; None where they are the same.
        """
        groups = self.lines.group_of
        column = int(groups[target])
        if column not in self.meant.destinations:
            return set()
        sources = groups[listed if meant is None else meant]
        there = np.flatnonzero(self._in_scope[sources])
        cells = self.citations.cells(sources[there], column)
        chains = (block.get(tag) for tag in listed[there].tolist())
        return {(c, cell) for c, cell in zip(chains, cells, strict=True) if c is not None}

    def fields(self) -> Iterator[Field]:
        """All packets, as classes of those that are alike."""
        held, point, groups = self.held, self.meant.point, self.lines.groups
        sight = Sight(point.families, point.source_by == "address", point.if_differ == "frame")
        seen = Seen(
            held.head, held.restores, held.source_bindings, held.destination_bindings, held.own
        )
        told = {tag for tag in groups.by_tag if tag}
        if not sight.by_address or not any(isinstance(s, Blank) for s in held.head):
            told |= {r.tag for r in (*held.source_bindings, *self.meant.addresses.bindings)}
            told |= {tag for block in held.blocks.values() for tag in block}
        strange = next(n for n in range(1, 0x10000) if n not in told)
        # Tags that may arrive in a frame: none, every tag that either side tells from others, and
        # one that neither knows. Where no frame is looked at, some will do.
        frames = 0, *sorted(told - {0}), strange
        yield from fields(seen, self.meant.addresses, sight, frames)

    def wrong(self, field: Field) -> Refuted | None:
        """A packet of a field that the two sides do not treat alike."""
        if field.marked is not None:
            return self._marked(field, field.marked)
        if field.stop is not None and not field.judged:
            return None
        kinds: dict[tuple[object, object], list[Class]] = {}
        for target in field.targets:
            kinds.setdefault(self._kind(field, target), []).append(target)
        for targets in kinds.values():
            listed = self._listed(field, field.sources.listed, targets[0].listed)
            meant = self._meant(field, field.sources.meant, targets[0].meant)
            found = self._differs(field, targets, listed, meant)
            found = found or self._misnamed(field, targets, listed, meant)
            if found is not None:
                return found
        return None

    def _kind(self, field: Field, target: Class) -> tuple[object, object]:
        """What tells a destination from others: its row in the list, and its column."""
        column = int(self.lines.group_of[target.meant])
        listed = target.listed if field.stop is None and target.listed in self.held.blocks else None
        return listed, column if field.judged and column in self.meant.destinations else None

    def _listed(self, field: Field, sources: Codes, target: int) -> Codes:
        """What the list allows sources of some tags toward a destination's, in a field."""
        if field.stop is not None:
            return np.full_like(sources, self.full)
        if target not in self.held.blocks:
            target = -1
        if target not in self._rows:
            row = np.full(1 << 16, self.lines.always(*self.held.outside), dtype=np.int32)
            block = self.held.blocks.get(target, {})
            row[list(block)] = [self._chains[name] for name in block.values()]
            self._rows[target] = row
        return self._rows[target][sources]

    def _meant(self, field: Field, sources: Codes, target: int) -> Codes:
        """What the matrix allows sources of some tags toward a destination's, in a field."""
        if not field.judged:
            return np.full_like(sources, self.full)
        column = int(self.lines.group_of[target])
        if column not in self.meant.destinations:
            column = -1
        if column not in self._columns:
            self._columns[column] = self._column(column)
        return self._columns[column][self.lines.group_of[sources]]

    def _column(self, target: int) -> Codes:
        """What the matrix, as the point acts, allows every group, and a tag of none, toward a
        destination."""
        lines, point = self.lines, self.meant.point
        outside = lines.always(point.outside, point.outside)
        column = np.full(len(lines.groups) + 1, outside, dtype=np.int32)
        if target >= 0:
            cells = lines.column(target, answers=not point.stateful)
            column = np.where(self._in_scope, np.append(cells, outside), column)
        if point.mode == "observe":
            numbers, at = np.unique(column, return_inverse=True)
            column = np.array([lines.observed(n) for n in numbers.tolist()], np.int32)[at]
        return column

    def _differs(
        self, field: Field, targets: list[Class], listed: Codes, meant: Codes
    ) -> Refuted | None:
        forms, mine = self.lines.forms, self.lines.of_family(field.family)
        odd = np.flatnonzero(listed != meant)
        known: dict[tuple[int, int], int] = {}
        for n in odd.tolist():
            pair = int(listed[n]), int(meant[n])
            if pair not in known:
                one, two = forms[pair[0]], forms[pair[1]]
                known[pair] = one.differing(two) & mine
            if not known[pair]:
                continue
            source = field.sources.classes[field.sources.example[n]]
            for target in targets:
                ends = field.example(source, target)
                if ends is not None:
                    frame = int(field.sources.frames[n])
                    return self._refuted(field, ends, frame, pair, known[pair])
        return None

    def _misnamed(
        self, field: Field, targets: list[Class], listed: Codes, meant: Codes
    ) -> Refuted | None:
        """A packet that another line decides than the one that the list names."""
        sources, target = field.sources, targets[0]
        block = self.held.blocks.get(target.listed)
        known = id(sources), target.listed, int(self.lines.group_of[target.meant])
        if field.stop is not None or not field.judged or block is None or known in self._cited:
            return None
        odd = {
            one: wrong
            for one in self._cells(block, sources.listed, target.meant, sources.meant)
            if (wrong := self.citing.wrong(*one, field.family)) is not None
        }
        if not odd:
            self._cited.add(known)
            return None
        for n in range(len(sources.listed)):
            ends = sources.listed[n : n + 1], target.meant, sources.meant[n : n + 1]
            wrong = next(filter(None, map(odd.get, self._cells(block, *ends))), None)
            source = sources.classes[sources.example[n]]
            for one in targets if wrong is not None else ():
                if wrong and (places := field.example(source, one)) is not None:
                    numbers, frame = (int(listed[n]), int(meant[n])), int(sources.frames[n])
                    found = self._refuted(field, places, frame, numbers, wrong.mask, _CITED)
                    return replace(found, cited=wrong.cited, deciding=wrong.deciding)
        return None

    def _marked(self, field: Field, marked: Marked) -> Refuted | None:
        """A packet that leaves with another tag than it came with, and how it is decided."""
        for target in field.targets:
            ends = field.example(marked.source, target)
            if ends is not None:
                tags = (np.array([tag], np.int32) for tag in (marked.listed, marked.meant))
                listed = self._listed(field, next(tags), target.listed)
                meant = self._meant(field, next(tags), target.meant)
                both = int(listed[0]), int(meant[0])
                mine = self.lines.atoms.of_family(field.family)
                return self._refuted(field, ends, marked.frame, both, mine, _MARKED)
        return None

    def _refuted(
        self, field: Field, ends: tuple[int, int], frame: int, numbers: tuple[int, int],
        wrong: int, what: str = "",
    ) -> Refuted:  # fmt: skip
        lines = self.lines
        if wrong & lines.atoms.full:
            packet = lines.atoms.packet(wrong & lines.atoms.full, field.family)
            bit = 1 << lines.atoms.atom(packet)
        else:
            kind, bit = next((k, b) for k, b in lines.short.items() if wrong & b)
            packet, what = Packet(*kind, 0, 0), ", ".join(filter(None, (_SHORT, what)))
        listed, meant = (lines.forms[number] for number in numbers)
        if not what and not ((listed.action ^ meant.action) | (listed.would ^ meant.would)) & bit:
            answered = (listed.answered ^ meant.answered) & bit
            what = _ANSWERED if answered else _LOGGED
        return Refuted(
            packet, *ends, frame,
            (_word(listed.action & bit), _word(listed.would & bit)),
            (_word(meant.action & bit), _word(meant.would & bit)),
            ", ".join(filter(None, (what, field.way))),
        )  # fmt: skip


def _word(bits: int) -> Action:
    return "allow" if bits else "deny"
