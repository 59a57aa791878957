"""Forms and knowledge → the access list of one point.

Rules kept here (semantics, section 5): the list decides as the matrix does for the tags that the
point sees; entries that cannot match are left out; equal chains are shared and named by their
content, so that a change elsewhere renames nothing; a point in ``observe`` lets all pass and
records what ``action`` would have denied; a stateless point's list also allows the answers to
what the opposite cell allows.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from hashlib import blake2b

from oaktag.core.accesslist import DEFAULT_KEY, AccessList, Frames, ListEntry
from oaktag.core.addresses import Range
from oaktag.core.lines import Action
from oaktag.core.matrix import ANSWERS, Matrix, Part, Piece
from oaktag.core.network import Network, Point
from oaktag.core.packets import FAMILIES, ICMP_OF, PORTED, Atoms, Ranges, Region, runs


def compile_point(
    point: Point,
    matrix: Matrix,
    keys: list[str],
    network: Network,
    bindings: list[Range],
    scope: tuple[list[int], list[int]],
) -> AccessList:
    """The access list of one point.

    Args:
        point: what to compile for.
        matrix: all decisions.
        keys: the key of each line of the policy.
        network: for the addresses of segments.
        bindings: what the point knows, as disjoint ranges.
        scope: indices of source and destination groups whose cells it holds.
    """
    groups = matrix.groups
    writer = _Chains(matrix, keys, point)
    blocks = {
        groups.tag(d): {groups.tag(s): writer.chain(s, d) for s in scope[0]} for d in scope[1]
    }
    frames: Frames = "ignored" if point.source_by == "address" else point.if_differ
    observed = point.mode == "observe"
    return AccessList(
        point=point.id,
        frames=frames,
        source_bindings=tuple(bindings),
        destination_bindings=tuple(bindings),
        origins=network.spans_of(point.origins),
        targets=network.spans_of(point.targets),
        inside=() if point.inside else network.inside_pairs(),
        blocks={d: dict(sorted(row.items())) for d, row in sorted(blocks.items())},
        chains=dict(sorted(writer.chains().items())),
        outside=("allow" if observed else point.outside, point.outside),
        stateful=point.stateful,
    )


class _Chains:
    """Chains by content; cells of one content share one, and their keys are gathered."""

    def __init__(self, matrix: Matrix, keys: list[str], point: Point) -> None:
        self.matrix = matrix
        self.keys = keys
        self.point = point
        self._entries: dict[str, list[ListEntry]] = {}

    def chain(self, source: int, destination: int) -> str:
        """The name of the chain for one cell."""
        entries = entries_of(self.matrix, source, destination, self.keys, self.point)
        content = repr([replace(e, keys=()) for e in entries])
        name = "p" + blake2b(content.encode(), digest_size=5).hexdigest()
        held = self._entries.setdefault(name, entries)
        for number, entry in enumerate(entries):
            together = tuple(sorted({*held[number].keys, *entry.keys}))
            held[number] = replace(held[number], keys=together)
        return name

    def chains(self) -> dict[str, tuple[ListEntry, ...]]:
        """All chains written so far."""
        return {name: tuple(entries) for name, entries in self._entries.items()}


def entries_of(
    matrix: Matrix, source: int, destination: int, keys: list[str], point: Point
) -> list[ListEntry]:
    """One cell as ordered entries, the first that matches deciding; the last matches everything."""
    decided = 0
    observe = point.mode == "observe"
    result: list[ListEntry] = []
    parts_of = matrix.parts if point.stateful else partial(_with_answers, matrix)
    steps = _joined(matrix, parts_of(source, destination), observe)
    for number, parts in enumerate(steps):
        entry = _entry(matrix, parts, keys, observe)
        mask = sum(p.mask for p in parts)
        last = number == len(steps) - 1
        regions = [None] if last else _rules(matrix.atoms, _cover(matrix, parts[0], decided))
        result += [replace(entry, region=region) for region in regions]
        decided |= mask
    return result


def _with_answers(matrix: Matrix, source: int, destination: int) -> list[Part]:
    """The parts of a cell, where what answers the opposite cell is allowed by that cell's lines."""
    acts, woulds = (
        [p for p in matrix.pieces(destination, source, answer) if p.action == "allow"]
        for answer in ANSWERS
    )
    return [
        Part(common, a, w)
        for part in matrix.parts(source, destination)
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


def _entry(matrix: Matrix, parts: list[Part], keys: list[str], observe: bool) -> ListEntry:
    action, would, log, answer = _outcome(matrix, parts[0], observe)
    cited = {
        DEFAULT_KEY if piece.row < 0 else keys[matrix.rows[piece.row].line]
        for part in parts
        for piece in (part.action, part.would)
    }
    return ListEntry(None, action, would, log, answer, tuple(sorted(cited)))


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


def _rules(atoms: Atoms, mask: int) -> list[Region | None]:
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
