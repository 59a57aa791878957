"""One cell of the matrix, as a point acts on it → ordered entries.

Rules kept here (semantics, section 5): entries that cannot match are left out; a stateless point's
list also allows the answers to what the opposite cell allows; a point in ``observe`` lets all pass
and records what ``action`` would have denied; a packet whose ports cannot be read matches only
entries for all ports of its protocol.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import lru_cache
from typing import NamedTuple

from oaktag.core.accesslist import DEFAULT_KEY, ListEntry
from oaktag.core.lines import Action
from oaktag.core.matrix import ANSWERS, Answer, Matrix, Part, Piece
from oaktag.core.packets import (
    FAMILIES,
    ICMP_OF,
    PORTED,
    Atoms,
    Box,
    Ranges,
    Region,
    boxes_of,
    runs,
    span_of,
)


class Acting(NamedTuple):
    """What of a point its cells depend on."""

    stateful: bool
    observes: bool
    families: frozenset[int]


def _of_families(entries: list[ListEntry], families: Collection[int]) -> Iterator[ListEntry]:
    """The entries for packets of some families alone."""
    for entry in entries:
        if entry.region is None:
            yield entry
            continue
        mine = tuple(f for f in entry.region.families if f in families)
        if mine:
            yield replace(entry, region=entry.region._replace(families=mine))


class Rows(NamedTuple):
    """The rows of the matrix that apply to a cell, in order; and to the opposite cell."""

    own: Sequence[int]
    back: Sequence[int]


def entries_of(
    matrix: Matrix, rows: Rows, keys: Mapping[int, str], acting: Acting
) -> list[ListEntry]:
    """One cell as ordered entries, the first that matches deciding; the last matches everything.

    Args:
        matrix: all decisions.
        rows: what applies to the cell.
        keys: the keys of the lines that speak of it, and of the opposite cell.
        acting: what of the point they depend on.
    """
    decided = 0
    observe = acting.observes
    result: list[ListEntry] = []
    every = matrix.parts_of(rows.own) if acting.stateful else _with_answers(matrix, rows)
    steps = _joined(matrix, every, observe)
    for number, parts in enumerate(steps):
        entry = _entry(matrix, parts[0], observe)
        mask = sum(p.mask for p in parts)
        last = number == len(steps) - 1
        regions = [None] if last else rules(matrix.atoms, _cover(matrix, parts[0], decided))
        regions = [r for r in regions if r is None or matrix.atoms.touched(boxes_of(r)) & ~decided]
        result += [replace(entry, region=region) for region in regions]
        decided |= mask
    unreadable: list[tuple[Region, Part]] = []
    for whole, mask in _wholes(matrix.atoms):
        part = Part(0, *(_unreadable(matrix, rows, answer, mask, acting) for answer in ANSWERS))
        result = _with_unreadable(matrix, result, whole, part, observe)
        unreadable.append((whole, part))
    if len(acting.families) < len(FAMILIES):
        result = list(_of_families(result, acting.families))
    return list(_citing(matrix, result, every, unreadable, keys, acting))


def _citing(
    matrix: Matrix, entries: list[ListEntry], parts: list[Part],
    unreadable: list[tuple[Region, Part]], keys: Mapping[int, str], acting: Acting,
) -> Iterator[ListEntry]:  # fmt: skip
    """Entries that cite the lines which decide the packets that meet them, and no others."""
    atoms, policy = matrix.atoms, matrix.policy
    # Entries may part kinds of packets that the atoms do not: what is left is kept of each kind.
    left = {
        kind: atoms.touched(boxes)
        for kind, boxes in _by_kind(None).items()
        if kind[0] in acting.families
    }
    for entry in entries:
        met: list[Part] = []
        for kind, boxes in _by_kind(entry.region).items():
            if here := left.get(kind, 0) & atoms.touched(boxes):
                left[kind] &= ~here
                met += [part for part in parts if part.mask & here]
        held = [one for one in unreadable if _holds(entry, one[0])]
        unreadable = [one for one in unreadable if one not in held]
        met += [part for whole, part in held if whole.families[0] in acting.families]
        if not met and entry.region is not None:
            continue  # no packet that the point judges meets it
        pieces = [p for part in met for p in ((part.action,) if acting.observes else part[1:])]
        lines = {matrix.rows[p.row].line for p in pieces if p.row >= 0}
        cited = {keys[line] for line in lines}
        if not cited or any(p.row < 0 for p in pieces):
            cited.add(DEFAULT_KEY)
        words = {policy.permissions[policy.lines[line].permission].name for line in lines}
        yield replace(entry, keys=tuple(sorted(cited)), words=tuple(sorted(words)))


@lru_cache(maxsize=1 << 12)
def _by_kind(region: Region | None) -> dict[tuple[int, int], tuple[Box, ...]]:
    """The packets of a region of each family and protocol with ports, or type and code; those of
    other protocols together, as protocol -1."""
    whole = (
        Region(FAMILIES, ((0, 255),), ((0, 65535),), ((0, 65535),)) if region is None else region
    )
    numbers = [p for low, high in whole.protocols for p in range(low, high + 1)]
    found: dict[tuple[int, int], tuple[Box, ...]] = {}
    for family in whole.families:
        told = (*PORTED, ICMP_OF[family])
        for protocol in told:
            if protocol in numbers:
                part = whole._replace(families=(family,), protocols=((protocol, protocol),))
                found[family, protocol] = tuple(boxes_of(part))
        if bare := [p for p in numbers if p not in told]:
            part = whole._replace(families=(family,), protocols=runs(bare))
            found[family, -1] = tuple(boxes_of(part))
    return found


#: Packets may come with ports, or type and code, that cannot be read: family, and protocol.
KINDS = tuple((f, p) for f in FAMILIES for p in (*PORTED, ICMP_OF[f]))


@lru_cache(maxsize=16)
def _wholes(atoms: Atoms) -> tuple[tuple[Region, int], ...]:
    """All packets of each such kind, as a region and as a set."""
    regions = [whole_of(kind) for kind in KINDS]
    return tuple((region, atoms.touched(boxes_of(region))) for region in regions)


def _with_unreadable(
    matrix: Matrix, entries: list[ListEntry], whole: Region, part: Part, observe: bool
) -> list[ListEntry]:
    """Entries that also do what is meant with packets of a kind whose ports cannot be read.

    Where the first entry for all ports of the protocol does something else, such entries match
    only what can be read, and what cannot meets an entry of its own before the last one.
    """
    first = next(e for e in entries if _holds(e, whole))
    done = first.action, first.would, first.log, first.answer
    if done == _outcome(matrix, part, observe):
        return entries
    wanted = _entry(matrix, part, observe)
    family, protocol = whole.families[0], whole.protocols[0][0]
    result: list[ListEntry] = []
    for entry in entries[:-1]:
        if entry.readable or entry.region is None or not _holds(entry, whole):
            result.append(entry)
            continue
        region = entry.region
        left = runs([p for a, b in region.protocols for p in range(a, b + 1) if p != protocol])
        if left:
            result.append(replace(entry, region=region._replace(protocols=left)))
        for mine in region.families:
            alone = whole._replace(families=(mine,))
            result.append(replace(entry, region=alone, readable=mine == family))
    last = entries[-1]
    return [*result, replace(last, region=whole, readable=True),
            replace(wanted, region=whole), last]  # fmt: skip


def whole_of(kind: tuple[int, int]) -> Region:
    """All packets of a kind."""
    every: Ranges = ((0, span_of(*kind)),)
    return Region((kind[0],), ((kind[1], kind[1]),), every, every)


def _holds(entry: ListEntry, whole: Region) -> bool:
    """Whether an entry matches packets of a protocol whose ports cannot be read."""
    return entry.region is None or (not entry.readable and matches_all(entry.region, whole))


def matches_all(region: Region, whole: Region) -> bool:
    """Whether a region holds all packets of one protocol, and so those that cannot be read too."""
    number = whole.protocols[0][0]
    return (
        set(whole.families) <= set(region.families)
        and any(low <= number <= high for low, high in region.protocols)
        and region.sources == whole.sources
        and region.destinations == whole.destinations
    )


def _unreadable(matrix: Matrix, rows: Rows, answer: Answer, mask: int, acting: Acting) -> Piece:
    """Who decides about packets whose ports cannot be read: the first entry for all of them."""
    own = _decides(matrix, rows.own, answer, mask)
    if own.action == "deny" and not acting.stateful:
        opposite = _decides(matrix, rows.back, answer, mask)
        if opposite.action == "allow":
            return opposite
    return own


def _decides(matrix: Matrix, rows: Sequence[int], answer: Answer, mask: int) -> Piece:
    passed = -1
    for number in rows:
        row = matrix.rows[number]
        line = matrix.policy.lines[row.line]
        if answer not in matrix.answers_of(row) or line.layer == passed:
            continue
        for entry, (action, written) in enumerate(matrix.effects[line.permission].steps):
            if mask & ~written:
                continue
            if action == "pass":
                passed = line.layer
                break
            return Piece(0, number, entry, action)
    return Piece(0, -1, -1, matrix.default(answer))


def _with_answers(matrix: Matrix, rows: Rows) -> list[Part]:
    """The parts of a cell, where what answers the opposite cell is allowed by that cell's lines."""
    acts, woulds = (
        [p for p in matrix.pieces_of(rows.back, answer) if p.action == "allow"]
        for answer in ANSWERS
    )
    return [
        Part(common, a, w)
        for part in matrix.parts_of(rows.own)
        for a in _answered(matrix, part.mask, part.action, acts)
        for w in _answered(matrix, part.mask, part.would, woulds)
        if (common := a.mask & w.mask)
    ]


def _answered(matrix: Matrix, mask: int, piece: Piece, back: list[Piece]) -> Iterator[Piece]:
    """A piece of a cell, and of what it denies that which answers a piece of the opposite cell."""
    for opposite in back if piece.action == "deny" else ():
        hit = mask & matrix.atoms.exchanged(opposite.mask)
        mask &= ~hit
        if hit:
            yield opposite._replace(mask=hit)
    yield piece._replace(mask=mask)


def _joined(matrix: Matrix, parts: list[Part], observe: bool) -> list[list[Part]]:
    """Parts in order; those at the end that do the same as the last are one with it."""
    joined = [[p] for p in parts]
    while len(joined) > 1 and _outcome(matrix, joined[-2][0], observe) == _outcome(
        matrix, joined[-1][0], observe
    ):
        joined[-2:] = [joined[-2] + joined[-1]]
    return joined


def _outcome(matrix: Matrix, part: Part, observe: bool) -> tuple[Action, Action, str | None, bool]:
    log, answer = _attributes(matrix, part.action)
    if observe:
        return "allow", part.action.action, log, False
    return part.action.action, part.would.action, log, answer


def _entry(matrix: Matrix, part: Part, observe: bool) -> ListEntry:
    action, would, log, answer = _outcome(matrix, part, observe)
    return ListEntry(None, action, would, log, answer)


def _attributes(matrix: Matrix, piece: Piece) -> tuple[str | None, bool]:
    if piece.row < 0:
        return None, False
    permission = matrix.policy.permissions[
        matrix.policy.lines[matrix.rows[piece.row].line].permission
    ]
    entry = permission.steps[piece.entry]
    return entry.log, entry.answer


def _cover(matrix: Matrix, part: Part, decided: int) -> int:
    """A set to match: the packets meant, and of those already decided whatever reads shorter."""
    for piece in (part.action, part.would):
        if piece.row >= 0:
            effect = matrix.effects[matrix.policy.lines[matrix.rows[piece.row].line].permission]
            written = effect.steps[piece.entry][1]
            if written & ~(part.mask | decided) == 0 and part.mask & ~written == 0:
                return written
    return part.mask


def rules(atoms: Atoms, mask: int) -> list[Region | None]:
    """The set as regions, each of one kind: with ports, ICMP of a family, or without ports."""
    if mask == atoms.full:
        return [None]
    result: list[Region | None] = []
    for region in atoms.regions(mask):
        for families, protocols in _kinds(region):
            if protocols:
                result.append(region._replace(families=families, protocols=protocols))
    return result


def _kinds(region: Region) -> list[tuple[tuple[int, ...], Ranges]]:
    numbers = [p for low, high in region.protocols for p in range(low, high + 1)]
    ported = tuple((p, p) for p in numbers if p in PORTED)
    kinds = [(region.families, ported)]
    bare: dict[int, list[int]] = {f: [] for f in FAMILIES}
    for family in region.families:
        for protocol in numbers:
            if protocol == ICMP_OF[family]:
                kinds.append(((family,), ((protocol, protocol),)))
            elif protocol not in PORTED:
                bare[family].append(protocol)
    if bare[4] == bare[6]:
        kinds.append(((4, 6), runs(bare[4])))
    else:
        kinds += [((family,), runs(bare[family])) for family in FAMILIES]
    return kinds
