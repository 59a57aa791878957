"""What readers of lists in JSON have in common: values, each refused with its line."""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import pairwise
from typing import Any, NoReturn

from oaktag.core.accesslist import (
    Blank,
    Forget,
    Keep,
    Look,
    PassBetween,
    PassKnown,
    PassNeighbours,
    PassUnless,
    PassWithin,
    Reassemble,
    Step,
    WhichEnd,
)
from oaktag.core.addresses import Prefix, Span, parse_prefix, prefixes_of, span_text
from oaktag.core.lines import Action
from oaktag.dialects.json_lines import Path
from oaktag.errors import UnreadableList


class JsonReading:
    """The values of a document; every complaint names the line of what is read now."""

    def __init__(self, document: dict[str, Any], lines: dict[Path, int]) -> None:
        self.document, self.lines = document, lines
        self.at = 1

    def fail(self, message: str) -> NoReturn:
        """A complaint about what is read now.

        Raises:
            UnreadableList: always.
        """
        raise UnreadableList(self.at, message)

    def of(self, *path: str | int) -> Any:
        """What stands at the end of a way, which is read now."""
        self.at = self.lines.get(path, self.at)
        found: Any = self.document
        for step in path:
            found = found[step]
        return found

    def spans(self, words: Any) -> tuple[Span, ...]:
        """Disjoint ranges of addresses in their order."""
        found = tuple(self.span(word) for word in self.items(words))
        if list(found) != sorted(found) or overlap(found):
            self.fail("addresses stand in their order, each once")
        return found

    def span(self, word: Any) -> Span:
        """A range of addresses, in its one form."""
        if not isinstance(word, str):
            self.fail("addresses are text")
        first, dash, last = word.partition("-")
        try:
            one, two = (parse_prefix(part) for part in (first, last or first))
        except ValueError:
            self.fail(f"{word!r} is no address, prefix or range")
        span = Span(one.family, one.start, two.end if dash else one.end)
        if one.family != two.family or span.end < span.start or span_text(*span) != word:
            self.fail(f"{word!r} is not as a range is written")
        return span

    def prefix(self, word: Any) -> Prefix:
        """A prefix, or an address."""
        span = self.span(word)
        found = prefixes_of(*span)
        if len(found) != 1:
            self.fail(f"{word!r} is no one prefix")
        return found[0]

    # -- values ----------------------------------------------------------------------------------

    def keys(self, held: Any, names: tuple[str, ...]) -> None:
        """That an object has just these keys, in this order."""
        if not isinstance(held, dict) or tuple(held) != names:
            self.fail(f"the keys here are {', '.join(names)}, in this order")

    def items(self, held: Any) -> list[Any]:
        """A list."""
        if not isinstance(held, list):
            self.fail("this is a list")
        return held

    def flag(self, held: Any) -> bool:
        """True or false."""
        if not isinstance(held, bool):
            self.fail("this is true or false")
        return held

    def action(self, held: Any) -> Action:
        """Allow or deny."""
        if held == "allow":
            return "allow"
        if held == "deny":
            return "deny"
        return self.fail(f"{held!r} is neither allow nor deny")

    def tag(self, held: Any, least: int = 0) -> int:
        """A tag."""
        if type(held) is not int or not least <= held <= 65535:
            self.fail(f"a tag is a number from {least} to 65535")
        return held

    def tags(self, held: Any) -> tuple[int, ...]:
        """Tags in their order, each once."""
        found = [self.tag(tag) for tag in self.items(held)]
        if found != sorted(set(found)):
            self.fail("tags stand in their order, each once")
        return tuple(found)


#: What nobody judges: link-local and multicast addresses.
NEVER = (
    (4, ("169.254.0.0/16", "224.0.0.0/4")),
    (6, ("fe80::/10", "ff00::/8")),
)  # fmt: skip
#: What groups, and points, are called.
GROUP_NAME = re.compile(r"[a-z][a-z0-9-]*(?:/[a-z][a-z0-9-]*)?")
POINT_NAME = re.compile(r"[A-Za-z0-9._-]+")
#: Which source tag counts first; ``address``: frames are ignored.
SOURCE_TAGS = ("frame", "bindings", "address")


def head(
    stateful: bool, origins: tuple[Span, ...] | None, targets: tuple[Span, ...] | None,
    inside: Sequence[tuple[Span, Span]], by: str,
) -> tuple[Step, ...]:  # fmt: skip
    """What a point does first with a packet, of what its list says of itself.

    Args:
        stateful: whether known flows pass.
        origins, targets: between which addresses it judges; None: all.
        inside: pairs of addresses between which packets pass.
        by: which source tag counts, one of ``SOURCE_TAGS``.
    """
    ends: tuple[WhichEnd, WhichEnd] = ("source", "destination")
    steps: list[Step] = [PassKnown() if stateful else Reassemble(), PassNeighbours()]
    for family, words in NEVER:
        prefixes = [parse_prefix(word) for word in words]
        spans = tuple(Span(p.family, p.start, p.end) for p in prefixes)
        steps += [PassWithin(end, family, spans) for end in ends]
    for end, held in zip(ends, (origins, targets), strict=True):
        for family in (4, 6) if held is not None else ():
            steps.append(
                PassUnless(end, family, tuple(s for s in held or () if s.family == family))
            )
    for family in (4, 6):
        if some := tuple(p for p in inside if p[0].family == family):
            steps.append(PassBetween(family, some))
    steps.append(Forget())
    if by != "frame":
        steps.append(Keep())
    if by == "address":
        steps.append(Blank())
    steps += [Look(family, by == "frame") for family in (4, 6)]
    return tuple(steps)


def overlap(some: Any) -> bool:
    """Whether of sorted ranges one overlaps the next."""
    return any(a.family == b.family and b.start <= a.end for a, b in pairwise(some))
