"""Groups, their tags and numbers, sets and selectors.

Rules kept here (semantics, section 1): a tag is unique and 1-65535; tag 0 is ``untagged``;
a number inside the workspace's range must be written as issued; the next number issued is the one
above the highest that ever was, so that none is given twice; only when the range is used up, the
lowest that is free and not retired; ``untagged`` is in a set only by name.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property
from itertools import islice
from types import MappingProxyType
from typing import NamedTuple

from oaktag.core.arrays import NDArray, np
from oaktag.errors import UsageError
from oaktag.located import Location

UNTAGGED = "untagged"
STAR = "*"
ITSELF = "itself"
RESERVED_WORDS = frozenset({UNTAGGED, ITSELF, "points", "registry", "any"})
HIGHEST_TAG = 65535
#: What sets, and domains, are called; and groups, those of another domain as ``origin/id``.
PLAIN_ID = re.compile(r"[a-z][a-z0-9-]*")
GROUP_ID = re.compile(rf"(?:{PLAIN_ID.pattern}/)?{PLAIN_ID.pattern}")


def tag_number(text: str) -> int:
    """A tag as it is written, in decimal or as ``0x19a``; 0 where the text is none."""
    if re.fullmatch(r"[1-9][0-9]{0,4}", text):
        number = int(text)
    else:
        number = int(text, 16) if re.fullmatch(r"0x[0-9a-fA-F]{1,4}", text) else 0
    return number if number <= HIGHEST_TAG else 0


class Group(NamedTuple):
    """One group; ``tag`` is None until a number is written in the files; ``split_from`` is the
    group that it was split off from, for somebody."""

    id: str
    tag: int | None
    issued: bool = False
    traits: Mapping[str, tuple[str, ...]] = MappingProxyType({})
    title: str = ""
    owner: str = ""
    location: Location = Location("groups.yaml")
    split_from: str = ""


class Selector(NamedTuple):
    """Takes the groups with all these traits; of several values, any."""

    traits: Mapping[str, tuple[str, ...]]

    def takes(self, group: Group) -> bool:
        """Whether the group has every trait."""
        return all(
            any(v in wanted for v in group.traits.get(name, ()))
            for name, wanted in self.traits.items()
        )


class GroupSet(NamedTuple):
    """A named set: names of groups or sets (or ``untagged``), and selectors."""

    id: str
    parts: tuple[str | Selector, ...]
    location: Location = Location("groups.yaml")


class Numbering(NamedTuple):
    """The range that numbers are issued from, ends included, the highest that ever was issued, as
    the files say (0: they do not), and what is retired."""

    low: int = 0
    high: int = -1
    retired: frozenset[int] = frozenset()
    issued_to: int = 0

    def highest(self, taken: Iterable[int]) -> int:
        """The highest number of the range that was issued so far; below it, if none was. Where the
        files do not say, what is retired was issued too."""
        seen: set[int] = {*taken, *(() if self.issued_to else self.retired)}
        return max([self.issued_to, self.low - 1, *(n for n in seen if self.holds(n))])

    def holds(self, number: int) -> bool:
        """Whether a number is in the range."""
        return self.low <= number <= self.high

    def issue(self, taken: Iterable[int], count: int) -> list[int]:
        """The next ``count`` numbers to issue; fewer, where nothing is left."""
        given = set(taken)
        used = self.retired | given
        top = self.highest(given)
        # The highest may lie beyond a range that was made narrower, or there is no range.
        order = (*range(top + 1, self.high + 1), *range(self.low, min(top, self.high) + 1))
        return list(islice((n for n in order if n not in used), count))


def _check(groups: Sequence[Group], sets: Sequence[GroupSet]) -> None:
    names = Counter([*(g.id for g in groups), *(s.id for s in sets)])
    wrong = [f"{name!r} is there twice" for name, often in names.items() if often > 1]
    wrong += [f"{n!r} is a word of Oak Tag's own" for n in names if n in RESERVED_WORDS]
    tags: dict[int, str] = {}
    for group in groups:
        if group.tag is None:
            continue
        if not 1 <= group.tag <= HIGHEST_TAG:
            wrong.append(f"{group.id} has the tag {group.tag}; tags are 1 to {HIGHEST_TAG}")
        elif tags.setdefault(group.tag, group.id) != group.id:
            wrong.append(f"{group.id} has the tag {group.tag}, and so has {tags[group.tag]}")
    known = {*names, UNTAGGED}
    for one in sets:
        words = (part for part in one.parts if isinstance(part, str) and part not in known)
        wrong += [f"the set {one.id} names {word!r}, which is no group or set" for word in words]
    wrong += [f"sets go in a circle: {' → '.join(cycle)}" for cycle in find_cycle(sets)]
    if wrong:
        raise UsageError("; ".join(wrong))


class Groups:
    """All groups of a workspace; index 0 is ``untagged``, index i is the i-th group.

    Args:
        groups: in file order, with unique ids.
        sets: without cycles, naming only what exists.
        numbering: the workspace's range.
        checked: whether names and tags are looked at here; a reader of files has said already
            what is wrong with them, each with its place, and goes on as far as it makes sense.

    Raises:
        UsageError: two groups or sets of one name, two groups of one tag, a tag outside 1-65535,
            a set that names nothing known.
    """

    def __init__(
        self,
        groups: Sequence[Group],
        sets: Sequence[GroupSet] = (),
        numbering: Numbering | None = None,
        *,
        checked: bool = True,
    ) -> None:
        if checked:
            _check(groups, sets)
        self.numbering = numbering or Numbering()
        self.all: tuple[Group, ...] = (Group(UNTAGGED, 0), *groups)
        self.sets = {s.id: s for s in sets}
        self.index = {g.id: i for i, g in enumerate(self.all)}
        unnumbered = [i for i, g in enumerate(self.all) if g.tag is None]
        issued = self.numbering.issue((g.tag for g in groups if g.tag is not None), len(unnumbered))
        self.would_issue: dict[int, int] = dict(zip(unnumbered, issued, strict=False))
        self._members: dict[str, tuple[int, ...]] = {}

    def __len__(self) -> int:
        return len(self.all)

    def tag(self, index: int) -> int:
        """The group's tag, written or else the one it would be issued; -1 where none is left."""
        written = self.all[index].tag
        return written if written is not None else self.would_issue.get(index, -1)

    @cached_property
    def tags(self) -> NDArray[np.int64]:
        """Tag of each group, shape [G+1]."""
        return np.array([self.tag(i) for i in range(len(self))], dtype=np.int64)

    @cached_property
    def by_tag(self) -> dict[int, int]:
        """Tag → index of its group."""
        return {self.tag(i): i for i in range(len(self)) if self.tag(i) >= 0}

    def name(self, tag: int) -> str:
        """The id of the group with the tag; the number itself where there is none."""
        index = self.by_tag.get(tag)
        return str(tag) if index is None else self.all[index].id

    @cached_property
    def every(self) -> list[int]:
        """The indices of all groups, ``untagged`` among them."""
        return list(range(len(self)))

    @cached_property
    def named(self) -> dict[int, str]:
        """The group of each tag, by name, sorted."""
        return {tag: self.name(tag) for tag in sorted(self.by_tag)}

    def members(self, word: str) -> tuple[int, ...]:
        """Sorted indices of the groups that a group, a set, ``untagged`` or ``*`` stands for."""
        known = self._members.get(word)
        if known is None:
            known = tuple(sorted(self._resolve(word)))
            self._members[word] = known
        return known

    def _resolve(self, word: str) -> set[int]:
        if word == STAR:
            return set(range(len(self)))
        if word in self.index:
            return {self.index[word]}
        found: set[int] = set()
        for part in self.sets[word].parts:
            if isinstance(part, Selector):
                found.update(i for i, g in enumerate(self.all) if i and part.takes(g))
            else:
                found.update(self.members(part))
        return found


def find_cycle(sets: Sequence[GroupSet]) -> list[tuple[str, ...]]:
    """The cycles among sets, each as the names along it, found from the first set in file order."""
    parts = {s.id: [p for p in s.parts if isinstance(p, str)] for s in sets}
    cycles: list[tuple[str, ...]] = []
    done: set[str] = set()
    for start in parts:
        stack: list[tuple[str, list[str]]] = [(start, list(parts[start]))]
        while stack and start not in done:
            name, left = stack[-1]
            if not left:
                done.add(name)
                stack.pop()
                continue
            following = left.pop(0)
            trail = [n for n, _ in stack]
            if following in trail:
                cycles.append((*trail[trail.index(following) :], following))
            elif following in parts and following not in done:
                stack.append((following, list(parts[following])))
    return cycles
