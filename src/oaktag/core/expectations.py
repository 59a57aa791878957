"""Expectations, proved against the canonical form: all packets at once, never a sample.

Rules kept here (semantics, section 4): a set means every pair; ``allowed`` without ``exactly``
means at least; ``allowed: none`` means nothing at all; they speak of ``action``, with
``enforced: true`` of ``would``.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple

from oaktag.core.matrix import Answer, Matrix
from oaktag.core.packets import Packet

Demand = Literal["none", "at-least", "exactly", "allowed", "denied"]


class Claim(NamedTuple):
    """What must hold in each of the cells, for the packets of ``mask``."""

    kind: Demand
    mask: int
    enforced: bool = False


class Counterexample(NamedTuple):
    """A cell and a packet in it that is not as claimed."""

    source: int
    destination: int
    packet: Packet
    allowed: bool


def violation(claim: Claim, form: int) -> int:
    """The packets of a cell's form that break the claim."""
    match claim.kind:
        case "none":
            return form
        case "at-least" | "allowed":
            return claim.mask & ~form
        case "denied":
            return claim.mask & form
        case "exactly":
            return claim.mask ^ form


def prove(matrix: Matrix, claim: Claim, pairs: Sequence[tuple[int, int]]) -> Counterexample | None:
    """Whether the claim holds in every cell of ``pairs``; if not, the first packet against it."""
    answer: Answer = "would" if claim.enforced else "action"
    for source, destination in pairs:
        form = matrix.forms[matrix.form(source, destination, answer)]
        wrong = violation(claim, form)
        if wrong:
            packet = matrix.atoms.packet(wrong)
            allowed = bool(form >> matrix.atoms.atom(packet) & 1)
            return Counterexample(source, destination, packet, allowed)
    return None
