"""Rows of reach that the workspace bears: what ``accepted`` in ``oaktag.yaml`` covers.

Rules kept here (semantics, section 6): a leak, a break or a pair that is cut off may be
accepted, by cause, ends, place and effect; what does not cover all of a row's packets leaves it
red.
"""

from __future__ import annotations

from fnmatch import fnmatchcase

import numpy as np
from numpy.typing import NDArray

from oaktag.core.packets import Atoms, boxes_of
from oaktag.core.reach import Flow
from oaktag.operations.model import Model
from oaktag.workspace.expectations_file import Borne

Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]


class Accepting:
    """Says of rows whether they are borne today."""

    def __init__(self, model: Model) -> None:
        self._model = model
        self._today = [b for b in model.files.borne if model.today <= b.until]
        self._groups = {
            id(b): tuple(
                None if end is None else frozenset(model.groups_of(end))
                for end in (b.source, b.destination)
            )
            for b in self._today
        }

    def cells(self, effect: str, sources: Ints, destinations: Ints) -> Flags:
        """Between which groups a row of an effect, or one that is cut off, might be borne; shape
        [sources, destinations]."""
        found = np.zeros((len(sources), len(destinations)), dtype=np.bool_)
        for borne in self._today:
            if borne.effect == effect:
                held = [
                    np.ones(len(mine), np.bool_) if groups is None else np.isin(mine, list(groups))
                    for groups, mine in zip(
                        self._groups[id(borne)], (sources, destinations), strict=True
                    )
                ]
                found |= np.outer(*held)
        return found

    def of(self, flow: Flow) -> bool:
        """Whether all that is wrong with a row is borne."""
        if flow.effect == "exact" and not flow.cut_off:
            return False
        bearing = [b for b in self._today if self._speaks_of(b, flow)]
        if flow.cut_off:
            return any(b.effect == "cut-off" for b in bearing)
        atoms = self._model.atoms
        for effect, masks in (("leak", flow.leaks), ("break", flow.breaks)):
            borne = [b for b in bearing if b.effect == effect]
            covered = atoms.mask(x for b in borne for x in b.boxes)
            if any(not b.boxes for b in borne):
                covered = atoms.full
            if any(mask & ~covered for mask in masks.values()):
                return False
        return self._answers(flow, [b for b in bearing if b.effect == "one-way"])

    def _answers(self, flow: Flow, bearing: list[Borne]) -> bool:
        """Whether the loss of its answers is borne."""
        if not flow.unanswered or any(not b.boxes for b in bearing):
            return True
        lost = [x for region in flow.unanswered for x in boxes_of(region)]
        borne = [x for b in bearing for x in b.boxes]
        atoms = Atoms([*lost, *borne])
        return not atoms.mask(lost) & ~atoms.mask(borne)

    def _speaks_of(self, borne: Borne, flow: Flow) -> bool:
        ends = flow.source, flow.destination
        asked = borne.source, borne.destination
        for end, groups, (place, group) in zip(asked, self._groups[id(borne)], ends, strict=True):
            if groups is not None and group not in groups:
                return False
            if end is not None and end.kind == "node" and place != end.word:
                return False
        causes = [r for r in flow.causes if borne.cause in (None, r.why)]
        if borne.cause is not None and not causes:
            return False
        places = [*(r.node for r in causes if r.node), *(segment for segment, _ in ends)]
        return not borne.at or any(fnmatchcase(p, glob) for p in places for glob in borne.at)
