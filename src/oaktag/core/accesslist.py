"""The access list as one tree, which every dialect writes and reads, and the proof evaluates.

Rules kept here (semantics, section 5): an entry has an ``action`` and a ``would``; each cites line
keys; a list is rules plus tables of bindings; cells share chains, each with its own count.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from oaktag.core.addresses import Range, Span
from oaktag.core.lines import Action
from oaktag.core.packets import Region

DEFAULT_KEY = "default"
Frames = Literal["frame", "bindings", "ignored"]


@dataclass(frozen=True, slots=True)
class ListEntry:
    """One ordered entry of a chain; ``region`` None matches every packet.

    ``keys`` name the lines that it serves, or ``default``.
    """

    region: Region | None
    action: Action
    would: Action
    log: str | None = None
    answer: bool = False
    keys: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class AccessList:
    """What one point holds.

    Attributes:
        point: the point's id.
        frames: how the source tag is seen: ``frame`` first, ``bindings`` first, or ``ignored``.
        source_bindings, destination_bindings: disjoint ranges, sorted, tag 0 left out.
        origins, targets: addresses from and toward which it judges; None for all.
        inside: pairs of address spans between which it does not judge.
        blocks: destination tag → source tag → chain; cells that it holds.
        chains: name → entries, of which the last matches everything.
        outside: what meets packets of other cells: (action, would).
        stateful: whether the rest of a flow passes once its first packet did.
    """

    point: str
    frames: Frames
    source_bindings: tuple[Range, ...]
    destination_bindings: tuple[Range, ...]
    origins: tuple[Span, ...] | None
    targets: tuple[Span, ...] | None
    inside: tuple[tuple[Span, Span], ...]
    blocks: Mapping[int, Mapping[int, str]]
    chains: Mapping[str, tuple[ListEntry, ...]]
    outside: tuple[Action, Action]
    stateful: bool = True

    @property
    def entries(self) -> int:
        """Entries held: those of the shared chains, and one reference for each cell."""
        return sum(map(len, self.chains.values())) + sum(map(len, self.blocks.values()))

    @property
    def plain_entries(self) -> int:
        """Entries it would hold if every cell had its own."""
        return sum(len(self.chains[c]) for b in self.blocks.values() for c in b.values())
