"""Which known names a misspelt one may have meant."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Set
from functools import partial

#: How alike two names must be, in percent.
ALIKE = 60
#: Longer words are nobody's slip of the pen.
LONGEST = 200


def near(word: str, known: Iterable[str], most: int = 3) -> list[str]:
    """The known names that are most like a word, the best first; equally good ones in their order,
    those of a set in that of the alphabet."""
    from rapidfuzz import fuzz, process

    if len(word) > LONGEST:
        return []
    names = sorted(known) if isinstance(known, Set) else list(known)
    found = process.extract(word, names, scorer=fuzz.ratio, limit=most, score_cutoff=ALIKE)
    return [name for name, _, _ in found]


def perhaps(word: str, known: Iterable[str], otherwise: str = "", most: int = 3) -> str:
    """``perhaps a or b``; what else to say where nothing is near."""
    close = near(word, known, most)
    return f"perhaps {' or '.join(close)}" if close else otherwise


def later(word: str, known: Iterable[str], otherwise: str = "") -> Callable[[], str]:
    """The same, to be looked for where it will be shown: of a million faults few are."""
    return partial(perhaps, word, known, otherwise)
