"""What lines come to, cell by cell: worked out from the plain tables for the proof alone.

It ranks lines, walks through their entries layer by layer, and keeps what a cell has allowed and
what is still undecided; a column of the matrix, all sources of one destination, is done at once,
and what was seen before is looked up. Packets are cut along the entries of the policy; behind these
atoms stands a bit for each kind of packet whose ports cannot be read.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from oaktag.core.accesslist import ListEntry
from oaktag.core.groups import ITSELF, STAR, UNTAGGED, Groups
from oaktag.core.lines import SYSLOG_SEVERITIES, Action, EntryAction, Line, Policy
from oaktag.core.packets import Atoms, Box, Region, boxes_of, exchanged

Codes = NDArray[np.int32]
#: Protocols of which packets may come whose ports, or type and code, cannot be read.
_CUT_SHORT = tuple((f, p) for f in (4, 6) for p in (6, 17, 132, {4: 1, 6: 58}[f]))
_TOPS = {6: 65535, 17: 65535, 132: 65535, 1: 255, 58: 255}
#: So many columns of the matrix are kept.
_MOST_COLUMNS = 1 << 13
#: And so many chains.
_MOST_CHAINS = 1 << 16


#: No packet, at every severity.
_UNLOGGED = (0,) * len(SYSLOG_SEVERITIES)


class Form(NamedTuple):
    """What a cell comes to, as sets of packets: those allowed by action and by would; those denied
    whose sender is answered; and those recorded, by severity."""

    action: int
    would: int
    answered: int = 0
    logged: tuple[int, ...] = _UNLOGGED

    def differing(self, other: Form) -> int:
        """The packets with which the two do not do the same."""
        found = (self.action ^ other.action) | (self.would ^ other.would)
        found |= self.answered ^ other.answered
        for one, two in zip(self.logged, other.logged, strict=True):
            found |= one ^ two
        return found


class _Undecided(NamedTuple):
    """A cell after some of its lines: the layer, what is allowed, what no line of the layer has
    decided yet, and what one of them passed on; what is answered, and what is recorded."""

    layer: int
    allowed: int
    here: int
    passed: int
    answered: int = 0
    logged: tuple[int, ...] = _UNLOGGED


class Step(NamedTuple):
    """An entry of a permission: what it does with which packets; the place of its severity, -1 for
    none; and whether it answers the sender."""

    action: EntryAction
    mask: int
    severity: int
    answers: bool


class Lines:
    """The lines of a policy on a day, as the proof reads them.

    Args:
        groups: all groups.
        policy: lines, permissions and defaults.
        today: the day as a proleptic ordinal, UTC.
        stateless: whether answers are asked of as well.
        cuts: boxes along which packets are cut besides.
    """

    def __init__(
        self, groups: Groups, policy: Policy, today: int, *, stateless: bool,
        cuts: Sequence[Box] = (),
    ) -> None:  # fmt: skip
        self.groups, self.policy = groups, policy
        self._day, self._stateless = today, stateless
        boxes = [*(b for p in policy.permissions for e in p.steps for b in e.boxes), *cuts]
        self.atoms = Atoms([*boxes, *exchanged(boxes)] if stateless else boxes)
        self.short = {kind: 1 << self.atoms.count + n for n, kind in enumerate(_CUT_SHORT)}
        self.full = self.atoms.full | sum(self.short.values())
        #: The group of every tag; -1 where none has it.
        self.group_of = np.full(1 << 16, -1, dtype=np.int32)
        self.group_of[list(groups.by_tag)] = list(groups.by_tag.values())
        self._numbers: dict[Form, int] = {}
        self.forms: list[Form] = []
        #: The lines that count, the more specific first; and whether each is the mirrored one.
        self.ordered = sorted(
            self._applied(today), key=lambda pair: _rank(pair[0], pair[1], groups, policy)
        )
        self._toward: dict[str, list[int]] = {}
        for place, (line, mirrored) in enumerate(self.ordered):
            word = line.source if mirrored else line.destination
            self._toward.setdefault(word, []).append(place)
        self._states: list[_Undecided] = []
        self._state_numbers: dict[_Undecided, int] = {}
        self._after: dict[tuple[int, int, int], int] = {}
        self._ends: dict[tuple[int, int], int] = {}
        self._columns: dict[tuple[int, bool], Codes] = {}
        self._masks: dict[tuple[Box, ...], int] = {}
        self._regions: dict[Region, int] = {}
        self._chains: dict[tuple[object, ...], int] = {}
        self._steps: dict[int, list[Step]] = {}
        #: What others have worked out from them, each under its own name.
        self.known: dict[Any, Any] = {}

    def along(self, regions: Collection[Region]) -> Lines:
        """The same lines over packets that are cut along some regions too."""
        boxes = [box for region in regions for box in boxes_of(region)]
        if self.atoms.parts(boxes):
            return self
        return Lines(self.groups, self.policy, self._day, stateless=self._stateless, cuts=boxes)

    def number(self, form: Form) -> int:
        """A number for what a cell comes to: equal ones have the same."""
        known = self._numbers.setdefault(form, len(self._numbers))
        if known == len(self.forms):
            self.forms.append(form)
        return known

    def of_family(self, family: int) -> int:
        """All packets of a family, those cut short too."""
        mine = self.atoms.of_family(family)
        return mine | sum(bit for kind, bit in self.short.items() if kind[0] == family)

    # -- cells -----------------------------------------------------------------------------------

    def column(self, target: int, *, answers: bool = False) -> Codes:
        """What every source may do to a destination, as numbers; int32 [G+1].

        Args:
            target: the destination's index.
            answers: what answers the opposite cell is allowed too.
        """
        key = target, answers
        if key not in self._columns:
            if len(self._columns) >= _MOST_COLUMNS:
                self._columns.clear()
            made = self._with_answers(target) if answers else self._column(target)
            self._columns[key] = made
        return self._columns[key]

    def _column(self, target: int) -> Codes:
        start = self._state(_Undecided(0, 0, self.full, 0))
        acting = [start] * len(self.groups)
        watched = list(acting)
        for place in self.places(target):
            line, mirrored = self.ordered[place]
            word = line.destination if mirrored else line.source
            itself = line.destination == ITSELF
            sources = (target,) if itself else self.groups.members(word)
            for column in (acting, watched) if line.mode == "enforce" else (watched,):
                for source in sources:
                    known = self._after.get((column[source], line.layer, line.permission))
                    if known is None:
                        known = self._read(column[source], line.layer, line.permission)
                    column[source] = known
        return np.array([self._end(*pair) for pair in zip(acting, watched, strict=True)], np.int32)

    def places(self, target: int) -> list[int]:
        """The lines that speak of a destination, in their order."""
        group = self.groups.all[target].id
        words = [group, STAR, *(w for w in self.groups.sets if target in self.groups.members(w))]
        found = {place for word in words for place in self._toward.get(word, ())}
        for place in self._toward.get(ITSELF, ()):
            if target in self.groups.members(self.ordered[place][0].source):
                found.add(place)
        return sorted(found)

    def _with_answers(self, target: int) -> Codes:
        found = self.column(target).copy()
        for source in range(len(found)):
            own, back = (self.forms[n] for n in (found[source], self.column(source)[target]))
            action, would = (self.exchanged(mask) for mask in (back.action, back.would))
            # What passes as an answer alone is recorded as what it answers.
            fresh = action & ~own.action
            logged = tuple(
                (mine & ~fresh) | (self.exchanged(theirs & back.action) & fresh)
                for mine, theirs in zip(own.logged, back.logged, strict=True)
            )
            form = Form(own.action | action, own.would | would, own.answered & ~fresh, logged)
            found[source] = self.number(form)
        return found

    def exchanged(self, mask: int) -> int:
        """What answers a set of packets; of those cut short nobody can say more than that."""
        return self.atoms.exchanged(mask & self.atoms.full) | (mask & ~self.atoms.full)

    def _state(self, state: _Undecided) -> int:
        known = self._state_numbers.setdefault(state, len(self._states))
        if known == len(self._states):
            self._states.append(state)
        return known

    def _read(self, state: int, layer: int, permission: int) -> int:
        """The state after one line more. What a layer passes on is undecided in the next again."""
        before, allowed, here, passed, answered, logs = self._states[state]
        logged = list(logs)
        if layer != before:
            here, passed = here | passed, 0
        for action, mask, severity, answers in self.steps(permission):
            hit = here & mask
            if action == "allow":
                allowed |= hit
            elif action == "pass":
                passed |= hit
            elif answers:
                answered |= hit
            if severity >= 0 and action != "pass":
                logged[severity] |= hit
            here &= ~mask
        after = _Undecided(layer, allowed, here, passed, answered, tuple(logged))
        found = self._state(after)
        self._after[state, layer, permission] = found
        return found

    def _end(self, acting: int, watched: int) -> int:
        """The number of a cell whose lines are all read."""
        if (acting, watched) not in self._ends:
            default = self.policy.default
            defaults = default, self.policy.observed_default or default
            allowed = [0, 0]
            for n, (state, last) in enumerate(zip((acting, watched), defaults, strict=True)):
                _, allowed[n], here, passed, *_ = self._states[state]
                allowed[n] |= (here | passed) if last == "allow" else 0
            acted = self._states[acting]
            form = Form(allowed[0], allowed[1], acted.answered, acted.logged)
            self._ends[acting, watched] = self.number(form)
        return self._ends[acting, watched]

    def steps(self, permission: int) -> list[Step]:
        """The entries of a permission, in order."""
        if permission not in self._steps:
            held = self.policy.permissions[permission]
            steps = [
                Step(e.action, self._entry(e.boxes), _place(e.log), e.answer) for e in held.entries
            ]
            if held.otherwise is not None:
                steps.append(Step(held.otherwise, self.full, -1, False))
            self._steps[permission] = steps
        return self._steps[permission]

    def _entry(self, boxes: tuple[Box, ...]) -> int:
        """The packets that an entry matches; those cut short only if it names all ports."""
        if boxes not in self._masks:
            mask = self.atoms.mask(boxes)
            for (family, protocol), bit in self.short.items():
                whole = self.atoms.touched([Box(family, (protocol, protocol))])
                if not whole & ~mask:
                    mask |= bit
            self._masks[boxes] = mask
        return self._masks[boxes]

    def _applied(self, today: int) -> Iterator[tuple[Line, bool]]:
        for line in self.policy.lines:
            if line.mode == "off" or (line.expires is not None and line.expires < today):
                continue
            yield line, False
            if line.way == "both" and line.destination not in (ITSELF, line.source):
                yield line, True

    # -- chains of a list ------------------------------------------------------------------------

    def chain(self, chain: tuple[ListEntry, ...]) -> int:
        """What a chain of a list allows, as a number."""
        said = tuple((e.region, e.readable, e.action, e.would, e.log, e.answer) for e in chain)
        if said not in self._chains:
            action = would = answered = 0
            logged = list(_UNLOGGED)
            for entry in reversed(chain):
                mask = self.matched(entry)
                action = action | mask if entry.action == "allow" else action & ~mask
                would = would | mask if entry.would == "allow" else would & ~mask
                answers = entry.answer and entry.action == "deny"
                answered = answered | mask if answers else answered & ~mask
                place = _place(entry.log)
                for n, held in enumerate(logged):
                    logged[n] = held | mask if n == place else held & ~mask
            if len(self._chains) > _MOST_CHAINS:
                self._chains.clear()
            self._chains[said] = self.number(Form(action, would, answered, tuple(logged)))
        return self._chains[said]

    def matched(self, entry: ListEntry) -> int:
        """The packets that an entry of a list matches."""
        mask = self.full if entry.region is None else self._region(entry.region)
        return mask & self.atoms.full if entry.readable else mask

    def always(self, action: Action, would: Action) -> int:
        """What allows all packets or none, as a number."""
        return self.number(Form(self.full * (action == "allow"), self.full * (would == "allow")))

    def observed(self, number: int) -> int:
        """What a point that observes does: all pass, nobody is answered, and what is not allowed is
        recorded."""
        held = self.forms[number]
        return self.number(Form(self.full, held.action, 0, held.logged))

    def _region(self, region: Region) -> int:
        if region not in self._regions:
            self._regions[region] = self.atoms.mask(boxes_of(region)) | self._short_of(region)
        return self._regions[region]

    def _short_of(self, region: Region) -> int:
        """The packets cut short that a region matches: where it asks for no port."""
        found = 0
        for (family, protocol), bit in self.short.items():
            every = ((0, _TOPS[protocol]),)
            if (
                family in region.families
                and any(low <= protocol <= high for low, high in region.protocols)
                and region.sources == region.destinations == every
            ):
                found |= bit
        return found


def _place(severity: str | None) -> int:
    """The place of a severity; -1 for none."""
    return -1 if severity is None else SYSLOG_SEVERITIES.index(severity)


def _rank(line: Line, mirrored: bool, groups: Groups, policy: Policy) -> tuple[int, ...]:
    source, target = line.source, line.destination
    if target == ITSELF:
        target = source
    if mirrored:
        source, target = target, source

    def width(word: str) -> int:
        if word == STAR:
            return 2
        return int(word != UNTAGGED and word not in groups.index)

    ranks = (width(target), width(source))
    if policy.order == "as-listed":
        ranks = (0, 0)
    elif policy.order == "broad-first":
        ranks = (-ranks[0], -ranks[1])
    return (line.layer, *ranks)  # sorting is stable: file order stays
