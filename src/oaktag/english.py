"""Words that sentences made by the program need: lists of names, and one or several of a thing."""

from __future__ import annotations

from collections.abc import Sequence


def listed(names: Sequence[str], most: int | None = None) -> str:
    """Names as an engineer lists them: ``a``, ``a and b``, ``a, b and c``; above ``most`` of them
    the first ones and how many more there are."""
    shown = list(names[:most])
    if len(shown) < len(names):
        return f"{', '.join(shown)} and {len(names) - len(shown):,} more"
    return "".join(shown) if len(shown) < 2 else f"{', '.join(shown[:-1])} and {shown[-1]}"


def counted(number: int, one: str, several: str = "") -> str:
    """A number with its noun: ``1 packet``, ``2 packets``, ``1,000 packets``."""
    return f"{number:,} {one if number == 1 else several or f'{one}s'}"
