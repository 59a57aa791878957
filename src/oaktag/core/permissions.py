"""Entries → forms: what a permission makes of the form below it.

Rules kept here (semantics, section 4): the first entry that matches decides; ``pass`` decides
nothing but leaves the layer. So a permission comes to three disjoint sets of atoms, and painting
it over a form needs no list of entries.
"""

from __future__ import annotations

from typing import NamedTuple

from oaktag.core.lines import EntryAction, Permission
from oaktag.core.packets import Atoms
from oaktag.errors import OakTagError

MOST_FORMS = 500_000


class Effect(NamedTuple):
    """A permission as three disjoint masks, and its steps as (action, mask)."""

    allows: int
    denies: int
    passes: int
    steps: tuple[tuple[EntryAction, int], ...]

    def over(self, below: int, after_layer: int) -> int:
        """The form that results above ``below``; passed packets go by ``after_layer``."""
        taken = self.allows | self.denies | self.passes
        return self.allows | (after_layer & self.passes) | (below & ~taken)


def effect_of(permission: Permission, atoms: Atoms) -> Effect:
    """Compile one permission against the atoms of the workspace."""
    masks = {"allow": 0, "deny": 0, "pass": 0}
    taken = 0
    steps: list[tuple[EntryAction, int]] = []
    for entry in permission.steps:
        mask = atoms.mask(entry.boxes)
        masks[entry.action] |= mask & ~taken
        taken |= mask
        steps.append((entry.action, mask))
    return Effect(masks["allow"], masks["deny"], masks["pass"], tuple(steps))


class Forms:
    """Sets of atoms, each stored once under a small number; equal sets have equal numbers."""

    def __init__(self) -> None:
        self.masks: list[int] = []
        self._numbers: dict[int, int] = {}

    def __len__(self) -> int:
        return len(self.masks)

    def __getitem__(self, number: int) -> int:
        return self.masks[number]

    def number(self, mask: int) -> int:
        """The number of the set.

        Raises:
            OakTagError: the matrix comes to more distinct forms than ``MOST_FORMS``.
        """
        known = self._numbers.get(mask)
        if known is None:
            known = len(self.masks)
            if known >= MOST_FORMS:
                raise OakTagError(
                    f"the matrix comes to more than {MOST_FORMS:,} different cells; "
                    "split it, or let lines share sets and permissions"
                )
            self._numbers[mask] = known
            self.masks.append(mask)
        return known
